"""Root motion: the path and the heading with which a figure goes over the floor.

Read off a root's motion, taken off it, so that the figure stays in place, and put on another; and
from one frame's stand to another's leads a rigid move. In the root's axes, which are the world's.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from leancurve.document.base import base_pose, times_of
from leancurve.document.clip import Clip
from leancurve.document.moves import Move, point_of, turn_of
from leancurve.figure.skeleton import UP
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats

UNSURE = 0.35
"""Of a root's turn, how much of a twist about the up axis there is to be at least for it to say
where the figure faces: less where it stands on its head."""


@dataclass(frozen=True, eq=False)
class RootMotion:
    """Where a figure stands on the floor, ``path (F, 3)`` in the skeleton's unit with no height,
    and its ``heading (F, 4)``, turns about the up axis."""

    path: Floats
    heading: Floats

    @classmethod
    def of(
        cls, turns: Floats, places: Floats, up: int, rest: Floats = rotation.IDENTITY
    ) -> RootMotion:
        """That of a root's rotations ``(F, 4)`` and places ``(F, 3)``; at rest it stands as
        ``rest (4,)`` says."""
        path = np.array(places)
        path[:, up] = 0.0
        faced = rotation.multiply(turns, rotation.conjugate(rest))
        return cls(path, about_up(headings(faced, up), up))

    def at(self, frame: int) -> Move:
        """From the middle of the floor, facing as at rest, to where it stands on a frame."""
        return Move(point_of(self.path[frame]), turn_of(self.heading[frame]))

    def taken_off(self, turns: Floats, places: Floats) -> tuple[Floats, Floats]:
        """Rotations ``(F, 4)`` and places ``(F, 3)`` without it."""
        back = rotation.conjugate(self.heading)
        return rotation.multiply(back, turns), rotation.rotate(back, places - self.path)

    def put_on(self, turns: Floats, places: Floats) -> tuple[Floats, Floats]:
        """Rotations ``(F, 4)`` and places ``(F, 3)`` with it."""
        return (
            rotation.multiply(self.heading, turns),
            np.asarray(self.path + rotation.rotate(self.heading, places)),
        )


def headings(faced: Floats, up: int) -> Floats:
    """How far rotations ``(F, 4)`` from rest are turned about the up axis ``(F,)``: radians,
    without a jump. Where that cannot be told, it goes on from before to after."""
    twist = np.stack([faced[:, up], faced[:, 3]])
    sure = np.flatnonzero(np.linalg.norm(twist, axis=0) >= UNSURE)
    if not len(sure):
        return np.zeros(len(faced))
    angles = np.unwrap(2.0 * np.arctan2(twist[0, sure], twist[1, sure]))
    return np.asarray(np.interp(np.arange(len(faced)), sure, angles))


def about_up(angles: Floats, up: int) -> Floats:
    """Turns ``(F, 4)`` about the up axis by angles ``(F,)`` in radians."""
    return np.asarray(rotation.from_axis("XYZ"[up], np.degrees(angles)))


def heading(turns: Floats, up: int) -> Floats:
    """The twists ``(..., 4)`` of rotations ``(..., 4)`` about the up axis; none where a figure
    stands on its head."""
    twist = np.zeros_like(turns)
    twist[..., [up, 3]] = turns[..., [up, 3]]
    size = np.linalg.norm(twist, axis=-1, keepdims=True)
    return np.where(size > 1e-9, twist / np.maximum(size, 1e-9), rotation.IDENTITY)


def leading_root(clip: Clip) -> int:
    """The root that the figure hangs on, where a clip has more than one."""
    return clip.skeleton.chain(clip.body.find("hips") or 0)[-1]


def root_motion(clip: Clip, frames: Sequence[int] | None = None) -> RootMotion:
    """That of a clip's own curves, on some of its frames or on all."""
    at = times_of(clip, None if frames is None else np.array(frames, dtype=np.float64))
    lead = leading_root(clip)
    pose = base_pose(clip, at, [lead])
    rest = clip.skeleton.rest_world[0][lead]
    return RootMotion.of(
        pose.rotation[:, 0], pose.translation[:, 0], UP[clip.reading.up_axis], rest
    )
