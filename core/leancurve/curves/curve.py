"""One number over time: sampled (a value on each frame) or keyed (segments between keys).

A keyed curve is columns, not objects. Handles have a slope (value a frame) and a length, a
share of the segment's span, such that time never runs back. With both lengths one third a
segment is the cubic Hermite of the glTF 2.0 specification, appendix C; other lengths are solved
for time. A segment may also spring or bounce to the next key, and a curve may go on before its
first and after its last key.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from enum import IntEnum, IntFlag
from functools import cached_property
from typing import TypeAlias
from zlib import crc32

import numpy as np

from leancurve.errors import BadInput
from leancurve.numbers.arrays import AnyArray, Bools, Bytes, Floats, Ints


class Handle(IntEnum):
    """How a key's handles came about, and so what becomes of them when it is edited."""

    EASED = 0
    FLOWING = 1
    FLAT = 2
    STRAIGHT = 3
    HOLD = 4
    FREE = 5


class Segment(IntEnum):
    """What happens between a key and the next one."""

    CURVE = 0
    STRAIGHT = 1
    HOLD = 2
    SPRING = 3
    BOUNCE = 4


class Extend(IntEnum):
    """How a curve goes on before its first and after its last key."""

    HOLD = 0
    STRAIGHT = 1
    REPEAT = 2
    REPEAT_OFFSET = 3


class KeyFlag(IntFlag):
    """A muted key counts as if it were not there; a riding one keeps its share of the time
    between its neighbours; at a broken one the two handles go their own ways."""

    MUTED = 1
    RIDING = 2
    BROKEN = 4


KEY_COLUMNS: dict[str, type[np.generic]] = {
    "id": np.int64,
    "time": np.float64,
    "value": np.float64,
    "slope_in": np.float64,
    "slope_out": np.float64,
    "length_in": np.float64,
    "length_out": np.float64,
    "handle": np.uint8,
    "segment": np.uint8,
    "flags": np.uint8,
    "swings": np.uint8,
    "decay": np.float64,
}
OPTIONAL_COLUMNS = ("swings", "decay")
"""Columns of springs and bounces: stored only where a curve has some."""

Extends: TypeAlias = tuple[Extend, Extend]
HELD: Extends = (Extend.HOLD, Extend.HOLD)

MOST_SWINGS = 20
DEFAULT_SWINGS = {Segment.SPRING: (2, 4.0), Segment.BOUNCE: (2, 1.4)}
"""Count and decay of a segment that has just been made to spring or bounce."""


@dataclass(frozen=True, eq=False)
class SampledCurve:
    """A value on each frame 0, 1, …: ``values`` is ``(F,)`` float64."""

    values: Floats

    @property
    def key_count(self) -> int:
        return len(self.values)

    @cached_property
    def columns(self) -> dict[str, AnyArray]:
        return {"values": self.values}

    @property
    def stored(self) -> dict[str, AnyArray]:
        return self.columns

    def at(self, frames: Floats) -> Floats:
        """Values at any times: straight between frames, the end values held outside."""
        grid = np.arange(len(self.values), dtype=np.float64)
        return np.asarray(np.interp(frames, grid, self.values))


@dataclass(frozen=True, eq=False)
class KeyedCurve:
    """Keys in ascending time; every column is ``(K,)``, times in frames.

    ``swings`` and ``decay`` count for segments that spring (how often the next key's value is
    passed; how fast the swing dies) or bounce (how often it rebounds; each rebound's height is
    ``exp(-decay)`` of the one before). ``extend`` is what happens before and after the keys.
    """

    id: Ints
    time: Floats
    value: Floats
    slope_in: Floats
    slope_out: Floats
    length_in: Floats
    length_out: Floats
    handle: Bytes
    segment: Bytes
    flags: Bytes
    swings: Bytes = field(default_factory=lambda: np.zeros(0, dtype=np.uint8))
    decay: Floats = field(default_factory=lambda: np.zeros(0))
    extend: Extends = HELD

    def __post_init__(self) -> None:
        for name in OPTIONAL_COLUMNS:
            if len(getattr(self, name)) == 0:
                object.__setattr__(self, name, np.zeros(len(self.time), dtype=KEY_COLUMNS[name]))

    @property
    def key_count(self) -> int:
        return len(self.time)

    @cached_property
    def columns(self) -> dict[str, AnyArray]:
        return {name: getattr(self, name) for name in KEY_COLUMNS}

    @cached_property
    def stored(self) -> dict[str, AnyArray]:
        """The columns to keep: those that say nothing are left out. ``extend`` is ``(2,)``."""
        out = {
            name: column
            for name, column in self.columns.items()
            if name not in OPTIONAL_COLUMNS or np.any(column)
        }
        if self.extend != HELD:
            out["extend"] = np.array(self.extend, dtype=np.uint8)
        return out

    @cached_property
    def live(self) -> Bools:
        """Keys that are not muted ``(K,)``."""
        return np.asarray((self.flags & KeyFlag.MUTED) == 0)

    @cached_property
    def unmuted(self) -> KeyedCurve:
        """The curve without its muted keys: what is evaluated."""
        return self if bool(np.all(self.live)) else self.only(self.live)

    def among_live(self, change: Callable[[KeyedCurve], KeyedCurve]) -> KeyedCurve:
        """The curve with its unmuted keys changed, as many of them, muted ones as they were."""
        if self.unmuted is self:
            return change(self)
        inner = change(self.unmuted)
        columns = {n: c.copy() for n, c in self.columns.items()}
        for name, column in columns.items():
            column[self.live] = inner.columns[name]
        return self.edited(**columns)

    def at(self, frames: Floats) -> Floats:
        """Values at any times ``(F,)``."""
        return np.asarray(evaluate_keyed([self], np.asarray(frames, dtype=np.float64))[0])

    def checked(self) -> KeyedCurve:
        """This curve, or :class:`BadInput` saying which column breaks which rule."""
        size = len(self.time)
        if size == 0:
            raise BadInput("a keyed curve needs at least one key")
        for name in KEY_COLUMNS:
            column = getattr(self, name)
            if column.shape != (size,):
                raise BadInput(f"key column {name!r} has {column.size} entries, expected {size}")
        numbers = [name for name, kind in KEY_COLUMNS.items() if kind is np.float64]
        finite = np.isfinite([getattr(self, name) for name in numbers]).all(axis=1)
        if not finite.all():
            name = numbers[int(np.argmin(finite))]
            raise BadInput(f"key column {name!r} has a value that is not a finite number")
        if np.any(np.diff(self.time) <= 0):
            raise BadInput("key times must ascend, with no two keys at one time")
        if not np.all(np.diff(self.id) > 0) and len(np.unique(self.id)) != size:
            raise BadInput("key ids must be unique within a curve")
        for name in ("length_in", "length_out"):
            lengths = getattr(self, name)
            if np.any((lengths < 0) | (lengths > LONGEST)):
                raise BadInput(f"{name} must lie in 0 to 4/3 of the segment's span")
        if not np.any(self.live):
            raise BadInput("a curve needs at least one key that is not muted")
        if np.any(runs_back(self.unmuted)):
            raise BadInput("lengths of a segment's two handles would let time run back")
        if np.any(self.handle > max(Handle)) or np.any(self.segment > max(Segment)):
            raise BadInput("a key has a handle or segment kind that does not exist")
        swinging = self.segment >= Segment.SPRING
        if np.any(self.swings > MOST_SWINGS) or np.any(self.swings[swinging] < 1):
            raise BadInput(f"swings must lie in 1 to {MOST_SWINGS} where a key springs or bounces")
        if np.any((self.decay < 0) | (self.decay > 50)) or np.any(self.decay[swinging] == 0):
            raise BadInput("decay must be above 0, up to 50, where a key springs or bounces")
        return self

    def edited(self, **columns: AnyArray) -> KeyedCurve:
        """This curve with columns replaced: all of them where the number of keys changes."""
        return replace(self, **columns)  # type: ignore[arg-type]

    def only(self, kept: Bools) -> KeyedCurve:
        """This curve with the keys of a mask ``(K,)``."""
        return self.edited(**{n: c[kept] for n, c in self.columns.items()})


LONGEST = 4.0 / 3.0 + 1e-9
"""The longest a handle can be, with time still not running back."""


def runs_back(curve: KeyedCurve) -> Bools:
    """Segments in which time would run back ``(K - 1,)``.

    With lengths a and b the speed of time is (1-u)² a + 2u(1-u)(1-a-b) + u² b, which stays at or
    above 0 just where a + b - 1 ≤ √(ab): always where neither is above 1.
    """
    a, b = curve.length_out[:-1], curve.length_in[1:]
    return np.asarray(a + b - 1.0 > np.sqrt(a * b) + 1e-9)


ID_ROOM = 2**20


def made_anew(curve: KeyedCurve) -> KeyedCurve:
    """The curve with ids that no other curve's keys have: what is made anew gets new ids.

    They follow from the keys' times and values, so that the same keys made twice are the same.
    Below 2**52, which a double holds exactly.
    """
    content = crc32(curve.value.tobytes(), crc32(curve.time.tobytes()))
    first = (content or 1) * ID_ROOM
    return curve.edited(id=first + np.arange(curve.key_count, dtype=np.int64))


def forward_only(curve: KeyedCurve) -> KeyedCurve:
    """The curve with handles shortened where one made long leaves no room to another."""
    back = runs_back(curve)
    if not np.any(back):
        return curve
    shorter_out, shorter_in = np.append(back, False), np.append(False, back)
    return curve.edited(
        length_out=np.where(shorter_out, np.minimum(curve.length_out, 1), curve.length_out),
        length_in=np.where(shorter_in, np.minimum(curve.length_in, 1), curve.length_in),
    )


def stored_curve(columns: Mapping[str, AnyArray]) -> Curve:
    """The curve whose ``stored`` columns these are."""
    if "values" in columns:
        return SampledCurve(columns["values"])
    keys = dict(columns)
    extend = keys.pop("extend", None)
    ends = HELD if extend is None else (Extend(int(extend[0])), Extend(int(extend[1])))
    return KeyedCurve(**keys, extend=ends)


Curve: TypeAlias = SampledCurve | KeyedCurve


def keyed(
    time: Sequence[float] | Floats,
    value: Sequence[float] | Floats,
    slope: Sequence[float] | Floats | None = None,
    *,
    handle: Handle = Handle.EASED,
    segment: Segment = Segment.CURVE,
) -> KeyedCurve:
    """A curve of keys with handles of one third length; without slopes, eased ones.

    ``keyed([0, 10], [0, 1])`` is a smooth rise with flat ends.
    """
    t, v = np.asarray(time, dtype=np.float64), np.asarray(value, dtype=np.float64)
    s = eased_slopes(t, v) if slope is None else np.asarray(slope, dtype=np.float64)
    third = np.full(len(t), 1.0 / 3.0)
    return KeyedCurve(
        id=np.arange(len(t), dtype=np.int64),
        time=t,
        value=v,
        slope_in=s,
        slope_out=s.copy(),
        length_in=third,
        length_out=third.copy(),
        handle=np.full(len(t), handle, dtype=np.uint8),
        segment=np.full(len(t), segment, dtype=np.uint8),
        flags=np.zeros(len(t), dtype=np.uint8),
    ).checked()


def eased_slopes(time: Floats, value: Floats) -> Floats:
    """Slopes that never let the curve pass a key's value: zero at extremes and ends.

    Harmonic mean of the neighbouring steps (Fritsch and Butland 1984, monotone cubics).
    """
    slopes = np.zeros(len(time))
    if len(time) > 2:
        span = np.diff(time)
        step = np.diff(value) / span
        left, right = step[:-1], step[1:]
        same = left * right > 0
        w1, w2 = 2 * span[1:] + span[:-1], span[1:] + 2 * span[:-1]
        with np.errstate(divide="ignore", invalid="ignore"):
            mean = (w1 + w2) / (w1 / left + w2 / right)
        slopes[1:-1] = np.where(same, mean, 0.0)
    return slopes


def evaluate_keyed(curves: Sequence[KeyedCurve], frames: Floats) -> Floats:
    """Many keyed curves at the same times: ``(C, F)``, compiled."""
    from leancurve.numbers.kernels import segments  # numba loads late

    curves = [c.unmuted for c in curves]
    counts = [c.key_count for c in curves]
    starts = np.concatenate([[0], np.cumsum(counts)]).astype(np.int64)

    def joined(name: str) -> AnyArray:
        return np.concatenate([getattr(c, name) for c in curves])

    out = np.empty((len(curves), len(frames)))
    segments.evaluate_keyed(
        starts,
        joined("time"),
        joined("value"),
        joined("slope_in"),
        joined("slope_out"),
        joined("length_in"),
        joined("length_out"),
        joined("segment"),
        joined("swings"),
        joined("decay"),
        np.array([c.extend for c in curves], dtype=np.uint8).reshape(len(curves), 2),
        np.ascontiguousarray(frames, dtype=np.float64),
        out,
    )
    return out


def end_slope(curve: KeyedCurve, end: int) -> float:
    """The slope with which a curve leaves its keys: ``end`` is 0 before, -1 after them."""
    if curve.key_count == 1:
        return float(curve.slope_in[0] if end == 0 else curve.slope_out[0])
    kind = Segment(int(curve.segment[0 if end == 0 else -2]))
    if kind == Segment.CURVE:
        return float(curve.slope_out[0] if end == 0 else curve.slope_in[-1])
    if kind == Segment.STRAIGHT:
        a, b = (0, 1) if end == 0 else (-2, -1)
        return float((curve.value[b] - curve.value[a]) / (curve.time[b] - curve.time[a]))
    return 0.0


SAME_TIME = 1e-9
"""Frames: keys nearer than this stand at one time."""

ON_FRAME = 1e-6
"""Frames: a key nearer to a frame than this stands on it (rounding of files' own times)."""


def negated(curve: Curve) -> Curve:
    """A curve with its values the other way round."""
    if isinstance(curve, SampledCurve):
        return SampledCurve(-curve.values)
    return curve.edited(value=-curve.value, slope_in=-curve.slope_in, slope_out=-curve.slope_out)


def frame_values(curve: Curve) -> Floats:
    """The values of a curve that is dense: sampled, or keyed on every frame."""
    return curve.values if isinstance(curve, SampledCurve) else curve.value
