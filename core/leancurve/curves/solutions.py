"""A keyed rotation channel said anew: other angles, the same rotations on every frame."""

from __future__ import annotations

import numpy as np

from leancurve.curves.curve import SAME_TIME, Handle, KeyedCurve, KeyFlag, Segment
from leancurve.curves.insertion import insert_keys, spanning, with_muted
from leancurve.numbers.arrays import Floats

THIRD = 1.0 / 3.0


def in_solution(curve: KeyedCurve, sign: Floats, shift: Floats) -> KeyedCurve:
    """The curve as ``sign * value + shift``, both ``(F,)`` constants on stretches of frames.

    Every key stays at its time. Where one stretch meets the next, keys stand on the two frames
    beside the border (put there where there are none, the shape unchanged) and the curve goes
    straight between them. On whole frames the values are exactly those said.
    """
    frames = len(sign)
    change = (np.diff(sign) != 0) | (np.diff(shift) != 0)
    borders = np.flatnonzero(change) + 1
    if len(borders) == 0:
        return curve if sign[0] == 1.0 and shift[0] == 0.0 else _said(curve, sign, shift)
    if curve.unmuted is not curve:
        return with_muted(in_solution(curve.unmuted, sign, shift), _said(curve, sign, shift))
    last = frames - 1.0
    curve = spanning(curve, 0.0, last) if curve.key_count > 1 and any(curve.extend) else curve
    curve = insert_keys(curve, _needed(curve, borders.tolist()), (0.0, last))
    return _joined_straight(_said(curve, sign, shift), borders.astype(np.float64))


def _needed(curve: KeyedCurve, borders: list[int]) -> list[float]:
    """Frames beside borders that need a key: a hold that ends on one has none before it."""
    out: list[float] = []
    for border in borders:
        k = int(np.searchsorted(curve.time, border - SAME_TIME))
        ends = k < curve.key_count and abs(curve.time[k] - border) < SAME_TIME
        if not (ends and k > 0 and curve.segment[k - 1] == Segment.HOLD):
            out += [border - 1.0, float(border)]
    return out


def _said(curve: KeyedCurve, sign: Floats, shift: Floats) -> KeyedCurve:
    at = np.clip(np.floor(curve.time + SAME_TIME), 0, len(sign) - 1).astype(np.int64)
    turned = sign[at]
    return curve.edited(
        value=turned * curve.value + shift[at],
        slope_in=turned * curve.slope_in,
        slope_out=turned * curve.slope_out,
    )


def _joined_straight(curve: KeyedCurve, borders: Floats) -> KeyedCurve:
    """The segments that end on borders made straight; no handle on their other sides moves."""
    columns = {n: c.copy() for n, c in curve.columns.items()}
    for border in borders.tolist():
        b = int(np.argmin(np.abs(curve.time - border)))
        inside = np.arange(int(np.searchsorted(curve.time, border - 1.0 - SAME_TIME)), b)
        for k in inside[columns["segment"][inside] != Segment.HOLD].tolist():
            rise = curve.value[k + 1] - curve.value[k]
            slope = rise / (curve.time[k + 1] - curve.time[k])
            columns["segment"][k] = Segment.CURVE
            columns["swings"][k], columns["decay"][k] = 0, 0.0
            columns["slope_out"][k] = columns["slope_in"][k + 1] = slope
            columns["length_out"][k] = columns["length_in"][k + 1] = THIRD
            for end in (k, k + 1):
                if columns["slope_in"][end] != columns["slope_out"][end]:
                    columns["handle"][end] = Handle.FREE
                    columns["flags"][end] |= KeyFlag.BROKEN
    return curve.edited(**columns).checked()
