"""Writes to a clip: revisions, rebase, conflicts.

Work is computed before the clip is locked, and only committed while its head is still the one
it was computed for; acknowledged means committed.
"""

import logging
import time
import uuid
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager, nullcontext
from dataclasses import replace
from typing import Any

from django.contrib.auth.models import AbstractBaseUser
from django.db import transaction
from documents.blobs import keep_lines, keeping
from documents.models import State
from documents.store import (
    FRAME,
    changed_parts,
    load_clip,
    touched_channels,
)
from leancurve.document.parts.registry import PARTS, Touched, touched
from leancurve.errors import BadInput
from leancurve.operations import apply_patch
from leancurve.progress import Progress, silent
from leancurve.recipe import named_states
from library.models import Take
from library.profiles import profile_for
from library.room import require_room
from plumbing.logs import note

from editing.company import changes_since
from editing.models import Chosen, Clip, Revision
from editing.moving import between
from editing.outcomes import Change, Result, outcome_of, take_state_of
from editing.recipes import (
    begin,
    compute,
    new_line,
    run_line,
)

log = logging.getLogger("lean.history")

PATIENT = 3
"""Attempts at a write that may be overtaken by others; after them it keeps others waiting."""
MOST_ATTEMPTS = PATIENT + 1


class Conflict(Exception):
    """A write was made on a revision that is no longer the head, and touches what changed since."""

    def __init__(
        self, head: Revision, theirs: list[str], yours: list[str], base: int | None = None
    ) -> None:
        self.head, self.theirs, self.yours = head, theirs, yours
        self.changes = [] if base is None else changes_since(head.clip_id, base, head.pk)
        super().__init__("The clip has changed since, in what this change touches.")


def open_clip(take: Take, user: AbstractBaseUser) -> Clip:
    """A new clip of a take, its recipe one line: how the take is read."""
    with keeping():
        clip = Clip.objects.create(
            workspace=take.workspace, take=take, beneath=take, name=take.name
        )
        names = load_clip(take.state).skeleton.names
        known = profile_for(take.workspace, names)
        roles = {j: r for j, r in (known.roles if known else {}).items() if j in names}
        step = run_line(new_line("read", {"roles": roles} if roles else {}, {}), begin(take.state))
        first = Revision.objects.create(
            clip=clip,
            number=1,
            lines=keep_lines([step.line]),
            state=step.state,
            before=take.state,
            take_state=step.after.take,
            cause="Bring in",
            author=user,
        )
        clip.head = clip.tip = first
        clip.save(update_fields=["head", "tip"])
        _keep_chosen(clip, _partners(take))
    return clip


def clip_of(take: Take, user: AbstractBaseUser) -> Clip:
    """The clip last worked on from a take, made if there is none."""
    return take.worked_on.filter(binned=None).order_by("-id").first() or open_clip(take, user)


def first_clip(take: Take, user: AbstractBaseUser) -> Clip:
    """The clip that was made of a take first, made if there is none."""
    return take.clips.filter(binned=None).order_by("id").first() or open_clip(take, user)


def write(
    clip_id: int,
    base_id: int,
    request_id: uuid.UUID,
    change: Change,
    user: AbstractBaseUser,
    progress: Progress = silent,
    after: Sequence[uuid.UUID] = (),
) -> Revision:
    """Apply a change made on revision ``base_id``. Sent twice, applied once.

    ``after`` are writes that whoever made it had seen beside that revision: their own that were
    still on their way. If the head has moved on otherwise, an appended line that touches other
    channels than what changed since is rebased on the head; anything else is a :class:`Conflict`.
    """
    began = time.perf_counter()
    for attempt in range(MOST_ATTEMPTS):
        with _alone(clip_id) if attempt >= PATIENT else nullcontext():
            revision = _attempt(clip_id, base_id, request_id, change, user, progress, set(after))
        if revision is not None:
            note(revision=revision.pk)
            log.info(
                "write",
                extra={
                    "clip": clip_id,
                    "cause": revision.cause,
                    "ms": round((time.perf_counter() - began) * 1000, 1),
                },
            )
            return revision
    raise AssertionError("whoever is alone with a clip is not overtaken")


@contextmanager
def _alone(clip_id: int) -> Iterator[None]:
    """Nobody else changes the clip meanwhile: for whoever was overtaken again and again."""
    with transaction.atomic():
        Clip.objects.select_for_update().get(pk=clip_id)
        yield


def _attempt(
    clip_id: int,
    base_id: int,
    request_id: uuid.UUID,
    change: Change,
    user: AbstractBaseUser,
    progress: Progress,
    own: set[uuid.UUID],
) -> Revision | None:
    """The write on the head that stands now; None where another one was quicker."""
    done = Revision.objects.filter(clip_id=clip_id, request_id=request_id).first()
    if done is not None:
        return done
    clip = Clip.objects.select_related(
        "workspace",
        "head__state__header",
        "head__before__header",
        "head__take_state__header",
        "head__take__state__header",
        "take__state__header",
    ).get(pk=clip_id)
    assert clip.head is not None
    head = clip.head
    head.clip = clip
    base = head
    if head.pk != base_id:
        found = (
            Revision.objects.select_related("state__header", "take_state__header")
            .filter(clip_id=clip_id, pk=base_id)
            .first()
        )
        if found is None:
            raise BadInput("that revision is not one of this clip")
        base = found
        try:
            _require_disjoint(base, head, change, own, progress)
        except Conflict:
            # What came first may be this very write, sent twice.
            mine = Revision.objects.filter(clip_id=clip_id, request_id=request_id).first()
            if mine is None:
                raise
            return mine
    require_room(clip.workspace)
    try:
        result = outcome_of(head, change, progress)
    except BadInput as refusal:
        theirs, parts = _changes_since(base, head, own) if head.pk != base_id else (set(), set())
        if not theirs and not parts:
            raise
        # What could be done on the revision that it was made on is barred by what others did.
        raise Conflict(head, _named(head, theirs, parts), [refusal.message], base.pk) from None
    seen = head.pk == base_id or head.request_id in own
    if head.author != user or not seen:
        result = replace(result, same_step=False)  # a step is one window's own
    return _commit(clip, head, result, time_of(clip, head, result), request_id, user)


def time_of(clip: Clip, head: Revision, result: Result) -> list[list[float]] | None:
    """Where the frames of the head lie after a change of it."""
    if result.same_step:
        return head.time_map  # switches of layers, which move no time
    made = Revision(clip=clip, take=result.take or head.take, state=result.after.state)
    made.recipe = list(result.recipe)
    return between(head, made)


TOLD = {"reading": "how the take is read", **{part.name: part.told for part in PARTS}}
"""Parts of a clip in words, where their names are not."""


def _named(head: Revision, tracks: Iterable[Any], parts: Iterable[Touched]) -> list[str]:
    """What a change touches in words: its tracks as the clip calls them now, or else its parts."""
    standing = load_clip(head.state)
    named = [standing.named(t) for t in sorted(tracks)]
    return named or sorted({TOLD.get(name, name) for name, _ in parts})


def _require_disjoint(
    base: Revision, head: Revision, change: Change, own: set[uuid.UUID], progress: Progress
) -> None:
    """Raise :class:`Conflict` where others have changed what a change touches."""
    theirs, parts = _changes_since(base, head, own)
    if not theirs and not parts:
        return
    told = _named(head, theirs, parts)
    if (
        change.append is None
        or change.remove is not None
        or any(name in FRAME for name, _ in parts)
    ):
        raise Conflict(head, told, ["the recipe"], base.pk)
    # What it touches is told on the revision that it was made on.
    patch = compute(change.append, base.state, take_state_of(base), progress)
    below = load_clip(base.state)
    after = apply_patch(below, patch)
    ours = {*patch.curves, *(below.curves.keys() - after.curves.keys())}
    both = parts & touched(below, after)
    if ours & theirs or both:
        raise Conflict(head, told, _named(head, ours, both), base.pk)


def _changes_since(
    base: Revision, head: Revision, own: set[uuid.UUID]
) -> tuple[set[Any], set[Touched]]:
    """Tracks that others changed between two revisions, and what else of the clip. Where the one
    does not lead to the other, all that differs counts."""
    since = Revision.objects.select_related("state__header").filter(
        clip_id=head.clip_id, number__gt=base.number, number__lte=head.number
    )
    states = {r.pk: r for r in since}
    tracks: set[Any] = set()
    parts: set[Touched] = set()
    at = states.get(head.pk)
    while at is not None:
        before = base.state if at.parent_id == base.pk else None
        if before is None:
            parent = states.get(at.parent_id) if at.parent_id else None
            if parent is None:
                break
            before = parent.state
        if at.request_id not in own:
            tracks |= touched_channels(before, at.state)
            parts |= changed_parts(before, at.state)
        if at.parent_id == base.pk:
            return tracks, parts
        at = states.get(at.parent_id) if at.parent_id else None
    return touched_channels(base.state, head.state), set(changed_parts(base.state, head.state))


def _commit(
    clip: Clip,
    head: Revision,
    result: Result,
    time_map: list[list[float]] | None,
    request_id: uuid.UUID,
    user: AbstractBaseUser,
) -> Revision | None:
    """The new head, or None if another write came first."""
    with keeping():
        locked = Clip.objects.select_for_update().get(pk=clip.pk)
        done = Revision.objects.filter(clip=clip, request_id=request_id).first()
        if done is not None:
            return done
        if locked.head_id != head.pk:
            return None
        newest = (
            Revision.objects.filter(clip=clip)
            .order_by("-number")
            .values_list("number", flat=True)[0]
        )
        revision = Revision.objects.create(
            clip=clip,
            parent=head.parent if result.same_step else head,
            take=result.take or head.take,
            number=newest + 1,
            lines=keep_lines(result.recipe, held=head.lines),
            state=result.after.state,
            before=result.before,
            take_state=result.after.take,
            time_map=time_map,
            cause=result.cause,
            report=result.report,
            author=user,
            request_id=request_id,
        )
        named = {sha for line in result.recipe for sha in named_states(line)}
        _keep_chosen(locked, named | _partners(result.take))
        locked.head = locked.tip = revision
        locked.beneath_id = revision.take_id or locked.take_id
        locked.save(update_fields=["head", "tip", "beneath", "opened"])
    return revision


def _partners(take: Take | None) -> set[str]:
    """Digests of the partners that a take was kept with."""
    return set() if take is None else {p.digest for p in load_clip(take.state).partners}


def _keep_chosen(clip: Clip, named: set[str]) -> None:
    """What a clip's lines and its take name by digest stays as long as the clip does."""
    for state in State.objects.filter(hash__among=named):
        Chosen.objects.get_or_create(clip=clip, state=state)
