"""Snaps: a joint whose true orientation jumps between two frames, as solvers leave them."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator
from functools import partial

from leancurve.cleaning.continuity import SNAP_DEG, snaps_in
from leancurve.measures.findings.base import Finding, Motion, paired, severity
from leancurve.measures.findings.calibration import at_calibration
from leancurve.measures.findings.spikes import spikes_of
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats

LONGEST_S = 4.0
"""A jump and the one that takes it back are one snap if they lie no farther apart."""


def _jumps(motion: Motion) -> list[tuple[int, int, float]]:
    return snaps_in(motion.local)


def detect(motion: Motion) -> Iterator[Finding]:
    """One finding from the jump out to the jump back; a jump that stays is one frame."""
    events: dict[int, list[tuple[int, float]]] = defaultdict(list)
    jumps = motion.once(_jumps)
    jumping = sorted({j for j, _, _ in jumps})
    thrown = {(j, f) for j, a, b, _ in spikes_of(motion, jumping) for f in range(a, b + 2)}
    for joint, frame, size in jumps:
        # The way out of a calibration pose, and out of and back from a spike, are told as such.
        if not at_calibration(motion, frame) and (joint, frame) not in thrown:
            events[joint].append((frame, size))
    for joint, found in events.items():
        closes = partial(_takes_back, motion.local[:, joint])
        for first, last, size in paired(found, motion.frames_in(LONGEST_S), closes):
            rank = severity(size, SNAP_DEG, 180.0)
            yield Finding("snap", motion.names[joint], "", first, last, round(size, 2), "°", rank)


def _takes_back(q: Floats, a: int, b: int) -> bool:
    """Whether the jump of ``q (F, 4)`` into frame ``b`` undoes the one into ``a``."""
    out = rotation.multiply(rotation.conjugate(q[a - 1]), q[a])
    back = rotation.multiply(rotation.conjugate(q[b - 1]), q[b])
    left = rotation.geodesic_deg(rotation.multiply(out, back), rotation.IDENTITY)
    return bool(left < 0.35 * SNAP_DEG)
