"""Jitter: noise on a joint above the motion's own."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from leancurve.measures.findings.base import Finding, Motion, severity, spans
from leancurve.numbers.arrays import Floats

LEAST_DEG = 0.12
"""Noise per axis, one standard deviation, that shows on a hand or a foot at arm's or leg's
length as 1.5 mm (common practice: a good optical system stays below 0.1°)."""
WINDOW_S = 0.4
SHORTEST_S = 0.25
ORDER = 6


def noise_of(local: Floats, window: int) -> Floats:
    """Standard deviation of white noise per axis ``(F, J)`` in degrees, in a running window.

    From sixth differences, in which motion hardly shows; their geometric mean, each held to
    eight times the joint's median, so that a spike counts for little. For three independent
    axes the mean logarithm of the length is that of a chi distribution, 0.3648 above sigma's.
    """
    frames, joints = local.shape[:2]
    out = np.zeros((frames, joints))
    if frames <= ORDER + 2:
        return out
    gap = np.linalg.norm(np.diff(local, ORDER, axis=0), axis=-1)
    scale = np.sqrt(924.0)  # the sum of squares of the sixth difference's coefficients
    typical = np.maximum(np.median(gap, axis=0), 1e-9 * scale)
    log = np.log(np.clip(gap, 1e-3 * typical, 8.0 * typical))
    level = np.exp(_running_mean(log, min(window, len(log))) - 0.3648)
    half = ORDER // 2
    out[half : half + len(level)] = level / scale
    out[:half], out[half + len(level) :] = out[half], out[half + len(level) - 1]
    return np.asarray(np.degrees(2.0 * out))


def _running_mean(x: Floats, window: int) -> Floats:
    """Mean of ``x (F, J)`` over a window about each frame, the end values held outside."""
    before = window // 2
    padded = np.pad(x, ((before + 1, window - before - 1), (0, 0)), mode="edge")
    total = np.cumsum(padded, axis=0)
    return np.asarray((total[window:] - total[:-window]) / window)


def detect(motion: Motion) -> Iterator[Finding]:
    """Spans of joints; the size is the span's median noise per axis in degrees."""
    window = motion.frames_in(WINDOW_S, 24)
    noise = noise_of(motion.local, window)
    for joint in np.flatnonzero(noise.max(axis=0, initial=0) > LEAST_DEG).tolist():
        level = noise[:, joint]
        found = spans(level > LEAST_DEG, window, motion.frames_in(SHORTEST_S, 8))
        for first, last in found:
            if last - first + 1 < len(level) and _is_one_jump(motion, joint, first, last):
                continue
            size = float(np.median(level[first : last + 1]))
            yield Finding(
                "jitter",
                motion.names[joint],
                "",
                first,
                last,
                round(size, 3),
                "°",
                severity(size, LEAST_DEG, 4 * LEAST_DEG),
            )


def _is_one_jump(motion: Motion, joint: int, first: int, last: int) -> bool:
    """Whether the span's energy sits in a few frames: a jump or a spike, not jitter."""
    gap = np.linalg.norm(
        np.diff(motion.local[max(0, first - ORDER) : last + ORDER, joint], ORDER, axis=0), axis=-1
    )
    return bool(np.median(gap) < 0.5 * np.radians(LEAST_DEG / 2) * np.sqrt(924.0))
