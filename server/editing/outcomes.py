"""What a change makes of a clip's revision: computed, and not yet kept."""

import uuid
from collections.abc import Sequence
from dataclasses import dataclass, replace
from fractions import Fraction
from typing import Any

from documents.models import State
from documents.store import hash_after, load_clip
from leancurve.errors import BadInput
from leancurve.progress import Progress, part_of
from leancurve.recipe import moved_line, moved_lines, set_aside, time_after
from leancurve.time.meaning import ClipTime
from library.models import Take

from editing.models import Revision
from editing.recipes import (
    Line,
    Standing,
    Step,
    begin,
    compute,
    next_key,
    remember,
    replay,
    run_line,
    title,
    trail,
)
from editing.together import is_one_step, together


@dataclass(frozen=True)
class Change:
    """What a write asks for: append a line, give a line other parameters, take one out, append a
    line and take one out, append a whole recipe, or put another take beneath all of it."""

    append: Line | None = None
    edit: Line | None = None
    remove: str | None = None
    recipe: "Many | None" = None
    swap: Take | None = None
    goes_on: uuid.UUID | None = None
    """The write whose step of the history it goes on with, where that one still stands and it can
    be put together with the last line."""


@dataclass(frozen=True)
class Many:
    """A recipe to be appended: its name, its lines, and the rate that their frames are meant at."""

    name: str
    lines: list[Line]
    rate: Fraction | None = None


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
class Result:
    """Recipe, state, report and cause that a change makes of a revision."""

    recipe: list[Line]
    after: Standing
    before: State
    report: dict[str, Any]
    cause: str
    take: Take | None = None
    same_step: bool = False
    """Whether it goes on with the step that made the revision it is made of."""


def outcome_of(base: Revision, change: Change, progress: Progress) -> Result:
    """Recipe, state, report and cause that a change makes of a revision."""
    if change.append is not None and change.remove is not None:
        return _exchanged(base, change, progress)
    if change.append is not None:
        goes_on = change.goes_on is not None and change.goes_on == base.request_id
        return _appended(base, change.append, goes_on, progress)
    if change.recipe is not None:
        return _with_recipe(base, change.recipe, progress)
    if change.swap is not None:
        return _swapped(base, change.swap, progress)
    return _changed(base, change, progress)


def _changed(base: Revision, change: Change, progress: Progress) -> Result:
    """A line given other parameters, or taken out, and all after it replayed."""
    recipe: list[Line] = list(base.recipe)
    wanted = change.remove or (change.edit or {}).get("line_id")
    index = next((k for k, line in enumerate(recipe) if line["line_id"] == wanted), None)
    if index is None:
        raise BadInput("that line is not in the recipe any more")
    if change.remove is not None:
        if index == 0:
            raise BadInput(
                "the first line says how the take is read: it can be changed, not deleted"
            )
        cause = f"Delete {title(recipe[index])}"
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


def _exchanged(base: Revision, change: Change, progress: Progress) -> Result:
    """A line taken out and another one appended, as one step."""
    assert change.append is not None
    without = _changed(base, replace(change, append=None), part_of(progress, 0.0, 0.8))
    step = run_line(change.append, without.after, part_of(progress, 0.8, 0.2))
    told = title(change.append)
    return Result(
        [*without.recipe, step.line], step.after, without.after.state, step.report, told[:200]
    )


def _result(
    base: Revision, steps: list[Step], report: dict[str, Any], cause: str, take: Take | None = None
) -> Result:
    before = steps[-2].state if len(steps) > 1 else (take or take_of(base)).state
    return Result([s.line for s in steps], steps[-1].after, before, report, cause[:200], take)


def unplaced_in(steps: Sequence[Step]) -> list[dict[str, Any]]:
    """What found no place, each with the line that it belongs to."""
    return [
        {"line_id": step.line["line_id"], "operation": step.line["operation"], **what}
        for step in steps
        for what in step.report.get("unplaced", [])
    ]


def _appended(base: Revision, line: Line, goes_on: bool, progress: Progress) -> Result:
    at = standing(base)
    recipe = list(base.recipe)
    step = run_line(line, at, progress)
    result = Result([*recipe, step.line], step.after, base.state, step.report, title(line))
    merged = _merged(base, line, step, goes_on)
    return result if merged is None else replace(result, **merged)


def lines_on(base: Revision, many: Many) -> tuple[list[Line], list[dict[str, Any]]]:
    """A recipe's lines as they mean the same seconds on a revision, and what does not fit."""
    if many.rate is None:
        return many.lines, []
    clip = load_clip(base.state)
    old, new = ClipTime(many.rate, clip.frames), ClipTime(clip.rate, clip.frames)
    return moved_lines(many.lines, old, new)


def _with_recipe(base: Revision, many: Many, progress: Progress) -> Result:
    """All lines of a recipe after those that stand; if one fails nothing is changed."""
    lines, lost = lines_on(base, many)
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
    return Result([*base.recipe, *lines], at, before, told, f"Recipe {many.name}"[:200])


def _swapped(base: Revision, take: Take, progress: Progress) -> Result:
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


def _merged(base: Revision, line: Line, step: Step, goes_on: bool) -> dict[str, Any] | None:
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
        return {
            "recipe": [*base.recipe[:-1], one],
            "after": after,
            "before": base.before,
            "same_step": goes_on or is_one_step(line["operation"]),
        }
    return None


def _key_before_last(base: Revision) -> str:
    take = take_of(base).state
    above = base.recipe[:-1]
    return trail(take, above)[-1] if above else begin(take).key
