"""The cubic between two points with given slopes."""

from __future__ import annotations

import numpy as np

from leancurve.numbers.arrays import Floats


def hermite(u: Floats, p0: Floats, m0: Floats, p1: Floats, m1: Floats) -> Floats:
    """The cubic from ``p0`` to ``p1`` with the slopes ``m0`` and ``m1``, at ``u`` in [0, 1]."""
    return np.asarray(
        (2 * u**3 - 3 * u**2 + 1) * p0
        + (u**3 - 2 * u**2 + u) * m0
        + (3 * u**2 - 2 * u**3) * p1
        + (u**3 - u**2) * m1
    )
