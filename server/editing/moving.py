"""Where frames of one revision lie on another: through the lines that moved time in between."""

from collections.abc import Callable, Sequence
from itertools import takewhile

from documents.models import State
from documents.store import load_clip
from leancurve.operations import operation_named
from leancurve.recipe import time_moved

from editing.models import Revision
from editing.outcomes import take_of
from editing.recipes import Line, replay

Map = Callable[[float], float]


def moved_frames(before: Revision, after: Revision, frames: Sequence[int]) -> list[int | None]:
    """Frames of ``before`` as frames of ``after``; None where one is no more.

    Back through the lines that only the one has, and on through those that only the other has;
    from one take to another by the second.
    """
    ours, theirs = take_of(before), take_of(after)
    same = zip(before.recipe, after.recipe, strict=False)
    common = sum(1 for _ in takewhile(lambda pair: pair[0] == pair[1], same))
    scale = 1.0
    if ours.pk != theirs.pk:
        common, scale = 0, _rate(theirs.state) / _rate(ours.state)
    back, on = _through(before, common), _through(after, common)
    last = load_clip(after.state).frames - 1
    start = _start(before, common)
    out: list[int | None] = []
    for frame in frames:
        at = float(frame) if not back else _led_to(back, float(frame), start)
        at = None if at is None else scale * at
        for step in on:
            at = None if at is None else step(at)
        out.append(None if at is None or not 0 <= round(at) <= last else round(at))
    return out


def _start(revision: Revision, common: int) -> int:
    """How many frames there are after the lines that both have."""
    take = take_of(revision).state
    steps = replay(take, revision.recipe[:common])
    return load_clip(steps[-1].after.state if steps else take).frames


def _rate(take: State) -> float:
    return float(load_clip(take).rate)


def _through(revision: Revision, common: int) -> list[Map]:
    """The changes of time of a revision's lines after the first ``common``."""
    later: Sequence[Line] = revision.recipe[common:]
    if not any(operation_named(x["operation"]).retimes and not x.get("aside") for x in later):
        return []
    take = take_of(revision).state
    steps = replay(take, revision.recipe)
    found = (
        time_moved(step.line, step.report, load_clip(steps[k - 1].after.state if k else take))
        for k, step in enumerate(steps[common:], start=common)
        if not step.line.get("aside")
    )
    return [moved for moved in found if moved is not None]


def _led_to(maps: Sequence[Map], frame: float, frames: int) -> float | None:
    """The frame that these maps lead nearest to one, within a frame of it."""
    best: tuple[float, float | None] = (1.0, None)
    for start in range(frames):
        at = float(start)
        for step in maps:
            at = step(at)
        if abs(at - frame) < best[0]:
            best = (abs(at - frame), float(start))
    return best[1]
