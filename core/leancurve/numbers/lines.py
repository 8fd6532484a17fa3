"""Points and the lines between two others."""

from __future__ import annotations

import numpy as np

from leancurve.numbers.arrays import Floats


def along_and_away(points: Floats, way: Floats) -> tuple[Floats, Floats]:
    """Of points ``(F, 3)`` told from the start of a line: which share of its ``way``, ``(3,)`` or
    ``(F, 3)``, their nearest point on it is at, and how far they are from it, both ``(F,)``."""
    length = np.maximum(np.sum(way * way, axis=-1), 1e-12)
    along = np.clip(np.sum(points * way, axis=-1) / length, 0.0, 1.0)
    return along, np.linalg.norm(points - along[:, None] * way, axis=1)
