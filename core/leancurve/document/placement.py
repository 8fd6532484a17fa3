"""Placement: where a whole clip stands, a correction of its own between its layers and its plants.

A root at ``p`` that is turned by ``q`` stands at ``about + S · R · (p - about) + move`` and is
turned by ``R · q``: ``R`` is a turn about the up axis, ``S`` scales what lies along the floor and
leaves heights as they are.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from leancurve.document.clip import Clip, Placement
from leancurve.document.layering import layered_pose
from leancurve.figure.pose import Pose
from leancurve.figure.skeleton import UP
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats


def placed_joints(clip: Clip) -> frozenset[int]:
    """Joints that stand otherwise by the clip's placement: its roots."""
    if clip.placement is None or not clip.placement.counts:
        return frozenset()
    return frozenset(j for j, p in enumerate(clip.skeleton.parents) if p < 0)


def turn_of(clip: Clip, placement: Placement) -> Floats:
    """The placement's turn about the up axis ``(4,)``."""
    return np.asarray(rotation.from_axis(clip.reading.up_axis.upper(), np.array(placement.turn)))


def _along(clip: Clip, placement: Placement) -> Floats:
    """How the placement scales along each axis ``(3,)``: heights stay."""
    out = np.full(3, placement.scale)
    out[UP[clip.reading.up_axis]] = 1.0
    return out


def placed_points(clip: Clip, placement: Placement, points: Floats) -> Floats:
    """Points ``(..., 3)`` of the clip's root, in its own unit, where the placement puts them."""
    about = np.array(placement.about)
    turned = rotation.rotate(turn_of(clip, placement), points - about)
    return np.asarray(about + _along(clip, placement) * turned + np.array(placement.move))


def unplaced_moves(clip: Clip, moves: Floats) -> Floats:
    """Moves ``(..., 3)`` of a root as it is seen, as they are before it is placed."""
    placement = clip.placement
    if placement is None or not placement.counts:
        return moves
    back = rotation.conjugate(turn_of(clip, placement))
    return np.asarray(rotation.rotate(back, moves / _along(clip, placement)))


def placed_pose(clip: Clip, frames: Floats, joints: Sequence[int]) -> Pose:
    """What a clip's own curves, its layers and its placement give at times ``(F,)``, of some
    joints: what its plants are solved over."""
    pose = layered_pose(clip, frames, joints)
    roots = placed_joints(clip)
    here = [k for k, j in enumerate(joints) if j in roots]
    if not here:
        return pose
    assert clip.placement is not None
    turned, moved = pose.rotation.copy(), pose.translation.copy()
    by = turn_of(clip, clip.placement)
    turned[:, here] = rotation.multiply(by, turned[:, here])
    moved[:, here] = placed_points(clip, clip.placement, moved[:, here])
    return Pose(turned, moved)
