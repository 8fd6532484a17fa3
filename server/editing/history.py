"""Writes to a clip: revisions, rebase, conflicts, undo and redo.

Work is computed before the clip is locked, and only committed while its head is still the one
it was computed for; acknowledged means committed.
"""

import logging
import time
import uuid
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, nullcontext
from dataclasses import dataclass, replace
from fractions import Fraction
from typing import Any

from django.contrib.auth.models import AbstractBaseUser
from django.db import transaction
from documents.blobs import keep_lines, keeping
from documents.models import State
from documents.store import (
    FRAME,
    Gone,
    changed_channels,
    changed_parts,
    hash_after,
    load_clip,
)
from leancurve.errors import BadInput
from leancurve.operations import operation_named
from leancurve.progress import Progress, part_of, silent
from leancurve.recipe import moved_line, moved_lines, set_aside, time_after
from leancurve.time.meaning import ClipTime
from library.models import Take
from library.profiles import profile_for
from library.room import require_room
from plumbing.logs import note

from editing.company import changes_since
from editing.models import Chosen, Clip, Revision
from editing.recipes import (
    Line,
    Standing,
    Step,
    begin,
    compute,
    new_line,
    next_key,
    remember,
    replay,
    run_line,
    title,
    trail,
)
from editing.together import together

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


@dataclass(frozen=True)
class Change:
    """What a write asks for: append a line, give a line other parameters, take one out, append
    a whole recipe, or put another take beneath all of it."""

    append: Line | None = None
    edit: Line | None = None
    remove: str | None = None
    recipe: "Many | None" = None
    swap: Take | None = None


@dataclass(frozen=True)
class Many:
    """A recipe to be appended: its name, its lines, and the rate that their frames are meant at."""

    name: str
    lines: list[Line]
    rate: Fraction | None = None


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
    return clip


def clip_of(take: Take, user: AbstractBaseUser) -> Clip:
    """The clip last worked on from a take, made if there is none."""
    return take.worked_on.filter(binned=None).order_by("-id").first() or open_clip(take, user)


def take_of(revision: Revision) -> Take:
    """The take beneath a revision."""
    return revision.take or revision.clip.take


def standing(revision: Revision) -> Standing:
    """Where a revision's recipe has led: what its next line works on."""
    take = take_of(revision).state
    key = trail(take, revision.recipe)[-1]
    return Standing(revision.state, take_state_of(revision), key)


def take_state_of(revision: Revision) -> State:
    """The take as read, on a revision's time."""
    if revision.take_state is None:
        steps = replay(take_of(revision).state, revision.recipe)
        revision.take_state = steps[-1].after.take
        revision.save(update_fields=["take_state"])
    return revision.take_state


@dataclass(frozen=True)
class _Result:
    recipe: list[Line]
    after: Standing
    before: State
    report: dict[str, Any]
    cause: str
    take: Take | None = None


def _outcome(base: Revision, change: Change, progress: Progress) -> _Result:
    """Recipe, state, report and cause that a change makes of a revision."""
    if change.append is not None:
        return _appended(base, change.append, progress)
    if change.recipe is not None:
        return _with_recipe(base, change.recipe, progress)
    if change.swap is not None:
        return _swapped(base, change.swap, progress)
    return _changed(base, change, progress)


def _changed(base: Revision, change: Change, progress: Progress) -> _Result:
    """A line given other parameters, or taken out, and all after it replayed."""
    recipe: list[Line] = list(base.recipe)
    wanted = change.remove or (change.edit or {}).get("line_id")
    index = next((k for k, line in enumerate(recipe) if line["line_id"] == wanted), None)
    if index is None:
        raise BadInput("that line is not in the recipe any more")
    if change.remove is not None:
        if index == 0:
            raise BadInput(
                "the first line says how the take is read: it can be changed, not taken out"
            )
        cause = f"Take out {title(recipe[index])}"
        del recipe[index]
    else:
        assert change.edit is not None
        if recipe[index]["operation"] != change.edit["operation"]:
            raise BadInput("a line keeps its operation; take it out and add another instead")
        recipe[index] = {**change.edit, "line_id": wanted}
        cause = f"Change {title(recipe[index])}"
    steps = replay(take_of(base).state, recipe, progress)
    report = steps[min(index, len(steps) - 1)].report
    unplaced = unplaced_in(steps)
    if unplaced:
        report = {**report, "unplaced": unplaced}
    return _result(base, steps, report, cause)


def _result(
    base: Revision, steps: list[Step], report: dict[str, Any], cause: str, take: Take | None = None
) -> _Result:
    before = steps[-2].state if len(steps) > 1 else (take or take_of(base)).state
    return _Result([s.line for s in steps], steps[-1].after, before, report, cause[:200], take)


def unplaced_in(steps: Sequence[Step]) -> list[dict[str, Any]]:
    """What found no place, each with the line that it belongs to."""
    return [
        {"line_id": step.line["line_id"], "operation": step.line["operation"], **what}
        for step in steps
        for what in step.report.get("unplaced", [])
    ]


def _appended(base: Revision, line: Line, progress: Progress) -> _Result:
    at = standing(base)
    recipe = list(base.recipe)
    step = run_line(line, at, progress)
    result = _Result([*recipe, step.line], step.after, base.state, step.report, title(line))
    merged = _merged(base, line, step)
    return result if merged is None else replace(result, **merged)


def _with_recipe(base: Revision, many: Many, progress: Progress) -> _Result:
    """All lines of a recipe after those that stand; if one fails nothing is changed."""
    lines, lost = many.lines, []
    if many.rate is not None:
        clip = load_clip(base.state)
        old, new = ClipTime(many.rate, clip.frames), ClipTime(clip.rate, clip.frames)
        lines, lost = moved_lines(lines, old, new)
    at, before = standing(base), base.state
    report: list[dict[str, Any]] = []
    for k, line in enumerate(lines):
        within = part_of(progress, k / len(lines), 1 / len(lines))
        try:
            step = run_line(line, at, within)
        except BadInput as trouble:
            raise BadInput(f"line {k + 1}, {title(line)}: {trouble.message}") from None
        before, at = at.state, step.after
        report.append({"told": title(line), "report": step.report, "keys": at.state.keys})
    told = {"lines": report, **({"unplaced": lost} if lost else {})}
    return _Result([*base.recipe, *lines], at, before, told, f"Recipe {many.name}"[:200])


def _swapped(base: Revision, take: Take, progress: Progress) -> _Result:
    """The recipe on another take: each line on the seconds that it was meant for; what lies beyond
    the end, or cannot be done there, is set aside and listed."""
    before, after = load_clip(take_of(base).state), load_clip(take.state)
    if before.skeleton.names != after.skeleton.names:
        raise BadInput(
            f"{take.name} has other joints ({take.skeleton.name}): a take can only be swapped "
            "for one on the same skeleton"
        )
    old, new = ClipTime(before.rate, before.frames), ClipTime(after.rate, after.frames)
    steps: list[Step] = []
    lost: list[dict[str, Any]] = []
    at = begin(take.state)
    recipe = replay(take_of(base).state, base.recipe)
    for k, was in enumerate(recipe):
        moved = moved_line(was.line, old, new)
        within = part_of(progress, k / len(recipe), 1 / len(recipe))
        try:
            step = run_line(moved.line, at, within)
        except BadInput as trouble:
            if k == 0:
                raise
            moved = set_aside(was.line, trouble.message)
            step = run_line(moved.line, at)
        lost += [{"line_id": was.line["line_id"], **what} for what in moved.lost]
        steps.append(step)
        at = step.after
        if not was.line.get("aside"):
            old = time_after(was.line, old, was.report)
        if not moved.line.get("aside"):
            new = time_after(moved.line, new, step.report)
    report: dict[str, Any] = {"lines": len(steps), "unplaced": [*lost, *unplaced_in(steps)]}
    return _result(base, steps, report, f"Swap the take for {take.name}", take)


def _merged(base: Revision, line: Line, step: Step) -> dict[str, Any] | None:
    """Hand work in a row as one line: the recipe, its report and its name, None where it stays two.

    Whatever is put together must make the very state that the two lines made.
    """
    last = base.recipe[-1]
    alike = all(last[part] == line[part] for part in ("operation", "version", "scope"))
    if not alike or last.get("made") or last.get("aside") or base.before is None:
        return None
    take = step.after.take
    for params in together(line["operation"], last["params"], line["params"]):
        one = {**last, "params": params}
        patch = compute(one, base.before, take)
        if hash_after(base.before, patch) != step.state.hash:
            continue
        key = next_key(_key_before_last(base), one)
        after = replace(step.after, key=key)
        remember(after, dict(patch.report))
        return {"recipe": [*base.recipe[:-1], one], "after": after, "before": base.before}
    return None


def _key_before_last(base: Revision) -> str:
    take = take_of(base).state
    above = base.recipe[:-1]
    return trail(take, above)[-1] if above else begin(take).key


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
    if head.pk != base_id:
        base = (
            Revision.objects.select_related("state__header", "take_state__header")
            .filter(clip_id=clip_id, pk=base_id)
            .first()
        )
        if base is None:
            raise BadInput("that revision is not one of this clip")
        try:
            _require_disjoint(base, head, change, own, progress)
        except Conflict:
            # What came first may be this very write, sent twice.
            mine = Revision.objects.filter(clip_id=clip_id, request_id=request_id).first()
            if mine is None:
                raise
            return mine
    require_room(clip.workspace)
    result = _outcome(head, change, progress)
    return _commit(clip, head, result, request_id, user)


TOLD = {"reading": "how the take is read", "accepted": "findings that are meant"}
"""Parts of a clip in words, where their names are not."""


def _require_disjoint(
    base: Revision, head: Revision, change: Change, own: set[uuid.UUID], progress: Progress
) -> None:
    """Raise :class:`Conflict` where others have changed what a change touches."""
    theirs, parts = _changes_since(base, head, own)
    if not theirs and not parts:
        return
    standing = load_clip(head.state)

    def named(tracks: set[Any]) -> list[str]:
        return [standing.named(t) for t in sorted(tracks)]

    told = named(theirs) or sorted(TOLD.get(part, part) for part in parts)
    if change.append is None or parts & FRAME:
        raise Conflict(head, told, ["the recipe"], base.pk)
    # What it touches is told on the revision that it was made on.
    patch = compute(change.append, base.state, take_state_of(base), progress)
    ours = set(patch.curves)
    both = parts & set(patch.parts)
    if ours & theirs or both:
        raise Conflict(head, told, named(ours) or sorted(both), base.pk)


def _changes_since(
    base: Revision, head: Revision, own: set[uuid.UUID]
) -> tuple[set[Any], set[str]]:
    """Tracks that others changed between two revisions, and what else of the clip. Where the one
    does not lead to the other, all that differs counts."""
    since = Revision.objects.select_related("state__header").filter(
        clip_id=head.clip_id, number__gt=base.number, number__lte=head.number
    )
    states = {r.pk: r for r in since}
    tracks: set[Any] = set()
    parts: set[str] = set()
    at = states.get(head.pk)
    while at is not None:
        before = base.state if at.parent_id == base.pk else None
        if before is None:
            parent = states.get(at.parent_id) if at.parent_id else None
            if parent is None:
                break
            before = parent.state
        if at.request_id not in own:
            tracks |= changed_channels(before, at.state)
            parts |= changed_parts(before, at.state)
        if at.parent_id == base.pk:
            return tracks, parts
        at = states.get(at.parent_id) if at.parent_id else None
    return changed_channels(base.state, head.state), changed_parts(base.state, head.state)


def _commit(
    clip: Clip, head: Revision, result: _Result, request_id: uuid.UUID, user: AbstractBaseUser
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
            parent=head,
            take=result.take or head.take,
            number=newest + 1,
            lines=keep_lines(result.recipe, held=head.lines),
            state=result.after.state,
            before=result.before,
            take_state=result.after.take,
            cause=result.cause,
            report=result.report,
            author=user,
            request_id=request_id,
        )
        _keep_chosen(locked, result.recipe)
        locked.head = locked.tip = revision
        locked.beneath_id = revision.take_id or locked.take_id
        locked.save(update_fields=["head", "tip", "beneath", "opened"])
    return revision


def _keep_chosen(clip: Clip, recipe: Sequence[Line]) -> None:
    """What lines name by digest stays as long as the clip does."""
    named = {
        line["inputs"][name]
        for line in recipe
        for name, kind in operation_named(line["operation"]).inputs.items()
        if kind == "clip" and name in line.get("inputs", {})
    }
    for state in State.objects.filter(hash__among=named):
        Chosen.objects.get_or_create(clip=clip, state=state)


def _move(clip_id: int, base_id: int, target: Callable[[Clip], Revision | None]) -> Revision:
    with transaction.atomic():
        clip = Clip.objects.select_for_update().get(pk=clip_id)
        head = Revision.objects.get(pk=clip.head_id)
        if head.pk != base_id:
            raise Conflict(head, ["the history has moved on"], ["undo or redo"], base_id)
        there = target(clip)
        if there is None:
            return head
        _require_readable(there)
        clip.head = there
        clip.beneath_id = there.take_id or clip.take_id
        clip.save(update_fields=["head", "beneath", "opened"])
        bring_out(clip.beneath_id)
    note(revision=there.pk)
    return there


def bring_out(take_id: int) -> None:
    """A take that a clip lies on again is in no bin any more."""
    Take.objects.filter(pk=take_id).exclude(binned=None).update(binned=None, hidden=False)


def _require_readable(there: Revision) -> None:
    """Nobody is led to what cannot be shown: the clip stays where it is."""
    try:
        load_clip(there.state)
        load_clip(take_state_of(there))
    except Gone as trouble:
        raise BadInput(
            f"revision {there.number} cannot be shown: its curves were let go to save room, and "
            f"{trouble.why}. The clip stays as it is; revisions around it may be whole"
        ) from trouble


def parents_of(clip: Clip) -> dict[int, int | None]:
    """The parent of each of a clip's revisions."""
    return dict(Revision.objects.filter(clip=clip).values_list("pk", "parent_id"))


def jump(clip_id: int, base_id: int, to: int) -> Revision:
    """Any revision of the clip becomes the head: nothing is lost, redo leads on from there.

    Where the revision lies on the branch that is being worked on, its tip stays.
    """

    def target(clip: Clip) -> Revision:
        there = Revision.objects.filter(clip=clip, pk=to).first()
        if there is None:
            raise BadInput("that revision is not one of this clip")
        parents = parents_of(clip)
        at: int | None = clip.tip_id
        while at is not None and at != to:
            at = parents[at]
        if at is None:
            clip.tip = newest_of_branch(parents, there)
            clip.save(update_fields=["tip"])
        return there

    return _move(clip_id, base_id, target)


def newest_of_branch(parents: dict[int, int | None], start: Revision) -> Revision:
    """The end of the branch that goes on from a revision: at each fork the newest child."""
    children: dict[int, int] = {}
    for pk, parent in sorted(parents.items()):
        if parent is not None:
            children[parent] = pk
    at = start.pk
    while at in children:
        at = children[at]
    return start if at == start.pk else Revision.objects.get(pk=at)


def undo(clip_id: int, base_id: int) -> Revision:
    """The head's parent becomes the head; at the first revision nothing happens."""
    return _move(clip_id, base_id, lambda clip: Revision.objects.get(pk=clip.head_id).parent)


def redo(clip_id: int, base_id: int) -> Revision:
    """The next revision towards the tip becomes the head."""

    def towards_tip(clip: Clip) -> Revision | None:
        parents = parents_of(clip)
        at = clip.tip_id
        while at is not None and at != clip.head_id:
            if parents[at] == clip.head_id:
                return Revision.objects.get(pk=at)
            at = parents[at]
        return None

    return _move(clip_id, base_id, towards_tip)
