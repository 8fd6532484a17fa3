"""Compiled evaluation of cubic segments with free handle lengths."""

from __future__ import annotations

import numpy as np

from leancurve.arrays import Bytes, Floats, Ints
from leancurve.kernels import kernel

THIRD = 1.0 / 3.0
CURVE, STRAIGHT, HOLD = 0, 1, 2


@kernel
def solve_time(x: float, out_length: float, in_length: float) -> float:
    """The parameter u in [0, 1] at which a segment's normalised time is ``x``.

    Time is the cubic Bezier with ordinates 0, out_length, 1 - in_length, 1. With lengths
    in [0, 1] it never runs back (its derivative has no sign change), so Newton steps held
    inside a shrinking bracket always arrive.
    """
    if np.abs(out_length - THIRD) < 1e-12 and np.abs(in_length - THIRD) < 1e-12:
        return x
    p1 = 3.0 * out_length
    p2 = 3.0 * (1.0 - in_length)
    c3 = 1.0 + p1 - p2
    c2 = p2 - 2.0 * p1
    low, high = 0.0, 1.0
    u = x
    for _ in range(60):
        error = ((c3 * u + c2) * u + p1) * u - x
        if error > 0.0:
            high = u
        else:
            low = u
        if np.abs(error) < 1e-13:
            break
        slope = (3.0 * c3 * u + 2.0 * c2) * u + p1
        step = u - error / slope if slope > 1e-9 else low - 1.0
        if step <= low or step >= high:
            step = 0.5 * (low + high)
        u = step
    return u


@kernel
def segment_value(
    x: float,
    span: float,
    v0: float,
    s0: float,
    l0: float,
    v1: float,
    s1: float,
    l1: float,
) -> float:
    """Value at normalised time ``x`` of a segment of ``span`` frames; slopes a frame."""
    u = solve_time(x, l0, l1)
    w = 1.0 - u
    b1 = v0 + s0 * l0 * span
    b2 = v1 - s1 * l1 * span
    return w * w * w * v0 + 3.0 * w * w * u * b1 + 3.0 * w * u * u * b2 + u * u * u * v1


@kernel
def evaluate_keyed(
    starts: Ints,
    time: Floats,
    value: Floats,
    slope_in: Floats,
    slope_out: Floats,
    length_in: Floats,
    length_out: Floats,
    segment: Bytes,
    frames: Floats,
    out: Floats,
) -> None:
    """Curves stored one after another (``starts`` has C + 1 entries) at ``frames``: ``(C, F)``.

    Before the first and after the last key the end values hold. Ascending frames cost one
    walk along the keys; others a binary search each.
    """
    for c in range(starts.shape[0] - 1):
        first, last = starts[c], starts[c + 1] - 1
        k = first
        for f in range(frames.shape[0]):
            t = frames[f]
            if t <= time[first]:
                out[c, f] = value[first]
                continue
            if t >= time[last]:
                out[c, f] = value[last]
                continue
            if not (time[k] <= t):
                low, high = first, last
                while high - low > 1:
                    middle = (low + high) // 2
                    if time[middle] <= t:
                        low = middle
                    else:
                        high = middle
                k = low
            while time[k + 1] <= t:
                k += 1
            resting = value[k + 1] == value[k] and slope_out[k] == 0.0 and slope_in[k + 1] == 0.0
            if resting or segment[k] == HOLD:
                out[c, f] = value[k]
                continue
            span = time[k + 1] - time[k]
            x = (t - time[k]) / span
            if segment[k] == STRAIGHT:
                out[c, f] = value[k] + x * (value[k + 1] - value[k])
            else:
                out[c, f] = segment_value(
                    x,
                    span,
                    value[k],
                    slope_out[k],
                    length_out[k],
                    value[k + 1],
                    slope_in[k + 1],
                    length_in[k + 1],
                )
