"""Rotations: quaternions ``(x, y, z, w)``, Euler angles of every order, continuity.

Euler orders are *intrinsic, as listed*: ``"ZYX"`` turns about Z, then about the new Y,
then about the new X, which is how BVH channels read. As matrices on column vectors that
is ``Rz @ Ry @ Rx``. Angles are degrees everywhere in the interface of this module.

Sources: Shoemake, "Animating rotation with quaternion curves", SIGGRAPH 1985 (slerp);
Bernardes and Viollet, "Quaternion to Euler angles conversion", PLOS ONE 17(11), 2022.
"""

from __future__ import annotations

from itertools import permutations

import numpy as np

from leancurve.numbers.arrays import Floats

AXES = "XYZ"
TAIT_BRYAN = tuple("".join(p) for p in permutations(AXES))
PROPER = ("XYX", "XZX", "YXY", "YZY", "ZXZ", "ZYZ")
ORDERS = TAIT_BRYAN + PROPER

IDENTITY: Floats = np.array([0.0, 0.0, 0.0, 1.0])


def multiply(a: Floats, b: Floats) -> Floats:
    """The rotation ``a`` after ``b``: Hamilton product of ``(..., 4)`` arrays."""
    ax, ay, az, aw = np.moveaxis(np.asarray(a), -1, 0)
    bx, by, bz, bw = np.moveaxis(np.asarray(b), -1, 0)
    return np.stack(
        [
            aw * bx + ax * bw + ay * bz - az * by,
            aw * by - ax * bz + ay * bw + az * bx,
            aw * bz + ax * by - ay * bx + az * bw,
            aw * bw - ax * bx - ay * by - az * bz,
        ],
        axis=-1,
    )


def conjugate(q: Floats) -> Floats:
    """The inverse of unit quaternions ``(..., 4)``."""
    return np.asarray(np.asarray(q) * np.array([-1.0, -1.0, -1.0, 1.0]))


def rotate(q: Floats, v: Floats) -> Floats:
    """Vectors ``(..., 3)`` turned by unit quaternions ``(..., 4)``."""
    q, v = np.asarray(q), np.asarray(v)
    u, w = q[..., :3], q[..., 3:]
    t = 2.0 * np.cross(u, v)
    return np.asarray(v + w * t + np.cross(u, t))


def normalise(q: Floats) -> Floats:
    """Quaternions ``(..., 4)`` scaled to unit length."""
    return np.asarray(q / np.linalg.norm(q, axis=-1, keepdims=True))


def from_axis(axis: str, angle_deg: Floats) -> Floats:
    """Turns about one of the axes X, Y, Z by angles ``(...)`` in degrees: ``(..., 4)``."""
    half = np.radians(np.asarray(angle_deg, dtype=np.float64)) / 2.0
    q = np.zeros((*half.shape, 4))
    q[..., AXES.index(axis)] = np.sin(half)
    q[..., 3] = np.cos(half)
    return np.asarray(q)


def from_euler(angles_deg: Floats, order: str) -> Floats:
    """Intrinsic Euler angles ``(..., n)`` in degrees as unit quaternions ``(..., 4)``.

    ``order`` has ``n`` letters, one an angle; fewer than three are allowed, as BVH joints
    may have one or two rotation channels.
    """
    angles = np.asarray(angles_deg, dtype=np.float64)
    if angles.shape[-1] != len(order):
        raise ValueError(f"order {order!r} needs {len(order)} angles, got {angles.shape[-1]}")
    q = np.broadcast_to(IDENTITY, (*angles.shape[:-1], 4))
    for k, axis in enumerate(order):
        q = multiply(q, from_axis(axis, angles[..., k]))
    return np.asarray(q)


def to_euler(q: Floats, order: str) -> Floats:
    """Unit quaternions ``(..., 4)`` as intrinsic Euler angles ``(..., 3)`` in degrees.

    The middle angle lies in [-90, 90] (in [0, 180] for orders such as ZXZ). At the
    singularity the third angle is set to 0. Method: Bernardes and Viollet 2022.
    """
    if order not in ORDERS:
        raise ValueError(f"order must be one of {', '.join(ORDERS)}, got {order!r}")
    q = np.asarray(q, dtype=np.float64)
    # The method is stated for extrinsic axes; intrinsic is extrinsic read backwards.
    i, j, k = (AXES.index(a) for a in order[::-1])
    proper = i == k
    if proper:
        k = 3 - i - j
    sign = float((i - j) * (j - k) * (k - i) // 2)
    x, w = q[..., :3], q[..., 3]
    if proper:
        a, b, c, d = w, x[..., i], x[..., j], x[..., k] * sign
    else:
        a, b = w - x[..., j], x[..., i] + x[..., k] * sign
        c, d = x[..., j] + w, x[..., k] * sign - x[..., i]
    middle = 2.0 * np.arctan2(np.hypot(c, d), np.hypot(a, b))
    half_sum, half_diff = np.arctan2(b, a), np.arctan2(d, c)
    tiny = 1e-12
    first = half_sum - half_diff
    third = half_sum + half_diff
    at_zero, at_pi = np.abs(middle) < tiny, np.abs(middle - np.pi) < tiny
    # Degenerate: only a sum or a difference is defined; the last listed axis rests at 0.
    third = np.where(at_zero, 2 * half_sum, np.where(at_pi, 2 * half_diff, third))
    first = np.where(at_zero | at_pi, 0.0, first)
    if not proper:
        third, middle = third * sign, middle - np.pi / 2
    angles = np.degrees(np.stack([third, middle, first], axis=-1))
    return np.asarray(np.remainder(angles + 180.0, 360.0) - 180.0)


def to_euler_compiled(q: Floats, order: str) -> Floats:
    """:func:`to_euler` of many rotations, in one compiled loop."""
    from leancurve.numbers.kernels import motion  # numba loads late

    i, j, k = (AXES.index(a) for a in order[::-1])
    if i == k:
        return to_euler(q, order)
    rows = np.ascontiguousarray(q, dtype=np.float64).reshape(-1, 4)
    out = np.empty((len(rows), 3))
    motion.quat_to_euler(rows, i, j, k, float((i - j) * (j - k) * (k - i) // 2), out)
    return out.reshape(*q.shape[:-1], 3)


def alternate(angles_deg: Floats, order: str) -> Floats:
    """The other Euler solution ``(..., 3)`` of the same rotations, not wrapped.

    ``(a, b, c) → (a + 180, 180 - b, c + 180)``; for orders such as ZXZ ``-b`` in the middle.
    """
    a = np.asarray(angles_deg, dtype=np.float64)
    base = 0.0 if order[0] == order[2] else 180.0
    return np.stack([a[..., 0] + 180.0, base - a[..., 1], a[..., 2] + 180.0], axis=-1)


def angles_near(q: Floats, order: str, near: Floats) -> Floats:
    """Of all the Euler angles ``(..., n)`` that say quaternions, those nearest to the angles
    ``near``; of orders of one or two axes, which cannot say every rotation, of those that come
    nearest to it."""
    if len(order) < 3:
        solved = _nearest_of_few(q, order)
        return np.asarray(solved + 360.0 * np.round((near - solved) / 360.0))
    solved = to_euler(q, order)
    both = [solved, alternate(solved, order)]
    both = [a + 360.0 * np.round((near - a) / 360.0) for a in both]
    gaps = [np.sum((a - near) ** 2, axis=-1) for a in both]
    return np.asarray(np.where((gaps[0] <= gaps[1])[..., None], both[0], both[1]))


def _nearest_of_few(q: Floats, order: str) -> Floats:
    """Angles ``(..., n)`` about no more than two axes that come nearest to quaternions.

    The cosine of half the angle between ``q`` and a turn about two axes is bilinear in the cosines
    and sines of their half angles: the largest singular value of its matrix is the best there is.
    """
    q = np.asarray(q, dtype=np.float64)
    if not order:
        return np.zeros((*q.shape[:-1], 0))
    i = AXES.index(order[0])
    if len(order) == 1:
        return np.asarray(np.degrees(2.0 * np.arctan2(q[..., i], q[..., 3])))[..., None]
    j = AXES.index(order[1])
    if i == j:
        first = np.degrees(2.0 * np.arctan2(q[..., i], q[..., 3]))
        return np.stack([first, np.zeros_like(first)], axis=-1)
    sign = 1.0 if (j - i) % 3 == 1 else -1.0
    matrix = np.stack(
        [np.stack([q[..., 3], q[..., j]], axis=-1),
         np.stack([q[..., i], sign * q[..., 3 - i - j]], axis=-1)], axis=-2,
    )  # fmt: skip
    u, _, vt = np.linalg.svd(matrix)
    halves = [np.arctan2(u[..., 1, 0], u[..., 0, 0]), np.arctan2(vt[..., 0, 1], vt[..., 0, 0])]
    return np.asarray(np.degrees(2.0 * np.stack(halves, axis=-1)))


def log(q: Floats) -> Floats:
    """Rotation vectors ``(..., 3)`` in degrees, at most 180 long, of unit quaternions."""
    q = np.asarray(q)
    q = np.where(q[..., 3:] < 0, -q, q)
    sin = np.linalg.norm(q[..., :3], axis=-1, keepdims=True)
    angle = 2.0 * np.degrees(np.arctan2(sin, q[..., 3:]))
    return np.asarray(np.where(sin > 1e-12, q[..., :3] / np.maximum(sin, 1e-300), 0.0) * angle)


def unrolled(vectors: Floats) -> Floats:
    """Rotation vectors ``(F, ..., 3)`` in degrees that go on from the one before: of the equal ones
    ``v + 360 k`` along ``v`` the nearest."""
    out = np.array(vectors)
    for f in range(1, len(out)):
        size = np.linalg.norm(out[f], axis=-1, keepdims=True)
        axis = out[f] / np.maximum(size, 1e-12)
        along = np.sum(out[f - 1] * axis, axis=-1, keepdims=True)
        whole = np.where(size > 1e-9, np.round((along - size) / 360.0), 0.0)
        out[f] += 360.0 * whole * axis
    return out


def exp(vector: Floats) -> Floats:
    """Unit quaternions ``(..., 4)`` of rotation vectors ``(..., 3)`` in degrees."""
    v = np.asarray(vector, dtype=np.float64)
    angle = np.linalg.norm(v, axis=-1, keepdims=True)
    half = np.radians(angle) / 2.0
    axis = v / np.maximum(angle, 1e-300)
    return np.asarray(np.concatenate([axis * np.sin(half), np.cos(half)], axis=-1))


def hemisphere(q: Floats) -> Floats:
    """Signs chosen along time (axis 0) so that neighbouring quaternions ``(F, ..., 4)`` agree."""
    q = np.asarray(q, dtype=np.float64)
    opposed = np.einsum("...k,...k->...", q[1:], q[:-1]) < 0.0
    flip = np.cumsum(opposed, axis=0) & 1
    out = q.copy()
    out[1:] *= np.where(flip, -1.0, 1.0)[..., None]
    return out


def slerp(a: Floats, b: Floats, t: Floats | float) -> Floats:
    """Great-arc interpolation of unit quaternions ``(..., 4)``, the short way (Shoemake 1985)."""
    a, b = np.asarray(a, dtype=np.float64), np.asarray(b, dtype=np.float64)
    dot = np.einsum("...k,...k->...", a, b)[..., None]
    return great_arc(a, np.where(dot < 0, -b, b), t)


def great_arc(a: Floats, b: Floats, t: Floats | float) -> Floats:
    """The same by the signs that they have, which may be the long way."""
    t = np.asarray(t, dtype=np.float64)[..., None]
    # atan2 of the chord and its complement stays exact where arccos loses half the digits.
    theta = 2.0 * np.arctan2(
        np.linalg.norm(b - a, axis=-1, keepdims=True), np.linalg.norm(b + a, axis=-1, keepdims=True)
    )
    sin = np.sin(theta)
    near = theta < 1e-9
    safe = np.where(near, 1.0, sin)
    wa = np.where(near, 1.0 - t, np.sin((1.0 - t) * theta) / safe)
    wb = np.where(near, t, np.sin(t * theta) / safe)
    return normalise(wa * a + wb * b)


def geodesic_deg(a: Floats, b: Floats) -> Floats:
    """Angle in degrees between rotations ``(..., 4)``; one sign of a quaternion equals the other.

    By chord and arc tangent, exact to rounding also for angles near 0, where an arc cosine
    would be blind below 1e-6 degrees.
    """
    a, b = np.asarray(a, dtype=np.float64), np.asarray(b, dtype=np.float64)
    minus = np.linalg.norm(a - b, axis=-1)
    plus = np.linalg.norm(a + b, axis=-1)
    near, far = np.minimum(minus, plus), np.maximum(minus, plus)
    return np.asarray(np.degrees(4.0 * np.arctan2(near, far)))


def from_frame(x: Floats, y: Floats, z: Floats) -> Floats:
    """Quaternions ``(..., 4)`` of right-handed frames given by their unit axes ``(..., 3)``."""
    m = np.stack([x, y, z], axis=-1)
    trace = m[..., 0, 0] + m[..., 1, 1] + m[..., 2, 2]
    choices = np.stack([m[..., 0, 0], m[..., 1, 1], m[..., 2, 2], trace], axis=-1)
    best = np.argmax(choices, axis=-1)
    q = np.empty((*trace.shape, 4))
    for i in range(3):
        j, k = (i + 1) % 3, (i + 2) % 3
        at = best == i
        n = m[at]
        q[at, i] = 1 - trace[at] + 2 * n[..., i, i]
        q[at, j] = n[..., j, i] + n[..., i, j]
        q[at, k] = n[..., k, i] + n[..., i, k]
        q[at, 3] = n[..., k, j] - n[..., j, k]
    at = best == 3
    n = m[at]
    q[at, 0] = n[..., 2, 1] - n[..., 1, 2]
    q[at, 1] = n[..., 0, 2] - n[..., 2, 0]
    q[at, 2] = n[..., 1, 0] - n[..., 0, 1]
    q[at, 3] = 1 + trace[at]
    return normalise(q)


def matrix(q: Floats) -> Floats:
    """Rotations ``(..., 4)`` of length one as matrices ``(..., 3, 3)`` for column vectors."""
    x, y, z, w = np.moveaxis(q, -1, 0)
    rows = (
        (1.0 - 2.0 * (y * y + z * z), 2.0 * (x * y - z * w), 2.0 * (x * z + y * w)),
        (2.0 * (x * y + z * w), 1.0 - 2.0 * (x * x + z * z), 2.0 * (y * z - x * w)),
        (2.0 * (x * z - y * w), 2.0 * (y * z + x * w), 1.0 - 2.0 * (x * x + y * y)),
    )
    return np.stack([np.stack(row, axis=-1) for row in rows], axis=-2)
