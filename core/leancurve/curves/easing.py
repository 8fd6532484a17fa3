"""Easing: how a change comes in and goes out, as the CSS easing functions say it.

CSS Easing Functions Level 1 (W3C), section 2.2: a cubic Bezier from (0, 0) to (1, 1) with the
points (x1, y1) and (x2, y2), x1 and x2 in [0, 1].
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from leancurve.errors import BadInput
from leancurve.numbers.arrays import Floats

EasingName = Literal["linear", "ease", "ease-in", "ease-out", "ease-in-out", "cubic-bezier"]


@dataclass(frozen=True)
class Easing:
    """A share of progress for a share of time, both from 0 to 1."""

    x1: float
    y1: float
    x2: float
    y2: float

    def _parameter(self, x: Floats) -> Floats:
        """The Bezier's parameter at ``x``, by bisection: time never runs back."""
        low, high = np.zeros_like(x), np.ones_like(x)
        for _ in range(54):
            u = (low + high) / 2.0
            late = _bezier(u, self.x1, self.x2) > x
            low, high = np.where(late, low, u), np.where(late, u, high)
        return np.asarray((low + high) / 2.0)

    def at(self, x: Floats) -> Floats:
        """Progress at ``x``; 0 before 0 and 1 after 1."""
        inside = np.clip(np.asarray(x, dtype=np.float64), 0.0, 1.0)
        out = _bezier(self._parameter(inside), self.y1, self.y2)
        return np.where(inside <= 0.0, 0.0, np.where(inside >= 1.0, 1.0, out))

    def slope(self, x: Floats) -> Floats:
        """Progress a unit of ``x``; 0 outside."""
        x = np.asarray(x, dtype=np.float64)
        u = self._parameter(np.clip(x, 0.0, 1.0))
        along = np.maximum(_speed(u, self.x1, self.x2), 1e-9)
        return np.where((x < 0.0) | (x > 1.0), 0.0, _speed(u, self.y1, self.y2) / along)


def _bezier(u: Floats, a: float, b: float) -> Floats:
    w = 1.0 - u
    return np.asarray(3.0 * w * w * u * a + 3.0 * w * u * u * b + u**3)


def _speed(u: Floats, a: float, b: float) -> Floats:
    w = 1.0 - u
    return np.asarray(3.0 * w * w * a + 6.0 * w * u * (b - a) + 3.0 * u * u * (1.0 - b))


EASINGS = {
    "linear": Easing(1 / 3, 1 / 3, 2 / 3, 2 / 3),
    "ease": Easing(0.25, 0.1, 0.25, 1.0),
    "ease-in": Easing(0.42, 0.0, 1.0, 1.0),
    "ease-out": Easing(0.0, 0.0, 0.58, 1.0),
    "ease-in-out": Easing(0.42, 0.0, 0.58, 1.0),
}


def easing_of(name: EasingName, bezier: str | None = None) -> Easing:
    """The easing of a name; ``cubic-bezier`` takes ``"x1, y1, x2, y2"``."""
    if name != "cubic-bezier":
        return EASINGS[name]
    try:
        x1, y1, x2, y2 = (float(part) for part in (bezier or "").split(","))
    except ValueError:
        raise BadInput(f"bezier: expected four numbers x1, y1, x2, y2, got {bezier!r}") from None
    if not (0.0 <= x1 <= 1.0 and 0.0 <= x2 <= 1.0):
        raise BadInput(f"bezier: x1 and x2 must lie in [0, 1], got {x1:g} and {x2:g}")
    return Easing(x1, y1, x2, y2)
