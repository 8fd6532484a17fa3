"""The drawn figure flat: a paper body of tapered shapes, back to front, for small pictures.

Proportions are shares of the figure's height, as common drawing manuals give them (from memory);
how thick limbs are the stage's solids have from the same table.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from leancurve.figure.body import Body
from leancurve.figure.body_shape import FINGERS
from leancurve.figure.radii import FINGER, LIMBS
from leancurve.figure.skeleton import UP, Skeleton
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats

HIDDEN = frozenset({"twist", "end", "jaw", "eye"})
WHOLE = frozenset({"head", "hand", "foot", "toe"})
"""Parts that are drawn whole, whatever hangs on them."""


@dataclass(frozen=True)
class View:
    """From where a figure is seen: unit vectors ``(3,)`` to the right, up and to the viewer."""

    right: Floats
    up: Floats
    near: Floats


@dataclass(frozen=True)
class Shape:
    """Two circles and what lies between them, of a joint; lengths in figure heights.

    ``ends (2, 3)``: right, up and nearness of each end. ``left`` is the figure's own left side.
    """

    joint: int
    ends: Floats
    radii: tuple[float, float]
    left: bool


def from_the_front(skeleton: Skeleton, body: Body, up_axis: str) -> View:
    """The view in which the figure's left hand is on the right of the picture."""
    up = np.eye(3)[UP[up_axis]]
    rest = skeleton.rest_positions
    for part in ("thigh", "upper arm"):
        if pair := body.pair(part):
            across = rest[pair[0]] - rest[pair[1]]
            across -= up * (across @ up)
            if np.linalg.norm(across) > 1e-9:
                across /= np.linalg.norm(across)
                return View(across, up, np.cross(across, up))
    axis = np.eye(3)[(UP[up_axis] + 1) % 3]
    return View(axis, up, np.cross(axis, up))


def drawn(
    skeleton: Skeleton,
    body: Body,
    world: tuple[Floats, Floats],
    view: View,
    fingers: bool = True,
) -> list[Shape]:
    """A pose's shapes, the farthest first. ``world``: rotations ``(J, 4)``, positions ``(J, 3)``.

    A joint of no known role is a plain tapered limb from its parent.
    """
    rotations, positions = world
    height = max(skeleton.rest_height, 1e-9)
    seen = np.stack([view.right, view.up, view.near], axis=1) / height
    flat = positions @ seen
    pen = _Pen(skeleton, body, flat)
    pen.torso()
    for joint, parent in enumerate(skeleton.parents):
        if parent >= 0:
            pen.bone(parent, joint, fingers)
    tips = [
        (positions[e.parent] + rotation.rotate(rotations[e.parent], np.array(e.offset))) @ seen
        for e in skeleton.ends
    ]
    pen.ends(dict(zip((e.parent for e in skeleton.ends), tips, strict=True)))
    return sorted(pen.shapes, key=lambda shape: float(shape.ends[:, 2].mean()))


class _Pen:
    """Draws one pose: ``flat (J, 3)`` are its joints in the view."""

    def __init__(self, skeleton: Skeleton, body: Body, flat: Floats) -> None:
        self.skeleton, self.body, self.flat = skeleton, body, flat
        self.shapes: list[Shape] = []
        sides = [r.role.split(" ", 1) for r in body.joints]
        sided = [len(s) == 2 and s[0] in ("left", "right") for s in sides]
        self.side = [s[0] if yes else "" for s, yes in zip(sides, sided, strict=True)]
        self.part = [s[-1] if yes else " ".join(s) for s, yes in zip(sides, sided, strict=True)]
        self.hips = body.pair("thigh")
        self.shoulders = body.pair("upper arm")

    def add(
        self, joint: int, start: Floats, end: Floats, radii: tuple[float, float], side: str = ""
    ) -> None:
        self.shapes.append(Shape(joint, np.stack([start, end]), radii, side == "left"))

    def torso(self) -> None:
        """Pelvis and ribcage, where both legs and both arms are known."""
        if not self.hips or not self.shoulders:
            return
        hips, shoulders = (self.flat[list(pair)] for pair in (self.hips, self.shoulders))
        low, high = hips.mean(axis=0), shoulders.mean(axis=0)
        axis = (high - low) / max(float(np.linalg.norm(high - low)), 1e-9)
        root = self.body.find("hips") or 0
        chest = (self.body.all("spine") or (root,))[-1]
        for joint, pair, middle, lift, width in (
            (root, hips, low, 0.02, 0.052),
            (chest, shoulders, high, -0.005, 0.036),
        ):
            left, right = 0.35 * middle + 0.65 * pair + lift * axis
            self.add(joint, left, right, (width, width))
        top = high - 0.06 * axis
        self.add(chest, top - 0.085 * axis, top, (0.07, 0.078))

    def bone(self, parent: int, joint: int, fingers: bool) -> None:
        """The limb from a joint's parent to it; it turns with the parent."""
        part, to = self.part[parent], self.part[joint]
        side = self.side[parent] or self.side[joint]
        start, end = self.flat[parent], self.flat[joint]
        if part in FINGERS and to in FINGERS:
            if fingers:
                self.add(parent, start, end, FINGER, side)
        elif part in HIDDEN | WHOLE or to in HIDDEN or self._covered(part, to):
            return
        elif part == "hips" and to == "spine":
            self.add(parent, start, end, LIMBS["spine"], side)
        elif part == "spine" and to == "neck":
            self.add(parent, start, end, LIMBS["neck"], side)
        elif part in LIMBS and to != "helper":
            self.add(parent, start, end, LIMBS[part], side)
        else:
            self.plain(parent, start, end, side)

    def _covered(self, part: str, to: str) -> bool:
        """Whether a volume of the torso stands in a bone's place."""
        if part == "hips":
            return to == "thigh" and self.hips is not None
        return part == "spine" and to in ("clavicle", "upper arm") and self.shoulders is not None

    def plain(self, joint: int, start: Floats, end: Floats, side: str) -> None:
        wide = float(np.clip(0.13 * np.linalg.norm(end - start), 0.005, 0.032))
        self.add(joint, start, end, (wide, 0.7 * wide), side)

    def ends(self, tips: dict[int, Floats]) -> None:
        """Head, hands and feet, and the last bones of what has no role."""
        for joint, part in enumerate(self.part):
            here, side = self.flat[joint], self.side[joint]
            up = self.skeleton.parents[joint]
            before = here - self.flat[up] if up >= 0 else np.array([0.0, 1.0, 0.0])
            along = before / max(float(np.linalg.norm(before)), 1e-9)
            if part == "head":
                tip = tips.get(joint)
                if tip is not None and np.linalg.norm(tip - here) > 1e-6:
                    along = (tip - here) / np.linalg.norm(tip - here)
                self.add(joint, here + 0.035 * along, here + 0.085 * along, (0.038, 0.045))
            elif part == "hand":
                bases = [
                    self.flat[c]
                    for c in self.skeleton.children[joint]
                    if self.part[c] in FINGERS and self.part[c] != "thumb"
                ]
                tip = np.mean(bases, axis=0) if bases else tips.get(joint, here + 0.05 * along)
                self.add(joint, here, np.asarray(tip), (0.016, 0.02), side)
            elif part in ("foot", "toe"):
                self._foot(joint, part, side, tips)
            elif part == "helper" and joint in tips:
                self.plain(joint, here, tips[joint], side)

    def _foot(self, joint: int, part: str, side: str, tips: dict[int, Floats]) -> None:
        here = self.flat[joint]
        toe = next((c for c in self.skeleton.children[joint] if self.part[c] == "toe"), None)
        tip = self.flat[toe] if toe is not None else tips.get(joint)
        if tip is not None:
            self.add(joint, here, tip, (0.026, 0.022) if part == "foot" else (0.022, 0.016), side)
