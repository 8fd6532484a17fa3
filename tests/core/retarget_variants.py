"""Skeletons that are others by names, axes, rest, unit or size, and stand for the same body."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from leancurve.curves.curve import SampledCurve
from leancurve.demo.characters import standing
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.document.track import base_track
from leancurve.figure.skeleton import EndSite, Skeleton
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats
from leancurve.numbers.continuity import continuous


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


def twisted_in_line(clip: Clip, low: str, share: float, degrees: Floats) -> Clip:
    """The same motion with a joint set in line above another, at a share of the bone to it, that
    turns about that bone by ``degrees (F,)``: named a roll, its joint turned back again."""
    skeleton = clip.skeleton
    at = skeleton.index(low)
    above = skeleton.parents[at]
    offset = skeleton.offset_array[at]
    moved = [j + (j >= at) for j in range(len(skeleton))]
    names = (*skeleton.names[:at], f"{skeleton.names[above]}Roll", *skeleton.names[at:])
    parents = [moved[p] if p >= 0 else -1 for p in skeleton.parents]
    parents[at] = at
    offsets = [tuple(o) for o in skeleton.offset_array.tolist()]
    offsets[at] = tuple(((1.0 - share) * offset).tolist())
    made = Skeleton(
        names,
        (*parents[:at], above, *parents[at:]),
        (*offsets[:at], tuple((share * offset).tolist()), *offsets[at:]),
        tuple(replace(e, parent=moved[e.parent], before=moved[e.before - 1] + 1)
              for e in skeleton.ends),
    )  # fmt: skip
    turn = rotation.exp(degrees[:, None] * offset / np.linalg.norm(offset))
    order = "ZXY"
    layout = (*clip.layout[:at], tuple(f"r{a.lower()}" for a in order), *clip.layout[at:])
    curves = {base_track(moved[t.joint], t.name): c for t, c in clip.curves.items()}
    back = rotation.multiply(rotation.conjugate(turn), evaluate(clip).rotation[:, at])
    for joint, turns, axes in ((at, turn, order), (at + 1, back, clip.order(at))):
        angles = continuous(rotation.to_euler(turns, axes)[None], axes)[0][0]
        for k, axis in enumerate(axes):
            track = base_track(joint, f"r{axis.lower()}")
            curves[track] = SampledCurve(np.ascontiguousarray(angles[:, k]))
    return replace(clip, skeleton=made, layout=layout, curves=curves)
