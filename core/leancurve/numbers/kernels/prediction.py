"""Compiled search for frames that their neighbours on both sides do not predict."""

from __future__ import annotations

import numpy as np

from leancurve.numbers.arrays import Floats
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
                        gap += (x[f + i, j, c] - p) ** 2
                    least = min(least, np.sqrt(gap))
                away[width - 1, f, j] = least
                own[width - 1, f, j] = np.sqrt(total / (2 * around - 4))
