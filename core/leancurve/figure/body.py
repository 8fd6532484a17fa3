"""What a skeleton's joints are: roles read from names, hierarchy and geometry together.

A role is ``"hips"``, ``"spine"``, ``"neck"``, ``"head"``, ``"jaw"``, ``"eye"``; with a side
``"left clavicle"``, ``upper arm``, ``forearm``, ``hand``, ``thumb``, ``index``, ``middle``,
``ring``, ``little``, ``thigh``, ``shin``, ``foot``, ``toe``; ``"twist"`` and ``"end"`` with the
side where one is known; ``"helper"`` for joints above the hips and others that are no part of a
body. Chains of several joints (spine, neck, a finger) share a role, in the order of the tree.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property, lru_cache
from typing import Literal

import numpy as np

from leancurve.figure.body_names import read_names
from leancurve.figure.body_shape import FINGERS, read_shape
from leancurve.figure.skeleton import UP, Skeleton
from leancurve.numbers.arrays import Floats

SIDED = (
    *("clavicle", "upper arm", "forearm", "hand", *FINGERS),
    *("thigh", "shin", "foot", "toe", "twist", "end"),
)
SIDES = ("left", "right")
ROLES = (
    *("hips", "spine", "neck", "head", "jaw", "eye", "twist", "end", "helper"),
    *(f"{side} {part}" for side in ("left", "right") for part in SIDED),
)

GROUPS: dict[str, tuple[str, ...]] = {
    "torso": ("hips", "spine"),
    "head": ("neck", "head", "jaw", "eye"),
    **{
        f"{side} {group}": tuple(f"{side} {part}" for part in parts)
        for side in ("left", "right")
        for group, parts in (
            ("arm", ("clavicle", "upper arm", "forearm", "hand")),
            ("fingers", FINGERS),
            ("leg", ("thigh", "shin", "foot", "toe")),
        )
    },
}
"""Joints to select together, by the roles they hold."""

Source = Literal["name", "place", "name and place", "hand", "none"]


@dataclass(frozen=True)
class JointRole:
    """What a joint is taken for, how surely (0 to 1), and what says so."""

    role: str
    confidence: float
    source: Source

    @property
    def part(self) -> str:
        """The role without its side: ``"hand"`` of a left hand."""
        return self.role.removeprefix("left ").removeprefix("right ")


@dataclass(frozen=True)
class Body:
    """A skeleton understood: a role for each joint, in joint order."""

    joints: tuple[JointRole, ...]
    parents: tuple[int, ...]

    def find(self, role: str) -> int | None:
        """The joint of a role, the one nearest the root where several share it."""
        return next((j for j, r in enumerate(self.joints) if r.role == role), None)

    def pair(self, part: str) -> tuple[int, int] | None:
        """The left and the right joint of a part, where both are known."""
        left, right = self.find(f"left {part}"), self.find(f"right {part}")
        return None if left is None or right is None else (left, right)

    def all(self, role: str) -> tuple[int, ...]:
        return tuple(j for j, r in enumerate(self.joints) if r.role == role)

    @cached_property
    def groups(self) -> dict[str, tuple[int, ...]]:
        """Joints of each group; twist, end and helper joints go with what they hang on."""
        of_role = {role: group for group, roles in GROUPS.items() for role in roles}
        group: list[str | None] = []
        for j, known in enumerate(self.joints):
            up = self.parents[j]
            carried = group[up] if up >= 0 else None
            group.append(of_role.get(known.role, carried))
        return {
            name: found
            for name in GROUPS
            if (found := tuple(j for j, g in enumerate(group) if g == name))
        }


@lru_cache(maxsize=64)
def body_of(
    skeleton: Skeleton, up_axis: str = "y", by_hand: tuple[tuple[str, str], ...] = ()
) -> Body:
    """Roles of all joints; ``by_hand`` are ``(joint, role)`` that stand whatever else says.

    A name's reading and the place in the tree are two witnesses: a role's score is the
    probability that at least one of them is right, and the best score wins.
    """
    names = read_names(skeleton)
    _settle_wrists(skeleton, names)
    left = _named_left(skeleton, names, up_axis)
    shape = read_shape(skeleton, up_axis, helpers=_surely_helpers(names), left=left)
    fixed = dict(by_hand)
    out: list[JointRole] = []
    for joint, name in enumerate(skeleton.names):
        if fixed.get(name) in ROLES:
            out.append(JointRole(fixed[name], 1.0, "hand"))
            continue
        out.append(_weighed(names[joint], shape[joint]))
    return Body(tuple(out), skeleton.parents)


TWISTING_WRIST = 0.75
"""A wrist nearer the elbow than this share of the way to the hand is a joint of the forearm's."""


def _settle_wrists(skeleton: Skeleton, names: list[dict[str, float]]) -> None:
    """Of a wrist with a hand below it, which bends? Where the wrist lies well up the forearm it is
    its twist, and the hand the hand; else the wrist is, and the hand its palm. In place."""
    points = skeleton.rest_positions
    for side in SIDES:
        hands = [j for j, roles in enumerate(names) if roles.get(f"{side} hand", 0.0) >= 0.8]
        for wrist in hands:
            hand = next((j for j in hands if skeleton.parents[j] == wrist), None)
            elbow = skeleton.parents[wrist]
            if hand is None or elbow < 0 or "wrist" not in skeleton.names[wrist].lower():
                continue
            near, far = (np.linalg.norm(points[j] - points[elbow]) for j in (wrist, hand))
            if near < TWISTING_WRIST * far:
                names[wrist] = {f"{side} twist": 0.9}


def _named_left(
    skeleton: Skeleton, names: Sequence[dict[str, float]], up_axis: str
) -> Floats | None:
    """Where the joints that are named left lie from those named right, level ``(3,)``; None where
    names do not say."""
    sided = [
        [j for j, roles in enumerate(names) if any(r.startswith(f"{side} ") for r in roles)]
        for side in SIDES
    ]
    if min(len(one) for one in sided) < 2:
        return None
    left, right = (skeleton.rest_positions[one].mean(axis=0) for one in sided)
    gap = np.asarray(left - right)
    gap[UP[up_axis]] = 0.0
    return gap if np.linalg.norm(gap) > 0.02 * skeleton.rest_height else None


def _surely_helpers(names: Sequence[dict[str, float]]) -> frozenset[int]:
    """Joints that their name gives as a twist, an end or a helper: no part of a limb's chain."""
    return frozenset(
        j
        for j, roles in enumerate(names)
        if any(p >= 0.6 and r.split()[-1] in ("twist", "end", "helper") for r, p in roles.items())
    )


def _weighed(by_name: dict[str, float], by_place: tuple[str, float]) -> JointRole:
    place, trust = by_place
    scores = dict(by_name)
    if place:
        scores[place] = 1.0 - (1.0 - scores.get(place, 0.0)) * (1.0 - trust)
    if not scores:
        return JointRole("helper", 0.2, "none")
    role = max(scores, key=lambda r: scores[r])
    named, placed = by_name.get(role, 0.0) > 0.0, role == place
    source: Source = "name and place" if named and placed else "name" if named else "place"
    rival = max((s for r, s in scores.items() if r != role), default=0.0)
    return JointRole(role, round(scores[role] * (1.0 - 0.5 * rival), 3), source)


def lever_arms(skeleton: Skeleton) -> Floats:
    """Per joint the distance ``(J,)`` to the farthest point that turns with it, own unit."""
    tips: list[list[Floats]] = [[] for _ in skeleton.names]
    for end, tip in zip(skeleton.ends, skeleton.rest_tips, strict=True):
        tips[end.parent].append(tip)
    out = np.zeros(len(skeleton))
    for joint in range(len(skeleton) - 1, -1, -1):
        tips[joint].append(skeleton.rest_positions[joint])
        reach = np.array(tips[joint]) - skeleton.rest_positions[joint]
        out[joint] = np.linalg.norm(reach, axis=1).max()
        parent = skeleton.parents[joint]
        if parent >= 0:
            tips[parent] += tips[joint]
    return out
