"""Whole cycles: how many frames from a pose until it comes back."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.numbers import rotation

SHORTEST_S = 0.3
NEARLY, SLIGHT = 1.25, 0.02
"""Returns within this many times the nearest one, or a share of the farthest pose, count too."""


@dataclass(frozen=True)
class Cycles:
    """Whole cycles from ``first`` to ``last``: how many, and how far apart the two poses are."""

    first: int
    last: int
    count: int
    gap_deg: float


def whole_cycles(clip: Clip, first: int, last: int) -> Cycles | None:
    """The longest run of whole cycles that begins at ``first`` and ends by ``last``.

    Poses are compared as rotations, all joints but where the roots head and stand; the mean over
    joints counts, with how fast they turn, so that half a stride is no cycle. None where no pose
    comes back nearer than half the way poses differ at most.
    """
    pose = evaluate(clip, np.arange(first, last + 1, dtype=np.float64)).rotation
    parents = np.array(clip.skeleton.parents)
    joints = np.flatnonzero(parents >= 0)
    local = rotation.hemisphere(pose)[:, joints]
    shortest = max(4, round(SHORTEST_S * float(clip.rate)))
    if len(local) <= shortest + 2:
        return None
    steps = rotation.log(rotation.multiply(rotation.conjugate(local[:-1]), local[1:]))
    apart = rotation.geodesic_deg(local[1:-1], local[0]).mean(axis=1)
    turning = np.degrees(2.0 * np.linalg.norm(steps[1:] - steps[0], axis=-1)).mean(axis=1)
    cost = apart + turning
    # Frame k of cost is k + 1 frames after the first.
    inner = np.arange(1, len(cost) - 1)
    low = inner[(cost[inner] <= cost[inner - 1]) & (cost[inner] <= cost[inner + 1])]
    low = low[low + 1 >= shortest]
    if len(low) == 0 or cost[low].min() > 0.5 * cost.max():
        return None
    near = cost[low].min()
    back = low[cost[low] <= max(NEARLY * near, near + SLIGHT * cost.max())]
    return Cycles(first, first + int(back[-1]) + 1, len(back), float(apart[back[-1]]))
