"""A sampler's keys as curves."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from leancurve.curves.curve import Handle, KeyedCurve, KeyFlag, Segment, keyed
from leancurve.curves.handles import settled
from leancurve.numbers.arrays import Floats

SEGMENTS = {
    "LINEAR": (Handle.STRAIGHT, Segment.STRAIGHT),
    "STEP": (Handle.HOLD, Segment.HOLD),
    "CUBICSPLINE": (Handle.FREE, Segment.CURVE),
}


def key_curves(
    times: Floats, values: Floats, way: str, tangents: Floats | None
) -> list[KeyedCurve]:
    """Curves of keys ``(K,)`` with values ``(K, n)`` and slopes ``(K, 2, n)`` a frame."""
    handle, segment = SEGMENTS[way]
    out = []
    for k in range(values.shape[1]):
        own = np.ascontiguousarray(values[:, k])
        curve = keyed(times, own, np.zeros(len(own)), handle=handle, segment=segment)
        if tangents is not None:
            into, away = tangents[:, 0, k].copy(), tangents[:, 1, k].copy()
            flags = np.where(into == away, 0, KeyFlag.BROKEN).astype(np.uint8)
            curve = replace(curve, slope_in=into, slope_out=away, flags=flags)
        elif handle == Handle.STRAIGHT:
            curve = settled(curve, np.ones(len(own), dtype=np.bool_))
        out.append(curve.checked())
    return out
