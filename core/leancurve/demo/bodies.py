"""A body for a demo character: a surface about its bones, and the weights by which it follows them.

Capsules along the bones are blended into one solid, whose surface is found by naive surface nets
(Gibson 1998): a point in each cell that the surface passes, a quad about each edge that crosses it.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from leancurve.figure.body import body_of
from leancurve.figure.radii import FINGER, LIMBS
from leancurve.figure.skeleton import Skeleton
from leancurve.figure.skin import Skin, binds_at_rest, skin_from
from leancurve.numbers.arrays import Floats, Ints
from leancurve.numbers.lines import along_and_away

CELL = 0.0075
"""The edge of a cell, as a share of the figure's height."""
SOFT = 0.014
"""How widely parts run into one another, as a share of the height."""
FOLLOWED = 4
TRUNK = {"hips": (0.056, 0.3), "spine": (0.056, 0.42), "head": (0.042, 0.0)}
"""Radius of a part that is wider than deep, and how far to the side it reaches: shares of the
height, and of the width of the shoulders."""
SMALL = {"hand": (0.02, 0.018), "foot": (0.024, 0.018), "toe": (0.024, 0.018)}
HIDDEN = ("twist", "helper", "end", "eye", "jaw")
"""What lies within another part."""


@dataclass(frozen=True)
class _Part:
    """A capsule that a joint carries: two ends ``(3,)`` and the radius at each."""

    joint: int
    ends: tuple[Floats, Floats]
    radii: tuple[float, float]

    def away(self, points: Floats) -> Floats:
        """How far points ``(N, 3)`` are outside of it."""
        a, b = self.ends
        along, near = along_and_away(points - a, b - a)
        return np.asarray(near - (self.radii[0] + along * (self.radii[1] - self.radii[0])))


def made_body(skeleton: Skeleton, up_axis: str = "y", cell: float = CELL) -> Skin:
    """A body about a skeleton as it rests. The surface is found in cells of a share of the height:
    the smaller, the more triangles."""
    parts = _parts(skeleton, up_axis)
    height = skeleton.rest_height
    points, triangles = _surface(parts, cell * height, SOFT * height)
    joints, weights = _following(parts, points, height)
    return skin_from(points, triangles, joints, weights, binds_at_rest(skeleton))


def _parts(skeleton: Skeleton, up_axis: str) -> list[_Part]:
    body = body_of(skeleton, up_axis)
    places, height = skeleton.rest_positions, skeleton.rest_height
    tips = {e.parent: tip for e, tip in zip(skeleton.ends, skeleton.rest_tips, strict=True)}
    shoulders = body.pair("upper arm")
    wide = np.zeros(3) if shoulders is None else places[shoulders[0]] - places[shoulders[1]]
    out: list[_Part] = []
    for joint, read in enumerate(body.joints):
        limb = read.part
        if limb in HIDDEN:
            continue
        below = [
            places[c] for c in skeleton.children[joint] if not body.joints[c].role.endswith(HIDDEN)
        ]
        for end in below or [tips.get(joint, places[joint])]:
            if limb in TRUNK:
                radius, reach = TRUNK[limb]
                for share in (-1.0, -0.4, 0.4, 1.0) if reach else (0.0,):
                    aside = share * reach * wide / 2.0
                    ends = (places[joint] + aside, end + aside)
                    out.append(_Part(joint, ends, (radius * height, radius * height)))
            else:
                first, last = LIMBS.get(limb) or SMALL.get(limb, FINGER)
                out.append(_Part(joint, (places[joint], end), (first * height, last * height)))
    return out


def _surface(parts: Sequence[_Part], cell: float, soft: float) -> tuple[Floats, Ints]:
    ends = np.array([e for p in parts for e in p.ends])
    room = max(max(p.radii) for p in parts) + 3.0 * cell + soft
    low = ends.min(axis=0) - room
    shape = np.ceil((ends.max(axis=0) + room - low) / cell).astype(int) + 1
    field = np.full(shape, 4.0 * soft)
    for part in parts:
        reach = max(part.radii) + 2.0 * soft + cell
        corners = np.array(part.ends)
        first = np.maximum(np.floor((corners.min(axis=0) - reach - low) / cell).astype(int), 0)
        last = np.minimum(
            np.ceil((corners.max(axis=0) + reach - low) / cell).astype(int) + 1, shape
        )
        box = tuple(slice(a, b) for a, b in zip(first, last, strict=True))
        steps = [np.arange(a, b) for a, b in zip(first, last, strict=True)]
        grid = np.stack(np.meshgrid(*steps, indexing="ij"), -1)
        away = part.away(low + cell * grid.reshape(-1, 3)).reshape(grid.shape[:3])
        # The lesser of two, rounded where they are alike.
        near = np.maximum(soft - np.abs(field[box] - away), 0.0) / soft
        field[box] = np.minimum(field[box], away) - 0.25 * soft * near**2
    return _nets(field, low, cell)


def _nets(field: Floats, low: Floats, cell: float) -> tuple[Floats, Ints]:
    inside = field < 0.0
    total = np.zeros((*(n - 1 for n in field.shape), 3))
    count = np.zeros(total.shape[:3])
    cut = [slice(None, -1), slice(1, None)]
    corners = [(i, j, k) for i in (0, 1) for j in (0, 1) for k in (0, 1)]
    for a in corners:
        for axis in range(3):
            if a[axis]:
                continue
            b = tuple(1 if n == axis else v for n, v in enumerate(a))
            at_a, at_b = (tuple(cut[v] for v in c) for c in (a, b))
            crossed = inside[at_a] != inside[at_b]
            fall = np.where(crossed, field[at_a] - field[at_b], 1.0)
            share = np.where(crossed, field[at_a] / fall, 0.0)
            place = np.array(a, dtype=np.float64) + share[..., None] * np.eye(3)[axis]
            total += np.where(crossed[..., None], place, 0.0)
            count += crossed
    active = count > 0
    which = np.full(active.shape, -1)
    which[active] = np.arange(int(active.sum()))
    cells = np.argwhere(active)
    points = low + cell * (cells + total[active] / count[active][:, None])
    triangles = []
    for axis in range(3):
        u, v = (axis + 1) % 3, (axis + 2) % 3
        first, last = [slice(1, -1)] * 3, [slice(1, -1)] * 3
        first[axis], last[axis] = slice(0, -1), slice(1, None)
        crossed = inside[tuple(first)] != inside[tuple(last)]
        at = np.argwhere(crossed) + np.array([0 if n == axis else 1 for n in range(3)])
        outwards = inside[tuple(first)][crossed]
        step_u, step_v = np.eye(3, dtype=int)[u], np.eye(3, dtype=int)[v]
        quad = np.stack([which[tuple((at - du * step_u - dv * step_v).T)]
                         for du, dv in ((0, 0), (1, 0), (1, 1), (0, 1))], axis=1)  # fmt: skip
        quad = np.where(outwards[:, None], quad, quad[:, ::-1])
        triangles += [quad[:, [0, 1, 2]], quad[:, [0, 2, 3]]]
    return points, np.concatenate(triangles)


def _following(parts: Sequence[_Part], points: Floats, height: float) -> tuple[Ints, Floats]:
    """The joints that each point follows, the nearest ones most."""
    joints = sorted({p.joint for p in parts})
    near = np.full((len(points), len(joints)), np.inf)
    for part in parts:
        at = joints.index(part.joint)
        near[:, at] = np.minimum(near[:, at], np.maximum(part.away(points), 0.0))
    near -= near.min(axis=1, keepdims=True)
    weights = np.exp(-((near / (0.016 * height)) ** 2))
    order = np.argsort(-weights, axis=1)[:, :FOLLOWED]
    best = np.take_along_axis(weights, order, axis=1)
    best = np.where(best < 0.01, 0.0, best)
    return np.array(joints)[order], best / best.sum(axis=1, keepdims=True)
