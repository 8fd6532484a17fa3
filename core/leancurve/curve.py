"""One number over time: sampled (a value on each frame) or keyed (segments between keys).

A keyed curve is columns, not objects. Handles have a slope (value a frame) and a length, a
share of the segment's span, such that time never runs back. With both lengths one third a
segment is the cubic Hermite of the glTF 2.0 specification, appendix C; other lengths are solved
for time. A segment may also spring or bounce to the next key, and a curve may go on before its
first and after its last key.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from enum import IntEnum, IntFlag
from functools import cached_property
from typing import TypeAlias

import numpy as np

from leancurve.arrays import AnyArray, Bools, Bytes, Floats, Ints
from leancurve.errors import BadInput


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
    def heard(self) -> Bools:
        """Keys that are not muted ``(K,)``."""
        return np.asarray((self.flags & KeyFlag.MUTED) == 0)

    @cached_property
    def unmuted(self) -> KeyedCurve:
        """The curve without its muted keys: what is evaluated."""
        return self if bool(np.all(self.heard)) else self.only(self.heard)

    def among_heard(self, change: Callable[[KeyedCurve], KeyedCurve]) -> KeyedCurve:
        """The curve with its unmuted keys changed, as many of them, muted ones as they were."""
        if self.unmuted is self:
            return change(self)
        inner = change(self.unmuted)
        columns = {n: c.copy() for n, c in self.columns.items()}
        for name, column in columns.items():
            column[self.heard] = inner.columns[name]
        return self.edited(**columns)

    def at(self, frames: Floats) -> Floats:
        """Values at any times ``(F,)``."""
        return np.asarray(evaluate_keyed([self], np.asarray(frames, dtype=np.float64))[0])

    def checked(self) -> KeyedCurve:
        """This curve, or :class:`BadInput` saying which column breaks which rule."""
        size = len(self.time)
        if size == 0:
            raise BadInput("a keyed curve needs at least one key")
        for name, kind in KEY_COLUMNS.items():
            column = getattr(self, name)
            if column.shape != (size,):
                raise BadInput(f"key column {name!r} has {column.size} entries, expected {size}")
            if kind is np.float64 and not np.all(np.isfinite(column)):
                raise BadInput(f"key column {name!r} has a value that is not a finite number")
        if np.any(np.diff(self.time) <= 0):
            raise BadInput("key times must ascend, with no two keys at one time")
        if len(np.unique(self.id)) != size:
            raise BadInput("key ids must be unique within a curve")
        for name in ("length_in", "length_out"):
            lengths = getattr(self, name)
            if np.any((lengths < 0) | (lengths > LONGEST)):
                raise BadInput(f"{name} must lie in 0 to 4/3 of the segment's span")
        if not np.any(self.heard):
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
    from leancurve.kernels import segments

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


def evaluate_plain(curve: KeyedCurve, frames: Floats) -> Floats:
    """The same in numpy, by bisection: independent of the compiled kernel, for checks."""
    curve = curve.unmuted
    if curve.key_count == 1:
        return np.full(len(frames), curve.value[0])
    t = np.asarray(frames, dtype=np.float64)
    first, last = curve.time[0], curve.time[-1]
    rise, period = curve.value[-1] - curve.value[0], last - first
    inside, add = np.clip(t, first, last), np.zeros(len(t))
    for kind, outside, slope in (
        (curve.extend[0], t < first, end_slope(curve, 0)),
        (curve.extend[1], t > last, end_slope(curve, -1)),
    ):
        if kind == Extend.STRAIGHT:
            add[outside] = slope * (t - inside)[outside]
        elif kind != Extend.HOLD:
            turn = np.floor((t - first) / period)
            inside[outside] = (t - turn * period)[outside]
            if kind == Extend.REPEAT_OFFSET:
                add[outside] = rise * turn[outside]
    return add + _within(curve, inside)


def _within(curve: KeyedCurve, t: Floats) -> Floats:
    k = np.clip(np.searchsorted(curve.time, t, side="right") - 1, 0, curve.key_count - 2)
    span = curve.time[k + 1] - curve.time[k]
    x = (t - curve.time[k]) / span
    p1, p2 = curve.length_out[k], 1 - curve.length_in[k + 1]
    low, high = np.zeros_like(x), np.ones_like(x)
    for _ in range(60):
        u = (low + high) / 2
        w = 1 - u
        late = 3 * w * w * u * p1 + 3 * w * u * u * p2 + u**3 > x
        low, high = np.where(late, low, u), np.where(late, u, high)
    u = (low + high) / 2
    w = 1 - u
    v0, v1 = curve.value[k], curve.value[k + 1]
    b1 = v0 + curve.slope_out[k] * curve.length_out[k] * span
    b2 = v1 - curve.slope_in[k + 1] * curve.length_in[k + 1] * span
    bezier = w**3 * v0 + 3 * w * w * u * b1 + 3 * w * u * u * b2 + u**3 * v1
    kind = curve.segment[k]
    value = np.where(kind == Segment.STRAIGHT, v0 + x * (v1 - v0), bezier)
    value = np.where(kind == Segment.HOLD, np.where(x >= 1, v1, v0), value)
    for i in np.flatnonzero(kind >= Segment.SPRING).tolist():
        made = sprung if kind[i] == Segment.SPRING else bounced
        share = made(float(x[i]), int(curve.swings[k[i]]), float(curve.decay[k[i]]))
        value[i] = v0[i] + share * (v1[i] - v0[i])
    return np.asarray(np.where(x >= 1, v1, value))


def sprung(x: float, swings: int, decay: float) -> float:
    """How far a spring has come at ``x`` in [0, 1]: from rest, damped, at its goal at 1.

    The step response of a damped oscillator, its frequency chosen so that it is at its goal at
    the end after passing it ``swings`` times.
    """
    omega = (swings + 1) * np.pi
    for _ in range(60):
        omega = (swings + 1) * np.pi - np.arctan(omega / decay)
    wave = np.cos(omega * x) + decay / omega * np.sin(omega * x)
    return float(1.0 - np.exp(-decay * x) * wave)


def bounced(x: float, swings: int, decay: float) -> float:
    """How far a thing dropped on its goal has come at ``x``: it rebounds ``swings`` times."""
    ratio = np.exp(-decay / 2.0)
    fall = 1.0 / (1.0 + 2.0 * sum(ratio**i for i in range(1, swings + 1)))
    if x < fall:
        return float((x / fall) ** 2)
    begin = fall
    for i in range(1, swings + 1):
        half = fall * ratio**i
        if x <= begin + 2.0 * half:
            away = (x - begin - half) / half
            return float(1.0 - ratio ** (2 * i) * (1.0 - away * away))
        begin += 2.0 * half
    return 1.0


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


def insert_key(curve: KeyedCurve, time: float) -> KeyedCurve:
    """The same curve with a key at ``time``, its shape unchanged (de Casteljau).

    A key that stands there already is enough; a muted one gives way. A segment that springs or
    bounces is written out as keys first, and so are the repetitions up to a time outside of the
    keys.
    """
    if curve.unmuted is not curve:
        return with_muted(insert_key(curve.unmuted, time), curve)
    if np.abs(curve.time - time).min() < SAME_TIME:
        return curve
    if not curve.time[0] < time < curve.time[-1]:
        return _insert_outside(curve, time)
    k = int(np.searchsorted(curve.time, time)) - 1
    if curve.segment[k] >= Segment.SPRING:
        return insert_key(written_out(curve, k), time)
    columns = _with_gap(curve, k + 1, time)
    new = k + 1
    columns["handle"][new] = Handle.FREE
    columns["segment"][new] = curve.segment[k]
    if curve.segment[k] == Segment.STRAIGHT:
        slope = (curve.value[k + 1] - curve.value[k]) / (curve.time[k + 1] - curve.time[k])
        columns["slope_in"][new] = columns["slope_out"][new] = slope
    elif curve.segment[k] == Segment.CURVE:
        _split_segment(curve, k, time, columns)
    return curve.edited(**columns).checked()


def with_muted(changed: KeyedCurve, curve: KeyedCurve) -> KeyedCurve:
    """Muted keys of ``curve`` put back, but those at whose time another key stands now."""
    muted = curve.only(~curve.heard)
    gap = np.abs(muted.time[:, None] - changed.time[None, :]).min(axis=1)
    muted = muted.only(gap >= SAME_TIME)
    ids = changed.id.copy()
    clash = np.isin(ids, muted.id)
    ids[clash] = max(int(ids.max()), int(curve.id.max())) + 1 + np.arange(np.count_nonzero(clash))
    changed = changed.edited(id=ids)
    columns = {n: np.concatenate([c, muted.columns[n]]) for n, c in changed.columns.items()}
    order = np.argsort(columns["time"], kind="stable")
    return changed.edited(**{n: c[order] for n, c in columns.items()}).checked()


def insert_keys(curve: KeyedCurve, times: Iterable[float]) -> KeyedCurve:
    """Keys at several times, the shape unchanged."""
    for time in times:
        curve = insert_key(curve, float(time))
    return curve


def _with_gap(curve: KeyedCurve, at: int, time: float) -> dict[str, AnyArray]:
    """Columns with room for a key at index ``at``, on the curve at ``time``."""
    columns = {n: np.insert(c, at, 0).astype(c.dtype) for n, c in curve.columns.items()}
    columns["id"][at] = int(curve.id.max()) + 1
    columns["time"][at], columns["value"][at] = time, float(curve.at(np.array([time]))[0])
    columns["length_in"][at] = columns["length_out"][at] = 1.0 / 3.0
    return columns


def _split_segment(curve: KeyedCurve, k: int, time: float, columns: dict[str, AnyArray]) -> None:
    """Handles of the two halves of segment ``k``; the new key stands at ``k + 1``."""
    from leancurve.kernels.segments import solve_time

    new = k + 1
    span = curve.time[k + 1] - curve.time[k]
    u = solve_time(
        (time - curve.time[k]) / span, float(curve.length_out[k]), float(curve.length_in[k + 1])
    )
    # Points of the Bezier in (time, value); the three new points of each half follow.
    p0 = np.array([curve.time[k], curve.value[k]])
    p3 = np.array([curve.time[k + 1], curve.value[k + 1]])
    p1 = p0 + curve.length_out[k] * span * np.array([1.0, curve.slope_out[k]])
    p2 = p3 - curve.length_in[k + 1] * span * np.array([1.0, curve.slope_in[k + 1]])
    a, b, c = p0 + u * (p1 - p0), p1 + u * (p2 - p1), p2 + u * (p3 - p2)
    d, e = a + u * (b - a), b + u * (c - b)
    slope = (e[1] - d[1]) / (e[0] - d[0]) if e[0] > d[0] else 0.0
    before, after = time - p0[0], p3[0] - time
    columns["length_out"][k] = (a[0] - p0[0]) / before
    columns["length_in"][new] = (time - d[0]) / before
    columns["length_out"][new] = (e[0] - time) / after
    columns["length_in"][new + 1] = (p3[0] - c[0]) / after
    columns["slope_in"][new] = columns["slope_out"][new] = slope


def _insert_outside(curve: KeyedCurve, time: float) -> KeyedCurve:
    early = time < curve.time[0]
    extend = curve.extend[0 if early else 1]
    if extend >= Extend.REPEAT and curve.key_count > 1:
        return insert_key(_unfolded(curve, early, extend), time)
    slope = end_slope(curve, 0 if early else -1) if extend == Extend.STRAIGHT else 0.0
    at = 0 if early else curve.key_count
    columns = _with_gap(curve, at, time)
    columns["handle"][at] = Handle.FLAT if slope == 0.0 else Handle.FREE
    columns["slope_in"][at] = columns["slope_out"][at] = slope
    near, inner = (1, "in") if early else (curve.key_count - 1, "out")
    # The old end leaves towards the new key as the curve went on there.
    columns[f"slope_{inner}"][near] = slope
    columns[f"length_{inner}"][near] = 1.0 / 3.0
    if not early:
        columns["segment"][near] = Segment.CURVE
    if columns["slope_in"][near] != columns["slope_out"][near]:
        columns["handle"][near] = Handle.FREE
        columns["flags"][near] |= KeyFlag.BROKEN
    return curve.edited(**columns).checked()


SEAM = 1e-3
"""Frames between two keys where a repetition jumps from the last value to the first."""


def _unfolded(curve: KeyedCurve, early: bool, extend: Extend) -> KeyedCurve:
    """The curve with one repetition more, before or after, written out as keys."""
    period = curve.time[-1] - curve.time[0]
    rise = curve.value[-1] - curve.value[0] if extend == Extend.REPEAT_OFFSET else 0.0
    sign = -1.0 if early else 1.0
    copy = curve.edited(
        id=curve.id + int(curve.id.max()) + 1,
        time=curve.time + sign * period,
        value=curve.value + sign * rise,
    )
    first, second = (copy, curve) if early else (curve, copy)
    jump = not np.isclose(first.value[-1], second.value[0], rtol=1e-12, atol=1e-12)
    head = {n: c.copy() for n, c in first.columns.items()}
    tail = {n: c.copy() for n, c in second.columns.items()}
    if jump:
        head["time"][-1] -= SEAM
    else:
        # One key for both: it comes in as the last and goes out as the first.
        for name in ("slope_in", "length_in"):
            tail[name][0] = head[name][-1]
        if tail["slope_in"][0] != tail["slope_out"][0]:
            tail["handle"][0] = Handle.FREE
            tail["flags"][0] |= KeyFlag.BROKEN
        if not early:
            tail["time"][0] = head["time"][-1]
        head = {n: c[:-1] for n, c in head.items()}
    joined = {n: np.concatenate([head[n], tail[n]]) for n in head}
    return curve.edited(**joined).checked()


PIECES_A_SWING = 24


def written_out(curve: KeyedCurve, k: int) -> KeyedCurve:
    """Segment ``k``, which springs or bounces, as keys: a bounce exactly, a spring nearly."""
    v0, rise = curve.value[k], curve.value[k + 1] - curve.value[k]
    t0, span = curve.time[k], curve.time[k + 1] - curve.time[k]
    swings, decay = int(curve.swings[k]), float(curve.decay[k])
    columns = {n: c.copy() for n, c in curve.columns.items()}
    columns["segment"][k] = Segment.CURVE
    columns["swings"][k], columns["decay"][k] = 0, 0.0
    if curve.segment[k] == Segment.BOUNCE:
        ratio = np.exp(-decay / 2.0)
        parts = np.array([1.0] + [2.0 * ratio**i for i in range(1, swings + 1)])
        x = np.cumsum(parts)[:-1] / parts.sum()
        # Falling from height h takes its square root's time: slopes at the floor follow.
        heights = np.concatenate([[1.0], ratio ** (2.0 * np.arange(1, swings + 1))])
        times = parts / parts.sum() / np.array([1.0] + [2.0] * swings)
        speed = 2.0 * heights / times
        share, slope_in, slope_out = np.ones(swings), speed[:-1], -speed[1:]
        first_slope, last_slope = 0.0, speed[-1]
    else:
        x = np.linspace(0.0, 1.0, PIECES_A_SWING * (swings + 1) + 1)
        share = np.array([sprung(float(at), swings, decay) for at in x])
        h = 1e-6
        slope = np.array(
            [(sprung(at + h, swings, decay) - sprung(at - h, swings, decay)) / (2 * h) for at in x]
        )
        first_slope, last_slope = 0.0, slope[-1]
        x, share, slope_in = x[1:-1], share[1:-1], slope[1:-1]
        slope_out = slope_in
    scale = rise / span
    columns["slope_out"][k], columns["slope_in"][k + 1] = first_slope, last_slope * scale
    columns["length_out"][k] = columns["length_in"][k + 1] = 1.0 / 3.0
    for end in (k, k + 1):
        columns["handle"][end] = Handle.FREE
        columns["flags"][end] |= KeyFlag.BROKEN
    third = np.full(len(x), 1.0 / 3.0)
    between: dict[str, AnyArray] = {
        "id": int(curve.id.max()) + 1 + np.arange(len(x)),
        "time": t0 + x * span,
        "value": v0 + share * rise,
        "slope_in": slope_in * scale,
        "slope_out": slope_out * scale,
        "length_in": third,
        "length_out": third,
        "handle": np.full(len(x), Handle.FREE),
        "flags": np.where(slope_in == slope_out, 0, KeyFlag.BROKEN),
    }
    made = {}
    for name, column in columns.items():
        inner = between.get(name, np.zeros(len(x))).astype(column.dtype)
        made[name] = np.concatenate([column[: k + 1], inner, column[k + 1 :]])
    return curve.edited(**made).checked()


def cut(curve: KeyedCurve, first: float, last: float) -> KeyedCurve:
    """The part of a curve from ``first`` to ``last``, keys at both ends, its shape unchanged."""
    if curve.unmuted is not curve:
        part = cut(curve.unmuted, first, last)
        inside = (curve.time > first) & (curve.time < last)
        return with_muted(part, curve.only(inside)) if np.any(inside & ~curve.heard) else part
    whole = insert_key(insert_key(curve, first), last)
    time = whole.time.copy()
    for border in (first, last):
        time[np.argmin(np.abs(time - border))] = border
    whole = whole.edited(time=time)
    return whole.only((whole.time >= first) & (whole.time <= last))
