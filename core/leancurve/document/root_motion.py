"""Root motion: the path and the heading with which a figure goes over the floor.

It can be read off a clip, taken off it, so that the figure stays in place, and put back; and from
one frame's stand to another's leads a rigid move. In the root's axes, which are the world's.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from leancurve.curves.curve import Curve, SampledCurve
from leancurve.document.base import base_pose, prop_pose, times_of
from leancurve.document.clip import Clip
from leancurve.document.moves import Move, point_of, turn_of
from leancurve.document.prop import ORDER, prop_track
from leancurve.document.rotations import said, written
from leancurve.document.track import TrackId
from leancurve.errors import BadInput
from leancurve.figure.skeleton import UP
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats


@dataclass(frozen=True, eq=False)
class RootMotion:
    """Where a figure stands on the floor, ``path (F, 3)`` in the skeleton's unit with no height,
    and its ``heading (F, 4)``, turns about the up axis."""

    path: Floats
    heading: Floats

    @classmethod
    def of(cls, turns: Floats, places: Floats, up: int) -> RootMotion:
        """That of a root's rotations ``(F, 4)`` and places ``(F, 3)``."""
        path = np.array(places)
        path[:, up] = 0.0
        return cls(path, heading(turns, up))

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
    pose = base_pose(clip, at, [leading_root(clip)])
    return RootMotion.of(pose.rotation[:, 0], pose.translation[:, 0], UP[clip.reading.up_axis])


def in_place(clip: Clip) -> tuple[Clip, RootMotion]:
    """The clip with its root motion taken off its own curves, and that motion. Every root and every
    prop goes along; what is planted in the world waits for it to be put back."""
    motion = root_motion(clip)
    return _over_roots(clip, motion.taken_off), motion


def with_root_motion(clip: Clip, motion: RootMotion) -> Clip:
    """The clip with a root motion put on: the way back from :func:`in_place`."""
    if len(motion.path) != clip.frames:
        raise BadInput(f"a root motion of {len(motion.path)} frames, a clip of {clip.frames}")
    return _over_roots(clip, motion.put_on)


def _over_roots(clip: Clip, moved: Callable[[Floats, Floats], tuple[Floats, Floats]]) -> Clip:
    curves: dict[TrackId, Curve] = {}
    frames = times_of(clip, None)
    for root in clip.skeleton.roots:
        if len(clip.order(root)) != 3 or not {"tx", "ty", "tz"} <= set(clip.layout[root]):
            name = clip.skeleton.names[root]
            raise BadInput(f"{name} has not three rotation and three position channels to be moved")
        pose = base_pose(clip, frames, [root])
        turns, places = moved(pose.rotation[:, 0], pose.translation[:, 0])
        own = np.stack([clip.curves[t].at(frames) for t in clip.turns_of(root)], axis=-1)
        curves |= written(clip, root, said(own, turns, clip.order(root)))
        for track, values in clip.translation_values(root, places).items():
            curves[track] = SampledCurve(np.ascontiguousarray(values))
    turned, points = prop_pose(clip)
    for k, prop in enumerate(clip.props):
        turns, places = moved(turned[:, k], points[:, k])
        tracks = [prop_track(prop.id, f"r{axis.lower()}") for axis in ORDER]
        own = np.stack([clip.curves[t].at(frames) for t in tracks], axis=-1)
        angles = said(own, turns, ORDER)
        for n, track in enumerate(tracks):
            curves[track] = SampledCurve(np.ascontiguousarray(angles[:, n]))
        for n, name in enumerate(("tx", "ty", "tz")):
            curves[prop_track(prop.id, name)] = SampledCurve(np.ascontiguousarray(places[:, n]))
    return clip.with_curves(curves)
