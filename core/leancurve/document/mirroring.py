"""Mirroring: left for right, across a plane that stands on the floor.

With ``D = W · R⁻¹`` a joint's turn in the world from its rest, ``S`` the reflection of the rest
between its sides and ``N`` that of the world across the plane, the joint on the other side stands
at ``N · D · S · R'``. Of what a joint says within the one above it two constants are left,
``(R'ₚ⁻¹ · S · Rₚ) · q · (R⁻¹ · S · R')``, whichever way its axes lie. Reflections are half turns
and a change of all signs: where both sides of a product have one, half turns do.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from leancurve.document.base import base_pose
from leancurve.document.clip import Clip
from leancurve.document.placement import placed_points, turn_of, unplaced_points
from leancurve.document.posing import opposites, side_axis
from leancurve.errors import BadInput
from leancurve.figure.skeleton import UP
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats

STRAIGHT = 1e-9
"""How far an axis may be off one of the three, and is it all the same."""


@dataclass(frozen=True, eq=False)
class Plane:
    """A plane that stands on the floor: a point ``(3,)`` on it, and its normal ``(3,)``."""

    point: Floats
    normal: Floats

    @property
    def half(self) -> Floats:
        """The half turn ``(4,)`` about its normal."""
        return np.array([*self.normal, 0.0])

    def points(self, points: Floats) -> Floats:
        """Points ``(..., 3)`` on the other side."""
        away = (points - self.point) @ self.normal
        return np.asarray(points - 2.0 * away[..., None] * self.normal)


@dataclass(frozen=True, eq=False)
class Side:
    """How a joint gets what another one says: half turns before and after a rotation ``(4,)``; and
    by which signs its angles and its moves are the other's, where that is all ``(3,)``."""

    source: int
    before: Floats
    after: Floats

    def turns(self, rotations: Floats) -> Floats:
        """Rotations ``(..., 4)`` of the source, as this joint's."""
        return rotation.multiply(rotation.multiply(self.before, rotations), self.after)

    def ways(self, ways: Floats) -> Floats:
        """Ways ``(..., 3)`` in the axes that the source hangs in, in those of this joint."""
        return -rotation.rotate(self.before, ways)

    @cached_property
    def signs(self) -> Floats | None:
        """Of angles about X, Y and Z, in whichever order."""
        before, after = signs_of(self.before), signs_of(self.after)
        same = before is not None and after is not None and np.array_equal(before, after)
        return before if same else None

    @cached_property
    def way_signs(self) -> Floats | None:
        """Of moves along X, Y and Z."""
        signs = signs_of(self.before)
        return None if signs is None else -signs


def signs_of(half: Floats) -> Floats | None:
    """The signs ``(3,)`` by which a half turn about one of the axes, or none, changes a vector."""
    size = np.abs(half)
    k = int(np.argmax(size))
    if size.sum() - size[k] > STRAIGHT:
        return None
    return np.ones(3) if k == 3 else np.where(np.arange(3) == k, 1.0, -1.0)


def own_plane(clip: Clip, frame: int) -> Plane:
    """The plane between a figure's sides where it stands on a frame, in its root's axes."""
    axis, hips = side_axis(clip), clip.body.find("hips") or 0
    up = UP[clip.reading.up_axis]
    pose = base_pose(clip, np.array([float(frame)]), range(len(clip.skeleton)))
    turns, places = pose.world(clip.skeleton)
    place = places[0, hips].copy()
    faced = rotation.multiply(turns[0, hips], rotation.conjugate(clip.skeleton.rest_world[0][hips]))
    normal = rotation.rotate(faced, np.eye(3)[axis])
    normal[up] = 0.0
    size = float(np.linalg.norm(normal))
    if size < 0.2:
        raise BadInput(
            f"mirror: on frame {frame} the figure lies on its side, so that its left and its right "
            "are above each other: mirror it across the world"
        )
    place[up] = 0.0
    return Plane(place, normal / size)


def world_plane(clip: Clip) -> Plane:
    """The plane through the world's middle from which left and right lie at rest, in the root's
    axes: before the clip is placed."""
    normal, point = np.eye(3)[side_axis(clip)], np.zeros(3)
    placement = clip.placement
    if placement is None or not placement.counts:
        return Plane(point, normal)
    back = rotation.conjugate(turn_of(clip, placement))
    return Plane(unplaced_points(clip, placement, point), rotation.rotate(back, normal))


def as_placed(clip: Clip, plane: Plane) -> Plane:
    """A plane in the root's axes, where the clip's placement puts it."""
    placement = clip.placement
    if placement is None or not placement.counts:
        return plane
    point = placed_points(clip, placement, plane.point)
    return Plane(point, rotation.rotate(turn_of(clip, placement), plane.normal))


class Mirror:
    """A figure's two sides, and a plane in its root's axes between which it is mirrored."""

    def __init__(self, clip: Clip, plane: Plane) -> None:
        self.clip, self.plane = clip, plane
        self.half = np.array([*np.eye(3)[side_axis(clip)], 0.0])
        self.across = opposites(clip)

    @cached_property
    def sides(self) -> Mapping[int, Side]:
        """Of each joint that stands otherwise by it, by its number. One with no counterpart, on a
        bone that has one, goes along with that as it stood."""
        parents = self.clip.skeleton.parents
        out = {}
        for joint, source in enumerate(self.across):
            up, over = parents[joint], parents[source]
            if (up < 0) != (over < 0) or (up >= 0 and self.across[up] != over):
                continue
            before = self.plane.half if up < 0 else self.carried(up)
            out[joint] = Side(source, before, rotation.conjugate(self.carried(joint)))
        return out

    def carried(self, joint: int) -> Floats:
        """The half turn ``(4,)`` by which what its counterpart carries becomes what it carries."""
        rests = self.clip.skeleton.rest_world[0]
        there, here = rests[self.across[joint]], rotation.conjugate(rests[joint])
        return _plain(rotation.multiply(rotation.multiply(here, self.half), there))

    def name_of(self, joint: str) -> str:
        """The name of the joint on the other side; the same where it is none of the clip's."""
        names = self.clip.skeleton.names
        return names[self.across[self.clip.skeleton.index(joint)]] if joint in names else joint


def _plain(half: Floats) -> Floats:
    """A half turn about one of the axes with no rounding left in it."""
    k = int(np.argmax(np.abs(half)))
    clean = np.zeros(4)
    clean[k] = 1.0
    return clean if np.abs(np.delete(half, k)).max() < STRAIGHT else half


WORDS = {"left": "right", "right": "left"}


def other_side(name: str) -> str:
    """A name with its sides exchanged: ``"Left heel down"`` is ``"Right heel down"``."""

    def swapped(word: str) -> str:
        there = WORDS.get(word.lower())
        if there is None:
            return word
        return there.upper() if word.isupper() else there.title() if word[0].isupper() else there

    return " ".join(map(swapped, name.split(" ")))
