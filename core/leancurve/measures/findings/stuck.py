"""Stuck keys: flat inside one continuous motion, so that it stops for a moment half way."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from leancurve.curves.curve import Handle, KeyedCurve, Segment
from leancurve.document.base import sampled_on_frames
from leancurve.document.clip import Clip
from leancurve.document.track import TrackId
from leancurve.measures.findings.base import Finding, Motion, severity
from leancurve.numbers.arrays import Bools

LEAST_DEG = 2.0
"""How far a turn must go on both sides of a key, and a move's share of it below."""
LEAST_MM = 20.0
FLAT = 0.05
FITTED_FLAT = 1e-4
"""A slope is flat below this share of the slower of the two steps beside it; one of a free handle,
which may follow a motion that truly rests there, only where it was set to nothing."""


def stuck_keys(clip: Clip, channel: TrackId) -> Bools:
    """Keys of a keyed channel that are flat while the motion goes on through them ``(K,)``."""
    curve = clip.curves[channel]
    assert isinstance(curve, KeyedCurve)
    out = np.zeros(curve.key_count, dtype=np.bool_)
    # A muted key is flat for nobody, and nobody's neighbour.
    out[curve.live] = _stuck(clip, channel, curve.unmuted)
    return out


def _stuck(clip: Clip, channel: TrackId, curve: KeyedCurve) -> Bools:
    out = np.zeros(curve.key_count, dtype=np.bool_)
    if curve.key_count < 3 or sampled_on_frames(curve, clip.frames):
        return out
    least = LEAST_DEG if channel.turns else LEAST_MM / clip.millimetres
    rise = np.diff(curve.value)
    rate = rise / np.diff(curve.time)
    left, right = rate[:-1], rate[1:]
    on = (left * right > 0) & (np.minimum(np.abs(rise[:-1]), np.abs(rise[1:])) > least)
    slower = np.minimum(np.abs(left), np.abs(right))
    share = np.where(curve.handle[1:-1] == Handle.FREE, FITTED_FLAT, FLAT)
    flat = np.maximum(np.abs(curve.slope_in[1:-1]), np.abs(curve.slope_out[1:-1])) < share * slower
    curved = (curve.segment[:-2] == Segment.CURVE) & (curve.segment[1:-1] == Segment.CURVE)
    out[1:-1] = on & flat & curved
    return out


def detect(motion: Motion) -> Iterable[Finding]:
    clip = motion.clip
    for channel in clip.channels:
        curve = clip.curves[channel]
        if not isinstance(curve, KeyedCurve):
            continue
        curve = curve.unmuted
        for k in np.flatnonzero(_stuck(clip, channel, curve)).tolist():
            size = min(abs(curve.value[k + 1] - curve.value[k]),
                       abs(curve.value[k] - curve.value[k - 1]))  # fmt: skip
            size, unit, least = (
                (float(size), "deg", LEAST_DEG)
                if channel.turns
                else (float(size) * clip.millimetres, "mm", LEAST_MM)
            )
            frame = int(round(curve.time[k]))
            yield Finding(
                "stuck key", clip.skeleton.names[channel.joint], channel.name,
                frame, frame, size, unit, severity(size, least, 10 * least),
            )  # fmt: skip
