"""What feet stand on: the floor, or the top of a prop."""

from __future__ import annotations

import numpy as np

from leancurve.document.clip import Clip
from leancurve.document.placement import placed_props
from leancurve.document.prop import Prop
from leancurve.figure.skeleton import UP
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats

STOOD_ON = ("box", "cylinder")
"""Shapes with a top."""


def top_under(
    prop: Prop, turns: Floats, middle: Floats, points: Floats, up: int
) -> tuple[Floats, Floats]:
    """Height of a prop's top at ``points (F, 3)``, and how far these lie beyond its edge, level
    with it; ``turns (F, 4)`` and ``middle (F, 3)`` are how it stands. Own unit."""
    count = len(points)
    eye = np.broadcast_to(np.eye(3), (count, 3, 3))
    axes = rotation.rotate(np.repeat(turns[:, None], 3, axis=1), eye)
    # Its top is the face that looks up most.
    face = np.argmax(np.abs(axes[:, :, up]), axis=1)
    rows = np.arange(count)
    normal = axes[rows, face]
    normal = normal * np.sign(normal[:, up])[:, None]
    half = 0.5 * np.array(prop.size)
    top = middle + normal * half[face][:, None]
    away = points - top
    level = away.copy()
    level[:, up] = 0.0
    height = top[:, up] - np.sum(level * normal, axis=1) / normal[:, up]
    along = np.abs(np.einsum("fk,fak->fa", points - middle, axes)) - half
    along[rows, face] = -np.inf
    return np.asarray(height), np.asarray(along.max(axis=1))


def raised_under(clip: Clip, points: Floats, floor: float) -> Floats:
    """How far above the floor the ground under ``points (F, 3)`` lies on all frames of a clip: 0,
    or the highest top of a prop that the point is over and not far below. Own unit."""
    ground = np.full(len(points), floor)
    stood_on = [k for k, prop in enumerate(clip.props) if prop.shape in STOOD_ON]
    if not stood_on or len(points) == 0:
        return ground - floor
    up = UP[clip.reading.up_axis]
    stature = max(clip.skeleton.rest_height, 1e-9)
    beside, below = 0.04 * stature, 0.06 * stature
    turns, middles = placed_props(clip)
    for k in stood_on:
        height, beyond = top_under(clip.props[k], turns[:, k], middles[:, k], points, up)
        over = (beyond <= beside) & (points[:, up] >= height - below) & (height > ground)
        ground = np.where(over, height, ground)
    return ground - floor
