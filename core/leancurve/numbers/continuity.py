"""Continuous Euler angles: of the readings of one rotation, the one that goes on from the last.

A rotation is read by two triples of angles (:func:`rotation.alternate`), each with any whole
turns on top. A *lift* of a motion is its angles with each frame read as the one nearest to the
frame before; a *saying* is how angles that stand differ from their lift.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from leancurve.numbers import rotation
from leancurve.numbers.arrays import Bools, Floats, Ints, runs

SAME_DEG = 1e-9
"""Angles nearer than this are the same: those that stand are kept to the last digit."""


def continuous(angles: Floats, order: str) -> tuple[Floats, Bools, Ints]:
    """Lifts of joints ``(J, F, n)`` of one order, degrees: also swaps and turns.

    ``swaps (J, F)`` says where the solution changed between frame f - 1 and f, ``turns
    (J, F, n)`` where a channel jumped by whole turns. Choosing between two equal solutions is
    a running exclusive-or along time, since both candidates keep the same distances.
    """
    from leancurve.numbers.kernels import motion  # numba loads late

    if len(order) == 3:
        out = np.empty_like(angles)
        swaps = np.zeros(angles.shape[:2], dtype=np.bool_)
        turns = np.zeros(angles.shape, dtype=np.int64)
        base = 0.0 if order[0] == order[2] else 180.0
        motion.continuous_joints(
            np.ascontiguousarray(angles), np.full(len(angles), base), out, swaps, turns
        )
        return out, swaps, turns
    step = np.diff(angles, axis=1)
    turns = np.zeros(angles.shape, dtype=np.int64)
    # A step of just 180° has no nearer reading: it stays.
    turns[:, 1:] = np.where(np.abs(step) <= 180.0, 0, -np.floor(step / 360.0 + 0.5))
    return (
        angles + 360.0 * np.cumsum(turns, axis=1),
        np.zeros(angles.shape[:2], dtype=np.bool_),
        turns,
    )


def continuous_within(angles: Floats, order: str, inside: Bools) -> tuple[Floats, Bools, Ints]:
    """:func:`continuous` within runs of frames ``inside (F,)``, each begun by the frame before."""
    if inside.all():
        return continuous(angles, order)
    out = angles.copy()
    swaps = np.zeros(angles.shape[:2], dtype=np.bool_)
    turns = np.zeros(angles.shape, dtype=np.int64)
    for first, last in runs(inside):
        end = last + 1
        start = max(0, first - 1)
        part, swapped, turned = continuous(np.ascontiguousarray(out[:, start:end]), order)
        out[:, first:end] = part[:, first - start :]
        swaps[:, first:end] = swapped[:, first - start :]
        turns[:, first:end] = turned[:, first - start :]
    return out, swaps, turns


@dataclass(frozen=True)
class EulerSolution:
    """How a motion is said on each frame: ``sign * angles + shift``, both ``(F, n)``.

    ``shift`` is in degrees, whole half turns; the sign is -1 for the middle angle of the other
    solution. The rotations are the same.
    """

    sign: Floats
    shift: Floats

    @staticmethod
    def between(angles: Floats, said: Floats) -> EulerSolution:
        """What makes angles ``(F, n)`` the equal angles ``said``."""
        sign = np.ones_like(angles)
        if angles.shape[1] == 3:
            away = said[:, [0, 2]] - angles[:, [0, 2]]
            # The other solution is half a turn away in both outer angles.
            sign[np.all(np.round(away / 180.0) % 2 == 1, axis=1), 1] = -1.0
        return EulerSolution(sign, 180.0 * np.round((said - sign * angles) / 180.0))

    def of(self, angles: Floats) -> Floats:
        """Angles ``(F, n)`` said so."""
        return np.asarray(self.sign * angles + self.shift)


def rewritten(angles: Floats, rotations: Floats, moved: Bools, order: str) -> Floats:
    """Angles ``(F, 3)`` of a motion of which frames ``moved (F,)`` have new ``rotations (F, 4)``.

    Continuous in time: no flip is made, neither among the new frames nor where they meet the old
    ones, which are said anew if the way between winds differently now. Flips that stood in
    ``angles`` stay where they were. Frames that did not move keep their numbers where they can.
    """
    old = continuous(angles[None], order)[0][0]
    fresh = old.copy()
    fresh[moved] = rotation.angles_near(rotations[moved], order, old[moved])
    lifted = continuous(fresh[None], order)[0][0]
    out = EulerSolution.between(old, angles).of(lifted)
    kept = ~moved & np.all(np.abs(out - angles) < SAME_DEG, axis=1)
    out[kept] = angles[kept]
    return out
