"""Plants, solved: goals, then the root, then limbs, and both of these laid over what is below.

All of it follows from the whole clip, so that a frame is what it is whichever frames are asked for.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

from leancurve.document.base import Below, between_frames
from leancurve.document.clip import Clip
from leancurve.document.kept import kept
from leancurve.document.plant import Plant
from leancurve.document.planting.goals import Goals
from leancurve.document.planting.limbs import Planted, solved_limb
from leancurve.document.planting.parts import holding, turns_freely
from leancurve.document.planting.root import (
    PLANTS,
    RootCorrection,
    carrier_of,
    put_on,
    root_correction,
)
from leancurve.document.planting.world import World
from leancurve.figure.feet import Chain, Limb, limbs_of
from leancurve.figure.pose import Pose
from leancurve.figure.skeleton import UP
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats, Ints


@dataclass(frozen=True, eq=False)
class Plan:
    """All plants of a clip, solved: local rotations of ``joints`` ``(F, n, 4)``, the root's
    correction, and what that is to its carrier's own translations ``carried (F, 3)``; by how much
    hips go down for plants ``lowered (F,)``, own unit."""

    limbs: tuple[Planted, ...] = ()
    joints: tuple[int, ...] = ()
    rotations: Floats = field(default_factory=lambda: np.zeros((0, 0, 4)))
    root: RootCorrection = field(default_factory=lambda: RootCorrection(None, {}))
    carried: Floats = field(default_factory=lambda: np.zeros((0, 3)))
    lowered: Floats = field(default_factory=lambda: np.zeros(0))

    @property
    def carrier(self) -> int | None:
        """The joint that is moved; None where none is."""
        return None if self.root.moved is None else self.root.carrier


NOTHING = Plan()


def plan_of(clip: Clip) -> Plan:
    """The clip's plants, solved once."""
    if clip.frames == 0 or not any(p.live for p in clip.plants):
        return NOTHING
    return _planned(clip)


def planted_joints(clip: Clip) -> frozenset[int]:
    """Joints that stand otherwise than their own curves say."""
    plan = plan_of(clip)
    carrier = () if plan.carrier is None else (plan.carrier,)
    return frozenset((*plan.joints, *carrier))


def rooted(clip: Clip, frames: Floats, joints: Sequence[int], below: Below) -> Pose:
    """The stage of the root's correction: what is below, moved as a whole."""
    pose, plan = below(joints), plan_of(clip)
    if plan.carrier is None or plan.carrier not in joints:
        return pose
    low, high, share = between_frames(frames, clip.frames)
    moved = pose.translation.copy()
    own = plan.carried[low] + share[:, None] * (plan.carried[high] - plan.carried[low])
    moved[:, list(joints).index(plan.carrier)] += own
    return Pose(pose.rotation, moved)


def planted(clip: Clip, frames: Floats, joints: Sequence[int], below: Below) -> Pose:
    """The last stage: what is below with limbs as they hold what is planted."""
    pose, plan = below(joints), plan_of(clip)
    at = {j: k for k, j in enumerate(joints)}
    turned = [(k, at[j]) for k, j in enumerate(plan.joints) if j in at]
    if not turned:
        return pose
    low, high, share = between_frames(frames, clip.frames)
    rotations = pose.rotation.copy()
    here, there = (list(x) for x in zip(*turned, strict=True))
    rotations[:, there] = _held_between(plan.rotations[:, here], low, high, share)
    return Pose(rotations, pose.translation)


def _held_between(rotations: Floats, low: Ints, high: Ints, share: Floats) -> Floats:
    out = rotations[low]
    off = np.flatnonzero(share)
    if len(off):
        out[off] = rotation.slerp(out[off], rotations[high[off]], share[off, None])
    return out


@kept
def _planned(clip: Clip) -> Plan:
    by_limb: dict[Limb | Chain, list[Plant]] = {}
    for plant in clip.plants:
        limb = holding(clip, plant)
        if plant.live and limb is not None:
            by_limb.setdefault(limb, []).append(plant)
    legs = [x for x in limbs_of(clip.skeleton, clip.body) if x.is_leg and turns_freely(clip, x)]
    with_legs = any(x.is_leg for x in by_limb)
    ordered: list[Limb | Chain] = [
        *(x for x in legs if with_legs),
        *(x for x in _in_order(clip, by_limb) if not x.is_leg),
    ]
    plants = [p for held in by_limb.values() for p in held]
    others = [clip.skeleton.index(p.with_joint) for p in plants if p.with_joint]
    balls = [x.ball for x in ordered if x.ball is not None]
    world = World(clip, [*(x.end for x in ordered), *balls, *others])
    # Legs' goals are set before the root is moved for them, others' where it has come to.
    goals = {x: Goals(clip, world, x, by_limb.get(x, ())) for x in ordered if x.is_leg}
    root = root_correction(clip, world, goals, carrier_of(clip) if with_legs else None)
    carried = put_on(world, root)
    moved = root.moved
    down = np.zeros(clip.frames, dtype=np.bool_) if moved is None else np.any(moved, axis=1)
    done: list[Planted] = []
    for limb in ordered:
        asked = goals.get(limb) or Goals(clip, world, limb, by_limb[limb])
        done.append(solved_limb(world, limb, asked, down))
    joints = tuple(sorted({j for x in ordered for j in x.joints}))
    rotations = world.pose.rotation[:, [world.at[j] for j in joints]]
    lowered = np.zeros(clip.frames)
    if PLANTS in root.contributions:
        lowered = -root.contributions[PLANTS][:, UP[clip.reading.up_axis]]
    return Plan(tuple(done), joints, rotations, root, carried, lowered)


def _in_order(clip: Clip, by_limb: Mapping[Limb | Chain, Sequence[Plant]]) -> list[Limb | Chain]:
    """Limbs so that what one holds on to is solved before it; chains, which carry limbs, first."""
    left = sorted(by_limb, key=lambda x: isinstance(x, Limb))
    out: list[Limb | Chain] = []
    while left:
        free = [x for x in left if not _waits(clip, x, by_limb[x], left)]
        # Two that hold on to each other: the first one's place is the other's as it was.
        free = free or left[:1]
        out += free
        left = [x for x in left if x not in free]
    return out


def _waits(
    clip: Clip, limb: Limb | Chain, plants: Sequence[Plant], left: Sequence[Limb | Chain]
) -> bool:
    for plant in plants:
        if plant.with_joint:
            above = set(clip.skeleton.chain(clip.skeleton.index(plant.with_joint)))
            if any(above & set(x.joints) for x in left):
                return True
    return False
