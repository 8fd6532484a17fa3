"""What a key's handle kind means: the slopes that follow from its neighbours."""

from __future__ import annotations

import numpy as np

from leancurve.curves.curve import Handle, KeyedCurve, KeyFlag, Segment, eased_slopes
from leancurve.numbers.arrays import Bools, Floats

THIRD = 1.0 / 3.0


def flowing_slopes(time: Floats, value: Floats) -> Floats:
    """Slopes of the parabola through a key and its neighbours, which may carry past a key.

    The three-point derivative of numerical analysis; at the ends the slope of the only segment.
    """
    slopes = np.zeros(len(time))
    if len(time) > 1:
        span = np.diff(time)
        step = np.diff(value) / span
        slopes[0], slopes[-1] = step[0], step[-1]
        slopes[1:-1] = (span[1:] * step[:-1] + span[:-1] * step[1:]) / (span[1:] + span[:-1])
    return slopes


def settled(curve: KeyedCurve, touched: Bools) -> KeyedCurve:
    """The curve with the slopes of touched keys ``(K,)`` as their handle kinds ask.

    Those of hold and free handles stay as they are. Muted keys are nobody's neighbours.
    """
    if curve.unmuted is not curve:
        near = touched | _across(touched, curve.live)
        return curve.among_live(lambda live: settled(live, near[curve.live]))
    kind = curve.handle
    slope_in, slope_out = curve.slope_in.copy(), curve.slope_out.copy()
    for asked, slopes in (
        (Handle.EASED, eased_slopes),
        (Handle.FLOWING, flowing_slopes),
    ):
        at = touched & (kind == asked)
        if np.any(at):
            slope_in[at] = slope_out[at] = slopes(curve.time, curve.value)[at]
    flat = touched & (kind == Handle.FLAT)
    slope_in[flat] = slope_out[flat] = 0.0
    straight = touched & (kind == Handle.STRAIGHT)
    if np.any(straight) and curve.key_count > 1:
        step = np.diff(curve.value) / np.diff(curve.time)
        slope_in[straight] = np.concatenate([step[:1], step])[straight]
        slope_out[straight] = np.concatenate([step, step[-1:]])[straight]
    return curve.edited(slope_in=slope_in, slope_out=slope_out)


def _across(touched: Bools, live: Bools) -> Bools:
    """The unmuted keys on both sides of the muted keys that are touched."""
    out = np.zeros_like(touched)
    at = np.flatnonzero(live)
    for k in np.flatnonzero(touched & ~live).tolist():
        right = int(np.searchsorted(at, k))
        out[at[max(right - 1, 0) : right + 1]] = True
    return out


def beside(touched: Bools) -> Bools:
    """Touched keys and their neighbours: those whose slopes may follow."""
    out = touched.copy()
    out[1:] |= touched[:-1]
    out[:-1] |= touched[1:]
    return out


def with_handle(curve: KeyedCurve, at: Bools, kind: Handle) -> KeyedCurve:
    """Keys of a mask ``(K,)`` given a handle kind, their lengths a third, joined.

    ``hold`` holds the value until the next key; another kind ends such a hold.
    """
    segment = curve.segment.copy()
    if kind == Handle.HOLD:
        segment[at] = Segment.HOLD
    else:
        segment[at & (segment == Segment.HOLD)] = Segment.CURVE
    flat = at & (kind == Handle.HOLD)
    changed = curve.edited(
        handle=np.where(at, np.uint8(kind), curve.handle),
        length_in=np.where(at, THIRD, curve.length_in),
        length_out=np.where(at, THIRD, curve.length_out),
        slope_in=np.where(flat, 0.0, curve.slope_in),
        slope_out=np.where(flat, 0.0, curve.slope_out),
        segment=segment,
        flags=np.where(at, curve.flags & ~np.uint8(KeyFlag.BROKEN), curve.flags),
    )
    return settled(changed, at)
