"""Limb pops: a knee or an elbow that changes its bend side, or locks straight in one frame."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from leancurve.measures.findings.base import Finding, Motion, paired, severity, spans
from leancurve.measures.findings.calibration import at_calibration
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats

LIMBS = (("upper arm", "forearm", "hand"), ("thigh", "shin", "foot"))
WRONG_SIDE_DEG = 4.0
"""A straight knee or elbow may pass its line by a few degrees (common practice)."""
STRAIGHT_DEG = 3.0
JUMP_DEG = 4.0
JUMP_RATIO = 5.0
LONGEST_S = 1.0


def bends(motion: Motion, roles: tuple[str, str, str]) -> tuple[int, Floats] | None:
    """A limb's middle joint and its bend ``(F,)`` in degrees, negative on the wrong side.

    The right side is the one on which the limb bends most of the time, told in the upper bone's
    frame. None where the limb is not there, or never bends enough to tell.
    """
    joints = [motion.body.find(r) for r in roles]
    upper, middle, end = joints
    if upper is None or middle is None or end is None:
        return None
    rotations, positions = motion.world
    above = positions[:, middle] - positions[:, upper]
    below = positions[:, end] - positions[:, middle]
    turn = np.cross(above, below)
    length = np.linalg.norm(turn, axis=1)
    angle = np.degrees(np.arctan2(length, np.einsum("fk,fk->f", above, below)))
    axis = rotation.rotate(rotation.conjugate(rotations[:, upper]), turn)
    size = np.linalg.norm(above, axis=1) * np.linalg.norm(below, axis=1)
    axis /= np.maximum(size, 1e-12)[:, None]
    usual = np.median(axis, axis=0)
    if np.linalg.norm(usual) < np.sin(np.radians(5.0)):
        return None
    return middle, np.where(axis @ usual >= 0, angle, -angle)


def detect(motion: Motion) -> Iterator[Finding]:
    """The size is degrees on the wrong side, or by how much the joint jumps as it locks."""
    for limb in LIMBS:
        for side in ("left", "right"):
            found = bends(motion, tuple(f"{side} {part}" for part in limb))  # type: ignore[arg-type]
            if found is None:
                continue
            joint, bend = found
            wrong = spans(bend < -WRONG_SIDE_DEG, motion.frames_in(0.02))
            taken: list[tuple[int, int]] = []
            for first, last in wrong:
                size = float(-bend[first : last + 1].min())
                taken.append((first, last))
                yield _finding(motion, joint, first, last, size)
            for first, last, size in _locks(motion, bend):
                if not any(a - 2 <= last and first <= b + 2 for a, b in taken):
                    yield _finding(motion, joint, first, last, size)


def _locks(motion: Motion, bend: Floats) -> Iterator[tuple[int, int, float]]:
    """Jumps into and out of straight: one frame's step that stands out from those around it."""
    step = np.abs(np.diff(bend))
    events: list[tuple[int, float]] = []
    for k in np.flatnonzero(step > JUMP_DEG).tolist():
        around = np.delete(step[max(0, k - 4) : k + 5], min(k, 4))
        straight = min(abs(bend[k]), abs(bend[k + 1])) < STRAIGHT_DEG
        if straight and step[k] > JUMP_RATIO * np.median(around):
            events.append((k + 1, float(step[k])))

    def closes(a: int, b: int) -> bool:
        return bool(np.all(np.abs(bend[a:b]) < STRAIGHT_DEG + 1.0))

    for first, last, size in paired(events, motion.frames_in(LONGEST_S), closes):
        if not at_calibration(motion, first, 2) and not at_calibration(motion, last + 1, 2):
            yield first, last, size


def _finding(motion: Motion, joint: int, first: int, last: int, size: float) -> Finding:
    rank = severity(size, WRONG_SIDE_DEG, 30.0)
    return Finding("pop", motion.names[joint], "", first, last, round(size, 2), "°", rank)
