"""Ends brought to where they were in proportion: feet to the floor and to their contacts.

A foot in contact goes where the source's goes, in the scale of the travel and about the place that
retargeting gave it: it follows the source's own slides, which plants mend, live. Between contacts
its correction is led from one to the next by minimum jerk (Flash and Hogan 1985). Where a held foot
is out of reach the hips go down, by no more than it takes and never where the source's leg was as
straight.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from scipy.ndimage import convolve1d, maximum_filter1d

from leancurve.document.clip import Contact
from leancurve.figure.feet import Limb, limbs_of
from leancurve.figure.limb import reach, usual_hinge
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Bools, Floats
from leancurve.numbers.spans import merged
from leancurve.retarget.rest import RestFigure
from leancurve.retarget.transfer import Pair, Transferred

STRAIGHT = 0.985
"""Share of its length up to which a leg is led without asking the hips."""
LOWERING_S = 0.1
LIFTING_S = 0.08
GOING_S = 0.3
"""Over how long an arm's correction comes and goes."""


def eased(share: Floats) -> Floats:
    """From 0 to 1 by minimum jerk."""
    x = np.clip(share, 0.0, 1.0)
    return np.asarray(x**3 * (10.0 - 15.0 * x + 6.0 * x * x))


def led(known: Floats, spans: Sequence[tuple[int, int]], dies: int | None = None) -> Floats:
    """Corrections ``(F, 3)`` known within spans, both ends included, led from each to the next;
    before the first and after the last one they stay, or die away over ``dies`` frames."""
    out = known.copy()
    if not spans:
        return np.zeros_like(known)
    for (_, last), (first, _) in pairwise(spans):
        between = np.arange(last + 1, first)
        if dies is not None and first - last > 2 * dies:
            out[between] = 0.0
            _fade(out, last, dies, 1)
            _fade(out, first, dies, -1)
            continue
        share = eased((between - last) / (first - last))[:, None]
        out[between] = (1.0 - share) * known[last] + share * known[first]
    first, last = spans[0][0], spans[-1][1]
    out[:first], out[last + 1 :] = known[first], known[last]
    if dies is not None:
        out[:first] = 0.0
        out[last + 1 :] = 0.0
        _fade(out, first, dies, -1)
        _fade(out, last, dies, 1)
    return out


def _fade(out: Floats, frame: int, over: int, way: int) -> None:
    """A correction that dies away from a frame on, in place."""
    for k in range(1, over):
        at = frame + way * k
        if 0 <= at < len(out):
            out[at] = out[frame] * (1.0 - eased(np.array(k / over)))


def smooth(values: Floats, frames: int) -> Floats:
    """A mean weighed by a Hann window of that many frames to either side."""
    window = np.hanning(2 * frames + 3)[1:-1]
    return np.asarray(convolve1d(values, window / window.sum(), mode="nearest"))


@dataclass(frozen=True, eq=False)
class Reached:
    """A figure's motion with its ends led: world rotations ``(F, J, 4)``, the hips' places
    ``(F, 3)``, by how much they went down ``(F,)``, and by how much each limb's end falls short
    of its goal ``(F,)``; metres."""

    turns: Floats
    hips: Floats
    lowered: Floats
    missed: dict[str, Floats]


def places(target: RestFigure, turns: Floats, hips: Floats) -> Floats:
    """World places ``(F, J, 3)`` in figure space, metres, of rotations and the hips' place."""
    from leancurve.numbers.kernels import motion  # numba loads late

    own = target.find("hips") or 0
    points = np.empty((*turns.shape[:2], 3))
    offsets = target.metres * target.skeleton.offset_array
    motion.placed(np.ascontiguousarray(turns), offsets, target.skeleton.parent_array, points)
    return np.asarray(points + (hips - points[:, own])[:, None])


def feet(pair: Pair, done: Transferred, contacts: Sequence[Contact], share: float = 1.0) -> Reached:
    """The retargeted motion with its feet where they were, in proportion."""
    source, target, motion = pair.source, pair.target, pair.motion
    points = places(target, done.turns, done.hips)
    frames = len(points)
    legs = [x for x in limbs_of(target.skeleton, target.body) if x.is_leg]
    theirs = {x.name: x for x in limbs_of(source.skeleton, source.body) if x.is_leg}
    goals: dict[str, Floats] = {}
    held: dict[str, Bools] = {}
    own: dict[str, Floats] = {}
    for leg in legs:
        if leg.name not in theirs:
            continue
        other = theirs[leg.name]
        side = leg.name.split()[0]
        shift, mask = _shift(pair, points, contacts, side)
        lift = _lift(pair, done.turns, points + shift[:, None], side, mask)
        shift[:, 1] += lift
        goals[leg.name] = points[:, leg.end] + share * shift
        held[leg.name] = mask
        gap = motion.points[:, other.end] - motion.points[:, other.upper]
        own[leg.name] = np.linalg.norm(gap, axis=1) / max(source.leg(side) or 1.0, 1e-9)
    lowered = np.zeros(frames)
    for leg in legs:
        if leg.name in goals:
            length = target.leg(leg.name.split()[0]) or 1.0
            most = np.maximum(STRAIGHT, own[leg.name]) * length
            wanted = _drop(points[:, leg.upper], goals[leg.name], most)
            lowered = np.maximum(lowered, np.where(held[leg.name], wanted, 0.0))
    if np.any(lowered > 0.0):
        around = max(1, round(LOWERING_S * pair.rate))
        lowered = smooth(maximum_filter1d(lowered, 2 * around + 1, mode="nearest"), around)
    turns = done.turns.copy()
    down = np.zeros((frames, 3))
    down[:, 1] = -lowered
    missed: dict[str, Floats] = {}
    for leg in legs:
        if leg.name in goals:
            missed[leg.name] = lead(target, turns, points + down[:, None], leg, goals[leg.name])
    return Reached(turns, done.hips + down, lowered, missed)


def lead(target: RestFigure, turns: Floats, points: Floats, limb: Limb, goal: Floats) -> Floats:
    """World rotations changed in place so that a limb's end is at ``goal (F, 3)``, its own
    orientation kept; by how much it falls short ``(F,)``."""
    above = turns[:, target.skeleton.parents[limb.upper]]
    stood = (turns[:, limb.upper].copy(), turns[:, limb.middle].copy(), turns[:, limb.end])
    at = (points[:, limb.upper], points[:, limb.middle], points[:, limb.end])
    hinge = usual_hinge(stood[0], at)
    solved = reach(stood, above, at, goal, hinge)
    below = _below(target, limb)
    new = rotation.multiply(above, solved[0])
    middle = rotation.multiply(new, solved[1])
    # What hangs on the two bones beside the limb itself turns with them.
    for joint, bone in below.items():
        was = stood[0] if bone == limb.upper else stood[1]
        turned = rotation.multiply(new if bone == limb.upper else middle, rotation.conjugate(was))
        turns[:, joint] = rotation.multiply(turned, turns[:, joint])
    turns[:, limb.upper], turns[:, limb.middle] = new, middle
    first = at[1] - at[0]
    second = at[2] - at[1]
    end = (
        at[0]
        + rotation.rotate(rotation.multiply(new, rotation.conjugate(stood[0])), first)
        + rotation.rotate(rotation.multiply(middle, rotation.conjugate(stood[1])), second)
    )
    return np.asarray(np.linalg.norm(goal - end, axis=1))


def _below(target: RestFigure, limb: Limb) -> dict[int, int]:
    """Joints that hang on a limb's bones without being part of it, and on which bone."""
    out: dict[int, int] = {}
    for joint in range(limb.upper + 1, len(target.skeleton)):
        parent = target.skeleton.parents[joint]
        if joint in limb.joints:
            continue
        if parent in out:
            out[joint] = out[parent]
        elif parent in (limb.upper, limb.middle):
            out[joint] = parent
    return out


def _drop(hip: Floats, goal: Floats, most: Floats) -> Floats:
    """By how much a hip must go down ``(F,)`` for a goal to be no farther than ``most (F,)``."""
    gap = hip - goal
    flat = gap[:, 0] ** 2 + gap[:, 2] ** 2
    over = flat + gap[:, 1] ** 2 > most**2
    return np.where(over, gap[:, 1] - np.sqrt(np.maximum(most**2 - flat, 0.0)), 0.0).clip(0.0)


def _shift(
    pair: Pair, points: Floats, contacts: Sequence[Contact], side: str
) -> tuple[Floats, Bools]:
    """By how much a foot is moved ``(F, 3)``, and where it is in contact ``(F,)``."""
    source, target, motion, travel = pair.source, pair.target, pair.motion, pair.travel
    count = len(points)
    known = np.zeros((count, 3))
    mask = np.zeros(count, dtype=np.bool_)
    of_toe = [(c.first, c.last) for c in contacts if c.limb == f"{side} toe"]
    all_of = [(c.first, c.last) for c in contacts
              if c.limb in (f"{side} heel", f"{side} toe", f"{side} foot")]  # fmt: skip
    spans = merged(all_of)
    foot = source.find(f"{side} foot"), target.find(f"{side} foot")
    toe = source.find(f"{side} toe"), target.find(f"{side} toe")
    scale = np.array([travel.along, 0.0, travel.along])
    for first, last in spans:
        span = slice(first, last + 1)
        by_toe = toe[0] is not None and toe[1] is not None
        by_toe &= any(a <= last and b >= first for a, b in of_toe)
        ours, theirs = toe if by_toe else foot
        assert ours is not None
        assert theirs is not None
        here, there = motion.points[span, ours], points[span, theirs]
        want = np.median(there, axis=0) + scale * (here - np.median(here, axis=0))
        above = here[:, 1] - motion.floor - source.above_sole(ours)
        want[:, 1] = motion.floor + target.above_sole(theirs) + travel.up * above
        known[span] = want - there
        mask[span] = True
    return led(known, spans), mask


def _lift(pair: Pair, turns: Floats, points: Floats, side: str, mask: Bools) -> Floats:
    """How far a foot off its contacts is lifted so that it is no deeper in the floor than the
    source's own, in proportion ``(F,)``."""
    motion = pair.motion
    low = _lowest(pair.target, turns, points, side)
    theirs = _lowest(pair.source, motion.turns, motion.points, side)
    if low is None or theirs is None:
        return np.zeros(len(points))
    allowed = motion.floor + np.minimum(pair.travel.up * (theirs - motion.floor), 0.0)
    deep = np.where(mask, 0.0, np.maximum(allowed - low, 0.0))
    if not np.any(deep > 1e-9):
        return np.zeros(len(points))
    around = max(1, round(LIFTING_S * pair.rate))
    rising = smooth(maximum_filter1d(deep, 2 * around + 1, mode="nearest"), around)
    near = smooth(maximum_filter1d(mask.astype(np.float64), 2 * around + 1), around)
    return np.where(mask, 0.0, rising * (1.0 - near))


def _lowest(standing: RestFigure, turns: Floats, points: Floats, side: str) -> Floats | None:
    """The height of a foot's lowest point ``(F,)``."""
    foot = standing.find(f"{side} foot")
    if foot is None:
        return None
    below = [foot]
    for joint in range(foot + 1, len(standing.skeleton)):
        if standing.skeleton.parents[joint] in below:
            below.append(joint)
    heights = [points[:, j, 1] for j in below[1:]]
    for joint in below:
        if joint in standing.tips:
            tip = rotation.rotate(
                rotation.conjugate(standing.turns[joint]),
                standing.tips[joint] - standing.points[joint],
            )
            heights.append(points[:, joint, 1] + rotation.rotate(turns[:, joint], tip)[:, 1])
    return np.min(heights, axis=0) if heights else points[:, foot, 1]
