"""A skeleton as it stands, in a space that all figures share.

*Figure space* is metres, Y up, X the figure's own left, Z where it faces. Rotations and places are
brought there, compared and retargeted there, and brought back: no axis convention plays a part.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from leancurve.document.clip import Reading
from leancurve.figure.body import Body, body_of
from leancurve.figure.limb import arc
from leancurve.figure.skeleton import UP, Skeleton, forward_kinematics_plain
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats

TINY = 1e-9
DOWN = np.array([0.0, -1.0, 0.0])
UPWARDS = np.array([0.0, 1.0, 0.0])
LEFT = np.array([1.0, 0.0, 0.0])
FORWARD = np.array([0.0, 0.0, 1.0])


def unit(v: Floats) -> Floats:
    """Vectors ``(…, 3)`` of length 1; those of no length stay."""
    return np.asarray(v / np.maximum(np.linalg.norm(v, axis=-1, keepdims=True), TINY))


def between(a: Floats, b: Floats) -> Floats:
    """The shortest rotation ``(4,)`` that turns one direction into another."""
    one, other = unit(a), unit(b)
    across = unit(np.cross(one, np.eye(3)[np.argmin(np.abs(one))]))
    return np.asarray(arc(one[None], other[None], across[None])[0])


def frame(x: Floats, towards: Floats) -> Floats:
    """The rotation ``(4,)`` of the axes whose first is ``x`` and whose second points towards
    ``towards``, as far as it can."""
    first = unit(x)
    second = unit(towards - (towards @ first) * first)
    return rotation.from_frame(first, second, np.cross(first, second))


@dataclass(frozen=True, eq=False)
class RestFigure:
    """A skeleton at rest in figure space.

    ``to_figure (4,)`` turns its own world into it. ``turns (J, 4)`` and ``points (J, 3)`` are the
    joints' rotations and places at rest, metres; ``tips`` are the end sites of each joint.
    """

    skeleton: Skeleton
    body: Body
    metres: float
    to_figure: Floats
    turns: Floats
    points: Floats
    tips: dict[int, Floats]

    @staticmethod
    def of(skeleton: Skeleton, reading: Reading, rest: Floats | None = None) -> RestFigure:
        """A skeleton standing; ``rest (J, 4)`` are local rotations to take for its rest, where
        its own are no pose of a body."""
        body = body_of(skeleton, reading.up_axis, reading.roles)
        local = skeleton.rest_rotations if rest is None else rest
        turned, placed = forward_kinematics_plain(
            skeleton, local[None], skeleton.offset_array[None]
        )
        to_figure = _to_figure(placed[0], body, reading.up_axis)
        metres = reading.metres_per_unit
        turns = rotation.multiply(to_figure, turned[0])
        points = metres * rotation.rotate(to_figure, placed[0])
        tips: dict[int, Floats] = {}
        for end in skeleton.ends:
            tip = points[end.parent] + metres * rotation.rotate(
                turns[end.parent], np.array(end.offset)
            )
            tips.setdefault(end.parent, tip)
        return RestFigure(skeleton, body, metres, to_figure, turns, points, tips)

    def find(self, role: str) -> int | None:
        return self.body.find(role)

    @cached_property
    def height(self) -> float:
        """Its stature, metres: how far its points reach along their longest axis."""
        cloud = np.array([*self.points, *self.tips.values()])
        return max(float(np.max(np.ptp(cloud, axis=0))), TINY)

    @cached_property
    def bones(self) -> Floats:
        """The way ``(J, 3)`` from each joint to what follows it in its limb, else to its tip, else
        along the bone that leads to it; metres."""
        out = np.zeros((len(self.skeleton), 3))
        for joint in range(len(self.skeleton)):
            follows = self._following(joint)
            if follows is not None:
                out[joint] = self.points[follows] - self.points[joint]
            elif joint in self.tips:
                out[joint] = self.tips[joint] - self.points[joint]
            elif self.skeleton.parents[joint] >= 0:
                out[joint] = 0.4 * (self.points[joint] - self.points[self.skeleton.parents[joint]])
        return out

    def _following(self, joint: int) -> int | None:
        role = self.body.joints[joint].role
        wanted = {
            "clavicle": "upper arm", "upper arm": "forearm", "forearm": "hand",
            "hand": "middle", "thigh": "shin", "shin": "foot", "foot": "toe",
        }  # fmt: skip
        limb = role.removeprefix("left ").removeprefix("right ")
        side = role[: len(role) - len(limb)].strip()
        below = self.skeleton.children[joint]
        same = [c for c in below if self.body.joints[c].role == role]
        if same:
            return same[0]
        if limb in wanted:
            found = self.find(f"{side} {wanted[limb]}")
            if found is not None and joint in self.skeleton.chain(found):
                return found
            fingers = [c for c in below if self.body.joints[c].role.startswith(f"{side} ")
                       and not self.body.joints[c].role.endswith(("twist", "end"))]  # fmt: skip
            return fingers[len(fingers) // 2] if fingers else None
        plain = [c for c in below if not self.body.joints[c].role.endswith(("twist", "helper"))]
        return plain[0] if len(plain) == 1 else None

    def leg(self, side: str) -> float | None:
        """The length of a leg from its hip to its ankle, metres."""
        joints = [self.find(f"{side} {part}") for part in ("thigh", "shin", "foot")]
        if any(j is None for j in joints):
            return None
        hip, knee, ankle = (self.points[j] for j in joints if j is not None)
        return float(np.linalg.norm(knee - hip) + np.linalg.norm(ankle - knee))

    @cached_property
    def leg_length(self) -> float | None:
        """The mean length of both legs, metres."""
        found = [v for v in (self.leg(side) for side in ("left", "right")) if v]
        return float(np.mean(found)) if found else None

    def above_sole(self, joint: int) -> float:
        """How high a joint of a foot rests over the foot's lowest point, metres."""
        ankle = joint
        for up in self.skeleton.chain(joint):
            if self.body.joints[up].role.endswith("foot"):
                ankle = up
        below = {ankle}
        for j in range(ankle + 1, len(self.skeleton)):
            if self.skeleton.parents[j] in below:
                below.add(j)
        heights = [float(self.points[j][1]) for j in below]
        heights += [float(self.tips[j][1]) for j in below if j in self.tips]
        return float(self.points[joint][1]) - min(heights)

    @cached_property
    def is_pose(self) -> bool:
        """Whether its rest is a body's: legs down, trunk up, sides alike.

        Told nine good rests of captures from six odd ones, the nearest of them far off either.
        """
        hips = self.find("hips")
        head = next((j for r in ("head", "neck") if (j := self.find(r)) is not None), None)
        pairs = {p: self.body.pair(p) for p in ("thigh", "upper arm", "hand", "foot")}
        if hips is None or head is None or pairs["thigh"] is None:
            return False
        for side in ("left", "right"):
            joints = [self.find(f"{side} {p}") for p in ("thigh", "shin", "foot")]
            if any(j is None for j in joints):
                return False
            hip, knee, ankle = (self.points[j] for j in joints if j is not None)
            for bone in (knee - hip, ankle - knee):
                if unit(bone) @ DOWN < np.cos(np.radians(45.0)):
                    return False
        if unit(self.points[head] - self.points[hips]) @ UPWARDS < np.cos(np.radians(45.0)):
            return False
        if pairs["upper arm"] is not None:
            left, right = pairs["upper arm"]
            if unit(self.points[left] - self.points[right]) @ LEFT < np.cos(np.radians(45.0)):
                return False
        for pair in pairs.values():
            if pair is None:
                continue
            one, other = (self.points[j] - self.points[hips] for j in pair)
            if np.linalg.norm(one - other * np.array([-1.0, 1.0, 1.0])) > 0.05 * self.height:
                return False
        return True


def _to_figure(points: Floats, body: Body, up_axis: str) -> Floats:
    """The rotation that brings a skeleton's world to Y up and its left to X."""
    up = np.zeros(3)
    up[UP[up_axis]] = 1.0
    left = np.array([1.0, 0.0, 0.0]) if up_axis != "x" else np.array([0.0, 1.0, 0.0])
    for part in ("thigh", "upper arm"):
        pair = body.pair(part)
        if pair is None:
            continue
        across = points[pair[0]] - points[pair[1]]
        across = across - (across @ up) * up
        if np.linalg.norm(across) > TINY:
            left = unit(across)
            break
    return rotation.conjugate(rotation.from_frame(left, up, np.cross(left, up)))
