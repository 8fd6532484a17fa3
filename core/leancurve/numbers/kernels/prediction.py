"""Compiled search for frames that their neighbours on both sides do not predict."""

from __future__ import annotations

import numpy as np

from leancurve.numbers.arrays import Floats, Ints
from leancurve.numbers.kernels import kernel


@kernel
def disagreement(x: Floats, inside: Floats, residual: Floats, away: Floats, own: Floats) -> None:
    """How far frames are from their prediction, and how well the predictors agree themselves.

    ``x (F, J, n)``; for each width w the least distance of the frames f … f + w - 1 from the
    cubic through the samples around them goes to ``away[w - 1, f, j]``, the root mean square of
    that cubic's own residuals (four degrees of freedom taken off) to ``own``.
    """
    frames, columns, size = x.shape
    most = inside.shape[0]
    around = inside.shape[2] // 2
    rows = np.empty(2 * around, dtype=np.int64)
    for j in range(columns):
        for width in range(1, most + 1):
            for f in range(around, frames - around - width + 1):
                for k in range(around):
                    rows[k] = f - around + k
                    rows[around + k] = f + width + k
                total = 0.0
                for k in range(residual.shape[1]):
                    for c in range(size):
                        r = 0.0
                        for m in range(2 * around):
                            r += residual[width - 1, k, m] * x[rows[m], j, c]
                        total += r * r
                least = np.inf
                for i in range(width):
                    gap = 0.0
                    for c in range(size):
                        p = 0.0
                        for m in range(2 * around):
                            p += inside[width - 1, i, m] * x[rows[m], j, c]
                        gap += (x[f + i, j, c] - p) * (x[f + i, j, c] - p)
                    least = min(least, np.sqrt(gap))
                away[width - 1, f, j] = least
                own[width - 1, f, j] = np.sqrt(total / (2 * around - 4))


@kernel
def close_pairs(
    x: Floats,
    places: Ints,
    rows: Ints,
    inside: Floats,
    residual: Floats,
    least: float,
    ratio: float,
    best: Floats,
) -> None:
    """Two blocks of frames, close together, which the samples around and between contradict.

    ``x (F, J, n)``; ``places (N, 2)`` frame and column where a first block may begin; ``rows``
    widths and the gap between them. To ``best (N, 4)`` go, for the pair that stands out most:
    how much, its row, and the least distance from the prediction in either block; 0 for none.
    """
    frames, _, size = x.shape
    samples = np.empty(inside.shape[2], dtype=np.int64)
    around = inside.shape[2] // 3
    for k in range(len(places)):
        f, j = places[k, 0], places[k, 1]
        for p in range(len(rows)):
            one, gap, two = rows[p, 0], rows[p, 1], rows[p, 2]
            length = one + gap + two
            if f < around or f + length + around > frames:
                continue
            for m in range(around):
                samples[m] = f - around + m
                samples[around + gap + m] = f + length + m
            for m in range(gap):
                samples[around + m] = f + one + m
            count = 2 * around + gap
            first, second = np.inf, np.inf
            for i in range(one + two):
                at = f + i if i < one else f + gap + i
                off = 0.0
                for c in range(size):
                    predicted = 0.0
                    for m in range(count):
                        predicted += inside[p, i, m] * x[samples[m], j, c]
                    off += (x[at, j, c] - predicted) * (x[at, j, c] - predicted)
                off = np.sqrt(off)
                if i < one:
                    first = min(first, off)
                else:
                    second = min(second, off)
                if off <= least:
                    break
            smaller = min(first, second)
            if smaller <= least or second == np.inf:
                continue
            most = (smaller / ratio) * (smaller / ratio) * (count - 4)
            total = 0.0
            for r in range(count - 4):
                for c in range(size):
                    part = 0.0
                    for m in range(count):
                        part += residual[p, r, m] * x[samples[m], j, c]
                    total += part * part
                if total >= most:
                    break
            if total >= most:
                continue
            score = smaller / (np.sqrt(total / (count - 4)) + 0.02 * least)
            if score > best[k, 0]:
                best[k, 0], best[k, 1], best[k, 2], best[k, 3] = score, p, first, second
