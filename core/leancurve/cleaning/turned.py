"""Joints turned otherwise on some frames, written into their curves: dense or keyed."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from leancurve.cleaning.thinning import Channel, borders, fit_channel
from leancurve.curves.curve import Curve, KeyedCurve, SampledCurve
from leancurve.curves.splice import spliced
from leancurve.document.base import channel_values, sampled_on_frames
from leancurve.document.clip import Clip
from leancurve.document.rotations import angles_near
from leancurve.document.track import TrackId
from leancurve.numbers.arrays import Bools, Floats, runs


def turned_curves(
    clip: Clip, rotations: Mapping[int, Floats], moved: Bools, tolerance_deg: float
) -> dict[TrackId, Curve]:
    """Curves of joints that have local rotations ``(m, 4)`` on the m frames of ``moved (F,)``.

    Angles are the reading nearest to what stands. Keyed curves keep their key times and get what
    keys the tolerance asks, on those frames alone.
    """
    out: dict[TrackId, Curve] = {}
    tracks = [t for j in rotations for t in clip.turns_of(j)]
    own = channel_values(clip, channels=tracks)
    for joint, q in rotations.items():
        turns = clip.turns_of(joint)
        near = np.stack([own[t] for t in turns], axis=1)
        angles = near.copy()
        angles[moved] = angles_near(q, clip.order(joint), near[moved])
        for k, track in enumerate(turns):
            out[track] = with_values(clip.curves[track], angles[:, k], moved, tolerance_deg)
    return out


def with_values(curve: Curve, values: Floats, moved: Bools, tolerance: float) -> Curve:
    """A curve that has ``values (F,)`` on frames ``moved (F,)`` and is as it was elsewhere."""
    values, frames = np.ascontiguousarray(values), len(values)
    if sampled_on_frames(curve, frames) or frames < 3:
        return SampledCurve(values)
    assert isinstance(curve, KeyedCurve)
    times = np.unique(np.clip(np.round(curve.time), 0, frames - 1).astype(np.int64))
    for a, b in runs(moved):
        # From the frame before to the one after: what lies outside keeps its shape.
        first, last = max(a - 1, 0), min(b + 1, frames - 1)
        part = Channel(values[first : last + 1], tolerance, borders(values[first : last + 1]))
        inside = times[(times >= first) & (times <= last)] - first
        fitted = fit_channel(part, inside)
        curve = spliced(curve, fitted, first, last, frames)
    return curve
