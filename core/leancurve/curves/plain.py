"""Keyed curves evaluated in numpy, by bisection: what the compiled kernel is checked against."""

from __future__ import annotations

import numpy as np

from leancurve.curves.curve import Extend, KeyedCurve, Segment, end_slope
from leancurve.curves.springs import bounced, sprung
from leancurve.numbers.arrays import Floats


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
