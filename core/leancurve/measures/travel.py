"""How a figure goes over the floor: where its hips are, where it faces, and what its feet imply.

Places on the floor are complex numbers, so that a turn about the up axis is a factor: the axis
after the up axis is real, the one after that imaginary.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal, TypeAlias

import numpy as np
from numpy.typing import NDArray

from leancurve.cleaning.contacts import contacts_of
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.document.root_motion import RootMotion, about_up, headings
from leancurve.figure.skeleton import UP
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats
from leancurve.numbers.filters import gaussian

Facing: TypeAlias = Literal["hips", "chest", "path"]
Places: TypeAlias = NDArray[np.complex128]

SLOW_M_S = 0.3
"""Below it the way's direction says nothing: at 0.2 m/s it jumps by up to half a turn."""
WAY_S = 0.25
"""Over how long the way is smoothed before its direction is asked for."""
LED_S = 0.06
"""At the ends of a contact a foot counts less and less over so long."""


@dataclass(frozen=True, eq=False)
class Travel:
    """Where a figure's hips are over the floor, ``path (F,)`` in the skeleton's unit, and how far
    about the up axis it is turned from how it stands at rest, ``angle (F,)`` in radians."""

    path: Places
    angle: Floats


def flat(points: Floats, up: int) -> Places:
    """Points ``(..., 3)`` as places on the floor ``(...)``."""
    return np.asarray(points[..., (up + 1) % 3] + 1j * points[..., (up + 2) % 3])


def travel_of(clip: Clip, facing: Facing = "hips", smooth_s: float = 0.0) -> Travel:
    """A clip's travel as it is seen, without its plants: smoothed over so many seconds, of which
    what is left over is sway."""
    turns, places = evaluate(clip.unplanted).world(clip.skeleton)
    up, rate = UP[clip.reading.up_axis], float(clip.rate)
    hips = clip.body.find("hips") or clip.skeleton.root
    path = flat(places[:, hips], up)
    if facing == "path":
        angle = _way(path, rate, clip.millimetres)
    else:
        spine = clip.body.all("spine")
        joint = spine[-1] if facing == "chest" and spine else hips
        rest = rotation.conjugate(clip.skeleton.rest_world[0][joint])
        angle = headings(rotation.multiply(turns[:, joint], rest), up)
    if smooth_s > 0.0 and clip.frames > 1:
        values = np.stack([path.real, path.imag, angle], axis=1)
        smooth = gaussian(values, rate, smooth_s / 2.0)
        path, angle = smooth[:, 0] + 1j * smooth[:, 1], smooth[:, 2]
    return Travel(path, angle)


def _way(path: Places, rate: float, millimetres: float) -> Floats:
    """Which way a path leads ``(F,)``, radians from the real axis; where it hardly does, it goes on
    from before to after."""
    if len(path) < 2:
        return np.zeros(len(path))
    smooth = gaussian(np.stack([path.real, path.imag], axis=1), rate, WAY_S)
    speed = np.gradient(smooth[:, 0] + 1j * smooth[:, 1]) * rate
    sure = np.flatnonzero(np.abs(speed) * millimetres / 1000.0 >= SLOW_M_S)
    if not len(sure):
        return np.zeros(len(path))
    angles = np.unwrap(np.angle(speed[sure]))
    return np.asarray(np.interp(np.arange(len(path)), sure, angles))


def moved_by_feet(clip: Clip, angle: Floats) -> tuple[Places, float]:
    """By how much the hips go from each frame to the next ``(F - 1,)`` if the feet that are held
    stay where they are, the figure turned ``angle (F,)`` further; and the share of the time in
    which a foot is held. In between it goes on as before and after."""
    up, rate = UP[clip.reading.up_axis], float(clip.rate)
    places = evaluate(clip.unplanted).world(clip.skeleton)[1]
    hips = flat(places[:, clip.body.find("hips") or clip.skeleton.root], up)
    steps = max(clip.frames - 1, 0)
    total, weights = np.zeros(steps, dtype=np.complex128), np.zeros(steps)
    ramp = max(1.0, LED_S * rate)
    between = np.arange(steps) + 0.5
    for contact in contacts_of(clip):
        side, _, part = contact.limb.partition(" ")
        joint = _point(clip, side, part)
        if joint is None:
            continue
        away = (flat(places[:, joint], up) - hips) * np.exp(1j * angle)
        inside = np.minimum(between - contact.first, contact.last - between) / ramp
        weight = np.clip(inside + 0.5 / ramp, 0.0, 1.0) * (inside > 0)
        total -= weight * np.diff(away)
        weights += weight
    known = np.flatnonzero(weights > 1e-9)
    if not len(known):
        return np.zeros(steps, dtype=np.complex128), 0.0
    found = total[known] / weights[known]
    each = np.arange(steps)
    moved = np.interp(each, known, found.real) + 1j * np.interp(each, known, found.imag)
    return moved, len(known) / steps


def _point(clip: Clip, side: str, part: str) -> int | None:
    """The joint that a contact holds on the floor, where it is one of a foot."""
    if part == "heel":
        return clip.body.find(f"{side} foot")
    if part not in ("foot", "toe"):
        return None
    toe = clip.body.find(f"{side} toe")
    return clip.body.find(f"{side} foot") if toe is None else toe


def leading(own: Travel, led: Travel, up: int) -> RootMotion:
    """The motion over the floor that leads one travel to another, put on all of a scene."""
    angle = led.angle - own.angle
    return over_floor(led.path - np.exp(1j * angle) * own.path, angle, up)


def over_floor(path: Places, angle: Floats, up: int) -> RootMotion:
    """A motion over the floor, of places ``(F,)`` and turns ``(F,)`` in radians."""
    out = np.zeros((len(path), 3))
    out[:, (up + 1) % 3], out[:, (up + 2) % 3] = path.real, path.imag
    return RootMotion(out, about_up(angle, up))


@dataclass(frozen=True)
class Lap:
    """What leads a figure from where it stands on one frame to where it stands on another: a turn
    about the up axis in radians, and a move over the floor after it."""

    turn: float
    by: complex

    def times(self, k: int) -> Lap:
        """As often after one another."""
        out = Lap(0.0, 0j)
        for _ in range(k):
            out = Lap(out.turn + self.turn, np.exp(1j * self.turn) * out.by + self.by)
        return out


def lap_of(travel: Travel, first: int, last: int) -> Lap:
    """How a figure comes from one frame to another over the floor."""
    turn = float(travel.angle[last] - travel.angle[first])
    return Lap(turn, complex(travel.path[last] - np.exp(1j * turn) * travel.path[first]))


@dataclass(frozen=True)
class Round:
    """What a figure goes on by in each round: over the floor, and about the up axis."""

    travel_mm: float
    turned_deg: float


def round_of(clip: Clip, first: int, last: int, travel: Travel | None = None) -> Round:
    """How a clip comes from one frame to another over the floor, as it plays without plants;
    ``travel`` is the clip's, where it is at hand."""
    travel = travel or travel_of(clip)
    way = abs(travel.path[last] - travel.path[first]) * clip.millimetres
    return Round(float(way), float(np.degrees(lap_of(travel, first, last).turn)))
