"""The joint tree at rest, and forward kinematics over whole clips."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats, Ints

STRAIGHT = (0.0, 0.0, 0.0, 1.0)
"""The rest rotation of a joint whose axes are its parent's."""

UP = {"x": 0, "y": 1, "z": 2}
"""The coordinate of each axis that may be up."""

UPRIGHT: dict[str, Floats] = {
    "x": rotation.from_axis("Z", np.array(90.0)),
    "y": np.array(rotation.IDENTITY),
    "z": rotation.from_axis("X", np.array(-90.0)),
}
"""The turn ``(4,)`` that brings each of them up to Y."""


def turn_between(up: str, other: str) -> Floats:
    """The turn ``(4,)`` that brings what stands along one up axis to stand along another."""
    return rotation.multiply(rotation.conjugate(UPRIGHT[other]), UPRIGHT[up])


@dataclass(frozen=True)
class EndSite:
    """A point at the tip of a joint: it has no channels of its own.

    ``before`` is the number of joints that stood before it in the file, which keeps its
    place among its siblings when written again.
    """

    parent: int
    offset: tuple[float, float, float]
    before: int


@dataclass(frozen=True)
class Skeleton:
    """Joints in file order (parents before children), offsets in the skeleton's own unit.

    ``rests`` are the local rotations at rest, unit quaternions (x, y, z, w): how a joint without
    rotation channels stands. Identity for all where none are given, as in BVH.
    """

    names: tuple[str, ...]
    parents: tuple[int, ...]
    offsets: tuple[tuple[float, float, float], ...]
    ends: tuple[EndSite, ...] = ()
    rests: tuple[tuple[float, float, float, float], ...] = ()

    def __post_init__(self) -> None:
        if not self.rests:
            object.__setattr__(self, "rests", (STRAIGHT,) * len(self.names))
        if not len(self.names) == len(self.parents) == len(self.offsets) == len(self.rests):
            raise ValueError("names, parents, offsets and rests must have one entry a joint")
        for joint, rest in enumerate(self.rests):
            if abs(sum(v * v for v in rest) - 1.0) > 1e-6:
                raise ValueError(f"joint {self.names[joint]!r}: its rest rotation has no length 1")
        for joint, parent in enumerate(self.parents):
            if not -1 <= parent < joint:
                raise ValueError(f"joint {self.names[joint]!r} must stand after its parent")

    def __len__(self) -> int:
        return len(self.names)

    @cached_property
    def parent_array(self) -> Ints:
        return np.array(self.parents, dtype=np.int64)

    @cached_property
    def offset_array(self) -> Floats:
        """Rest offsets ``(J, 3)`` from the parent."""
        return np.array(self.offsets, dtype=np.float64).reshape(len(self), 3)

    @cached_property
    def children(self) -> tuple[tuple[int, ...], ...]:
        lists: list[list[int]] = [[] for _ in self.names]
        for joint, parent in enumerate(self.parents):
            if parent >= 0:
                lists[parent].append(joint)
        return tuple(tuple(c) for c in lists)

    @cached_property
    def rest_rotations(self) -> Floats:
        """Local rotations ``(J, 4)`` at rest."""
        return np.array(self.rests, dtype=np.float64).reshape(len(self), 4)

    @property
    def rests_straight(self) -> bool:
        """Whether every joint's axes at rest are the world's."""
        return all(rest == STRAIGHT for rest in self.rests)

    @cached_property
    def rest_world(self) -> tuple[Floats, Floats]:
        """World rotations ``(J, 4)`` and positions ``(J, 3)`` at rest."""
        rotations, positions = self.rest_rotations.copy(), self.offset_array.copy()
        for joints, parents in self._levels:
            turned = rotation.rotate(rotations[parents], positions[joints])
            positions[joints] = turned + positions[parents]
            rotations[joints] = rotation.multiply(rotations[parents], rotations[joints])
        return rotations, positions

    @property
    def _levels(self) -> list[tuple[list[int], list[int]]]:
        """Joints with those they hang on, all that are as deep in the tree together."""
        depth = [0] * len(self)
        levels: dict[int, tuple[list[int], list[int]]] = {}
        for joint, parent in enumerate(self.parents):
            if parent >= 0:
                depth[joint] = depth[parent] + 1
                joints, parents = levels.setdefault(depth[joint], ([], []))
                joints.append(joint)
                parents.append(parent)
        return [levels[d] for d in sorted(levels)]

    @property
    def rest_positions(self) -> Floats:
        """World positions ``(J, 3)`` at rest."""
        return self.rest_world[1]

    @cached_property
    def rest_tips(self) -> list[Floats]:
        """World positions of the end sites at rest."""
        rotations, positions = self.rest_world
        return [
            positions[e.parent] + rotation.rotate(rotations[e.parent], np.array(e.offset))
            for e in self.ends
        ]

    @cached_property
    def rest_height(self) -> float:
        """Extent of the rest pose along its longest axis, end sites included, own unit."""
        cloud = np.array([*self.rest_positions, *self.rest_tips])
        return float(np.max(np.ptp(cloud, axis=0)))

    @property
    def root(self) -> int:
        """The first joint that hangs on none."""
        return self.parents.index(-1)

    @property
    def roots(self) -> tuple[int, ...]:
        """The joints that hang on none."""
        return tuple(j for j, parent in enumerate(self.parents) if parent < 0)

    def chain(self, joint: int) -> tuple[int, ...]:
        """The joints from ``joint`` up to its root."""
        out = [joint]
        while self.parents[out[-1]] >= 0:
            out.append(self.parents[out[-1]])
        return tuple(out)

    def index(self, name: str) -> int:
        try:
            return self.names.index(name)
        except ValueError:
            raise KeyError(f"no joint is named {name!r}") from None


def forward_kinematics(
    skeleton: Skeleton, local: Floats, translation: Floats
) -> tuple[Floats, Floats]:
    """World rotations ``(F, J, 4)`` and positions ``(F, J, 3)`` of local ones of the same shape.

    ``translation`` is the whole local translation: rest offset, or what a position channel
    makes of it. Lengths stay in the skeleton's unit.
    """
    from leancurve.numbers.kernels import motion  # numba loads late

    rotations, positions = np.empty_like(local), np.empty_like(translation)
    motion.forward(local, translation, skeleton.parent_array, rotations, positions)
    return rotations, positions


def forward_kinematics_plain(
    skeleton: Skeleton, local: Floats, translation: Floats
) -> tuple[Floats, Floats]:
    """The same in numpy, joint by joint: what the compiled one is measured against."""
    rotations, positions = local.copy(), translation.copy()
    for joint, parent in enumerate(skeleton.parents):
        if parent >= 0:
            turned = rotation.rotate(rotations[:, parent], translation[:, joint])
            positions[:, joint] = turned + positions[:, parent]
            rotations[:, joint] = rotation.multiply(rotations[:, parent], local[:, joint])
    return rotations, positions
