"""An account of a recipe: what each of its lines did to the motion, told apart by kind.

A largest value that mixes mends with costs says nothing: a snap that was put right is as large as
it was wrong. So each line is measured by itself, and what calm and thin cost is summed apart.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace
from typing import Literal, TypeAlias

import numpy as np
import numpy.typing as npt

from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.document.tracks import refilled
from leancurve.measures.drift import baseline_with_ends, end_points
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Bools, Floats, Ints, runs

Kind: TypeAlias = Literal[
    "continuity", "mend", "calm", "thin", "plant", "retarget", "hand", "layer", "place"
]
"""``continuity``: how the motion is read and written, which must move nothing. ``mend``: what a
finding names is put right. ``calm`` and ``thin``: what cleaning costs. ``plant``: feet and hands
held where they stand. ``retarget``: put on another skeleton. ``hand``: what was meant, in the
clip's own curves; ``layer``: over them; ``place``: all of it put elsewhere."""

COSTS: frozenset[Kind] = frozenset({"calm", "thin"})

STILL_DEG = 1e-3
STILL_MM = 1e-2
"""Below these a frame counts as not mended: rounding, and the tails of a soft edge."""
NEAR_S = 0.5
"""The longest stretch that its neighbours can be said to predict."""

Float32s: TypeAlias = npt.NDArray[np.float32]


@dataclass(frozen=True)
class Place:
    """The largest of a measure, and where: a joint's or an end's name, and its frame."""

    size: float = 0.0
    rms: float = 0.0
    name: str = ""
    frame: int = 0


@dataclass(frozen=True)
class Mended:
    """A stretch that was put right: frames, both included, by how many degrees and mm at the ends.

    ``off_deg`` is how far the mended stretch is from what the frames on both its sides predict,
    None where it is too long or lies at an end of the clip.
    """

    joints: tuple[str, ...]
    first: int
    last: int
    deg: float
    mm: float
    off_deg: float | None


@dataclass(frozen=True)
class LineDrift:
    """What one line did by itself: degrees of the joints' turns, millimetres at the ends."""

    kind: Kind
    deg: Place = Place()
    mm: Place = Place()
    mended: tuple[Mended, ...] = ()


@dataclass(frozen=True, eq=False)
class Shift:
    """What a line did on each frame: ``turns (F, J, 4)`` about the joints' own axes, ``moves
    (F, E, 3)`` of the ends in mm."""

    turns: Float32s
    moves: Float32s
    joints: tuple[str, ...]
    ends: tuple[str, ...]


def measured(kind: Kind, before: Clip, after: Clip) -> tuple[LineDrift, Shift | None]:
    """A line's own drift and shift, given the states around it.

    Where it moves time, says how the take is read or changes the skeleton there is nothing to
    compare: no drift.
    """
    same_time = (before.frames, before.rate) == (after.frames, after.rate)
    if before.skeleton != after.skeleton:
        return LineDrift(kind), None
    if not same_time or before.reading != after.reading or after.frames == 0:
        return LineDrift(kind), None
    ours, theirs = evaluate(after), evaluate(before)
    turns = rotation.multiply(rotation.conjugate(theirs.rotation), ours.rotation)
    ends, points = end_points(after, ours)
    _, was = end_points(baseline_with_ends(before, ends), theirs)
    moves = (points - was) * after.millimetres
    names = after.skeleton.names
    degrees = rotation.geodesic_deg(ours.rotation, theirs.rotation)
    mm = np.linalg.norm(moves, axis=-1)
    mended = _mended(after, degrees, mm, ours.rotation) if kind == "mend" else ()
    told = LineDrift(kind, _largest(degrees, names), _largest(mm, ends), mended)
    return told, Shift(turns.astype(np.float32), moves.astype(np.float32), names, ends)


def _largest(sizes: Floats, names: Sequence[str]) -> Place:
    """Of sizes ``(F, N)``."""
    if sizes.size == 0:
        return Place()
    frame, at = np.unravel_index(int(np.argmax(sizes)), sizes.shape)
    if sizes[frame, at] <= 0.0:
        return Place()
    rms = float(np.sqrt(np.mean(sizes**2)))
    return Place(float(sizes[frame, at]), rms, names[int(at)], int(frame))


def _mended(clip: Clip, degrees: Floats, mm: Floats, local: Floats) -> tuple[Mended, ...]:
    """Stretches in which joints turned otherwise than before; those at the same frames are one."""
    by_span: dict[tuple[int, int], list[int]] = defaultdict(list)
    for joint in np.flatnonzero(degrees.max(axis=0) > STILL_DEG).tolist():
        for span in runs(degrees[:, joint] > STILL_DEG):
            by_span[span].append(joint)
    if not by_span:
        # Nothing turned: what moved, moved whole.
        for span in runs(mm.max(axis=1, initial=0.0) > STILL_MM):
            by_span[span] = [0]
    out = []
    for (first, last), joints in sorted(by_span.items()):
        part = slice(first, last + 1)
        out.append(
            Mended(
                tuple(clip.skeleton.names[j] for j in joints),
                first,
                last,
                float(degrees[part][:, joints].max()),
                float(mm[part].max(initial=0.0)),
                _off(local[:, joints], first, last, float(clip.rate)),
            )
        )
    return tuple(out)


def _off(local: Floats, first: int, last: int, rate: float) -> float | None:
    """How far rotations ``(F, n, 4)`` are from the smooth way between the frames around a span."""
    at_border = first == 0 or last == len(local) - 1
    if at_border or last - first + 1 > NEAR_S * rate:
        return None
    part = slice(first, last + 1)
    return max(
        float(rotation.geodesic_deg(refilled(q, first, last)[part], q[part]).max())
        for q in (rotation.hemisphere(local[:, k]) for k in range(local.shape[1]))
    )


@dataclass(frozen=True, eq=False)
class Entry:
    """A line in an account: its drift, its shift where it counts, and where it moves frames.

    ``moved`` gives the frame that one has become, and ``frames`` how many there are after it;
    None where time stays.
    """

    drift: LineDrift
    shift: Shift | None
    frames: int
    moved: Callable[[float], float] | None = None


@dataclass(frozen=True, eq=False)
class Account:
    """What a recipe did. ``cost`` is of calm and thin alone, taken together; ``mended`` lists what
    was put right, at its frames in the clip as it is now; ``mended_moves (F, E, 3)`` is what the
    mends moved the ends by, mm."""

    cost_deg: Place
    cost_mm: Place
    mended: tuple[Mended, ...]
    mended_moves: Floats | None


def account(entries: Iterable[Entry]) -> Account:
    """Lines taken together, in their order."""
    cost_turns: Floats | None = None
    cost_moves: Floats | None = None
    mended_moves: Floats | None = None
    mended: list[Mended] = []
    joints: tuple[str, ...] = ()
    ends: tuple[str, ...] = ()
    for entry in entries:
        if entry.moved is not None:
            was, known = _frames_before(entry)
            cost_turns = _brought(cost_turns, was, known, rotation.IDENTITY)
            cost_moves = _brought(cost_moves, was, known, np.zeros(3))
            mended_moves = _brought(mended_moves, was, known, np.zeros(3))
            mended = [m for m in (_moved_on(m, entry) for m in mended) if m is not None]
        mended += entry.drift.mended
        shift = entry.shift
        if shift is None:
            continue
        if entry.drift.kind in COSTS:
            joints, ends = shift.joints, shift.ends
            turns = shift.turns.astype(np.float64)
            cost_turns = turns if cost_turns is None else rotation.multiply(cost_turns, turns)
            cost_moves = _sum(cost_moves, shift.moves)
        elif entry.drift.kind == "mend":
            mended_moves = _sum(mended_moves, shift.moves)
    degrees, mm = Place(), Place()
    if cost_turns is not None and cost_moves is not None:
        turned = rotation.geodesic_deg(rotation.normalise(cost_turns), rotation.IDENTITY)
        degrees = _largest(turned, joints)
        mm = _largest(np.linalg.norm(cost_moves, axis=-1), ends)
    return Account(degrees, mm, tuple(mended), mended_moves)


def _sum(total: Floats | None, moves: Float32s) -> Floats:
    more = moves.astype(np.float64)
    return more if total is None or total.shape != more.shape else np.asarray(total + more)


def _frames_before(entry: Entry) -> tuple[Ints, Bools]:
    """For each frame ``(F,)`` after a change of time the one it was, and whether it was one."""
    assert entry.moved is not None
    after = np.arange(entry.frames)
    # As many frames as could have been: those that fall outside of the clip are not asked for.
    most = 4 * entry.frames + 1000 if entry.frames else 0
    late = np.array([entry.moved(float(f)) for f in range(most)])
    late = np.maximum.accumulate(late) if len(late) else late
    at = np.clip(np.searchsorted(late, after - 0.5), 0, max(len(late) - 1, 0))
    known = np.abs(late[at] - after) <= 1.0 if len(late) else np.zeros(0, dtype=np.bool_)
    return at.astype(np.int64), known


def _brought(values: Floats | None, was: Ints, known: Bools, nothing: Floats) -> Floats | None:
    """Values a frame brought through a change of time; what is new has ``nothing``."""
    if values is None or len(values) == 0:
        return values
    at = np.minimum(was, len(values) - 1)
    out = values[at]
    out[~(known & (was < len(values)))] = nothing
    return out


def _moved_on(mended: Mended, entry: Entry) -> Mended | None:
    assert entry.moved is not None
    first, last = (round(entry.moved(float(f))) for f in (mended.first, mended.last))
    first, last = max(first, 0), min(last, entry.frames - 1)
    return replace(mended, first=first, last=last) if first <= last else None
