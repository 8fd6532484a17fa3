"""Curves played backwards."""

from __future__ import annotations

import numpy as np

from leancurve.curves.curve import Curve, Handle, KeyedCurve, SampledCurve, Segment
from leancurve.curves.insertion import insert_keys, with_muted, written_out
from leancurve.numbers.arrays import AnyArray

SWAPPED = {"slope_in": "slope_out", "length_in": "length_out"}
OF_SEGMENTS = ("segment", "swings", "decay")
"""Columns that say what happens between a key and the next one."""


def backwards(curve: Curve, end: int) -> Curve:
    """A curve whose frame ``end`` is the first: the same values on every frame, the other way
    round. Keys stay keys; what springs or bounces is written out as keys, a spring nearly, as no
    segment swings before it comes."""
    if isinstance(curve, SampledCurve):
        return SampledCurve(np.ascontiguousarray(curve.values[::-1]))
    turned = _turned(_written_out(curve.unmuted), end)
    held = _held(turned)
    return held if curve.unmuted is curve else with_muted(held, _turned(curve, end))


def _written_out(curve: KeyedCurve) -> KeyedCurve:
    for k in reversed(np.flatnonzero(curve.segment[:-1] >= Segment.SPRING).tolist()):
        curve = written_out(curve, k)
    return curve


def _turned(curve: KeyedCurve, end: int) -> KeyedCurve:
    made: dict[str, AnyArray] = {n: c[::-1].copy() for n, c in curve.columns.items()}
    made["time"] = end - made["time"]
    for one, other in SWAPPED.items():
        made[one], made[other] = made[other], made[one]
    for slope in ("slope_in", "slope_out"):
        made[slope] = -made[slope]
    for name in OF_SEGMENTS:
        made[name] = np.concatenate([made[name][1:], made[name][:1]])
    return KeyedCurve(**made, extend=(curve.extend[1], curve.extend[0]))


def _held(curve: KeyedCurve) -> KeyedCurve:
    """Holds keep the value of the key that they come from: backwards that is the later one, held
    from the frame after the earlier one on."""
    holding = np.flatnonzero(curve.segment[:-1] == Segment.HOLD)
    wanted = [(float(np.floor(curve.time[k])) + 1.0, k) for k in holding]
    wanted = [(t, k) for t, k in wanted if t < curve.time[k + 1]]
    if not wanted:
        return curve
    later = {t: float(curve.value[k + 1]) for t, k in wanted}
    keyed = insert_keys(curve, list(later))
    value, handle = keyed.value.copy(), keyed.handle.copy()
    segment = keyed.segment.copy()
    for time, v in later.items():
        at = int(np.argmin(np.abs(keyed.time - time)))
        value[at], segment[at], handle[at] = v, Segment.HOLD, Handle.FREE
    return keyed.edited(value=value, segment=segment, handle=handle)
