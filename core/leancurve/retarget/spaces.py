"""Where a hand goes when it is told relative to something: the world, the chest, the head, the
hips, a prop. There it is where it was, in proportion."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from leancurve.document.clip import Clip
from leancurve.document.placement import placed_props
from leancurve.errors import BadInput
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats
from leancurve.retarget.rest import RestFigure
from leancurve.retarget.things import retargeted_props
from leancurve.retarget.touching import SIDES, Touch, palm
from leancurve.retarget.transfer import Pair, World, turned

HANDS = tuple(f"{side} hand" for side in SIDES)
WORLD = "world"
PARTS = ("chest", "head", "hips")


def require_spaces(clip: Clip, spaces: Mapping[str, str]) -> None:
    """:class:`BadInput` where an end or what it is told relative to is not there."""
    for end, space in spaces.items():
        if end not in HANDS:
            raise BadInput(f"spaces: {end!r} is not one of {', '.join(HANDS)}")
        if space not in (WORLD, *PARTS) and clip.prop_at(space) is None:
            props = "".join(f", {p.name}" for p in clip.props)
            raise BadInput(f"spaces: {space!r} is not one of {WORLD}, {', '.join(PARTS)}{props}")


def space_goals(
    source: Clip, pair: Pair, there: World, touches: tuple[Touch, ...], spaces: Mapping[str, str]
) -> dict[str, Floats]:
    """By how much the hand of each side that is told in a space of its own is moved ``(F, 3)``,
    metres in figure space."""
    ours, theirs, here, travel = pair.source, pair.target, pair.motion, pair.travel
    out: dict[str, Floats] = {}
    for end, space in spaces.items():
        side = end.split()[0]
        mine, its = palm(ours, here, side), palm(theirs, there, side)
        if mine is None or its is None:
            continue
        if space == WORLD:
            goal = mine * np.array([travel.along, 0.0, travel.along])
            goal[:, 1] = there.floor + travel.up * (mine[:, 1] - here.floor)
        elif space in PARTS:
            joint, other = _joint(ours, space), _joint(theirs, space)
            if joint is None or other is None:
                continue
            back = rotation.conjugate(turned(ours, here.turns, joint))
            local = rotation.rotate(back, mine - here.points[:, joint])
            scale = theirs.height / ours.height
            goal = rotation.rotate(turned(theirs, there.turns, other), scale * local)
            goal += there.points[:, other]
        else:
            at = source.prop_at(space)
            assert at is not None  # asked for before
            turns, points = placed_props(source)
            turn = rotation.multiply(ours.to_figure, turns[:, at])
            place = ours.metres * rotation.rotate(ours.to_figure, points[:, at])
            local = rotation.rotate(rotation.conjugate(turn), mine - place)
            goes = _prop_place(source, pair, there, touches, at)
            goal = goes + rotation.rotate(turn, pair.thing * local)
        out[side] = goal - its
    return out


def _joint(standing: RestFigure, part: str) -> int | None:
    if part == "chest":
        return next(reversed(standing.body.all("spine")), None)
    return standing.find(part)


def _prop_place(
    source: Clip, pair: Pair, there: World, touches: tuple[Touch, ...], at: int
) -> Floats:
    """Where a prop of the source's goes ``(F, 3)``, metres in figure space."""
    props, curves = retargeted_props(source, pair, there, touches)
    frames = np.arange(source.frames, dtype=np.float64)
    own = np.stack([curves[t].at(frames) for t in props[at].tracks[:3]], axis=-1)
    return np.asarray(pair.target.metres * rotation.rotate(pair.target.to_figure, own))
