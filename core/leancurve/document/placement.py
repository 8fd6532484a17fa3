"""Placement: where a whole clip stands, a correction of its own between its layers and its plants.

A root at ``p`` that is turned by ``q`` stands at ``about + S · R · (p - about) + move`` and is
turned by ``R · q``: ``R`` is a turn about the up axis, ``S`` scales what lies along the floor and
leaves heights as they are. Props go along: a prop's way is scaled as its figure's is, from where it
comes nearest to the root, so that it is met there and carried as before.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

import numpy as np

from leancurve.document.base import Below, prop_pose
from leancurve.document.clip import Clip, Placement
from leancurve.document.kept import kept
from leancurve.document.layering import layered_pose
from leancurve.figure.pose import Pose
from leancurve.figure.skeleton import UP
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats


def placed_joints(clip: Clip) -> frozenset[int]:
    """Joints that stand otherwise by the clip's placement: its roots."""
    if clip.placement is None or not clip.placement.counts:
        return frozenset()
    return frozenset(clip.skeleton.roots)


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


def unplaced_points(clip: Clip, placement: Placement, points: Floats) -> Floats:
    """Points ``(..., 3)`` as they are before the placement puts them there."""
    about = np.array(placement.about)
    left = (points - about - np.array(placement.move)) / _along(clip, placement)
    back = rotation.conjugate(turn_of(clip, placement))
    return np.asarray(about + rotation.rotate(back, left))


def unplaced_turns(clip: Clip, placement: Placement, turns: Floats) -> Floats:
    """Rotations ``(..., 4)`` of a root as they are before the placement turns it."""
    return rotation.multiply(rotation.conjugate(turn_of(clip, placement)), turns)


def placed_moves(clip: Clip, moves: Floats) -> Floats:
    """Moves ``(..., 3)`` of a root in its own axes, as they are seen where it is placed."""
    placement = clip.placement
    if placement is None or not placement.counts:
        return moves
    return np.asarray(_along(clip, placement) * rotation.rotate(turn_of(clip, placement), moves))


def unplaced_moves(clip: Clip, moves: Floats) -> Floats:
    """Moves ``(..., 3)`` of a root as it is seen, as they are before it is placed."""
    placement = clip.placement
    if placement is None or not placement.counts:
        return moves
    back = rotation.conjugate(turn_of(clip, placement))
    return np.asarray(rotation.rotate(back, moves / _along(clip, placement)))


def placed(clip: Clip, frames: Floats, joints: Sequence[int], below: Below) -> Pose:
    """The third stage: what is below with its roots where the clip's placement puts them."""
    pose = below(joints)
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


def placed_pose(clip: Clip, frames: Floats, joints: Sequence[int]) -> Pose:
    """What a clip's own curves, its layers and its placement give at times ``(F,)``, of some
    joints: what its plants are solved over."""
    return placed(clip, frames, joints, partial(layered_pose, clip, frames))


@kept
def _met(clip: Clip) -> Floats:
    """How far off each prop is ``(P, 3)``, along the floor, when it comes nearest to the root."""
    frames = np.arange(clip.frames, dtype=np.float64)
    root = layered_pose(clip, frames, [clip.skeleton.root]).translation
    return _nearest(clip, prop_pose(clip, frames)[1], root)


def _nearest(clip: Clip, points: Floats, root: Floats) -> Floats:
    """Ways ``(P, 3)`` along the floor to points ``(F, P, 3)`` from a root ``(F, 1, 3)``, each where
    it is shortest."""
    away = points - root
    away[..., UP[clip.reading.up_axis]] = 0.0
    at = np.argmin(np.linalg.norm(away, axis=-1), axis=0)
    return np.asarray(away[at, np.arange(away.shape[1])])


def _offsets(clip: Clip, placement: Placement) -> Floats:
    """What props are held off by ``(P, 3)`` where ways are scaled."""
    if placement.scale == 1.0 or not clip.frames:
        return np.zeros((len(clip.props), 3))
    return _met(clip)


def placed_props(clip: Clip, frames: Floats | None = None) -> tuple[Floats, Floats]:
    """World rotations ``(F, P, 4)`` and positions ``(F, P, 3)`` of the clip's props as they are
    seen, own unit: where its placement puts them."""
    turns, points = prop_pose(clip, frames)
    placement = clip.placement
    if placement is None or not placement.counts or not clip.props:
        return turns, points
    by, off = turn_of(clip, placement), _offsets(clip, placement)
    placed = placed_points(clip, placement, points - off) + rotation.rotate(by, off)
    return rotation.multiply(by, turns), np.asarray(placed)


def unplaced_prop(clip: Clip, turns: Floats, points: Floats) -> tuple[Floats, Floats]:
    """Rotations ``(F, 4)`` and positions ``(F, 3)`` on all frames that a prop has to have in its
    own curves to be seen so."""
    placement = clip.placement
    if placement is None or not placement.counts:
        return turns, points
    by = turn_of(clip, placement)
    back = rotation.conjugate(by)
    off = np.zeros(3)
    if placement.scale != 1.0:
        frames = np.arange(clip.frames, dtype=np.float64)
        root = placed_pose(clip, frames, [clip.skeleton.root]).translation
        off = rotation.rotate(back, _nearest(clip, points[:, None], root)[0])
    left = unplaced_points(clip, placement, points - rotation.rotate(by, off))
    return unplaced_turns(clip, placement, turns), np.asarray(left + off)
