"""Keys inserted into a curve without a change of its shape, and stretches cut out of it."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from typing import TypeAlias

import numpy as np

from leancurve.curves.curve import (
    SAME_TIME,
    Extend,
    Handle,
    KeyedCurve,
    KeyFlag,
    Segment,
    end_slope,
)
from leancurve.curves.springs import sprung
from leancurve.errors import BadInput
from leancurve.numbers.arrays import AnyArray

Extent: TypeAlias = tuple[float, float]
"""First and last frame of what a curve is needed for."""


def insert_key(curve: KeyedCurve, time: float, extent: Extent | None = None) -> KeyedCurve:
    """The same curve with a key at ``time``, its shape unchanged (de Casteljau).

    A key that stands there already is enough; a muted one gives way. A segment that springs or
    bounces is written out as keys first, and so are the repetitions up to a time outside of the
    keys. Where the curve repeats on its other side only, one more key would change what is
    repeated: there it is written out over ``extent``, and :class:`BadInput` without one.
    """
    made = _inserted(curve, time, extent)
    return made if made is curve else made.checked()


def _inserted(curve: KeyedCurve, time: float, extent: Extent | None) -> KeyedCurve:
    """What :func:`insert_key` makes, not yet checked."""
    if curve.unmuted is not curve:
        return with_muted(_inserted(curve.unmuted, time, extent), curve)
    if np.abs(curve.time - time).min() < SAME_TIME:
        return curve
    if not curve.time[0] < time < curve.time[-1]:
        return _insert_outside(curve, time, extent)
    k = int(np.searchsorted(curve.time, time)) - 1
    if curve.segment[k] >= Segment.SPRING:
        return _inserted(written_out(curve, k), time, extent)
    columns = _with_gap(curve, k + 1, time)
    new = k + 1
    columns["handle"][new] = Handle.FREE
    columns["segment"][new] = curve.segment[k]
    if curve.segment[k] == Segment.STRAIGHT:
        slope = (curve.value[k + 1] - curve.value[k]) / (curve.time[k + 1] - curve.time[k])
        columns["slope_in"][new] = columns["slope_out"][new] = slope
    elif curve.segment[k] == Segment.CURVE:
        _split_segment(curve, k, time, columns)
    return curve.edited(**columns)


def with_muted(changed: KeyedCurve, curve: KeyedCurve) -> KeyedCurve:
    """Muted keys of ``curve`` put back, but those at whose time another key stands now."""
    muted = curve.only(~curve.live)
    gap = np.abs(muted.time[:, None] - changed.time[None, :]).min(axis=1)
    muted = muted.only(gap >= SAME_TIME)
    ids = changed.id.copy()
    clash = np.isin(ids, muted.id)
    ids[clash] = max(int(ids.max()), int(curve.id.max())) + 1 + np.arange(np.count_nonzero(clash))
    changed = changed.edited(id=ids)
    columns = {n: np.concatenate([c, muted.columns[n]]) for n, c in changed.columns.items()}
    order = np.argsort(columns["time"], kind="stable")
    return changed.edited(**{n: c[order] for n, c in columns.items()}).checked()


def insert_keys(
    curve: KeyedCurve, times: Iterable[float], extent: Extent | None = None
) -> KeyedCurve:
    """Keys at several times, the shape unchanged."""
    for time in times:
        curve = insert_key(curve, float(time), extent)
    return curve


def _with_gap(curve: KeyedCurve, at: int, time: float) -> dict[str, AnyArray]:
    """Columns with room for a key at index ``at``, on the curve at ``time``."""
    gap = {n: np.zeros(1, dtype=c.dtype) for n, c in curve.columns.items()}
    columns = {n: np.concatenate([c[:at], gap[n], c[at:]]) for n, c in curve.columns.items()}
    columns["id"][at] = int(curve.id.max()) + 1
    columns["time"][at], columns["value"][at] = time, float(curve.at(np.array([time]))[0])
    columns["length_in"][at] = columns["length_out"][at] = 1.0 / 3.0
    return columns


def _split_segment(curve: KeyedCurve, k: int, time: float, columns: dict[str, AnyArray]) -> None:
    """Handles of the two halves of segment ``k``; the new key stands at ``k + 1``."""
    from leancurve.numbers.kernels.segments import solve_time  # numba loads late

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
    for left in (k, new):
        a, b = float(columns["length_out"][left]), float(columns["length_in"][left + 1])
        # Halves of a segment whose time nearly stands are as near to it: rounding may pass it.
        while a + b - 1.0 > np.sqrt(a * b):
            a, b = a * (1.0 - 1e-9), b * (1.0 - 1e-9)
        columns["length_out"][left], columns["length_in"][left + 1] = a, b


def _insert_outside(curve: KeyedCurve, time: float, extent: Extent | None) -> KeyedCurve:
    early = time < curve.time[0]
    extend, other = curve.extend if early else curve.extend[::-1]
    if curve.key_count > 1 and other >= Extend.REPEAT and other != extend:
        if extent is None:
            side = "after its last" if early else "before its first"
            raise BadInput(
                f"a key at frame {time:g} would change what the curve repeats {side} key: "
                "let it hold there first"
            )
        return insert_key(_written_on(curve, not early, extent), time, extent)
    if extend >= Extend.REPEAT and curve.key_count > 1:
        return insert_key(_unfolded(curve, early, extend), time, extent)
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


def _written_on(curve: KeyedCurve, early: bool, extent: Extent) -> KeyedCurve:
    """A curve's repetitions on one side as keys, as far as the extent; from there on it holds."""
    own = curve.extend[0 if early else 1]
    other = curve.extend[1 if early else 0]
    held = (Extend.HOLD, other) if early else (other, Extend.HOLD)
    while curve.time[0] > extent[0] if early else curve.time[-1] < extent[1]:
        curve = _unfolded(curve, early, own)
    return replace(curve, extend=held)


def spanning(curve: KeyedCurve, first: float, last: float) -> KeyedCurve:
    """The curve with its keys reaching from ``first`` to ``last``, its shape there unchanged."""
    extent = (first, last)
    if curve.key_count == 1:
        return curve
    for early in (True, False):
        if curve.extend[0 if early else 1] >= Extend.REPEAT:
            curve = _written_on(curve, early, extent)
    ends = [t for t in extent if not curve.time[0] <= t <= curve.time[-1]]
    return insert_keys(curve, ends, extent)


SEAM = 1e-3
"""Frames between two keys where a repetition jumps from the last value to the first."""


def _unfolded(curve: KeyedCurve, early: bool, extend: Extend) -> KeyedCurve:
    """The curve with one repetition more, before or after, written out as keys."""
    period = curve.time[-1] - curve.time[0]
    rise = curve.value[-1] - curve.value[0] if extend == Extend.REPEAT_OFFSET else 0.0
    sign = -1.0 if early else 1.0
    copy = curve.edited(
        # One id is left for a key before a jump.
        id=int(curve.id.max()) + 2 + np.arange(curve.key_count),
        time=curve.time + sign * period,
        value=curve.value + sign * rise,
    )
    first, second = (copy, curve) if early else (curve, copy)
    jump = not np.isclose(first.value[-1], second.value[0], rtol=1e-12, atol=1e-12)
    head = {n: c.copy() for n, c in first.columns.items()}
    tail = {n: c.copy() for n, c in second.columns.items()}
    if jump:
        # Up to the jump the shape is its own; from a key just before it the value holds.
        near = insert_key(first.edited(), first.time[-1] - SEAM)
        head = {n: c[:-1].copy() for n, c in near.columns.items()}
        head["segment"][-1] = Segment.HOLD
        head["handle"][-1], head["flags"][-1] = Handle.FREE, head["flags"][-1] | KeyFlag.BROKEN
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
        return with_muted(part, curve.only(inside)) if np.any(inside & ~curve.live) else part
    extent = (first, last)
    whole = _inserted(_inserted(curve, first, extent), last, extent)
    time = whole.time.copy()
    for border in (first, last):
        time[np.argmin(np.abs(time - border))] = border
    whole = whole.edited(time=time)
    return whole.only((whole.time >= first) & (whole.time <= last))
