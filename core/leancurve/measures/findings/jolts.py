"""Jolts: spikes, snaps and pops, which throw about all that hangs on a joint."""

from __future__ import annotations

import numpy as np

from leancurve.measures.findings import pops, snaps, spikes
from leancurve.measures.findings.base import Finding, Motion
from leancurve.numbers.arrays import Bools


def _of_limbs(motion: Motion) -> list[Finding]:
    """Snaps and pops, which few joints have."""
    return [*snaps.detect(motion), *pops.detect(motion)]


def thrown(motion: Motion, joint: int) -> Bools:
    """Frames ``(F,)`` in which a jolt of the joint's chain moves it about."""
    joints = motion.clip.skeleton.chain(joint)
    chain = {motion.names[j] for j in joints}
    out = np.zeros(motion.clip.frames, dtype=np.bool_)
    for finding in (*spikes.detect(motion, joints), *motion.once(_of_limbs)):
        if finding.joint in chain:
            out[max(0, finding.first - 1) : finding.last + 2] = True
    return out
