"""Versions of a take: what a clip has become as the take that others go on from."""

import re
import uuid
from collections.abc import Sequence

from django.contrib.auth.models import AbstractBaseUser
from library.models import Take

from editing import history, outcomes
from editing.models import Clip, Revision
from editing.retargeting import free_name, show, take_of_revision

NUMBERED = re.compile(r", version (\d+)$")


def next_version(revision: Revision, request: uuid.UUID) -> Take:
    """A revision as it stands as the next version of the take that it lies on."""
    old = outcomes.take_of(revision)
    numbered = NUMBERED.search(old.name)
    number = 2 if numbered is None else int(numbered[1]) + 1
    plain = NUMBERED.sub("", old.name)
    name = free_name(revision, f"{plain[:200]}, version {number}")
    take = take_of_revision(revision, None, request, name, version_of=old)
    show(take, revision.state)
    return take


def newest_of(take: Take) -> Take | None:
    """The newest version of a take that has a newer one; None where none is on the shelf."""
    newest: Take | None = None
    seen = {take.pk}
    at: Take | None = take
    while at is not None:
        made = at.versions.filter(take__binned=None).exclude(take__in=seen).select_related("take")
        found = made.order_by("-pk").first()
        at = None if found is None else found.take
        if at is not None:
            newest = at
            seen.add(at.pk)
    return newest


def offered(clip: Clip) -> Take | None:
    """The version that a clip may go on from instead: not one that it has become itself."""
    newest = newest_of(clip.beneath)
    if newest is None:
        return None
    source = newest.retargeted.source
    return None if source is not None and source.clip_id == clip.pk else newest


def on_older(take: Take) -> list[Clip]:
    """Clips that lie on what a take is a newer version of, and may go on from it instead."""
    older: list[int] = []
    made = getattr(take, "retargeted", None)
    while made is not None and made.version_of_id is not None:
        if made.version_of_id in older:
            break
        older.append(made.version_of_id)
        made = getattr(made.version_of, "retargeted", None)
    clips = Clip.objects.filter(beneath__in=older, binned=None).order_by("name", "pk")
    return [clip for clip in clips if offered(clip) == take]


def swap_all(
    take: Take, clips: Sequence[Clip], request: uuid.UUID, user: AbstractBaseUser
) -> list[Revision]:
    """A take beneath several clips instead of theirs, one write each."""
    out = []
    for clip in clips:
        assert clip.head_id is not None
        change = outcomes.Change(swap=take)
        own = uuid.uuid5(request, str(clip.pk))
        out.append(history.write(clip.pk, clip.head_id, own, change, user))
    return out
