"""What hands hold and touch, found in the source, and where that puts the target's hands.

A *hold*: both palms rigid to each other for a while, elbows bent. A *touch*: a palm that stays by
another part of the body while both move. Lengths are shares of the figure's stature.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from leancurve.cleaning.contacts import hysteresis, tidy
from leancurve.figure.feet import Limb, limbs_of
from leancurve.figure.radii import CAPSULES
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Bools, Floats
from leancurve.numbers.lines import along_and_away
from leancurve.retarget.reaching import GOING_S, led
from leancurve.retarget.rest import RestFigure, unit
from leancurve.retarget.transfer import Pair, World, turned

SIDES = ("left", "right")
AROUND_S = 0.25
HOLD_DRIFT, HOLD_TURN_DEG, HOLD_S = 0.015, 12.0, 0.5
BENT_DEG = 45.0
NEAR = (0.03, 0.05)
SLOW = (0.06, 0.17)
TOUCH_S = 0.35
THROUGH = -0.03
"""A palm deeper in a body than that went through it: no touch."""
WITH_BENT_ARM = ("hips", "chest", "thigh")
FOLDED_DEG = 55.0
"""An arm that hangs is bent by up to 52° in the demo's takes: it holds on to nothing."""
MOVES = 0.008
"""Over a touch the hand moves in the world by more: where all stands still, nearness says nothing.
"""


@dataclass(frozen=True, order=True)
class Touch:
    """A hand that stays by a part of the body from ``first`` to ``last``, both included. Both hands
    on one thing are a hold: ``hand`` is ``"both hands"`` and ``part`` empty."""

    hand: str
    part: str
    first: int
    last: int

    @property
    def is_hold(self) -> bool:
        return not self.part


@dataclass(frozen=True)
class _Part:
    """A piece of the body as a capsule: from ``joint`` on for ``bone (3,)``, metres at rest."""

    name: str
    joint: int
    bone: Floats
    radius: float


def palm_offset(standing: RestFigure, side: str) -> tuple[int, Floats] | None:
    """A hand's joint, and from it to the middle of its palm, metres at rest in figure space."""
    hand = standing.find(f"{side} hand")
    return None if hand is None else (hand, 0.5 * standing.bones[hand])


def palm(standing: RestFigure, motion: World, side: str) -> Floats | None:
    """The middle of a palm ``(F, 3)``, metres."""
    found = palm_offset(standing, side)
    if found is None:
        return None
    hand, offset = found
    return np.asarray(
        motion.points[:, hand] + rotation.rotate(turned(standing, motion.turns, hand), offset)
    )


def find_touches(standing: RestFigure, motion: World, rate: float) -> tuple[Touch, ...]:
    """Holds and touches of a motion."""
    if len(motion.turns) < 3:
        return ()
    holds = _holds(standing, motion, rate)
    held = np.zeros(len(motion.turns), dtype=np.bool_)
    for hold in holds:
        held[hold.first : hold.last + 1] = True
    touches = [t for side in SIDES for t in _touches(standing, motion, rate, side, held)]
    return tuple(sorted([*holds, *touches]))


def _bent(standing: RestFigure, motion: World, side: str, degrees: float = BENT_DEG) -> Bools:
    joints = [standing.find(f"{side} {p}") for p in ("upper arm", "forearm", "hand")]
    if any(j is None for j in joints):
        return np.zeros(len(motion.turns), dtype=np.bool_)
    a, b, c = (motion.points[:, j] for j in joints if j is not None)
    cosine = np.sum(unit(b - a) * unit(c - b), axis=1)
    return np.asarray(cosine < np.cos(np.radians(degrees)))


def _holds(standing: RestFigure, motion: World, rate: float) -> list[Touch]:
    palms = [palm(standing, motion, side) for side in SIDES]
    hands = [standing.find(f"{side} hand") for side in SIDES]
    if any(p is None for p in palms) or any(h is None for h in hands):
        return []
    left, right = (turned(standing, motion.turns, h) for h in hands if h is not None)
    one, two = (p for p in palms if p is not None)
    back = rotation.conjugate(left)
    way = rotation.rotate(back, two - one)
    turn = rotation.multiply(back, right)
    count = len(way)
    frames = np.arange(count)
    around = max(1, round(AROUND_S * rate))
    drift, away = np.zeros(count), np.zeros(count)
    for off in (-around, -around // 2, around // 2, around):
        other = np.clip(frames + off, 0, count - 1)
        drift = np.maximum(drift, np.linalg.norm(way[other] - way, axis=1))
        away = np.maximum(away, rotation.geodesic_deg(turn[other], turn))
    bent = _bent(standing, motion, "left") & _bent(standing, motion, "right")
    limit = HOLD_DRIFT * standing.height
    stay = bent & (drift < limit) & (away < HOLD_TURN_DEG)
    begin = stay & (drift < 0.5 * limit) & (away < 0.5 * HOLD_TURN_DEG)
    spans = tidy(hysteresis(begin, stay), max(1, round(HOLD_S * rate)), round(0.1 * rate))
    return [Touch("both hands", "", a, b) for a, b in spans]


def parts_of(standing: RestFigure, side: str) -> list[_Part]:
    """What a hand of ``side`` may touch."""
    out: list[_Part] = []
    other = "right" if side == "left" else "left"
    wanted = [
        ("head", "head"), ("hips", "hips"),
        *((f"{s} thigh", "thigh") for s in SIDES),
        *((f"{other} {p}", p) for p in ("upper arm", "forearm", "hand")),
    ]  # fmt: skip
    for role, kind in wanted:
        joint = standing.find(role)
        if joint is not None:
            bone = _to(standing, joint, "spine" if kind == "hips" else None)
            out.append(_Part(role, joint, bone, CAPSULES[kind]))
    spine = standing.body.all("spine")
    if spine:
        out.append(_Part("chest", spine[-1], _to(standing, spine[-1], "neck"), CAPSULES["chest"]))
    return out


def _to(standing: RestFigure, joint: int, role: str | None) -> Floats:
    """The way from a joint to that of a role, or along its own bone."""
    end = None if role is None else standing.find(role)
    if end is None:
        return np.asarray(standing.bones[joint])
    return np.asarray(standing.points[end] - standing.points[joint])


def _by(standing: RestFigure, motion: World, part: _Part, points: Floats) -> Floats:
    """Points ``(F, 3)`` in a part's own axes, as it stands at rest, metres."""
    return rotation.rotate(
        rotation.conjugate(turned(standing, motion.turns, part.joint)),
        points - motion.points[:, part.joint],
    )


def _gap(part: _Part, local: Floats, height: float) -> Floats:
    """How far a palm is from a part's skin ``(F,)``, shares of stature."""
    _, away = along_and_away(local, part.bone)
    return np.asarray(away / height - part.radius - CAPSULES["hand"])


def _touches(
    standing: RestFigure, motion: World, rate: float, side: str, held: Bools
) -> list[Touch]:
    point = palm(standing, motion, side)
    if point is None:
        return []
    parts = parts_of(standing, side)
    bent = _bent(standing, motion, side, FOLDED_DEG)
    around = max(1, round(0.05 * rate))
    frames = np.arange(len(point))
    ahead, behind = np.minimum(frames + around, len(point) - 1), np.maximum(frames - around, 0)
    gaps, paces = [], []
    for part in parts:
        local = _by(standing, motion, part, point)
        gaps.append(_gap(part, local, standing.height))
        step = np.linalg.norm(local[ahead] - local[behind], axis=1) * rate
        paces.append(step / np.maximum(ahead - behind, 1) / standing.height)
    if not parts:
        return []
    nearest = np.argmin(gaps, axis=0)
    out: list[Touch] = []
    for k, part in enumerate(parts):
        gap, pace = gaps[k], paces[k]
        free = ~held & (nearest == k)
        if part.name.split()[-1] in WITH_BENT_ARM:
            free &= bent
        begin = free & (gap < NEAR[0]) & (pace < SLOW[0])
        stay = free & (gap < NEAR[1]) & (pace < SLOW[1])
        for a, b in tidy(hysteresis(begin, stay), max(1, round(TOUCH_S * rate)), 0):
            moves = float(np.ptp(point[a : b + 1], axis=0).max()) / standing.height
            if gap[a : b + 1].min() > THROUGH and moves > MOVES:
                out.append(Touch(f"{side} hand", part.name, a, b))
    return out


def hand_goals(pair: Pair, there: World, touches: tuple[Touch, ...]) -> dict[str, Floats]:
    """By how much each arm's end is moved ``(F, 3)``, metres: palms that hold a thing stand as far
    apart as it is wide for them; a palm that touches is where it was on that
    part. Between them corrections die away."""
    source, target, here = pair.source, pair.target, pair.motion
    count = len(here.turns)
    dies = max(1, round(GOING_S * pair.rate))
    known = {side: np.zeros((count, 3)) for side in SIDES}
    spans: dict[str, list[tuple[int, int]]] = {side: [] for side in SIDES}
    own = {side: palm(source, here, side) for side in SIDES}
    theirs = {side: palm(target, there, side) for side in SIDES}
    for touch in touches:
        span = slice(touch.first, touch.last + 1)
        if touch.is_hold:
            left, right = own["left"], own["right"]
            mine, other = theirs["left"], theirs["right"]
            if left is None or right is None or mine is None or other is None:
                continue
            apart = pair.thing * (right[span] - left[span])
            middle = 0.5 * (mine[span] + other[span])
            known["left"][span] = middle - 0.5 * apart - mine[span]
            known["right"][span] = middle + 0.5 * apart - other[span]
            for side in SIDES:
                spans[side].append((touch.first, touch.last))
            continue
        side = touch.hand.split()[0]
        a = next((p for p in parts_of(source, side) if p.name == touch.part), None)
        b = next((p for p in parts_of(target, side) if p.name == touch.part), None)
        mine, there_palm = own[side], theirs[side]
        if a is None or b is None or mine is None or there_palm is None:
            continue
        local = _by(source, here, a, mine)[span]
        goal = _placed(a, b, local, source.height, target.height)
        stands = turned(target, there.turns, b.joint)[span]
        wanted = there.points[span, b.joint] + rotation.rotate(stands, goal)
        known[side][span] = wanted - there_palm[span]
        spans[side].append((touch.first, touch.last))
    return {side: led(known[side], sorted(spans[side]), dies) for side in SIDES if spans[side]}


def _placed(a: _Part, b: _Part, local: Floats, ours: float, theirs: float) -> Floats:
    """Points on one part as they are on another: along the bone by its length, off it by how thick
    it is."""
    length = max(float(a.bone @ a.bone), 1e-12)
    along = (local @ a.bone / length)[:, None]
    off = local - along * a.bone
    return np.asarray(along * b.bone + off * (b.radius * theirs) / (a.radius * ours))


def arms_of(standing: RestFigure) -> dict[str, Limb]:
    """The arms by side."""
    return {
        x.name.split()[0]: x for x in limbs_of(standing.skeleton, standing.body) if not x.is_leg
    }
