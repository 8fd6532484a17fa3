"""Spans of a clip as clips of their own: each over a take that is the clip as it stood.

Like a retargeted clip it knows what it came from, and can have its newer revision beneath its own
lines.
"""

import uuid
from collections.abc import Sequence
from dataclasses import dataclass

from django.contrib.auth.models import AbstractBaseUser
from documents.store import load_clip
from leancurve.errors import BadInput

from editing import history, outcomes
from editing.models import Clip, Revision
from editing.recipes import new_line
from editing.retargeting import free_name, show, take_of_revision


@dataclass(frozen=True)
class Span:
    """Frames of a clip, both included, and what they are to be called: named by them if nothing.
    What is a ``loop`` is closed over all of it."""

    first: int
    last: int
    name: str = ""
    loop: bool = False


def clips_of(
    revision: Revision, spans: Sequence[Span], request: uuid.UUID, user: AbstractBaseUser
) -> list[Clip]:
    """A clip for each span of a revision. Asked for twice, made once."""
    frames = load_clip(revision.state).frames
    for span in spans:
        if not 0 <= span.first <= span.last < frames:
            raise BadInput(
                f"expected frames within 0 to {frames - 1}, got {span.first} to {span.last}"
            )
    return [_clip_of(revision, s, uuid.uuid5(request, str(k)), user) for k, s in enumerate(spans)]


def _clip_of(revision: Revision, span: Span, request: uuid.UUID, user: AbstractBaseUser) -> Clip:
    wanted = span.name or f"{revision.clip.name}, {span.first} – {span.last}"
    take = take_of_revision(revision, None, request, free_name(revision, wanted))
    clip = history.first_clip(take, user)
    params = {"first": span.first, "last": span.last, "calibration": False}
    lines = [new_line("trim", params, {})]
    if span.loop:
        lines.append(new_line("close_loop", {"spread": max(span.last - span.first - 1, 1)}, {}))
    for k, line in enumerate(lines):
        assert clip.head_id is not None
        change = outcomes.Change(append=line)
        made = history.write(clip.pk, clip.head_id, uuid.uuid5(request, str(k)), change, user)
        clip.refresh_from_db()
    show(take, made.state)
    return clip
