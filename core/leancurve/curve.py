"""One number over time: sampled (a value on each frame) or keyed (cubic segments).

A keyed curve is columns, not objects. Handles have a slope (value a frame) and a length,
a share of the segment's span in [0, 1]. With both lengths one third a segment is the
cubic Hermite of the glTF 2.0 specification, appendix C; other lengths are solved for time.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from enum import IntEnum, IntFlag
from functools import cached_property
from typing import TypeAlias

import numpy as np

from leancurve.arrays import AnyArray, Bytes, Floats, Ints
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


class KeyFlag(IntFlag):
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
}


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

    def at(self, frames: Floats) -> Floats:
        """Values at any times: straight between frames, the end values held outside."""
        grid = np.arange(len(self.values), dtype=np.float64)
        return np.asarray(np.interp(frames, grid, self.values))


@dataclass(frozen=True, eq=False)
class KeyedCurve:
    """Keys in ascending time; every column is ``(K,)``, times in frames."""

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

    @property
    def key_count(self) -> int:
        return len(self.time)

    @cached_property
    def columns(self) -> dict[str, AnyArray]:
        return {name: getattr(self, name) for name in KEY_COLUMNS}

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
            if np.any((lengths < 0) | (lengths > 1)):
                raise BadInput(f"{name} must lie in [0, 1] of the segment's span")
        if np.any(self.handle > max(Handle)) or np.any(self.segment > max(Segment)):
            raise BadInput("a key has a handle or segment kind that does not exist")
        return self

    def edited(self, **columns: AnyArray) -> KeyedCurve:
        return replace(self, **columns)


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
        np.ascontiguousarray(frames, dtype=np.float64),
        out,
    )
    return out


def evaluate_plain(curve: KeyedCurve, frames: Floats) -> Floats:
    """The same in numpy, by bisection: independent of the compiled kernel, for checks."""
    t = np.clip(frames, curve.time[0], curve.time[-1])
    if curve.key_count == 1:
        return np.full(len(t), curve.value[0])
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
    return np.asarray(np.where(x >= 1, v1, value))


def insert_key(curve: KeyedCurve, time: float) -> KeyedCurve:
    """The same curve with a key at ``time``, its shape unchanged (de Casteljau).

    A key that stands there already is enough; outside the keys a flat one is added.
    """
    from leancurve.kernels.segments import solve_time

    if np.any(curve.time == time):
        return curve
    k = int(np.searchsorted(curve.time, time)) - 1
    inner = 0 <= k < curve.key_count - 1
    value = float(curve.at(np.array([time]))[0])
    columns = {n: np.insert(c, k + 1, 0).astype(c.dtype) for n, c in curve.columns.items()}
    new = k + 1
    columns["id"][new] = int(curve.id.max()) + 1
    columns["time"][new], columns["value"][new] = time, value
    columns["length_in"][new] = columns["length_out"][new] = 1.0 / 3.0
    columns["handle"][new] = Handle.FREE if inner else Handle.FLAT
    columns["segment"][new] = curve.segment[max(k, 0)] if inner else Segment.CURVE
    if inner and curve.segment[k] == Segment.STRAIGHT:
        slope = (curve.value[k + 1] - curve.value[k]) / (curve.time[k + 1] - curve.time[k])
        columns["slope_in"][new] = columns["slope_out"][new] = slope
    elif inner and curve.segment[k] == Segment.CURVE:
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
    for name in ("length_in", "length_out"):
        columns[name] = np.clip(columns[name], 0.0, 1.0)
    return KeyedCurve(**columns).checked()


def cut(curve: KeyedCurve, first: float, last: float) -> KeyedCurve:
    """The part of a curve from ``first`` to ``last``, keys at both ends, its shape unchanged."""
    whole = insert_key(insert_key(curve, first), last)
    kept = (whole.time >= first) & (whole.time <= last)
    return KeyedCurve(**{n: c[kept] for n, c in whole.columns.items()})
