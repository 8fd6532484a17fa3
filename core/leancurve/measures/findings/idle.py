"""Idle channels: constant, or moving less than anybody could see."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from leancurve.document.clip import Clip
from leancurve.measures.findings.base import Finding, Motion

STILL_DEG = 0.01
STILL_MM = 0.1


def still(clip: Clip, turns: bool) -> float:
    """The range in the channel's own unit below which it is idle."""
    return STILL_DEG if turns else STILL_MM / clip.millimetres


def detect(motion: Motion) -> Iterator[Finding]:
    """Channels with more than one key whose values stay within the range."""
    last = max(motion.clip.frames - 1, 0)
    for channel, values in motion.values.items():
        curve = motion.clip.curves[channel]
        reach = float(np.ptp(values)) if len(values) else 0.0
        if curve.key_count > 1 and reach < still(motion.clip, channel.turns):
            scale = 1.0 if channel.turns else motion.clip.millimetres
            name, unit = motion.names[channel.joint], "°" if channel.turns else "mm"
            yield Finding("idle", name, channel.name, 0, last, round(reach * scale, 5), unit, 0.1)
