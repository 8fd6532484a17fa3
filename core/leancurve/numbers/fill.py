"""Values known on some frames, led smoothly over the others."""

from __future__ import annotations

import numpy as np
from scipy.linalg import solve_banded

from leancurve.numbers.arrays import Bools, Floats


def fill(values: Floats, known: Bools, stiffness: Floats) -> Floats:
    """``values (F, n)`` where ``known (F,)``; elsewhere what makes ``Σ s⁴·|D²x|² + |x|²`` least.

    ``stiffness (F,)`` in frames is how softly each frame follows: a value that is let go of dies
    away over about five times as many. Where it is 0 the value is 0 at once.
    """
    count = len(values)
    out = np.where(known[:, None], values, 0.0)
    if count < 3 or np.all(known) or not np.any(known & np.any(values != 0.0, axis=1)):
        return out
    # Each second difference x[i-1] - 2 x[i] + x[i+1] weighs as its middle frame does.
    weight = np.zeros(count)
    weight[1:-1] = stiffness[1:-1] ** 4
    before, after = np.append(weight[1:], 0.0), np.append(0.0, weight[:-1])
    bands = np.zeros((5, count))
    bands[2] = 1.0 + 4.0 * weight + before + after
    beside = -2.0 * (weight[:-1] + weight[1:])
    bands[1, 1:], bands[3, :-1] = beside, beside
    bands[0, 2:] = bands[4, :-2] = weight[1:-1]
    # A known frame's row says its value. Rows stand along the bands' diagonals.
    rows = np.flatnonzero(known)
    for band, shift in enumerate((2, 1, 0, -1, -2)):
        at = rows + shift
        inside = (at >= 0) & (at < count)
        bands[band, at[inside]] = 1.0 if shift == 0 else 0.0
    solved = solve_banded((2, 2), bands, out)
    return np.where(known[:, None], values, solved)
