"""Two-bone limbs: moved to a target, the end's own orientation kept."""

from __future__ import annotations

import numpy as np

from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats


def between(a: Floats, b: Floats) -> Floats:
    """The shortest rotations ``(F, 4)`` that turn directions ``a`` into ``b``, ``(F, 3)``."""
    a = a / np.linalg.norm(a, axis=-1, keepdims=True)
    b = b / np.linalg.norm(b, axis=-1, keepdims=True)
    q = np.concatenate([np.cross(a, b), 1.0 + np.sum(a * b, axis=-1, keepdims=True)], axis=-1)
    opposite = np.linalg.norm(q, axis=-1) < 1e-9
    if np.any(opposite):
        # Half a turn about any axis across.
        other = np.where(np.abs(a[opposite, :1]) < 0.9, [[1.0, 0.0, 0.0]], [[0.0, 1.0, 0.0]])
        axis = np.cross(a[opposite], other)
        q[opposite, :3], q[opposite, 3] = axis / np.linalg.norm(axis, axis=-1, keepdims=True), 0.0
    return rotation.normalise(q)


def reach(
    rotations: tuple[Floats, Floats, Floats],
    parent: Floats,
    points: tuple[Floats, Floats, Floats],
    target: Floats,
) -> tuple[Floats, Floats, Floats]:
    """Local rotations of upper, middle and end joint that bring the end to ``target (F, 3)``.

    ``rotations`` are the three joints' world rotations ``(F, 4)``, ``parent`` that of the upper
    one's parent, ``points`` their positions. The limb keeps the plane it bends in, the end its
    orientation in the world. A target out of reach is approached as far as the limb goes.
    """
    upper, middle, end = points
    first = np.linalg.norm(middle - upper, axis=-1, keepdims=True)
    second = np.linalg.norm(end - middle, axis=-1, keepdims=True)
    along = target - upper
    distance = np.linalg.norm(along, axis=-1, keepdims=True)
    distance = np.clip(distance, np.abs(first - second) * 1.001 + 1e-9, (first + second) * 0.9999)
    along = along / np.linalg.norm(along, axis=-1, keepdims=True)
    line = (end - upper) / np.linalg.norm(end - upper, axis=-1, keepdims=True)
    bent = (middle - upper) - np.sum((middle - upper) * line, axis=-1, keepdims=True) * line
    side = rotation.rotate(between(line, along), bent)
    length = np.linalg.norm(side, axis=-1, keepdims=True)
    fallback = np.cross(along, [0.0, 0.0, 1.0])
    side = np.where(length > 1e-9, side / np.maximum(length, 1e-9), fallback)
    cos = np.clip((first**2 + distance**2 - second**2) / (2 * first * distance), -1.0, 1.0)
    knee = upper + first * (cos * along + np.sqrt(1.0 - cos**2) * side)
    foot = upper + distance * along
    world_upper = rotation.multiply(between(middle - upper, knee - upper), rotations[0])
    turned = rotation.rotate(between(middle - upper, knee - upper), end - middle)
    world_middle = rotation.multiply(
        between(turned, foot - knee),
        rotation.multiply(between(middle - upper, knee - upper), rotations[1]),
    )
    return (
        rotation.multiply(rotation.conjugate(parent), world_upper),
        rotation.multiply(rotation.conjugate(world_upper), world_middle),
        rotation.multiply(rotation.conjugate(world_middle), rotations[2]),
    )
