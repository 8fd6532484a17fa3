"""Gaps: frames frozen while the motion went on, of the whole body or of one joint."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from leancurve.measures.findings.base import Finding, Motion, severity, spans
from leancurve.measures.findings.calibration import at_calibration
from leancurve.numbers.arrays import Bools

SAME_DEG = 1e-6
LEAST_FRAMES = 3
"""Equal frames in a row. A capture's own noise makes even two equal frames unlikely."""
WHOLE_BODY = 0.9
STILL_DEG = 0.01
DEAD_SHARE = 0.5
"""Share of the speed of the frames around that is there up to the frame beside a freeze."""
RELEASE_DEG = 0.15
RELEASE_RATIO = 3.0


def detect(motion: Motion) -> Iterator[Finding]:
    """The size is the number of frozen frames; the whole body's gap stands at the root."""
    if motion.clip.frames < LEAST_FRAMES + 2:
        return
    frozen = motion.steps < SAME_DEG
    moving = motion.steps.max(axis=0) > 0.01
    if np.count_nonzero(moving) == 0:
        return
    whole = frozen[:, moving].mean(axis=1) >= WHOLE_BODY
    body: list[tuple[int, int]] = []
    for a, b in spans(whole, shortest=LEAST_FRAMES - 1):
        # Step k leads from frame k to k + 1: the frozen frames are those after the first.
        first, last = a + 1, b + 1
        if _stops_dead(motion, moving, a, b) and not at_calibration(motion, first, 0):
            body.append((first, last))
            yield _finding(motion, 0, first, last)
    for joint in np.flatnonzero(moving).tolist():
        for a, b in spans(frozen[:, joint], shortest=LEAST_FRAMES - 1):
            first, last = a + 1, b + 1
            known = any(p - 1 <= first and last <= q + 1 for p, q in body)
            if not known and _released_late(motion, joint, b) and not at_calibration(motion, first):
                yield _finding(motion, joint, first, last)


def _stops_dead(motion: Motion, moving: Bools, first_step: int, last_step: int) -> bool:
    """Whether the body stops or starts at speed: one that rests eases into it and out of it.

    An ease of constant acceleration leaves a third of the speed one frame from the rest.
    """
    speed = motion.steps[:, moving].mean(axis=1)
    sides = (speed[:first_step][::-1][:4], speed[last_step + 1 :][:4])
    return any(
        len(side) > 1 and side[0] > max(STILL_DEG, DEAD_SHARE * float(np.median(side[1:])))
        for side in sides
    )


def _released_late(motion: Motion, joint: int, last_step: int) -> bool:
    """Whether the joint catches up with one jump: a joint that truly rested starts gently."""
    after = motion.steps[last_step + 1 : last_step + 6, joint]
    if len(after) < 3:
        return False
    return bool(after[0] > max(RELEASE_DEG, RELEASE_RATIO * float(np.median(after[1:]))))


def _finding(motion: Motion, joint: int, first: int, last: int) -> Finding:
    count = last - first + 1
    rank = severity(count, LEAST_FRAMES - 1, 0.25 * motion.rate)
    return Finding("gap", motion.names[joint], "", first, last, float(count), "frames", rank)
