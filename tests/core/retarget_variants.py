"""Skeletons that are others by names, axes, rest, unit or size, and stand for the same body."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from leancurve.demo.characters import standing
from leancurve.document.clip import Clip
from leancurve.figure.skeleton import EndSite, Skeleton
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats


def rebuilt(
    skeleton: Skeleton,
    axes: Floats | None = None,
    scale: float = 1.0,
    world: Floats | None = None,
    pose: Floats | None = None,
    names: tuple[str, ...] | None = None,
) -> Skeleton:
    """The same body with its joints' axes turned by ``axes (J, 4)``, scaled, its world turned by
    ``world (4,)``, at rest in the ``pose`` of local rotations ``(J, 4)``."""
    local = skeleton.rest_rotations if pose is None else pose
    turns, points = np.empty((len(skeleton), 4)), np.empty((len(skeleton), 3))
    for j, p in enumerate(skeleton.parents):
        above, here = (rotation.IDENTITY, np.zeros(3)) if p < 0 else (turns[p], points[p])
        points[j] = here + rotation.rotate(above, skeleton.offset_array[j])
        turns[j] = rotation.multiply(above, local[j])
    tips = [points[e.parent] + rotation.rotate(turns[e.parent], np.array(e.offset))
            for e in skeleton.ends]  # fmt: skip
    if world is not None:
        turns = rotation.multiply(world, turns)
        points = rotation.rotate(world, points)
        tips = [rotation.rotate(world, t) for t in tips]
    if axes is not None:
        turns = rotation.multiply(turns, axes)
    offsets, rests = [], []
    for j, p in enumerate(skeleton.parents):
        above, here = (rotation.IDENTITY, np.zeros(3)) if p < 0 else (turns[p], points[p])
        back = rotation.conjugate(above)
        offsets.append(tuple((scale * rotation.rotate(back, points[j] - here)).tolist()))
        rests.append(tuple(rotation.multiply(back, turns[j]).tolist()))
    ends = []
    for e, tip in zip(skeleton.ends, tips, strict=True):
        own = rotation.rotate(rotation.conjugate(turns[e.parent]), tip - points[e.parent])
        ends.append(EndSite(e.parent, tuple((scale * own).tolist()), e.before))
    return Skeleton(
        names or skeleton.names, skeleton.parents, tuple(offsets), tuple(ends), tuple(rests)
    )


def as_file(skeleton: Skeleton, like: Clip, order: str = "ZXY", **reading: object) -> Clip:
    """A skeleton as a clip of one frame, read as another clip is but for what is given."""
    made = standing(skeleton, "target", like.reading.metres_per_unit, like.reading.up_axis, order)
    return replace(made, reading=replace(like.reading, ends=(), **reading))  # type: ignore[arg-type]


def random_axes(count: int, seed: int) -> Floats:
    """Axes of any joint, any way."""
    random = np.random.default_rng(seed)
    return rotation.normalise(random.normal(size=(count, 4)))
