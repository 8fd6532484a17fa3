"""Rotations and the root retargeted from one figure to another, in figure space.

A target joint stands in the world as its source joint does, but for what the two rests add:
``Wt = Ws · Rs⁻¹ · As⁻¹ · At · Rt``, where ``R`` are rotations at rest and ``A`` turns the rest to
a pose common to both (:mod:`leancurve.retarget.alignment`). Limbs point where the source's point,
however long their bones are; the root goes as far as the legs' lengths say.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from leancurve.document.clip import Clip
from leancurve.document.evaluation import posed
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats, Ints
from leancurve.retarget.alignment import common_turns
from leancurve.retarget.matching import JointMap, twist_place
from leancurve.retarget.rest import UPWARDS, RestFigure, between, unit

SOLE_DEG = (3.0, 25.0)
"""A sole that lies off level by less is level; by more, the contact was none."""
SOLE_SPREAD_DEG = 6.0
SAME_REST = 1e-6


@dataclass(frozen=True, eq=False)
class Travel:
    """How the root goes: ``along`` scales the path over the floor, ``up`` heights above it."""

    along: float
    up: float


@dataclass(frozen=True, eq=False)
class World:
    """A figure's motion in figure space: rotations ``(F, J, 4)``, places ``(F, J, 3)`` in metres,
    and the floor's height."""

    turns: Floats
    points: Floats
    floor: float


def turned(standing: RestFigure, turns: Floats, joint: int) -> Floats:
    """A joint's turn from its rest ``(F, 4)``, given the world's rotations ``(F, J, 4)``."""
    return rotation.multiply(turns[:, joint], rotation.conjugate(standing.turns[joint]))


def world_of(clip: Clip, standing: RestFigure, floor: float) -> World:
    """A clip's motion in figure space; ``floor`` in the clip's own unit."""
    turns, points = posed(clip).world(clip.skeleton)
    return World(
        rotation.multiply(standing.to_figure, turns),
        standing.metres * rotation.rotate(standing.to_figure, points),
        standing.metres * floor,
    )


@dataclass(frozen=True, eq=False)
class Pair:
    """Two figures at rest, the motion of the first in figure space, how joints are mapped and how
    far the second travels for it; frames a second, and how large things are for the second."""

    source: RestFigure
    target: RestFigure
    motion: World
    links: JointMap
    travel: Travel
    rate: float
    thing: float = 1.0


def travel_between(source: RestFigure, target: RestFigure, along: float | None = None) -> Travel:
    """By the legs' lengths, or by stature where a figure has none."""
    ours, theirs = source.leg_length, target.leg_length
    scale = theirs / ours if ours and theirs else target.height / source.height
    return Travel(scale if along is None else along, scale)


@dataclass(frozen=True, eq=False)
class Transferred:
    """What is transferred: the target's world rotations ``(F, J, 4)`` and the hips' place
    ``(F, 3)``, metres, in figure space."""

    turns: Floats
    hips: Floats


def rest_turns(target: RestFigure, by_hand: Mapping[int, Floats]) -> Floats:
    """``At`` of each target joint ``(J, 4)``, with turns set by hand, rotation vectors in degrees
    about figure space's axes, which all that hangs on a joint follows."""
    common = common_turns(target)
    whole: list[Floats] = []
    for joint, parent in enumerate(target.skeleton.parents):
        above = whole[parent] if parent >= 0 else rotation.IDENTITY
        own = by_hand.get(joint)
        whole.append(above if own is None else rotation.multiply(above, rotation.exp(own)))
    return rotation.multiply(common, np.array(whole)) if by_hand else common


def transfer(
    pair: Pair,
    *,
    clavicles: float = 1.0,
    soles: Mapping[int, Floats] | None = None,
    by_hand: Mapping[int, Floats] | None = None,
) -> Transferred:
    """The target's motion before its ends are led anywhere.

    ``clavicles`` is the share of their turn that collar bones take; ``soles`` the directions that
    stood up in the source's feet while they were flat (:func:`level_soles`).
    """
    source, target, motion = pair.source, pair.target, pair.motion
    back = rotation.conjugate(rotation.multiply(common_turns(source), source.turns))
    ahead = rotation.multiply(rest_turns(target, by_hand or {}), target.turns)
    frames = len(motion.turns)
    out = np.empty((frames, len(target.skeleton), 4))
    for joint, parent in enumerate(target.skeleton.parents):
        link = pair.links.links[joint]
        if not link.mapped:
            rest = _rest_local(target, joint)
            out[:, joint] = rest if parent < 0 else rotation.multiply(out[:, parent], rest)
            continue
        given = _mean(
            [rotation.multiply(motion.turns[:, j], back[j]) for j in link.sources], link.weights
        )
        sole = (soles or {}).get(joint)
        if sole is not None:
            given = rotation.multiply(given, sole)
        out[:, joint] = rotation.multiply(given, ahead[joint])
        if clavicles < 1.0 and parent >= 0 and _is_clavicle(target, joint):
            still = rotation.multiply(out[:, parent], _rest_local(target, joint))
            out[:, joint] = rotation.slerp(still, out[:, joint], clavicles)
    return Transferred(out, _hips(pair, out))


def _mean(turns: Sequence[Floats], weights: Sequence[float]) -> Floats:
    """Rotations ``(F, 4)`` weighed, about the one that weighs most; one alone as it is."""
    if len(turns) == 1:
        return turns[0]
    first = turns[int(np.argmax(weights))]
    back = rotation.conjugate(first)
    away = sum(
        w * rotation.log(rotation.multiply(back, q)) for q, w in zip(turns, weights, strict=True)
    )
    return rotation.multiply(first, rotation.exp(np.asarray(away)))


def _is_clavicle(standing: RestFigure, joint: int) -> bool:
    return standing.body.joints[joint].role.endswith("clavicle")


def _hips(pair: Pair, turns: Floats) -> Floats:
    """The target's hips ``(F, 3)``: the middle of its thighs where the source's is, in proportion,
    with ankles as high over the soles as each figure's own are."""
    source, target, motion, travel = pair.source, pair.target, pair.motion, pair.travel
    ours, ankle = _hub(source), _ankle(source)
    theirs, other = _hub(target), _ankle(target)
    hips = source.find("hips") or 0
    middle = motion.points[:, hips] + rotation.rotate(turned(source, motion.turns, hips), ours)
    goal = travel.along * middle
    goal[:, 1] = motion.floor + travel.up * (middle[:, 1] - motion.floor - ankle) + other
    own = target.find("hips") or 0
    return np.asarray(goal - rotation.rotate(turned(target, turns, own), theirs))


def _hub(standing: RestFigure) -> Floats:
    """From the hips to the middle of the thighs' joints at rest, metres; none without legs."""
    pair = standing.body.pair("thigh")
    if pair is None:
        return np.zeros(3)
    hips = standing.find("hips") or 0
    return np.asarray(standing.points[list(pair)].mean(axis=0) - standing.points[hips])


def _ankle(standing: RestFigure) -> float:
    """How high an ankle rests over the sole, metres; 0 without feet."""
    pair = standing.body.pair("foot")
    return 0.0 if pair is None else float(np.mean([standing.above_sole(j) for j in pair]))


def level_soles(pair: Pair, flat: Mapping[str, Ints]) -> dict[int, Floats]:
    """For each foot of the target the turn ``(4,)`` that lays its sole as the source's lay.

    ``flat`` are frames with heel and toe held, by side. Feet whose rests agree need none.
    """
    source, target, motion = pair.source, pair.target, pair.motion
    out: dict[int, Floats] = {}
    for side, frames in flat.items():
        foot, other = source.find(f"{side} foot"), target.find(f"{side} foot")
        if foot is None or other is None or not len(frames):
            continue
        one, two = source.bones[foot], target.bones[other]
        if np.linalg.norm(unit(one) - unit(two)) < SAME_REST:
            continue
        away = turned(source, motion.turns[frames], foot)
        up = rotation.rotate(rotation.conjugate(away), np.tile(UPWARDS, (len(frames), 1)))
        usual = unit(np.median(up, axis=0))
        spread = np.degrees(np.median(np.arccos(np.clip(up @ usual, -1.0, 1.0))))
        angle = float(np.degrees(np.arccos(np.clip(usual @ UPWARDS, -1.0, 1.0))))
        if SOLE_DEG[0] < angle < SOLE_DEG[1] and spread < SOLE_SPREAD_DEG:
            common = common_turns(source)[foot]
            turn = rotation.multiply(
                common, rotation.multiply(between(UPWARDS, usual), rotation.conjugate(common))
            )
            toes = target.body.all(f"{side} toe")
            out |= {j: turn for j in (other, *toes) if pair.links.links[j].mapped}
    return out


def twisted(target: RestFigure, links: JointMap, local: Floats) -> None:
    """Twist joints that nobody gives take their share of their limb's twist, in place.

    ``local (F, J, 4)`` are the target's local rotations. A joint at the share ``f`` of a forearm or
    a shin turns with ``f`` of what the hand or foot twists by; one in an upper arm or a thigh
    against ``1 - f`` of what the bone itself does. What hangs on a twist joint stays as it stood.
    """
    seen: dict[int, Floats] = {}
    limbs: dict[int, int] = {}
    for joint, link in enumerate(links.links):
        place = twist_place(target, joint)
        if not link.mapped and place is not None:
            turn = _twist_at(target, local, *place)
            if turn is not None:
                rest = _rest_from(target, place[0], joint)
                seen[joint], limbs[joint] = rotation.multiply(turn, rest), place[0]
    if not seen:
        return
    was = {j: _from_limb(target, local, limbs[j], j) for j in seen}
    said = {}
    for joint in range(len(target.skeleton)):
        parent = target.skeleton.parents[joint]
        if joint in seen:
            above = seen.get(parent)
            said[joint] = seen[joint] if above is None else _seen_from(above, seen[joint])
        elif parent in seen:
            below = rotation.multiply(was[parent], local[:, joint])
            said[joint] = _seen_from(seen[parent], below)
    for joint, turn in said.items():
        local[:, joint] = turn


def _seen_from(above: Floats, turns: Floats) -> Floats:
    return rotation.multiply(rotation.conjugate(above), turns)


def _from_limb(target: RestFigure, local: Floats, limb: int, joint: int) -> Floats:
    """A joint's rotation ``(F, 4)`` as seen from a limb's joint above it."""
    out = local[:, joint]
    at = target.skeleton.parents[joint]
    while at != limb:
        out = rotation.multiply(local[:, at], out)
        at = target.skeleton.parents[at]
    return out


def _rest_from(target: RestFigure, top: int, joint: int) -> Floats:
    """The same at rest ``(4,)``, from a joint above it."""
    return rotation.multiply(rotation.conjugate(target.turns[top]), target.turns[joint])


def _twist_at(target: RestFigure, local: Floats, limb: int, share: float) -> Floats | None:
    """The turn ``(F, 4)`` of a twist joint at a share of a limb's bone, None where it has none."""
    side, part = (*target.body.joints[limb].role.split(" ", 1), "")[:2]
    axis = unit(rotation.rotate(rotation.conjugate(target.turns[limb]), target.bones[limb]))
    if part in ("forearm", "shin"):
        end = target.find(f"{side} {'hand' if part == 'forearm' else 'foot'}")
        if end is None or limb not in target.skeleton.chain(end):
            return None
        turns = _from_limb(target, local, limb, end)
        away = rotation.multiply(turns, rotation.conjugate(_rest_from(target, limb, end)))
        part_of_it = share
    elif part in ("upper arm", "thigh"):
        # The bone's own twist, in its own axes.
        away = rotation.multiply(rotation.conjugate(_rest_local(target, limb)), local[:, limb])
        part_of_it = share - 1.0
    else:
        return None
    angle = part_of_it * twist_of(away, axis)
    return rotation.exp(angle[:, None] * axis)


def _rest_local(standing: RestFigure, joint: int) -> Floats:
    parent = standing.skeleton.parents[joint]
    if parent < 0:
        return np.asarray(standing.turns[joint])
    return rotation.multiply(rotation.conjugate(standing.turns[parent]), standing.turns[joint])


def twist_of(turns: Floats, axis: Floats) -> Floats:
    """The twist ``(F,)`` of rotations about an axis, degrees, unrolled in time.

    ``2 · atan2(q·a, w)``; near the pole, where a swing of half a turn hides the twist, the twists
    of the steps are added up instead.
    """
    q = rotation.hemisphere(turns)
    along, w = q[:, :3] @ axis, q[:, 3]
    plain = np.unwrap(2.0 * np.arctan2(along, w), period=2 * np.pi)
    clear = np.hypot(along, w) > np.sin(np.radians(0.5))
    if bool(np.all(clear)):
        return np.asarray(np.degrees(plain))
    step = rotation.multiply(rotation.conjugate(q[:-1]), q[1:])
    steps = 2.0 * np.arctan2(step[:, :3] @ axis, step[:, 3])
    steps -= 2 * np.pi * np.round(steps / (2 * np.pi))
    out = plain.copy()
    for f in np.flatnonzero(~(clear[1:] & clear[:-1])) + 1:
        out[f:] += out[f - 1] + steps[f - 1] - out[f]
    return np.asarray(np.degrees(out))


def local_of(target: RestFigure, turns: Floats) -> Floats:
    """Local rotations ``(F, J, 4)`` of world ones in figure space."""
    from leancurve.numbers.kernels import motion  # numba loads late

    out = np.empty_like(turns)
    motion.relative(np.ascontiguousarray(turns), target.skeleton.parent_array, out)
    own = rotation.conjugate(target.to_figure)
    for joint, parent in enumerate(target.skeleton.parents):
        if parent < 0:
            out[:, joint] = rotation.multiply(own, out[:, joint])
    return out
