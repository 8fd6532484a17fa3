"""A calibration pose at the start or the end: held, as at rest, and not part of the take."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from leancurve.measures.findings.base import Finding, Motion
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Bools, Floats

LONGEST_S = 8.0
JUMP_DEG = 6.0
JUMP_RATIO = 4.0
JUMPING_JOINTS = 4
"""Joints that must jump at once for a pose to count as left from one frame to the next."""
HELD_DEG = 2.0
REST_DEG = 12.0
"""A pose this near to rest on average is a calibration pose also when it is left smoothly."""
LEAST_HELD_S = 0.15
TURNING_DEG = 0.1


def calibration_spans(motion: Motion) -> list[tuple[int, int]]:
    """At most one span at each end of the clip."""
    frames = motion.clip.frames
    if frames < 3:
        return []
    out: list[tuple[int, int]] = []
    length = _held_from_start(motion, motion.local)
    if length:
        out.append((0, length - 1))
    length = _held_from_start(motion, motion.local[::-1])
    if length and length < frames:
        out.append((frames - length, frames - 1))
    return out


def at_calibration(motion: Motion, frame: int, reach: int = 1) -> bool:
    """Whether a frame lies in a calibration pose or within ``reach`` of leaving it."""
    return any(a - reach <= frame <= b + reach for a, b in motion.once(calibration_spans))


def _held_from_start(motion: Motion, local: Floats) -> int:
    """How many frames from the first one belong to a calibration pose; 0 for none."""
    most = min(len(local) - 2, motion.frames_in(LONGEST_S))
    away = rotation.geodesic_deg(local[: most + 1], local[0])
    still: Bools = np.median(away, axis=1) < HELD_DEG
    jump = _jump(local[: most + 3], still)
    if jump:
        return jump
    turning = np.flatnonzero(_turning(motion))
    if len(turning) < 4:
        return 0
    at_rest = motion.clip.skeleton.rest_rotations
    near_rest = rotation.geodesic_deg(local[0, turning], at_rest[turning]).mean() < REST_DEG
    held = away[:, turning].mean(axis=1) < HELD_DEG
    length = int(np.argmin(held)) if not held.all() else 0
    return length if near_rest and length >= motion.frames_in(LEAST_HELD_S) else 0


def _turning(motion: Motion) -> Bools:
    """Joints that turn in the clip at all: others are at rest without meaning anything."""
    # A turn's chord between unit quaternions of one sign is 2 sin(angle / 4).
    chord = np.square(np.diff(motion.local, axis=0)).sum(axis=2).max(axis=0)
    return np.asarray(chord > (2.0 * np.sin(np.radians(TURNING_DEG) / 4.0)) ** 2)


def _jump(local: Floats, still: Bools) -> int:
    """The first frame that many joints reach in one jump, all before it being held; else 0."""
    step = rotation.geodesic_deg(local[1:], local[:-1])
    end = int(np.argmin(still)) if not still.all() else len(still)
    # Only where so many joints turn far at once can they jump.
    many = np.count_nonzero(step > JUMP_DEG, axis=1) >= JUMPING_JOINTS
    for k in np.flatnonzero(many[: max(0, min(end, len(step) - 2))]).tolist():
        around = np.median(step[k + 1 : k + 4], axis=0)
        before = np.median(step[max(0, k - 3) : k], axis=0) if k else np.zeros(step.shape[1])
        jumps = step[k] > np.maximum(JUMP_DEG, JUMP_RATIO * np.maximum(around, before))
        if np.count_nonzero(jumps) >= JUMPING_JOINTS:
            return k + 1
    return 0


def detect(motion: Motion) -> Iterator[Finding]:
    """The size is the pose's number of frames."""
    for first, last in motion.once(calibration_spans):
        count = float(last - first + 1)
        yield Finding("calibration pose", motion.names[0], "", first, last, count, "frames", 0.5)
