"""Keys that ride: breakdown keys which keep their share of the time between their neighbours."""

from __future__ import annotations

import numpy as np

from leancurve.curves.curve import KeyedCurve, KeyFlag
from leancurve.curves.handles import beside, settled
from leancurve.numbers.arrays import Bools, Floats


def riders(curve: KeyedCurve) -> Bools:
    """Keys that ride ``(K,)``: the first and the last have but one neighbour and cannot."""
    out = np.asarray((curve.flags & KeyFlag.RIDING) != 0)
    out[[0, -1]] = False
    return out


def carried(curve: KeyedCurve, time: Floats, moved: Bools) -> Floats:
    """New times ``(K,)`` with riding keys where they keep their share, in frames.

    ``moved`` are the keys that were themselves put somewhere: a riding one gets a new share.
    """
    rides = riders(curve) & ~moved
    if not np.any(rides):
        return time
    anchors = np.flatnonzero(~rides)
    out = time.copy()
    right = np.searchsorted(anchors, np.flatnonzero(rides))
    a, b = anchors[right - 1], anchors[right]
    share = (curve.time[rides] - curve.time[a]) / (curve.time[b] - curve.time[a])
    still = (time[a] == curve.time[a]) & (time[b] == curve.time[b])
    out[rides] = np.where(still, curve.time[rides], time[a] + share * (time[b] - time[a]))
    return out


def retimed_keys(curve: KeyedCurve, time: Floats) -> KeyedCurve | None:
    """The curve with its keys at other times, values kept; None where keys would meet or pass.

    Riding keys come along. Handles scale with their segments: free ones keep the shape that
    they had.
    """
    time = carried(curve, time, time != curve.time)
    if np.any(np.diff(time) <= 0):
        return None
    live = curve.live
    before, after, wide = _scales(curve.time[live], time[live])
    slope_in, slope_out = curve.slope_in.copy(), curve.slope_out.copy()
    joined = slope_in[live] == slope_out[live]
    slope_in[live] *= np.where(joined, wide, before)
    slope_out[live] *= np.where(joined, wide, after)
    moved = curve.edited(time=time, slope_in=slope_in, slope_out=slope_out)
    return settled(moved, beside(time != curve.time))


def _scales(old: Floats, new: Floats) -> tuple[Floats, Floats, Floats]:
    """How much steeper keys' slopes become before, after and across them ``(K,)``."""
    one = np.ones(1)
    ratio = np.diff(old) / np.diff(new)
    before, after = np.concatenate([one, ratio]), np.concatenate([ratio, one])
    across = np.ones(len(old))
    if len(old) > 1:
        across[1:-1] = (old[2:] - old[:-2]) / (new[2:] - new[:-2])
        across[0], across[-1] = after[0], before[-1]
    return before, after, across
