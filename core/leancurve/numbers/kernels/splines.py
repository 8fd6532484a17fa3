"""Compiled sums for cubic splines fitted by least squares, of rotations or of places."""

from __future__ import annotations

import numpy as np

from leancurve.numbers.arrays import Floats, Ints
from leancurve.numbers.kernels import kernel


@kernel
def segment_sums(wanted: Floats, begins: Ints, ends: Ints, turns: bool) -> tuple[Floats, Floats]:
    """What segments from one step to another ask of their two tangents, by least squares.

    ``wanted (N, D)`` are values at even steps. Of rotations (``turns``) only what lies across the
    quaternion counts. Returns the blocks ``(S, 3, D, D)`` of the tangent going out, of both and of
    the one coming in, and the right sides ``(S, 2, D)``; tangents are by the step.
    """
    dims = wanted.shape[1]
    blocks, sides = np.zeros((len(begins), 3, dims, dims)), np.zeros((len(begins), 2, dims))
    rest, across = np.zeros(dims), np.zeros(dims)
    for k in range(len(begins)):
        begin, end = begins[k], ends[k]
        width = float(end - begin)
        for n in range(begin + 1, end):
            t = (n - begin) / width
            h01 = t * t * (3.0 - 2.0 * t)
            h10, h11 = width * t * (1.0 - t) * (1.0 - t), -width * t * t * (1.0 - t)
            along = 0.0
            for i in range(dims):
                rest[i] = (1.0 - h01) * wanted[begin, i] + h01 * wanted[end, i] - wanted[n, i]
                along += rest[i] * wanted[n, i]
            for i in range(dims):
                across[i] = rest[i] - (along * wanted[n, i] if turns else 0.0)
                sides[k, 0, i] -= h10 * across[i]
                sides[k, 1, i] -= h11 * across[i]
                for j in range(dims):
                    a = 1.0 if i == j else 0.0
                    if turns:
                        a -= wanted[n, i] * wanted[n, j]
                    blocks[k, 0, i, j] += a * h10 * h10
                    blocks[k, 1, i, j] += a * h10 * h11
                    blocks[k, 2, i, j] += a * h11 * h11
    return blocks, sides


@kernel
def normal_equations(
    wanted: Floats, keys: Ints, gives: Ints, takes: Ints, blocks: Floats, sides: Floats,
    weights: Floats, turns: bool, pull: float,
) -> tuple[Floats, Floats]:  # fmt: skip
    """The banded normal equations of a spline's tangents, from its segments' sums and weights
    ``(K - 1,)``.

    A segment's tangent going out of a key is unknown number ``gives[k]``, the one coming into it
    ``takes[k]``: these are the same number where a key is smooth. Along a quaternion, where nothing
    else holds it, a tangent is pulled to the derivative. Returns the upper bands ``(2 D, n D)`` as
    :func:`scipy.linalg.solveh_banded` takes them, and the right side ``(n D,)``.
    """
    dims = wanted.shape[1]
    count = takes[-1] + 1 if takes[-1] > gives[-1] else gives[-1] + 1
    bands = np.zeros((2 * dims, count * dims))
    right = np.zeros(count * dims)
    last = 2 * dims - 1
    for k in range(len(keys) - 1):
        one, other, share = gives[k] * dims, takes[k + 1] * dims, weights[k]
        for i in range(dims):
            right[one + i] += share * sides[k, 0, i]
            right[other + i] += share * sides[k, 1, i]
            for j in range(dims):
                if j >= i:
                    bands[last - (j - i), one + j] += share * blocks[k, 0, i, j]
                    bands[last - (j - i), other + j] += share * blocks[k, 2, i, j]
                bands[last - (other + j - one - i), other + j] += share * blocks[k, 1, i, j]
    for k in range(len(keys)):
        here = keys[k]
        for side in range(2):
            own = gives[k] if side else takes[k]
            if side and own == takes[k]:
                continue
            before, after = max(here - 1, 0), min(here + 1, len(wanted) - 1)
            if gives[k] != takes[k]:
                before, after = (here, after) if side else (before, here)
            gap = float(max(after - before, 1))
            for i in range(dims):
                for j in range(dims):
                    same = 1.0 if i == j else 0.0
                    held = wanted[here, i] * wanted[here, j] if turns else same
                    hold = pull * held + 1e-12 * same
                    if j >= i:
                        bands[last - (j - i), own * dims + j] += hold
                    moved = (wanted[after, j] - wanted[before, j]) / gap
                    right[own * dims + i] += hold * moved
    return bands, right


@kernel
def strays(
    wanted: Floats, keys: Ints, gives: Floats, takes: Floats, turns: bool
) -> tuple[Floats, Floats, Ints]:
    """How far a spline strays from what is wanted in each segment: at most ``(K - 1,)``, by its
    root mean square, and the step of the middle half that is farthest off.

    ``gives`` and ``takes (K, D)`` are the tangents out of and into each key. Degrees for rotations,
    as a reader that normalises sees them; the wanted values' own unit otherwise.
    """
    dims = wanted.shape[1]
    count = len(keys) - 1
    most, square = np.zeros(count), np.zeros(count)
    where = np.zeros(count, dtype=np.int64)
    made = np.zeros(dims)
    for k in range(count):
        begin, end = keys[k], keys[k + 1]
        width = float(end - begin)
        middle = -1.0
        where[k] = (begin + end) // 2
        for n in range(begin + 1, end):
            t = (n - begin) / width
            h00, h01 = 1.0 - t * t * (3.0 - 2.0 * t), t * t * (3.0 - 2.0 * t)
            h10, h11 = width * t * (1.0 - t) * (1.0 - t), -width * t * t * (1.0 - t)
            size = 0.0
            for i in range(dims):
                made[i] = (
                    h00 * wanted[begin, i] + h10 * gives[k, i]
                    + h01 * wanted[end, i] + h11 * takes[k + 1, i]
                )  # fmt: skip
                size += made[i] * made[i]
            off = 0.0
            if turns:
                # The chord between unit quaternions of one sign: small angles keep their digits.
                size = 1.0 / np.sqrt(max(size, 1e-30))
                for i in range(dims):
                    off += (made[i] * size - wanted[n, i]) ** 2
            else:
                for i in range(dims):
                    off += (made[i] - wanted[n, i]) ** 2
            square[k] += off
            most[k] = max(most[k], off)
            if 4 * (n - begin) >= end - begin and 4 * (end - n) >= end - begin and off > middle:
                middle, where[k] = off, n
        square[k] = np.sqrt(square[k] / max(end - begin - 1, 1))
        most[k] = np.sqrt(most[k])
        if turns:
            square[k] = np.degrees(4.0 * np.arcsin(min(0.5 * square[k], 1.0)))
            most[k] = np.degrees(4.0 * np.arcsin(min(0.5 * most[k], 1.0)))
    return most, square, where
