"""Where frames of one revision lie on another: by the time map that each keeps to its parent."""

from collections.abc import Callable, Iterator, Sequence
from itertools import takewhile

from documents.models import State
from documents.store import load_clip
from leancurve.operations import operation_named
from leancurve.recipe import time_moved
from leancurve.time.maps import TimeMap

from editing.models import Revision
from editing.outcomes import take_of
from editing.recipes import Line, replay

Moved = Callable[[float], float | None]


def moved_frames(before: Revision, after: Revision, frames: Sequence[int]) -> list[int | None]:
    """Frames of ``before`` as frames of ``after``, two revisions of one clip; None where one is no
    more: back to what both come from, and on from there."""
    back, on = _line_of(before), _line_of(after)
    while back and on and back[-1].pk == on[-1].pk:
        back.pop()
        on.pop()
    ways = [time_map(r).inverse for r in back if moves_time(r)]
    ways += [time_map(r) for r in reversed(on) if moves_time(r)]
    last = load_clip(after.state).frames - 1
    out: list[int | None] = []
    for frame in frames:
        at: float | None = float(frame)
        for way in ways:
            at = None if at is None else way.at(at)
        out.append(None if at is None or not 0 <= round(at) <= last else round(at))
    return out


def _line_of(revision: Revision) -> list[Revision]:
    """A revision and all that it comes from, itself first."""
    light = Revision.objects.filter(clip=revision.clip_id, number__lte=revision.number)
    known = {r.pk: r for r in light.defer("report", "lines")}
    out = []
    at = known.get(revision.pk)
    while at is not None:
        out.append(at)
        at = known.get(at.parent_id) if at.parent_id else None
    return out


def moves_time(revision: Revision) -> bool:
    """Whether a revision's frames may lie elsewhere than its parent's: looked at where it does not
    say so yet, as those of older versions."""
    if revision.time_map is None:
        parent = revision.parent
        revision.time_map = [] if parent is None else between(parent, revision)
        revision.save(update_fields=["time_map"])
    return bool(revision.time_map)


def time_map(revision: Revision) -> TimeMap:
    """From the frames of a revision's parent to its own."""
    return TimeMap.kept(revision.time_map or ())


def between(before: Revision, after: Revision) -> list[list[float]]:
    """The time map from one revision to the next as it is kept; nothing where frames stay.

    Back through the lines that only the one has, and on through those that only the other has;
    from one take to another by the second.
    """
    ours, theirs = take_of(before), take_of(after)
    same = zip(before.recipe, after.recipe, strict=False)
    common = sum(1 for _ in takewhile(lambda pair: pair[0] == pair[1], same))
    scale = 1.0
    if ours.pk != theirs.pk:
        common, scale = 0, _rate(theirs.state) / _rate(ours.state)
    back, on = list(_through(before, common)), list(_through(after, common))
    if not back and not on and scale == 1.0:
        return []

    def led(steps: Sequence[Moved], frame: float) -> float | None:
        at: float | None = frame
        for step in steps:
            at = None if at is None else step(at)
        return at

    start = _start(before, common)
    returning = TimeMap.of(lambda f: led(back, f), start).inverse if back else None
    frames = load_clip(after.state).frames

    def moved(frame: float) -> float | None:
        at = frame if returning is None else returning.at(frame)
        found = None if at is None else led(on, scale * at)
        return found if found is not None and -0.5 <= found <= frames - 0.5 else None

    return TimeMap.of(moved, load_clip(before.state).frames).values


def _start(revision: Revision, common: int) -> int:
    """How many frames there are after a revision's first ``common`` lines."""
    take = take_of(revision).state
    steps = replay(take, revision.recipe[:common])
    return load_clip(steps[-1].after.state if steps else take).frames


def _rate(take: State) -> float:
    return float(load_clip(take).rate)


def _through(revision: Revision, common: int) -> Iterator[Moved]:
    """The changes of time of a revision's lines after the first ``common``."""
    later: Sequence[Line] = revision.recipe[common:]
    if not any(operation_named(x["operation"]).retimes and not x.get("aside") for x in later):
        return
    take = take_of(revision).state
    steps = replay(take, revision.recipe)
    for k, step in enumerate(steps[common:], start=common):
        if step.line.get("aside"):
            continue
        before = steps[k - 1].after.state if k else take
        moved = time_moved(step.line, step.report, load_clip(before))
        if moved is not None:
            yield moved
