"""Writes to a clip: revisions, rebase, conflicts, undo and redo.

Work is computed before the clip is locked, and only committed while its head is still the one
it was computed for; acknowledged means committed.
"""

import logging
import time
import uuid
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from config.logs import note
from django.contrib.auth.models import AbstractBaseUser
from django.db import transaction
from leancurve.errors import BadInput
from leancurve.progress import Progress, part_of, silent
from leancurve.recipe import moved_lines
from library.models import Take
from library.profiles import profile_for

from editing.documents import changed_channels, header_changed, load_clip
from editing.models import Clip, Revision, State, keep_lines
from editing.recipes import (
    Line,
    moved_take,
    needs_take,
    new_line,
    replay,
    run_line,
    take_on_time,
    title,
)

log = logging.getLogger("lean.history")

MOST_ATTEMPTS = 5


class Conflict(Exception):
    """A write was made on a revision that is no longer the head, and touches what changed since."""

    def __init__(self, head: Revision, theirs: list[str], yours: list[str]) -> None:
        self.head, self.theirs, self.yours = head, theirs, yours
        super().__init__("The clip has changed since, in what this change touches.")


@dataclass(frozen=True)
class Change:
    """What a write asks for: append a line, give a line other parameters, take one out, append
    a whole recipe, or put another take beneath all of it."""

    append: Line | None = None
    edit: Line | None = None
    remove: str | None = None
    recipe: tuple[str, list[Line]] | None = None
    swap: Take | None = None


def open_clip(take: Take, user: AbstractBaseUser) -> Clip:
    """A new clip of a take, its recipe one line: how the take is read."""
    with transaction.atomic():
        clip = Clip.objects.create(workspace=take.workspace, take=take, name=take.name)
        names = load_clip(take.state).skeleton.names
        known = profile_for(take.workspace, names)
        roles = {j: r for j, r in (known.roles if known else {}).items() if j in names}
        step = run_line(new_line("read", {"roles": roles} if roles else {}, {}), take.state)
        first = Revision.objects.create(
            clip=clip,
            number=1,
            lines=keep_lines([step.line]),
            state=step.state,
            cause="Bring in",
            author=user,
        )
        clip.head = clip.tip = first
        clip.save(update_fields=["head", "tip"])
    return clip


def _outcome(base: Revision, take_state: State, change: Change, progress: Progress) -> "_Result":
    """Recipe, state, report and cause that a change makes of a revision."""
    recipe: list[Line] = list(base.recipe)
    if change.append is not None:
        return _appended(base, recipe, change.append, progress)
    if change.recipe is not None:
        return _with_recipe(base, recipe, *change.recipe, progress)
    if change.swap is not None:
        return _swapped(base, recipe, change.swap, progress)
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
    steps = replay(take_state, recipe, progress)
    report = steps[min(index, len(steps) - 1)].report
    unplaced = [u for s in steps for u in s.report.get("unplaced", [])]
    if unplaced:
        report = {**report, "unplaced": unplaced}
    return _Result(recipe, steps[-1].state, report, cause)


def _appended(base: Revision, recipe: list[Line], line: Line, progress: Progress) -> "_Result":
    step = run_line(line, base.state, progress, _take_for(line, base))
    last = recipe[-1]
    follows = all(last[part] == line[part] for part in ("operation", "version", "scope"))
    if follows and (together := _together(line["operation"], last["params"], line["params"])):
        # Hand edits in a row are one line: the state is the same.
        recipe[-1] = {**last, "params": together}
    else:
        recipe.append(step.line)
    return _Result(recipe, step.state, step.report, title(line))


def _take_for(line: Line, base: Revision) -> State | None:
    """The take on a revision's time, where a line brings it back."""
    return take_on_time(take_of(base).state, base.recipe) if needs_take(line) else None


def _with_recipe(
    base: Revision, recipe: list[Line], name: str, lines: list[Line], progress: Progress
) -> "_Result":
    """All lines of a recipe after those that stand; if one fails nothing is changed."""
    state, report = base.state, []
    brings_back = any(needs_take(line) for line in lines)
    take = take_on_time(take_of(base).state, recipe) if brings_back else None
    for k, line in enumerate(lines):
        within = part_of(progress, k / len(lines), 1 / len(lines))
        try:
            step = run_line(line, state, within, take)
        except BadInput as trouble:
            raise BadInput(f"line {k + 1}, {title(line)}: {trouble.message}") from None
        state = step.state
        if take is not None:
            take = moved_take(take, step)
        report.append({"told": title(line), "report": step.report, "keys": state.keys})
    return _Result([*recipe, *lines], state, {"lines": report}, f"Recipe {name}"[:200])


def _swapped(base: Revision, recipe: list[Line], take: Take, progress: Progress) -> "_Result":
    """The recipe on another take: spans of plain frames mapped by time, what is lost listed."""
    before, after = load_clip(base.state), load_clip(take.state)
    if before.skeleton.names != after.skeleton.names:
        raise BadInput(
            f"{take.name} has other joints ({take.skeleton_name}): a take can only be swapped "
            "for one on the same skeleton"
        )
    scale = float(after.rate / load_clip(take_of(base).state).rate)
    lines, lost = moved_lines(recipe, scale, after.frames)
    steps = replay(take.state, lines, progress)
    unplaced = [*lost, *(u for s in steps for u in s.report.get("unplaced", []))]
    report: dict[str, Any] = {"lines": len(lines), "unplaced": unplaced}
    return _Result(lines, steps[-1].state, report, f"Swap the take for {take.name}"[:200], take)


def take_of(revision: Revision) -> Take:
    """The take beneath a revision."""
    return revision.take or revision.clip.take


@dataclass(frozen=True)
class _Result:
    recipe: list[Line]
    state: State
    report: dict[str, Any]
    cause: str
    take: Take | None = None


def _together(
    operation: str, first: dict[str, Any], second: dict[str, Any]
) -> dict[str, Any] | None:
    """Parameters of two lines in a row that make one, None where they stay two."""
    if operation == "edit":
        return _edits_together(first, second)
    if operation in ("edit_marks", "edit_contacts"):
        return {"edits": [*first["edits"], *second["edits"]]}
    if operation == "accept" and first.get("meant", True) == second.get("meant", True):
        return {**second, "findings": [*first["findings"], *second["findings"]]}
    return None


MOST_TOGETHER = 150
"""Key edits in one line: each write keeps its last line whole, so it may not grow for ever."""


def _edits_together(first: dict[str, Any], second: dict[str, Any]) -> dict[str, Any] | None:
    """Two lines of hand edits as one; None where they stay two."""
    if first.get("ends") or second.get("ends"):
        return None
    keys = [*first["keys"], *second["keys"]]
    # Edits are made in turn: only those that set keys, with none made or removed among them,
    # can be put together key by key.
    tail = next((k for k in range(len(keys), 0, -1) if keys[k - 1]["do"] != "set"), 0)
    keys = [*keys[:tail], *_newest(keys[tail:])]
    return {"keys": keys} if len(keys) <= MOST_TOGETHER else None


SHAPE = {"slope_in", "slope_out", "length_in", "length_out"}


def _newest(keys: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """Edits of one key put together: what was set last counts, what was set once stays.

    A handle kind does away with slopes set before it, slopes with a kind set before them.
    """
    merged: dict[tuple[str, str, int], dict[str, Any]] = {}
    for key in keys:
        name = (key["joint"], key["channel"], key["id"])
        first = merged.pop(name, {})
        gone = SHAPE if "handle" in key else {"handle"} if SHAPE & set(key) else set()
        kept = {k: v for k, v in first.items() if k not in gone}
        merged[name] = {**kept, **key, "frame": first.get("frame", key["frame"])}
    return list(merged.values())


def write(
    clip_id: int,
    base_id: int,
    request_id: uuid.UUID,
    change: Change,
    user: AbstractBaseUser,
    progress: Progress = silent,
) -> Revision:
    """Apply a change made on revision ``base_id``. Sent twice, applied once.

    If the head has moved on, an appended line that touches other channels than what changed
    since is rebased on the head; anything else is a :class:`Conflict`.
    """
    began = time.perf_counter()
    for _ in range(MOST_ATTEMPTS):
        done = Revision.objects.filter(clip_id=clip_id, request_id=request_id).first()
        if done is not None:
            return done
        clip = Clip.objects.select_related(
            "head__state__header", "head__take__state__header", "take__state__header"
        ).get(pk=clip_id)
        assert clip.head is not None
        head = clip.head
        if head.pk != base_id:
            base = (
                Revision.objects.select_related("state__header")
                .filter(clip_id=clip_id, pk=base_id)
                .first()
            )
            if base is None:
                raise BadInput("that revision is not one of this clip")
            _require_disjoint(base, head, change, progress)
        result = _outcome(head, (head.take or clip.take).state, change, progress)
        revision = _commit(clip, head, result, request_id, user)
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
    raise Conflict(head, ["the clip is being changed faster than this change can follow"], [])


def _require_disjoint(base: Revision, head: Revision, change: Change, progress: Progress) -> None:
    since = changed_channels(base.state, head.state)
    names = load_clip(head.state).skeleton.names

    def named(channels: set[Any]) -> list[str]:
        return [f"{names[c.joint]} {c.name}" for c in sorted(channels)]

    if change.append is None or header_changed(base.state, head.state):
        raise Conflict(head, named(since) or ["how the take is read"], ["the recipe"])
    step = run_line(change.append, base.state, progress, _take_for(change.append, base))
    ours = changed_channels(base.state, step.state)
    if ours & since:
        raise Conflict(head, named(since), named(ours))


def _commit(
    clip: Clip, head: Revision, result: _Result, request_id: uuid.UUID, user: AbstractBaseUser
) -> Revision | None:
    """The new head, or None if another write came first."""
    with transaction.atomic():
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
            lines=keep_lines(result.recipe),
            state=result.state,
            cause=result.cause,
            report=result.report,
            author=user,
            request_id=request_id,
        )
        locked.head = locked.tip = revision
        locked.save(update_fields=["head", "tip", "opened"])
    return revision


def _move(clip_id: int, base_id: int, target: Callable[[Clip], Revision | None]) -> Revision:
    with transaction.atomic():
        clip = Clip.objects.select_for_update().get(pk=clip_id)
        head = Revision.objects.get(pk=clip.head_id)
        if head.pk != base_id:
            raise Conflict(head, ["the history has moved on"], ["undo or redo"])
        there = target(clip)
        if there is None:
            return head
        clip.head = there
        clip.save(update_fields=["head", "opened"])
    note(revision=there.pk)
    return there


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
