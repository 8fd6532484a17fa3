"""The figure below its plants, as goals are set in it and limbs are solved."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from leancurve.document.clip import Clip
from leancurve.document.placement import placed_pose
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats


class World:
    """World rotations and positions of some joints and all above them, as limbs are solved."""

    def __init__(self, clip: Clip, joints: Iterable[int]) -> None:
        skeleton = clip.skeleton
        self.clip = clip
        self.joints = tuple(sorted({k for j in joints for k in skeleton.chain(j)}))
        self.at = {j: k for k, j in enumerate(self.joints)}
        frames = np.arange(clip.frames, dtype=np.float64)
        self.pose = placed_pose(clip, frames, self.joints)
        parents = [self.at.get(skeleton.parents[j], -1) for j in self.joints]
        self.parents = np.array(parents, dtype=np.int64)
        self.forward()

    def forward(self) -> None:
        from leancurve.numbers.kernels import motion  # numba loads late

        local, translation = self.pose.rotation, self.pose.translation
        self.turns, self.points = np.empty_like(local), np.empty_like(translation)
        motion.forward(local, translation, self.parents, self.turns, self.points)

    def turn(self, joint: int) -> Floats:
        return self.turns[:, self.at[joint]]

    def point(self, joint: int) -> Floats:
        return self.points[:, self.at[joint]]

    def above(self, joint: int) -> Floats:
        """World rotations of a joint's parent."""
        parent = self.clip.skeleton.parents[joint]
        if parent < 0:
            return np.broadcast_to(rotation.IDENTITY, (self.clip.frames, 4))
        return self.turn(parent)
