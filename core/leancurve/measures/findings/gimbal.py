"""Gimbal nearness: the middle of three angles near ±90°, where the outer two are one."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from leancurve.document.track import base_track
from leancurve.measures.findings.base import Finding, Motion, severity, spans
from leancurve.measures.findings.calibration import calibration_spans

NEAR_DEG = 5.0
"""Within this of the singularity 1° of turn can cost over 11° on a channel (1 / sin 5°)."""
CLOSED_GAP_S = 0.1


def detect(motion: Motion) -> Iterator[Finding]:
    """Spans of a joint; the size is the least distance from the singularity in degrees."""
    for joint, order in enumerate(motion.clip.orders):
        if len(order) != 3:
            continue
        middle = motion.values[base_track(joint, f"r{order[1].lower()}")]
        away = np.abs(90.0 - np.abs(np.remainder(middle + 180.0, 360.0) - 180.0))
        for first, last in spans(away < NEAR_DEG, motion.frames_in(CLOSED_GAP_S)):
            if any(a <= first and last <= b for a, b in motion.once(calibration_spans)):
                continue
            least = float(away[first : last + 1].min())
            yield Finding(
                "gimbal",
                motion.names[joint],
                "",
                first,
                last,
                round(least, 3),
                "°",
                severity(NEAR_DEG - least, 0.0, NEAR_DEG),
            )
