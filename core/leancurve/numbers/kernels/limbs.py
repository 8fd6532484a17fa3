"""Compiled: two-bone limbs turned so that their ends are at targets. See :mod:`figure.limb`."""

from __future__ import annotations

import math

import numpy as np

from leancurve.numbers.arrays import Floats
from leancurve.numbers.kernels import kernel

TINY = 1e-12


@kernel
def _cross(ax, ay, az, bx, by, bz):  # type: ignore[no-untyped-def]
    return ay * bz - az * by, az * bx - ax * bz, ax * by - ay * bx


@kernel
def _unit(x, y, z):  # type: ignore[no-untyped-def]
    size = max(np.sqrt(x * x + y * y + z * z), TINY)
    return x / size, y / size, z / size


@kernel
def _times(ax, ay, az, aw, bx, by, bz, bw):  # type: ignore[no-untyped-def]
    """The product of two quaternions."""
    return (
        aw * bx + ax * bw + ay * bz - az * by,
        aw * by - ax * bz + ay * bw + az * bx,
        aw * bz + ax * by - ay * bx + az * bw,
        aw * bw - ax * bx - ay * by - az * bz,
    )


@kernel
def _turned(qx, qy, qz, qw, x, y, z):  # type: ignore[no-untyped-def]
    """A vector turned by a quaternion."""
    ux, uy, uz = _cross(qx, qy, qz, x, y, z)
    vx, vy, vz = _cross(qx, qy, qz, ux, uy, uz)
    return (
        x + 2.0 * (qw * ux + vx),
        y + 2.0 * (qw * uy + vy),
        z + 2.0 * (qw * uz + vz),
    )


@kernel
def _square_to(ax, ay, az, ux, uy, uz):  # type: ignore[no-untyped-def]
    """A direction made square to a unit one, any such where it lies along it."""
    along = ax * ux + ay * uy + az * uz
    x, y, z = ax - along * ux, ay - along * uy, az - along * uz
    if np.sqrt(x * x + y * y + z * z) < 1e-9:
        ex, ey, ez = 0.0, 0.0, 0.0
        if abs(ux) <= abs(uy) and abs(ux) <= abs(uz):
            ex = 1.0
        elif abs(uy) <= abs(uz):
            ey = 1.0
        else:
            ez = 1.0
        x, y, z = _cross(ux, uy, uz, ex, ey, ez)
    return _unit(x, y, z)


@kernel
def _smoothstep(x, low, high):  # type: ignore[no-untyped-def]
    t = min(max((x - low) / (high - low), 0.0), 1.0)
    return t * t * (3.0 - 2.0 * t)


@kernel
def _arc(ax, ay, az, bx, by, bz, hx, hy, hz):  # type: ignore[no-untyped-def]
    """The shortest turn of one direction into another; half a turn about ``h`` if opposite."""
    if np.sqrt(ax * ax + ay * ay + az * az) < TINY or np.sqrt(bx * bx + by * by + bz * bz) < TINY:
        return 0.0, 0.0, 0.0, 1.0
    ux, uy, uz = _unit(ax, ay, az)
    vx, vy, vz = _unit(bx, by, bz)
    x, y, z = _cross(ux, uy, uz, vx, vy, vz)
    w = 1.0 + ux * vx + uy * vy + uz * vz
    size = np.sqrt(x * x + y * y + z * z + w * w)
    if size < 1e-9:
        sx, sy, sz = _square_to(hx, hy, hz, ux, uy, uz)
        return sx, sy, sz, 0.0
    return x / size, y / size, z / size, w / size


@kernel
def arcs(a: Floats, b: Floats, axis: Floats, out: Floats) -> None:
    """Shortest turns ``(F, 4)`` of directions ``a`` into ``b``, about ``axis`` if opposite."""
    for f in range(a.shape[0]):
        out[f, 0], out[f, 1], out[f, 2], out[f, 3] = _arc(
            a[f, 0], a[f, 1], a[f, 2], b[f, 0], b[f, 1], b[f, 2], axis[f, 0], axis[f, 1], axis[f, 2]
        )


@kernel
def reach(
    upper: Floats,
    middle: Floats,
    end: Floats,
    parent: Floats,
    hips: Floats,
    knees: Floats,
    ends: Floats,
    targets: Floats,
    hinge: Floats,
    limits: Floats,
    out: Floats,
) -> None:
    """Local rotations ``out (F, 3, 4)`` of limbs given by the world's rotations ``(F, 4)`` of their
    joints and of the parent above, their points ``(F, 3)``, and the usual ``hinge (3,)``.

    ``limits`` are: sines between which the usual hinge gives way, the bend (rad) from which on it
    is another way to bend, the least margin of over-straight ones (rad), the share of softness.
    """
    for f in range(upper.shape[0]):
        hx, hy, hz = hips[f, 0], hips[f, 1], hips[f, 2]
        kx, ky, kz = knees[f, 0] - hx, knees[f, 1] - hy, knees[f, 2] - hz
        lx, ly, lz = (
            ends[f, 0] - knees[f, 0],
            ends[f, 1] - knees[f, 1],
            ends[f, 2] - knees[f, 2],
        )
        long = np.sqrt(kx * kx + ky * ky + kz * kz)
        low = np.sqrt(lx * lx + ly * ly + lz * lz)
        ux, uy, uz = _unit(kx, ky, kz)
        vx, vy, vz = _unit(lx, ly, lz)
        nx, ny, nz = _cross(ux, uy, uz, vx, vy, vz)
        along = ux * vx + uy * vy + uz * vz
        wx, wy, wz = _turned(
            upper[f, 0], upper[f, 1], upper[f, 2], upper[f, 3], hinge[0], hinge[1], hinge[2]
        )
        wx, wy, wz = _square_to(wx, wy, wz, ux, uy, uz)
        # The axis about which this frame bends, and by how much.
        size = np.sqrt(nx * nx + ny * ny + nz * nz)
        own = 1.0 if along < 0.0 else _smoothstep(size, limits[0], limits[1])
        side = -1.0 if nx * wx + ny * wy + nz * wz < 0.0 else 1.0
        mx, my, mz = _unit(nx, ny, nz)
        ax, ay, az = _square_to(
            (1.0 - own) * wx + own * side * mx,
            (1.0 - own) * wy + own * side * my,
            (1.0 - own) * wz + own * side * mz,
            ux,
            uy,
            uz,
        )
        bend = math.atan2(ax * nx + ay * ny + az * nz, along)
        if bend < limits[2]:
            ax, ay, az, bend = -ax, -ay, -az, -bend
        # How far the end can and shall be.
        ex, ey, ez = ends[f, 0] - hx, ends[f, 1] - hy, ends[f, 2] - hz
        tx, ty, tz = targets[f, 0] - hx, targets[f, 1] - hy, targets[f, 2] - hz
        was = np.sqrt(ex * ex + ey * ey + ez * ez)
        wanted = np.sqrt(tx * tx + ty * ty + tz * tz)
        whole = long + low
        soft = max(min(limits[4] * whole, whole - was), 0.0)
        over = wanted - whole + soft
        if over > 0.0:
            wanted = min(whole - soft * math.exp(-over / max(soft, TINY)), whole)
        wanted = max(wanted, abs(long - low))
        across = ax * nx + ay * ny + az * nz
        level = max(np.sqrt(along * along + across * across), TINY)
        bones = max(2.0 * long * low, TINY)
        cosine = (wanted * wanted - long * long - low * low) / bones / level
        angle = math.acos(min(max(cosine, -1.0), 1.0))
        # An over-straight limb stays so as far as it stays nearly straight.
        margin = max(limits[3], -bend)
        back = 2.0 * min(bend, 0.0) * (1.0 - _smoothstep(angle, margin, 2.5 * margin))
        turn = 0.0 if abs(wanted - was) <= TINY * whole else 0.5 * (angle + back - bend)
        s, c = math.sin(turn), math.cos(turn)
        qx, qy, qz, qw = ax * s, ay * s, az * s, c
        dx, dy, dz = _turned(qx, qy, qz, qw, lx, ly, lz)
        sx, sy, sz, sw = _arc(kx + dx, ky + dy, kz + dz, tx, ty, tz, ax, ay, az)
        x1, y1, z1, w1 = _times(sx, sy, sz, sw, upper[f, 0], upper[f, 1], upper[f, 2], upper[f, 3])
        qx, qy, qz, qw = _times(sx, sy, sz, sw, qx, qy, qz, qw)
        x2, y2, z2, w2 = _times(
            qx, qy, qz, qw, middle[f, 0], middle[f, 1], middle[f, 2], middle[f, 3]
        )
        out[f, 0, 0], out[f, 0, 1], out[f, 0, 2], out[f, 0, 3] = _times(
            -parent[f, 0], -parent[f, 1], -parent[f, 2], parent[f, 3], x1, y1, z1, w1
        )
        out[f, 1, 0], out[f, 1, 1], out[f, 1, 2], out[f, 1, 3] = _times(
            -x1, -y1, -z1, w1, x2, y2, z2, w2
        )
        out[f, 2, 0], out[f, 2, 1], out[f, 2, 2], out[f, 2, 3] = _times(
            -x2, -y2, -z2, w2, end[f, 0], end[f, 1], end[f, 2], end[f, 3]
        )
