"""Dropped frames: the whole body goes several frames' way in one, with nothing frozen before."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from leancurve.measures.findings.base import Finding, Motion, severity
from leancurve.measures.findings.calibration import at_calibration
from leancurve.measures.findings.gaps import SAME_DEG, WHOLE_BODY
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats
from leancurve.numbers.columns import ByColumn

MOST = 3
"""Frames dropped in one place: of more, nobody can say how many they were."""
OFF = 0.3
"""How far the common ratio of a step to those around may be from a whole number, as a share of
what is missing."""
SURE = 8.0
"""How many standard errors lie between a dropped frame's ratio and 1."""
TELLING = 2.5
"""A joint can tell a ratio by itself where its steps stand out of its noise this many times."""
LEAST_JOINTS = 4
LEAST_NOISE = 0.002
"""Degrees: what a file's own digits leave."""
AGREE = 0.75
"""Share of the joints that can tell that must agree with the common ratio."""

Dropped = tuple[int, int]


def dropped_frames(motion: Motion) -> list[Dropped]:
    """``(after, count)``: frames after which ``count`` are missing.

    A body that drops a frame goes the way of two in one: the step of every joint is twice what
    the steps around it predict. No performance does that, since each joint has its own reasons to
    hurry; so all that move must agree on the number, well above their noise.
    """
    if motion.clip.frames < 8:
        return []
    columns = _lately.of(motion.local, (), _steps)
    step, expected, noise = (np.stack(part, axis=1) for part in zip(*columns, strict=True))
    size = np.linalg.norm(expected, axis=-1)
    weight = 1.0 / (noise * noise)
    power = np.sum(weight * size * size, axis=1)
    ratio = np.einsum("fjk,fjk,fj->f", step, expected, weight) / np.maximum(power, 1e-30)
    out: list[Dropped] = []
    for k in np.flatnonzero((ratio > 1.5) & (power > SURE * SURE)).tolist():
        count = round(float(ratio[k])) - 1
        if not 1 <= count <= MOST or abs(ratio[k] - 1 - count) > OFF * count:
            continue
        # A body that stood still before or after was held: that is a gap.
        held = (motion.steps[k - 2 : k + 3] < SAME_DEG).mean(axis=1) > WHOLE_BODY
        telling = size[k] > TELLING * noise[k]
        if held.any() or telling.sum() < LEAST_JOINTS or at_calibration(motion, k, 3):
            continue
        left = np.linalg.norm(step[k] - ratio[k] * expected[k], axis=-1)
        agree = left < 0.4 * count * size[k] + 3.0 * noise[k]
        if agree[telling].mean() >= AGREE:
            out.append((k, count))
    return out


def _steps(local: Floats) -> list[tuple[Floats, Floats, Floats]]:
    """For each joint its steps, what those around each predict, and its noise."""
    step = _turns(local)
    expected = np.zeros_like(step)
    expected[2:-2] = 0.25 * (step[:-4] + step[1:-3] + step[3:-1] + step[4:])
    noise = _noise(step - expected)
    return [
        (step[:, j].copy(), expected[:, j].copy(), noise[:, j].copy())
        for j in range(local.shape[1])
    ]


_lately: ByColumn[tuple[Floats, Floats, Floats]] = ByColumn(
    32_000_000, lambda parts: sum(part.nbytes for part in parts)
)


def _turns(local: Floats) -> Floats:
    """The rotation vector of each step ``(F - 1, J, 3)``, in degrees."""
    return np.asarray(rotation.log(rotation.multiply(rotation.conjugate(local[:-1]), local[1:])))


def _noise(off: Floats) -> Floats:
    """How far steps usually are from their prediction about each frame, ``(F - 1, J)`` degrees:
    the motion's own changes of speed count as noise here."""
    from scipy.ndimage import median_filter  # scipy loads late

    usual = median_filter(np.linalg.norm(off, axis=-1), size=(15, 1), mode="nearest")
    return np.asarray(np.maximum(usual, LEAST_NOISE))


def detect(motion: Motion) -> Iterator[Finding]:
    """The size is the number of missing frames; the finding stands at the root."""
    for after, count in motion.once(dropped_frames):
        rank = severity(count, 0, MOST)
        yield Finding(
            "dropped frame", motion.names[0], "", after, after + 1, float(count), "frames", rank
        )
