"""Compiled loops over frames and joints: Euler to quaternion, kinematics, continuity."""

from __future__ import annotations

import math

import numpy as np

from leancurve.numbers.arrays import Bools, Floats, Ints
from leancurve.numbers.kernels import kernel


@kernel
def euler_to_quat(angles: Floats, axes: Ints, out: Floats) -> None:
    """Degrees ``(F, J, 3)`` to ``(F, J, 4)``; axes ``(J, 3)``: 0 X, 1 Y, 2 Z, -1 none."""
    half = np.pi / 360.0
    for f in range(angles.shape[0]):
        for j in range(angles.shape[1]):
            x, y, z, w = 0.0, 0.0, 0.0, 1.0
            for k in range(3):
                axis = axes[j, k]
                if axis < 0:
                    continue
                s = math.sin(angles[f, j, k] * half)
                c = math.cos(angles[f, j, k] * half)
                if axis == 0:
                    x, y, z, w = x * c + w * s, y * c + z * s, z * c - y * s, w * c - x * s
                elif axis == 1:
                    x, y, z, w = x * c - z * s, y * c + w * s, z * c + x * s, w * c - y * s
                else:
                    x, y, z, w = x * c + y * s, y * c - x * s, z * c + w * s, w * c - z * s
            out[f, j, 0], out[f, j, 1], out[f, j, 2], out[f, j, 3] = x, y, z, w


@kernel
def quat_to_euler(rotations: Floats, i: int, j: int, k: int, sign: float, out: Floats) -> None:
    """Unit quaternions ``(N, 4)`` to degrees ``(N, 3)`` of three different axes, intrinsic: ``k``,
    ``j``, ``i`` as they are listed, ``sign`` that of their permutation read backwards. As
    :func:`leancurve.numbers.rotation.to_euler` does it (Bernardes and Viollet 2022)."""
    tiny = 1e-12
    degrees = 180.0 / np.pi
    for n in range(rotations.shape[0]):
        w = rotations[n, 3]
        a = w - rotations[n, j]
        b = rotations[n, i] + rotations[n, k] * sign
        c = rotations[n, j] + w
        d = rotations[n, k] * sign - rotations[n, i]
        middle = 2.0 * math.atan2(math.sqrt(c * c + d * d), math.sqrt(a * a + b * b))
        half_sum = math.atan2(b, a)
        half_diff = math.atan2(d, c)
        first = half_sum - half_diff
        third = half_sum + half_diff
        if abs(middle) < tiny:
            third, first = 2.0 * half_sum, 0.0
        elif abs(middle - np.pi) < tiny:
            third, first = 2.0 * half_diff, 0.0
        out[n, 0] = degrees * third * sign
        out[n, 1] = degrees * (middle - 0.5 * np.pi)
        out[n, 2] = degrees * first
        for m in range(3):
            out[n, m] -= 360.0 * math.floor((out[n, m] + 180.0) / 360.0)


@kernel
def forward(
    local: Floats, translation: Floats, parents: Ints, rotation_out: Floats, position_out: Floats
) -> None:
    """World rotations and positions from local ones; parents stand before their children."""
    for f in range(local.shape[0]):
        for j in range(local.shape[1]):
            p = parents[j]
            x, y, z, w = local[f, j, 0], local[f, j, 1], local[f, j, 2], local[f, j, 3]
            tx, ty, tz = translation[f, j, 0], translation[f, j, 1], translation[f, j, 2]
            if p >= 0:
                a, b, c, d = (
                    rotation_out[f, p, 0],
                    rotation_out[f, p, 1],
                    rotation_out[f, p, 2],
                    rotation_out[f, p, 3],
                )
                ux = 2.0 * (b * tz - c * ty)
                uy = 2.0 * (c * tx - a * tz)
                uz = 2.0 * (a * ty - b * tx)
                tx += d * ux + b * uz - c * uy + position_out[f, p, 0]
                ty += d * uy + c * ux - a * uz + position_out[f, p, 1]
                tz += d * uz + a * uy - b * ux + position_out[f, p, 2]
                x, y, z, w = (
                    d * x + a * w + b * z - c * y,
                    d * y - a * z + b * w + c * x,
                    d * z + a * y - b * x + c * w,
                    d * w - a * x - b * y - c * z,
                )
            rotation_out[f, j, 0], rotation_out[f, j, 1] = x, y
            rotation_out[f, j, 2], rotation_out[f, j, 3] = z, w
            position_out[f, j, 0], position_out[f, j, 1], position_out[f, j, 2] = tx, ty, tz


@kernel
def relative(world: Floats, parents: Ints, out: Floats) -> None:
    """Local rotations ``out (F, J, 4)`` of the world's; a root's are the world's own."""
    for f in range(world.shape[0]):
        for j in range(world.shape[1]):
            x, y, z, w = world[f, j, 0], world[f, j, 1], world[f, j, 2], world[f, j, 3]
            p = parents[j]
            if p >= 0:
                a, b, c, d = -world[f, p, 0], -world[f, p, 1], -world[f, p, 2], world[f, p, 3]
                x, y, z, w = (
                    d * x + a * w + b * z - c * y,
                    d * y - a * z + b * w + c * x,
                    d * z + a * y - b * x + c * w,
                    d * w - a * x - b * y - c * z,
                )
            out[f, j, 0], out[f, j, 1], out[f, j, 2], out[f, j, 3] = x, y, z, w


@kernel
def placed(world: Floats, offsets: Floats, parents: Ints, out: Floats) -> None:
    """Places ``out (F, J, 3)`` of joints at ``offsets (J, 3)`` from their parents, given all of the
    world's rotations ``(F, J, 4)``; a root is at its own offset."""
    for f in range(world.shape[0]):
        for j in range(world.shape[1]):
            tx, ty, tz = offsets[j, 0], offsets[j, 1], offsets[j, 2]
            p = parents[j]
            if p >= 0:
                a, b, c, d = world[f, p, 0], world[f, p, 1], world[f, p, 2], world[f, p, 3]
                ux = 2.0 * (b * tz - c * ty)
                uy = 2.0 * (c * tx - a * tz)
                uz = 2.0 * (a * ty - b * tx)
                tx += d * ux + b * uz - c * uy + out[f, p, 0]
                ty += d * uy + c * ux - a * uz + out[f, p, 1]
                tz += d * uz + a * uy - b * ux + out[f, p, 2]
            out[f, j, 0], out[f, j, 1], out[f, j, 2] = tx, ty, tz


@kernel
def _turns(step: float) -> float:
    """Whole turns to add so that a step becomes the nearest one: -round(step / 360)."""
    if -180.0 <= step <= 180.0:
        return 0.0
    return -np.floor(step / 360.0 + 0.5)


@kernel
def continuous(angles: Floats, base: float, out: Floats, swapped: Bools, wraps: Ints) -> None:
    """Choose per frame between the two equal Euler solutions of one joint, and unwrap.

    ``angles`` and ``out`` are ``(F, 3)`` degrees, ``base`` 180 for orders of three
    different axes, else 0. ``swapped[f]`` says that the solution changes between frames
    f - 1 and f of the input, ``wraps[f, k]`` that channel k jumps there by that many turns.
    """
    for k in range(3):
        out[0, k] = angles[0, k]
    alternate = False
    for f in range(1, angles.shape[0]):
        same = 0.0
        cross = 0.0
        for k in range(3):
            step = angles[f, k] - angles[f - 1, k]
            if k == 1:
                other = base - angles[f, k] - angles[f - 1, k]
            else:
                other = step + 180.0
            step += 360.0 * _turns(step)
            other += 360.0 * _turns(other)
            same += step * step
            cross += other * other
        # Equal within rounding is no reason to change: the solution that is there stays.
        change = cross < same - 1e-6
        swapped[f] = change
        if change:
            alternate = not alternate
        for k in range(3):
            value = angles[f, k]
            if alternate:
                value = base - value if k == 1 else value + 180.0
            out[f, k] = value + 360.0 * _turns(value - out[f - 1, k])
            if not change:
                wraps[f, k] = int(_turns(angles[f, k] - angles[f - 1, k]))


@kernel
def continuous_joints(
    angles: Floats, bases: Floats, out: Floats, swapped: Bools, wraps: Ints
) -> None:
    """:func:`continuous` for joints ``(J, F, 3)``."""
    for j in range(angles.shape[0]):
        continuous(angles[j], bases[j], out[j], swapped[j], wraps[j])


@kernel
def turn_further(
    rotations: Floats, where: Ints, vectors: Floats, weight: Floats, shares: Floats
) -> None:
    """Rotations ``(F, J, 4)`` of joints ``where (n,)`` turned further, in place, by ``exp`` of
    vectors ``(F, n, 3)`` in degrees, times ``weight (F,)`` and ``shares (n,)``, about their own
    axes."""
    for f in range(rotations.shape[0]):
        if weight[f] == 0.0:
            continue
        for n in range(len(where)):
            k = weight[f] * shares[n] * np.pi / 360.0
            a, b, c = k * vectors[f, n, 0], k * vectors[f, n, 1], k * vectors[f, n, 2]
            half = np.sqrt(a * a + b * b + c * c)
            if half == 0.0:
                continue
            scale = math.sin(half) / half
            bx, by, bz, bw = scale * a, scale * b, scale * c, math.cos(half)
            j = where[n]
            ax, ay, az, aw = (
                rotations[f, j, 0],
                rotations[f, j, 1],
                rotations[f, j, 2],
                rotations[f, j, 3],
            )
            rotations[f, j, 0] = aw * bx + ax * bw + ay * bz - az * by
            rotations[f, j, 1] = aw * by - ax * bz + ay * bw + az * bx
            rotations[f, j, 2] = aw * bz + ax * by - ay * bx + az * bw
            rotations[f, j, 3] = aw * bw - ax * bx - ay * by - az * bz
