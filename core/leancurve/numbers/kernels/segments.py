"""Compiled evaluation of cubic segments with free handle lengths."""

from __future__ import annotations

import math

import numpy as np

from leancurve.numbers.arrays import Bytes, Floats, Ints
from leancurve.numbers.kernels import kernel

THIRD = 1.0 / 3.0
CURVE, STRAIGHT, HOLD, SPRING, BOUNCE = 0, 1, 2, 3, 4
ON_STRAIGHT, REPEAT, REPEAT_OFFSET = 1, 2, 3


@kernel
def solve_time(x: float, out_length: float, in_length: float) -> float:
    """The parameter u in [0, 1] at which a segment's normalised time is ``x``.

    Time is the cubic Bezier with ordinates 0, out_length, 1 - in_length, 1. With the lengths
    that curves may have it never runs back (its derivative has no sign change), so Newton
    steps held inside a shrinking bracket always arrive.
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
def sprung(x: float, swings: int, decay: float) -> float:
    """Share of the way that a damped spring has come at ``x``: see ``leancurve.curves.curve``."""
    omega = (swings + 1) * np.pi
    for _ in range(60):
        omega = (swings + 1) * np.pi - math.atan(omega / decay)
    return 1.0 - math.exp(-decay * x) * (math.cos(omega * x) + decay / omega * math.sin(omega * x))


@kernel
def bounced(x: float, swings: int, decay: float) -> float:
    """Share of the way that a bouncing thing has come at ``x``: see ``leancurve.curves.curve``."""
    whole = 1.0
    for i in range(1, swings + 1):
        whole += 2.0 * math.exp(-0.5 * decay * i)
    fall = 1.0 / whole
    if x < fall:
        return (x / fall) * (x / fall)
    begin = fall
    for i in range(1, swings + 1):
        half = fall * math.exp(-0.5 * decay * i)
        if x <= begin + 2.0 * half:
            away = (x - begin - half) / half
            return 1.0 - math.exp(-decay * i) * (1.0 - away * away)
        begin += 2.0 * half
    return 1.0


@kernel
def between(
    kind: int,
    x: float,
    span: float,
    v0: float,
    s0: float,
    l0: float,
    v1: float,
    s1: float,
    l1: float,
    swings: int,
    decay: float,
) -> float:
    """Value at normalised time ``x`` of a segment of any kind."""
    if kind == HOLD:
        return v0
    if kind == STRAIGHT:
        return v0 + x * (v1 - v0)
    if kind == SPRING:
        return v0 + sprung(x, swings, decay) * (v1 - v0)
    if kind == BOUNCE:
        return v0 + bounced(x, swings, decay) * (v1 - v0)
    if v0 == v1 and s0 == 0.0 and s1 == 0.0:
        return v0
    return segment_value(x, span, v0, s0, l0, v1, s1, l1)


@kernel
def leaving(kind: int, curved: float, v0: float, v1: float, span: float) -> float:
    """The slope with which an end segment of a kind leaves the keys."""
    if kind == CURVE:
        return curved
    if kind == STRAIGHT:
        return (v1 - v0) / span
    return 0.0


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
    swings: Bytes,
    decay: Floats,
    extend: Bytes,
    frames: Floats,
    out: Floats,
) -> None:
    """Curves stored one after another (``starts`` has C + 1 entries) at ``frames``: ``(C, F)``.

    ``extend`` ``(C, 2)`` says how each goes on before and after its keys. Ascending frames cost
    one walk along the keys; others a binary search each.
    """
    for c in range(starts.shape[0] - 1):
        first, last = starts[c], starts[c + 1] - 1
        k = first
        period = time[last] - time[first]
        rise = value[last] - value[first]
        for f in range(frames.shape[0]):
            t = frames[f]
            added = 0.0
            if t < time[first] or t > time[last]:
                early = t < time[first]
                on = extend[c, 0] if early else extend[c, 1]
                if on == ON_STRAIGHT:
                    end = first if early else last
                    slope = slope_in[first] if early else slope_out[last]
                    if first < last:
                        a = first if early else last - 1
                        curved = slope_out[first] if early else slope_in[last]
                        span = time[a + 1] - time[a]
                        slope = leaving(segment[a], curved, value[a], value[a + 1], span)
                    out[c, f] = value[end] + slope * (t - time[end])
                    continue
                if on >= REPEAT and first < last:
                    turn = np.floor((t - time[first]) / period)
                    t = min(max(t - turn * period, time[first]), time[last])
                    if on == REPEAT_OFFSET:
                        added = rise * turn
            if t <= time[first]:
                out[c, f] = value[first] + added
                continue
            if t >= time[last]:
                out[c, f] = value[last] + added
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
            span = time[k + 1] - time[k]
            out[c, f] = added + between(
                segment[k],
                (t - time[k]) / span,
                span,
                value[k],
                slope_out[k],
                length_out[k],
                value[k + 1],
                slope_in[k + 1],
                length_in[k + 1],
                swings[k],
                decay[k],
            )
