"""The third stage of planting: limbs bent and swung so that their ends are at their goals."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from leancurve.document.planting.goals import Goals
from leancurve.document.planting.world import World
from leancurve.figure.chain import follow
from leancurve.figure.feet import Chain, Limb
from leancurve.figure.limb import reach, said_under, usual_hinge
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Bools, Floats, Ints


@dataclass(frozen=True, eq=False)
class Planted:
    """What plants make of one limb on each frame. ``shift (F, 3)`` moves its point, ``turn (F, 3)``
    is a rotation vector in degrees about it, ``held (F,)`` says where a plant holds in full;
    ``missed (F,)`` is by how much the end falls short, own unit; ``hinge (3,)`` the usual one.

    For what is dragged elsewhere: ``share (F,)`` is how much it is held there, 0 where it is free,
    ``by (F,)`` what holds it (:data:`~.goals.HEEL`, ``TOE``, ``TURN``, added up), ``carried_by
    (F,)`` the joint that it is held with, -1 where that is the world."""

    limb: Limb | Chain
    shift: Floats
    turn: Floats
    held: Bools
    missed: Floats
    hinge: Floats
    share: Floats
    by: Ints
    carried_by: Ints


def solved_limb(world: World, limb: Limb | Chain, goals: Goals, lowered: Bools) -> Planted:
    """Turn a limb so that its end is at its target, and say what is missed."""
    if isinstance(limb, Chain):
        return _led(world, limb, goals)
    target = goals.target
    moving = goals.window | lowered if limb.is_leg else goals.window
    upper, middle, end = limb.joints
    points = (world.point(upper), world.point(middle), world.point(end))
    turns = (world.turn(upper), world.turn(middle), goals.turns)
    hinge = usual_hinge(turns[0], points)
    if np.any(moving):
        parent = world.above(upper)
        solved = reach(
            (turns[0][moving], turns[1][moving], turns[2][moving]),
            parent[moving],
            (points[0][moving], points[1][moving], points[2][moving]),
            target[moving],
            hinge,
        )
        parents = world.clip.skeleton.parents
        said = said_under(solved, limb.joints, parents, lambda j: world.turn(j)[moving])
        for joint, local in zip(limb.joints, said, strict=True):
            world.pose.rotation[moving, world.at[joint]] = local
        world.forward()
    missed = np.where(moving, np.linalg.norm(world.point(end) - target, axis=1), 0.0)
    return Planted(
        limb, goals.shift, goals.turn, goals.held, missed, hinge, goals.holds, goals.by,
        goals.carried_by,
    )  # fmt: skip


def _led(world: World, chain: Chain, goals: Goals) -> Planted:
    """Turn a chain so that its end is at its target, and say what is missed."""
    moving, c = goals.window, goals
    if np.any(moving):
        turns = np.stack([world.turn(j)[moving] for j in chain.above], axis=1)
        points = np.stack([world.point(j)[moving] for j in chain.joints], axis=1)
        solved = follow(turns, points, c.target[moving])
        above = world.above(chain.above[0])[moving]
        for k, joint in enumerate(chain.joints):
            own = solved[:, k] if k < len(chain.above) else c.turns[moving]
            local = rotation.multiply(rotation.conjugate(above), own)
            world.pose.rotation[moving, world.at[joint]] = local
            above = own
        world.forward()
    missed = np.where(moving, np.linalg.norm(world.point(chain.end) - c.target, axis=1), 0.0)
    return Planted(
        chain, c.shift, c.turn, c.held, missed, np.zeros(3), c.holds, c.by, c.carried_by
    )  # fmt: skip
