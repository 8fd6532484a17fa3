"""Keys kept, handles fitted again: what keys are left follow the motion as well as they can.

Handles of a third of their spans make the cubic Hermite, which is linear in its slopes: they are
the least squares solution over the frames, a tridiagonal system (normal equations).
"""

from __future__ import annotations

import numpy as np
from scipy.linalg import solveh_banded

from leancurve.curves.curve import Handle, KeyedCurve, KeyFlag, Segment
from leancurve.numbers.arrays import Bools, Floats
from leancurve.numbers.cubic import hermite

NEAR_WHAT_STOOD = 1e-6
"""How much a slope that no frame tells anything of is drawn to what it was."""


def refitted(curve: KeyedCurve, values: Floats, fitted: Bools | None = None) -> KeyedCurve:
    """The curve with other slopes: nearest to ``values (F,)`` on the frames between its keys.

    Keys keep times and values. Where these are not the motion's own the motion is taken to be off
    by as much, and in proportion between two keys. ``fitted (K,)`` says which keys' handles may
    change; those of all where it is absent. Broken keys get a slope to each side.
    """
    count = curve.key_count
    which = np.ones(count, dtype=np.bool_) if fitted is None else fitted
    if count < 2 or not which.any():
        return curve
    time, value = curve.time, curve.value
    frames = np.arange(max(0, int(np.ceil(time[0]))), min(len(values) - 1, int(time[-1])) + 1)
    segment = np.clip(np.searchsorted(time, frames, side="right") - 1, 0, count - 2)
    curved = curve.segment[segment] == Segment.CURVE
    frames, segment = frames[curved], segment[curved]
    span = time[segment + 1] - time[segment]
    u = (frames - time[segment]) / span
    off = value - np.interp(time, np.arange(len(values)), values)
    wanted = values[frames] + (1.0 - u) * off[segment] + u * off[segment + 1]
    none = np.zeros_like(u)
    held = hermite(u, value[segment], none, value[segment + 1], none)
    left, right = hermite(u, none, span, none, none), hermite(u, none, none, none, span)
    broken = (curve.flags & KeyFlag.BROKEN) != 0
    # Unknown slopes from left to right: one a key, two at a broken one.
    arriving = np.arange(count) + np.concatenate([[0], np.cumsum(broken[:-1])])
    leaving = arriving + broken
    slopes = np.zeros(int(leaving[-1]) + 1)
    slopes[arriving], slopes[leaving] = curve.slope_in, curve.slope_out
    free = np.zeros(len(slopes), dtype=np.bool_)
    free[arriving] = free[leaving] = which
    a, b = leaving[segment], arriving[segment + 1]
    bands = np.zeros((2, len(slopes)))
    np.add.at(bands[1], a, left * left)
    np.add.at(bands[1], b, right * right)
    np.add.at(bands[0], b, left * right)
    rest = wanted - held - left * slopes[a] - right * slopes[b]
    pull = np.bincount(a, left * rest, len(slopes)) + np.bincount(b, right * rest, len(slopes))
    # A slope that stays is known: its row says that it changes by nothing.
    bands[1, ~free] = 1.0
    bands[0, 1:][~free[1:] | ~free[:-1]] = 0.0
    pull[~free] = 0.0
    bands[1] += NEAR_WHAT_STOOD * max(float(bands[1].max()), 1e-12)
    slopes += solveh_banded(bands, pull)
    third = 1.0 / 3.0
    return curve.edited(
        slope_in=np.where(which, slopes[arriving], curve.slope_in),
        slope_out=np.where(which, slopes[leaving], curve.slope_out),
        length_in=np.where(which, third, curve.length_in),
        length_out=np.where(which, third, curve.length_out),
        handle=np.where(which, np.uint8(Handle.FREE), curve.handle),
    )
