"""Where a part is planted: from the motion as it stands."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Literal, TypeAlias

import numpy as np

from leancurve.cleaning.contacts import find_support, speed
from leancurve.document.clip import Clip, Contact
from leancurve.document.evaluation import evaluate
from leancurve.document.ground import top_under
from leancurve.document.placement import placed_props
from leancurve.document.plant import Plant, Point, Turn
from leancurve.document.planting.parts import limb_of
from leancurve.errors import BadInput
from leancurve.figure.feet import Chain, Limb, limbs_of
from leancurve.figure.skeleton import UP
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats
from leancurve.numbers.spans import most_shared

SETTLE_S = 0.06
"""How much of a contact's start and end is landing and leaving: detected spans are wider than true
standing by as much (tried on three demo takes)."""
SHORTEST_S = 0.16
"""A shorter contact is planted only where it meets an end of the clip: a false one of 0.1 s threw a
swinging foot by 150 mm."""
EASE_S = 0.6
"""How long a plant comes and goes: a correction dies away over it (five times 0.12 s)."""

Rule: TypeAlias = Literal["stance", "set down", "mean", "first frame", "slowest"]
"""``stance`` is the median of each coordinate, ``set down`` that of the first twentieth,
``slowest`` that of the slowest tenth."""


@dataclass(frozen=True)
class Stood:
    """A clip's own motion, as places are chosen from it: tracks and heights in its own unit."""

    clip: Clip
    turns: Floats
    points: Floats
    rest_heights: dict[str, float]
    floor: float = 0.0

    @property
    def up(self) -> int:
        return UP[self.clip.reading.up_axis]

    def track(self, part: str) -> tuple[Floats, Floats]:
        """World positions ``(F, 3)`` and rotations ``(F, 4)`` of a part."""
        limb = limb_of(self.clip, part)
        turns, points = self.turns[:, limb.end], self.points[:, limb.end]
        if part.endswith(" toe") and limb.is_leg:
            if limb.ball is not None:
                return self.points[:, limb.ball], self.turns[:, limb.ball]
            assert limb.sole is not None  # it is one of the limb's parts
            return points + rotation.rotate(turns, np.array(limb.sole)), turns
        return points, turns

    def carried(
        self, joint: str, prop: str, points: Floats, turns: Floats
    ) -> tuple[Floats, Floats]:
        """World positions and rotations as a joint or a prop carries them; as they are for none."""
        if prop:
            theirs, at = (x[:, prop_named(self.clip, prop)] for x in placed_props(self.clip))
            back = rotation.conjugate(theirs)
            return rotation.rotate(back, points - at), rotation.multiply(back, turns)
        return self.in_axes_of(joint, points, turns) if joint else (points, turns)

    def in_axes_of(self, joint: str, points: Floats, turns: Floats) -> tuple[Floats, Floats]:
        """World positions and rotations as a joint carries them."""
        if joint not in self.clip.skeleton.names:
            raise BadInput(f"no joint is named {joint!r}")
        at = self.clip.skeleton.index(joint)
        back = rotation.conjugate(self.turns[:, at])
        return rotation.rotate(back, points - self.points[:, at]), rotation.multiply(back, turns)


def prop_named(clip: Clip, name: str) -> int:
    """Which of the clip's props has a name; :class:`BadInput` where none has."""
    found = clip.prop_at(name)
    if found is None:
        raise BadInput(f"no prop is named {name!r}")
    return found


def standing(clip: Clip) -> Stood:
    """The motion below all plants."""
    turns, points = evaluate(clip.unplanted).world(clip.skeleton)
    support = find_support(clip.unplanted, world=(turns, points))
    rests = dict(support.rest_heights)
    # A foot without a toe rolls over the end of its sole.
    for limb in limbs_of(clip.skeleton, clip.body):
        side = limb.name.split()[0]
        if limb.is_leg and limb.sole is not None and f"{side} foot" in rests:
            rests[f"{side} heel"] = rests[f"{side} foot"]
    return Stood(clip, turns, points, rests, support.floor)


def held_span(clip: Clip, contact: Contact) -> tuple[int, int] | None:
    """The frames of a contact on which it stands, None where it is too short to be one."""
    rate, end = float(clip.rate), clip.frames - 1
    at_border = contact.first <= 0 or contact.last >= end
    if contact.last - contact.first + 1 < SHORTEST_S * rate and not at_border:
        return None
    settle = max(1, round(SETTLE_S * rate))
    first = contact.first + (settle if contact.first > 0 else 0)
    last = contact.last - (settle if contact.last < end else 0)
    return (first, last) if first <= last else None


def place_of(
    stood: Stood,
    part: str,
    first: int,
    last: int,
    rule: Rule,
    with_joint: str = "",
    with_prop: str = "",
) -> Point:
    """The place of a part over frames, both included, by a rule."""
    points, _ = stood.carried(with_joint, with_prop, *stood.track(part))
    here = points[first : last + 1]
    if rule == "mean":
        found = here.mean(axis=0)
    elif rule == "first frame":
        found = here[0]
    elif rule == "set down":
        found = np.median(here[: max(3, len(here) // 20)], axis=0)
    elif rule == "slowest":
        pace = speed(points, float(stood.clip.rate), 0.1)[first : last + 1]
        found = np.median(here[np.argsort(pace, kind="stable")[: max(3, len(here) // 10)]], axis=0)
    else:
        found = np.median(here, axis=0)
    return _point(found)


def turn_of(
    stood: Stood, part: str, first: int, last: int, with_joint: str = "", with_prop: str = ""
) -> Turn:
    """The mean rotation of a part over frames, both included."""
    _, turns = stood.carried(with_joint, with_prop, *stood.track(part))
    here = rotation.hemisphere(turns[first : last + 1])
    x, y, z, w = (float(v) for v in rotation.normalise(here.mean(axis=0)))
    return (x, y, z, w)


def on_floor(stood: Stood, part: str, place: Point, height: float | None = None) -> Point:
    """A place at the height at which its part rests, or at a given one, own unit."""
    rest = stood.rest_heights.get(part)
    if height is None and rest is None:
        return place
    out = list(place)
    out[stood.up] = float(rest if height is None else height)  # type: ignore[arg-type]
    return (out[0], out[1], out[2])


def on_top(stood: Stood, part: str, place: Point, prop: str, frame: int) -> Point:
    """A place at the height at which its part rests on a prop's top, as that stands on a frame: a
    crate, a step, a slope."""
    which = prop_named(stood.clip, prop)
    turns, points = (x[:, which] for x in placed_props(stood.clip, np.array([float(frame)])))
    out = np.array(place)
    height, _ = top_under(stood.clip.props[which], turns, points, out[None], stood.up)
    out[stood.up] = height[0]
    out[stood.up] += stood.rest_heights.get(part, stood.floor) - stood.floor
    return _point(out)


def fitted_feet(stood: Stood, plants: list[Plant]) -> list[Plant]:
    """Places of heels and toes that are held at once moved apart or together, level, until their
    distance is their foot's: of two the longer held stays."""
    out = sorted(plants, key=lambda p: (p.first - p.last, p.first, p.part))
    done: list[Plant] = []
    for plant in out:
        limb = limb_of(stood.clip, plant.part)
        other = _other(limb, plant, done)
        if other is not None:
            plant = replace(plant, place=_beside(stood, limb, plant, other))
        done.append(plant)
    return sorted(done)


def _other(limb: Limb | Chain, plant: Plant, done: list[Plant]) -> Plant | None:
    """The placed plant of a foot's other point that overlaps most."""
    if plant.part not in limb.parts[:2] or len(limb.parts) < 3 or not plant.in_world:
        return None
    part = limb.parts[1] if plant.part == limb.parts[0] else limb.parts[0]
    return most_shared((p for p in done if p.part == part and p.in_world), plant)


def _beside(stood: Stood, limb: Limb | Chain, plant: Plant, other: Plant) -> Point:
    here, there = np.array(plant.place), np.array(other.place)
    a, _ = stood.track(limb.parts[0])
    b, _ = stood.track(limb.parts[1])
    frame = max(plant.first, other.first)
    length = float(np.linalg.norm(b[frame] - a[frame]))
    away = here - there
    rise = away[stood.up]
    level = away.copy()
    level[stood.up] = 0.0
    wide = float(np.linalg.norm(level))
    if wide < 1e-9 or length <= abs(rise):
        return plant.place
    return _point(there + level / wide * np.sqrt(length**2 - rise**2) + (away - level))


def _point(values: Floats) -> Point:
    x, y, z = (float(v) for v in values)
    return (x, y, z)
