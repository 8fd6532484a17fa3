"""Nearly the fewest keys that smooth segments need: dynamic programming, for short stretches.

Every frame may be a key, with each of some slopes and values; a segment's two handle lengths are
fitted (:func:`leancurve.numbers.kernels.lengths.fit_lengths`). States are opened by their number
of keys, so the first to reach the last frame needs the fewest of this grid.
"""

from __future__ import annotations

import numpy as np
from leancurve.numbers.arrays import Floats, Ints
from leancurve.numbers.kernels import kernel
from leancurve.numbers.kernels.free_ends import local_slope
from leancurve.numbers.kernels.lengths import fit_lengths
from leancurve.numbers.kernels.minimax import longest_cubic


@kernel
def _fewest(y: Floats, tolerance: float, slopes: Floats, values: Floats, reach: Ints) -> int:
    """``slopes (F, S)`` and ``values (F, V)`` a key may have; ``reach (F,)`` as far as is tried."""
    n, s, v = y.shape[0], slopes.shape[1], values.shape[1]
    count = np.full((n, s * v), 1 << 30)
    count[0, :] = 1
    p = np.empty(6)
    best = 1 << 30
    for level in range(1, n + 1):
        for a in range(n - 1):
            for i in range(s * v):
                if count[a, i] != level or level + 1 >= best:
                    continue
                for b in range(min(reach[a], n - 1), a, -1):
                    for j in range(s * v):
                        if count[b, j] <= level + 1:
                            continue
                        p[0], p[1] = values[a, i // s], slopes[a, i % s]
                        p[3], p[4] = values[b, j // s], slopes[b, j % s]
                        if fit_lengths(y, a, b, tolerance, p):
                            count[b, j] = level + 1
                            if b == n - 1:
                                best = min(best, level + 1)
        if best <= level + 1:
            break
    return best


def keys(y: Floats, tolerance: float, slopes: int = 8, values: int = 3) -> int:
    """Fewest keys for ``y (F,)``; up to 8 slopes and 3 values a key are tried."""
    n = len(y)
    own = [[local_slope(y, f, half, 0, n - 1) for half in (4, 2, 7)] for f in range(n)]
    table = np.array(own)
    mean = table.mean(axis=1, keepdims=True)
    steps = tolerance * np.array([0.25, -0.25])
    near = tolerance * np.array([0.125, -0.125])
    table = np.concatenate([table, mean, table[:, 1:2] + steps, table[:, :1] + near], axis=1)
    room = np.stack([y, y + tolerance / 2, y - tolerance / 2], axis=1)
    # Free lengths reach somewhat farther than a cubic in time.
    far = [min(n - 1, a + int(1.3 * (longest_cubic(y, a, n - 1, tolerance, 16) - a)) + 2)
           for a in range(n - 1)]  # fmt: skip
    return int(
        _fewest(
            y,
            tolerance,
            np.ascontiguousarray(table[:, :slopes]),
            np.ascontiguousarray(room[:, :values]),
            np.array([*far, n - 1], dtype=np.int64),
        )
    )
