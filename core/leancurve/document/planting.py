"""Plants, solved last: limbs turned so that what is planted stays where it is.

A foot has one correction on each frame: a shift of its ball and a turn about it, so that heel and
toe are held together, or one of them while the other moves as captured. It is known where a plant
holds, and led smoothly over the frames around (:mod:`leancurve.numbers.fill`). All of it follows
from the whole clip, so that a frame is what it is whichever frames are asked for.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import pairwise

import numpy as np
from scipy.ndimage import maximum_filter1d

from leancurve.curves.easing import easing_of
from leancurve.document.base import Below, between_frames
from leancurve.document.clip import Clip
from leancurve.document.kept import kept
from leancurve.document.placement import placed_pose, placed_props
from leancurve.document.plant import Ease, Plant
from leancurve.errors import BadInput
from leancurve.figure.chain import follow
from leancurve.figure.feet import Chain, Limb, chain_to, limbs_of
from leancurve.figure.limb import arc, reach, said_under, usual_hinge
from leancurve.figure.pose import Pose
from leancurve.figure.skeleton import UP
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Bools, Floats, Ints, runs
from leancurve.numbers.fill import fill

LONGEST = 0.995
"""Share of its length to which a leg is led without asking the hips."""
SLACK_MM = 2.0
"""What a leg that was straighter than that may still be led by."""
LOWERING_S = 0.3
"""How long before and after hips go down and come up."""
HEEL, TOE, TURN = 1, 2, 4
"""What of a part is held, as flags."""
SOFTNESS = 5.0
"""A correction dies away over about five times its stiffness."""


@dataclass(frozen=True, eq=False)
class Planted:
    """What plants make of one limb on each frame. ``shift (F, 3)`` moves its point, ``turn (F, 3)``
    is a rotation vector in degrees about it, ``held (F,)`` says where a plant holds in full;
    ``missed (F,)`` is by how much the end falls short, own unit; ``hinge (3,)`` the usual one.

    For what is dragged elsewhere: ``share (F,)`` is how much it is held there, 0 where it is free,
    ``by (F,)`` what holds it (:data:`HEEL`, :data:`TOE`, :data:`TURN`, added up), ``carried_by
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


@dataclass(frozen=True, eq=False)
class Plan:
    """All plants of a clip, solved: local rotations of ``joints`` ``(F, n, 4)``; by how much the
    hips go down ``lowered (F,)``, own unit, and what that is to ``carrier`` ``carried (F, 3)``."""

    limbs: tuple[Planted, ...] = ()
    joints: tuple[int, ...] = ()
    rotations: Floats = field(default_factory=lambda: np.zeros((0, 0, 4)))
    carrier: int | None = None
    lowered: Floats = field(default_factory=lambda: np.zeros(0))
    carried: Floats = field(default_factory=lambda: np.zeros((0, 3)))


NOTHING = Plan()


def plan_of(clip: Clip) -> Plan:
    """The clip's plants, solved once."""
    if clip.frames == 0 or not any(p.live for p in clip.plants):
        return NOTHING
    return _planned(clip)


def touched(clip: Clip) -> frozenset[int]:
    """Joints that stand otherwise than their own curves say."""
    plan = plan_of(clip)
    carrier = () if plan.carrier is None else (plan.carrier,)
    return frozenset((*plan.joints, *carrier))


def planted(clip: Clip, frames: Floats, joints: Sequence[int], below: Below) -> Pose:
    """The last stage: what is below with what the clip's plants hold held."""
    pose = below(joints)
    plan = plan_of(clip)
    if not plan.joints:
        return pose
    at = {j: k for k, j in enumerate(joints)}
    turned = [(k, at[j]) for k, j in enumerate(plan.joints) if j in at]
    carries = plan.carrier is not None and plan.carrier in at
    if not turned and not carries:
        return pose
    rotations, translations = pose.rotation, pose.translation
    low, high, share = between_frames(frames, clip.frames)
    if turned:
        rotations = rotations.copy()
        here, there = (list(x) for x in zip(*turned, strict=True))
        rotations[:, there] = _held_between(plan.rotations[:, here], low, high, share)
    if carries:
        translations = translations.copy()
        moved = plan.carried[low] + share[:, None] * (plan.carried[high] - plan.carried[low])
        translations[:, at[plan.carrier]] += moved  # type: ignore[index]
    return Pose(rotations, translations)


def _held_between(rotations: Floats, low: Ints, high: Ints, share: Floats) -> Floats:
    out = rotations[low]
    off = np.flatnonzero(share)
    if len(off):
        out[off] = rotation.slerp(out[off], rotations[high[off]], share[off, None])
    return out


# --- planning ------------------------------------------------------------------------------


class _World:
    """World rotations and positions of some joints and all above them, as limbs are solved."""

    def __init__(self, clip: Clip, joints: Iterable[int]) -> None:
        skeleton = clip.skeleton
        self.clip = clip
        self.joints = tuple(sorted({k for j in joints for k in skeleton.chain(j)}))
        self.at = {j: k for k, j in enumerate(self.joints)}
        frames = np.arange(clip.frames, dtype=np.float64)
        self.pose = placed_pose(clip, frames, self.joints)
        parents = [self.at.get(skeleton.parents[j], -1) for j in self.joints]
        self.parents = np.array(parents, dtype=np.int64)
        self.forward()

    def forward(self) -> None:
        from leancurve.numbers.kernels import motion  # numba loads late

        local, translation = self.pose.rotation, self.pose.translation
        self.turns, self.points = np.empty_like(local), np.empty_like(translation)
        motion.forward(local, translation, self.parents, self.turns, self.points)

    def turn(self, joint: int) -> Floats:
        return self.turns[:, self.at[joint]]

    def point(self, joint: int) -> Floats:
        return self.points[:, self.at[joint]]

    def above(self, joint: int) -> Floats:
        """World rotations of a joint's parent."""
        parent = self.clip.skeleton.parents[joint]
        if parent < 0:
            return np.broadcast_to(rotation.IDENTITY, (self.clip.frames, 4))
        return self.turn(parent)


def _limb_of_part(clip: Clip, part: str) -> Limb | None:
    limbs = limbs_of(clip.skeleton, clip.body)
    by_part = (x for x in limbs if part in x.parts)
    by_joint = (x for x in limbs if clip.skeleton.names[x.end] == part)
    return next(by_part, None) or next(by_joint, None)


def holding(clip: Clip, plant: Plant) -> Limb | Chain | None:
    """The limb that a plant works on, None where this figure has none that can."""
    if plant.with_joint and plant.with_joint not in clip.skeleton.names:
        return None
    if plant.with_prop and clip.prop_at(plant.with_prop) is None:
        return None
    found = _limb_of_part(clip, plant.part)
    if found is None:
        return _chain_of_part(clip, plant.part)
    return found if _turns(clip, found) else None


def _chain_of_part(clip: Clip, part: str) -> Chain | None:
    if part not in clip.skeleton.names:
        return None
    joint = clip.skeleton.index(part)
    turning = [len(order) == 3 for order in clip.orders]
    return chain_to(clip.skeleton, clip.body, turning, joint) if turning[joint] else None


def limb_of(clip: Clip, part: str) -> Limb | Chain:
    """The limb by which a part is held; :class:`BadInput` where none can hold it."""
    found = _limb_of_part(clip, part)
    chain = _chain_of_part(clip, part) if found is None else None
    if chain is not None:
        return chain
    if found is None:
        limbs = limbs_of(clip.skeleton, clip.body)
        known = ", ".join(p for limb in limbs for p in limb.parts) or "none"
        raise BadInput(f"{part}: no part that can be planted; there are {known}")
    for joint in found.joints:
        if len(clip.order(joint)) != 3:
            name = clip.skeleton.names[joint]
            raise BadInput(f"{part}: {name} has not three rotation channels, so it cannot be led")
    return found


def carrier_of(clip: Clip) -> int | None:
    """The joint by which the hips are moved: the nearest from the hips up with three positions."""
    hips = clip.body.find("hips")
    if hips is None:
        return None
    for joint in clip.skeleton.chain(hips):
        if {"tx", "ty", "tz"} <= set(clip.layout[joint]):
            return joint
    return None


@kept
def _planned(clip: Clip) -> Plan:
    by_limb: dict[Limb | Chain, list[Plant]] = {}
    for plant in clip.plants:
        limb = holding(clip, plant)
        if plant.live and limb is not None:
            by_limb.setdefault(limb, []).append(plant)
    legs = [x for x in limbs_of(clip.skeleton, clip.body) if x.is_leg and _turns(clip, x)]
    with_legs = any(x.is_leg for x in by_limb)
    ordered: list[Limb | Chain] = [
        *(x for x in legs if with_legs),
        *(x for x in _in_order(clip, by_limb) if not x.is_leg),
    ]
    plants = [p for held in by_limb.values() for p in held]
    others = [clip.skeleton.index(p.with_joint) for p in plants if p.with_joint]
    balls = [x.ball for x in ordered if x.ball is not None]
    world = _World(clip, [*(x.end for x in ordered), *balls, *others])
    corrections = {x: _Correction(clip, world, x, by_limb.get(x, ())) for x in ordered if x.is_leg}
    carrier = carrier_of(clip) if with_legs else None
    lowered = np.zeros(clip.frames)
    carried = np.zeros((clip.frames, 3))
    if carrier is not None:
        lowered = _lowered(clip, world, corrections)
        if np.any(lowered):
            up = np.zeros((clip.frames, 3))
            up[:, UP[clip.reading.up_axis]] = -lowered
            carried = rotation.rotate(rotation.conjugate(world.above(carrier)), up)
            world.pose.translation[:, world.at[carrier]] += carried
            world.forward()
    done: list[Planted] = []
    for limb in ordered:
        correction = corrections.get(limb)
        if correction is None:
            correction = _Correction(clip, world, limb, by_limb[limb])
        done.append(_solved(world, limb, correction, lowered > 0.0))
    joints = tuple(sorted({j for x in ordered for j in x.joints}))
    rotations = world.pose.rotation[:, [world.at[j] for j in joints]]
    return Plan(
        tuple(done), joints, rotations, carrier if np.any(lowered) else None, lowered, carried
    )


def _turns(clip: Clip, limb: Limb) -> bool:
    return all(len(clip.order(j)) == 3 for j in limb.joints)


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


class _Correction:
    """A limb's correction on each frame, and where its end shall be."""

    def __init__(
        self, clip: Clip, world: _World, limb: Limb | Chain, plants: Sequence[Plant]
    ) -> None:
        count = clip.frames
        self.clip, self.world, self.plants = clip, world, tuple(plants)
        end, turns = world.point(limb.end), world.turn(limb.end)
        if limb.ball is not None:
            ball = world.point(limb.ball)
        elif limb.sole is not None:
            ball = end + rotation.rotate(turns, np.array(limb.sole))
        else:
            ball = end
        side = limb.name.split()[0]
        self.window = np.zeros(count, dtype=np.bool_)
        self.share = np.zeros(count)
        stiffness = np.zeros(count)
        self.carried_by = np.full(count, -1, dtype=np.int64)
        heel, toe, goal = (np.full((count, n), np.nan) for n in (3, 3, 4))
        heel_share, toe_share = np.zeros(count), np.zeros(count)
        for plant in self.plants:
            first, last = max(plant.first, 0), min(plant.last, count - 1)
            begin, until = max(first - plant.ease_in, 0), min(last + plant.ease_out, count - 1)
            self.window[begin : until + 1] = True
            coming, going = slice(max(begin - 1, 0), first + 1), slice(last, until + 2)
            stiffness[coming] = np.maximum(stiffness[coming], plant.ease_in / SOFTNESS)
            stiffness[going] = np.maximum(stiffness[going], plant.ease_out / SOFTNESS)
            self.share[begin : until + 1] = np.maximum(self.share[begin : until + 1], plant.hips)
            held = slice(first, last + 1)
            place, turn = self._goal(plant, held)
            at_toe = plant.part == f"{side} toe" and limb.is_leg
            (toe if at_toe else heel)[held] = place
            shares = toe_share if at_toe else heel_share
            shares[held] = np.maximum(shares[held], plant.strength)
            if turn is not None:
                goal[held] = turn
            if plant.with_joint:
                self.carried_by[held] = clip.skeleton.index(plant.with_joint)
        on_heel, on_toe, on_turn = (~np.isnan(x[:, 0]) for x in (heel, toe, goal))
        self.held = on_heel | on_toe
        self.by = HEEL * on_heel + TOE * on_toe + TURN * on_turn
        self.holds = np.where(on_toe, toe_share, heel_share)
        arm = ball - end
        # How it turns about its ball.
        turned = np.zeros((count, 3))
        both = on_heel & on_toe
        if np.any(both):
            share = np.minimum(heel_share, toe_share)[both, None]
            away = (toe - ball)[both] - (heel - end)[both]
            # The other way round it would go about any axis across: about its own first one.
            across = rotation.rotate(turns[both], np.array((1.0, 0.0, 0.0)))
            turned[both] = share * rotation.log(arc(arm[both], arm[both] + away, across))
        if np.any(on_turn):
            share = np.maximum(heel_share, toe_share)[on_turn, None]
            turned[on_turn] = share * rotation.log(
                rotation.multiply(goal[on_turn], rotation.conjugate(turns[on_turn]))
            )
        self.turn = self._led(turned, both | on_turn, stiffness)
        swung = rotation.rotate(rotation.exp(self.turn), arm)
        # Where its ball goes.
        shift = np.zeros((count, 3))
        led = end + heel_share[:, None] * (heel - end)
        shift[on_heel] = (led + swung - ball)[on_heel]
        shift[on_toe] = (toe_share[:, None] * (toe - ball))[on_toe]
        self.shift = self._led(shift, self.held, stiffness)
        self.target = ball + self.shift - swung
        self.turns = rotation.multiply(rotation.exp(self.turn), turns)

    def _goal(self, plant: Plant, held: slice) -> tuple[Floats, Floats | None]:
        place = np.array(plant.place)
        turn = None if plant.turn is None else np.array(plant.turn)
        if plant.with_prop:
            which = self.clip.prop_at(plant.with_prop)
            turns, points = (x[held, which] for x in placed_props(self.clip))
            goal = None if turn is None else rotation.multiply(turns, turn)
            return points + rotation.rotate(turns, np.broadcast_to(place, points.shape)), goal
        if not plant.with_joint:
            return place, turn
        joint = self.clip.skeleton.index(plant.with_joint)
        carrying = self.world.turn(joint)[held]
        at = self.world.point(joint)[held] + rotation.rotate(carrying, place)
        return at, None if turn is None else rotation.multiply(carrying, turn)

    def _ease(self, values: Floats, known: Bools, a: int, b: int) -> None:
        """What is known at frames ``a`` and ``b`` led away from them by their plants' eases, in
        place; both together where there is no room for one after the other."""
        room = b - a
        going = [(p.ease_out, p.ease) for p in self.plants if p.last == a and p.ease_out > 1]
        coming = [(p.ease_in, p.ease) for p in self.plants if p.first == b and p.ease_in > 1]
        sides: list[tuple[int, Ease, int]] = []
        for edge, eases in ((a, going), (b, coming)):
            if eases:
                over, ease = max(eases, key=lambda found: found[0])
                sides.append((edge, ease, min(over, room)))
        if all(name == "settle" for _, name, _ in sides):
            return
        close = len(sides) == 2 and sum(over for _, _, over in sides) > room
        at = np.arange(max(a + 1, 0), min(b, len(values)))
        led, reached = np.zeros((len(at), values.shape[1])), np.zeros(len(at), dtype=np.bool_)
        for edge, name, over in sides:
            if name == "settle" and not close:
                continue
            left = np.clip(1.0 - np.abs(at - edge) / over, 0.0, 1.0)
            easing = easing_of("ease-in-out" if name == "settle" else name)
            led += values[edge] * np.where(left > 0.0, easing.at(left), 0.0)[:, None]
            reached |= (left > 0.0) | close
        values[at[reached]] = led[reached]
        known[at[reached]] = True

    def _led(self, values: Floats, known: Bools, stiffness: Floats) -> Floats:
        """Known values led over the frames between, and out to nothing at the eases' ends."""
        values, known = values.copy(), known.copy()
        held = runs(known)
        edges = [(-1, held[0][0]), *((a[1], b[0]) for a, b in pairwise(held)),
                 (held[-1][1], len(known))] if held else []  # fmt: skip
        for a, b in edges:
            self._ease(values, known, a, b)
        return fill(values, known | ~self.window, stiffness)


def _lowered(clip: Clip, world: _World, legs: Mapping[Limb | Chain, _Correction]) -> Floats:
    """By how much the hips go down on each frame ``(F,)`` so that legs reach, own unit."""
    up = UP[clip.reading.up_axis]
    slack = SLACK_MM / clip.millimetres
    rate = float(clip.rate)
    needed, window = np.zeros(clip.frames), np.zeros(clip.frames)
    for limb, leg in legs.items():
        assert isinstance(limb, Limb)  # legs are
        hip, knee, ankle = (world.point(j) for j in limb.joints)
        length = np.linalg.norm(knee - hip, axis=1) + np.linalg.norm(ankle - knee, axis=1)
        was = np.linalg.norm(ankle - hip, axis=1)
        most = np.maximum(LONGEST * length, was + slack)
        away = leg.target - hip
        aside = np.sum(away**2, axis=1) - away[:, up] ** 2
        down = -away[:, up] - np.sqrt(np.maximum(most**2 - aside, 0.0))
        short = (np.sum(away**2, axis=1) > most**2) & leg.window
        needed = np.maximum(needed, np.where(short, np.maximum(down, 0.0) * leg.share, 0.0))
        for plant in leg.plants:
            window = np.maximum(window, _soft_window(plant, clip.frames))
    if not np.any(needed):
        return needed
    span = max(1, round(LOWERING_S * rate)) | 1
    widest = maximum_filter1d(needed, span, mode="nearest")
    hann = np.hanning(span + 2)[1:-1]
    soft = np.convolve(np.pad(widest, span // 2, mode="edge"), hann / hann.sum(), mode="valid")
    return np.asarray(soft * window)


def _soft_window(plant: Plant, count: int) -> Floats:
    """1 where a plant holds, and softly to 0 over its eases, ``(F,)``."""
    at = np.arange(count)
    before = (plant.first - at) / max(plant.ease_in, 1)
    after = (at - plant.last) / max(plant.ease_out, 1)
    x = 1.0 - np.clip(np.maximum(np.maximum(before, after), 0.0), 0.0, 1.0)
    return np.asarray(x * x * (3.0 - 2.0 * x))


def _led(world: _World, chain: Chain, correction: _Correction) -> Planted:
    """Turn a chain so that its end is at its target, and say what is missed."""
    moving, c = correction.window, correction
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


def _solved(world: _World, limb: Limb | Chain, correction: _Correction, lowered: Bools) -> Planted:
    """Turn a limb so that its end is at its target, and say what is missed."""
    if isinstance(limb, Chain):
        return _led(world, limb, correction)
    target = correction.target
    moving = correction.window | lowered if limb.is_leg else correction.window
    upper, middle, end = limb.joints
    points = (world.point(upper), world.point(middle), world.point(end))
    turns = (world.turn(upper), world.turn(middle), correction.turns)
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
    c = correction
    return Planted(
        limb, c.shift, c.turn, c.held, missed, hinge, c.holds, c.by, c.carried_by
    )  # fmt: skip
