"""A small picture of a motion: a row of figures seen from the side they face least away from."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TypedDict

import numpy as np

from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.figure.drawing import Shape, View, drawn, from_the_front
from leancurve.figure.skeleton import UP
from leancurve.figure.skin import Skin
from leancurve.measures.silhouette import silhouette
from leancurve.numbers.arrays import Floats

FIGURES = 7


class Picture(TypedDict):
    """Shapes ``[x1, y1, r1, x2, y2, r2, left]`` a figure, the farthest first: two circles and what
    lies between them, in units of the figure's height, y up; 1 for its own left side.

    ``outlines`` are rings ``[x1, y1, x2, y2, …]`` around a body of its own, where it stands.
    """

    figures: list[list[list[float]]]
    outlines: list[list[float]]


def picture(clip: Clip, skin: Skin | None = None, at: Floats | None = None) -> Picture:
    """Poses spread over the clip, or on frames ``at (n,)``, each as a paper body in the plane of
    widest travel; a figure at rest that has a ``skin`` in that, from the front."""
    if clip.frames == 0:
        return {"figures": [], "outlines": []}
    if clip.frames == 1 and skin is not None and len(skin.triangles):
        return {"figures": [], "outlines": _outlines(clip, skin)}
    if at is None:
        at = np.unique(np.linspace(0.08, 0.95, FIGURES) * (clip.frames - 1) // 1)
    rotations, positions = evaluate(clip, at).world(clip.skeleton)
    up = UP[clip.reading.up_axis]
    flat = [a for a in range(3) if a != up]
    height = max(clip.skeleton.rest_height, 1e-9)
    # Bodies are seen best from the side they spread in least: depth is dropped.
    spread = [float(np.mean(np.ptp(positions[:, :, a], axis=1))) for a in flat]
    right, above = np.eye(3)[flat[int(np.argmax(spread))]], np.eye(3)[up]
    view = View(right, above, np.cross(right, above))
    floor = positions[:, :, up].min() / height
    return {
        "figures": [
            _numbers(
                drawn(clip.skeleton, clip.body, world, view, fingers=False),
                float(world[1][0] @ right) / height,
                floor,
            )
            for world in zip(rotations, positions, strict=True)
        ],
        "outlines": [],
    }


def _outlines(clip: Clip, skin: Skin) -> list[list[float]]:
    """A body around where its root stands, its feet on the floor, in figure heights."""
    turned, placed = evaluate(clip).world(clip.skeleton)
    view = from_the_front(clip.skeleton, clip.body, clip.reading.up_axis)
    points = skin.posed(turned[0], placed[0]) - placed[0, 0]
    seen = points @ np.stack([view.right, view.up], axis=1)
    low, high = float(seen[:, 1].min()), float(seen[:, 1].max())
    height = max(clip.skeleton.rest_height, high - low, 1e-9)
    return silhouette((seen - [0.0, low]) / height, skin.triangles)


def body_picture(clip: Clip) -> list[list[float]]:
    """The figure at rest from the front, the farthest shape first.

    ``[joint, x1, y1, r1, x2, y2, r2]`` a shape, in figure heights, y up.
    """
    skeleton = clip.skeleton
    view = from_the_front(skeleton, clip.body, clip.reading.up_axis)
    shapes = drawn(skeleton, clip.body, skeleton.rest_world, view)
    return [
        [float(s.joint), *n[:6]] for s, n in zip(shapes, _numbers(shapes, 0.0, 0.0), strict=True)
    ]


def _numbers(shapes: Iterable[Shape], right: float, up: float) -> list[list[float]]:
    out = []
    for shape in shapes:
        (x1, y1, _), (x2, y2, _) = shape.ends.tolist()
        numbers = (x1 - right, y1 - up, shape.radii[0], x2 - right, y2 - up, shape.radii[1])
        out.append([*(round(v, 3) for v in numbers), float(shape.left)])
    return out
