"""Poses: local rotations and translations of all joints over frames."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

from leancurve.figure.skeleton import Skeleton, forward_kinematics
from leancurve.numbers.arrays import Floats


@dataclass(frozen=True, eq=False)
class Pose:
    """Local rotations ``(F, J, 4)`` and translations ``(F, J, 3)``, translations whole."""

    rotation: Floats
    translation: Floats
    _worlds: dict[Skeleton, tuple[Floats, Floats]] = field(
        default_factory=dict, init=False, repr=False
    )

    def of(self, joints: Sequence[int]) -> Pose:
        """The pose of some joints, in that order."""
        return Pose(self.rotation[:, list(joints)], self.translation[:, list(joints)])

    def world(self, skeleton: Skeleton) -> tuple[Floats, Floats]:
        """World rotations and positions, in the skeleton's unit; made once."""
        if skeleton not in self._worlds:
            self._worlds[skeleton] = forward_kinematics(skeleton, self.rotation, self.translation)
        return self._worlds[skeleton]
