"""A change of time: pins that say at which frame shall come what came at another.

Between two pins time goes at one speed, or at a speed that changes smoothly from pin to pin
(monotone cubics after Fritsch and Butland 1984). Before the first pin time is as it was, after the
last one it goes on as it was, later or earlier by as much as that pin was moved.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from leancurve.curves.curve import eased_slopes
from leancurve.errors import BadInput
from leancurve.numbers.arrays import Floats, Ints
from leancurve.numbers.cubic import hermite

STEEPEST = 2.5
"""A pin's speed as a multiple of a neighbouring stretch's: below 3, so that time never stops."""


@dataclass(frozen=True, eq=False)
class Warp:
    """Pins ``(P,)`` in frames, ``source`` where they were, ``target`` where they are."""

    source: Floats
    target: Floats
    smooth: bool = False

    def checked(self) -> Warp:
        """This change of time, or :class:`BadInput` saying what is wrong with its pins."""
        if len(self.source) < 2:
            raise BadInput("pins: expected at least two, at the ends of the span")
        if np.any(np.diff(self.source) <= 0) or np.any(np.diff(self.target) <= 0):
            raise BadInput("pins: no pin may pass or meet another")
        if self.target[0] != self.source[0]:
            raise BadInput("pins: the first one holds what comes before it, and stays")
        return self

    @property
    def later(self) -> float:
        """By how many frames what comes after the last pin is later."""
        return float(self.target[-1] - self.source[-1])

    @cached_property
    def _steps(self) -> Floats:
        return np.asarray(np.diff(self.target) / np.diff(self.source))

    @cached_property
    def speeds(self) -> Floats:
        """New frames for a frame at each pin ``(P,)``, where they change smoothly."""
        slopes = eased_slopes(self.source, self.target)
        slopes[[0, -1]] = 1.0
        most = np.full(len(slopes), np.inf)
        most[:-1] = np.minimum(most[:-1], STEEPEST * self._steps)
        most[1:] = np.minimum(most[1:], STEEPEST * self._steps)
        return np.asarray(np.minimum(slopes, most))

    def _stretch(self, t: Floats, pins: Floats, side: int = 1) -> Ints:
        where = np.searchsorted(pins, t, side="right" if side > 0 else "left")
        return np.clip(where - 1, 0, len(pins) - 2)

    def _within(self, k: Ints, u: Floats) -> Floats:
        h = self.source[k + 1] - self.source[k]
        m = self.speeds
        return hermite(u, self.target[k], h * m[k], self.target[k + 1], h * m[k + 1])

    def to(self, t: Floats) -> Floats:
        """Where frames ``(F,)`` come to lie."""
        t = np.asarray(t, dtype=np.float64)
        k = self._stretch(t, self.source)
        u = np.clip((t - self.source[k]) / (self.source[k + 1] - self.source[k]), 0.0, 1.0)
        straight = self.target[k] + u * (self.target[k + 1] - self.target[k])
        inside = self._within(k, u) if self.smooth else straight
        outside = np.where(t < self.source[0], t, t + self.later)
        return np.where((t < self.source[0]) | (t > self.source[-1]), outside, inside)

    def moved(self, frame: float) -> float:
        """Where one frame comes to lie."""
        return float(self.to(np.array([frame]))[0])

    def back(self, t: Floats) -> Floats:
        """What frames ``(F,)`` of the new time were before."""
        t = np.asarray(t, dtype=np.float64)
        k = self._stretch(t, self.target)
        span = self.target[k + 1] - self.target[k]
        u = np.clip((t - self.target[k]) / span, 0.0, 1.0)
        if self.smooth:
            low, high = np.zeros_like(u), np.ones_like(u)
            for _ in range(50):
                middle = (low + high) / 2
                late = self._within(k, middle) > t
                low, high = np.where(late, low, middle), np.where(late, middle, high)
            u = np.where(u <= 0.0, 0.0, np.where(u >= 1.0, 1.0, (low + high) / 2))
        inside = self.source[k] + u * (self.source[k + 1] - self.source[k])
        outside = np.where(t < self.target[0], t, t - self.later)
        return np.where((t < self.target[0]) | (t > self.target[-1]), outside, inside)

    @cached_property
    def frames(self) -> tuple[Floats, Floats, Floats]:
        """Whole frames of the new time within the pins, what they were, and the rate there."""
        frames = np.arange(np.ceil(self.target[0]), np.floor(self.target[-1]) + 1)
        source = self.back(frames)
        return frames, source, self.rate(source, 1)

    def rate(self, t: Floats, side: int) -> Floats:
        """New frames for a frame, just before (-1) or just after (1) frames ``(F,)``."""
        t = np.asarray(t, dtype=np.float64)
        k = self._stretch(t, self.source, side)
        inside = self._steps[k]
        if self.smooth:
            h = self.source[k + 1] - self.source[k]
            u = np.clip((t - self.source[k]) / h, 0.0, 1.0)
            m = self.speeds
            inside = (
                6 * u * (1 - u) * self._steps[k]
                + (1 - u) * (1 - 3 * u) * m[k]
                + u * (3 * u - 2) * m[k + 1]
            )
        first, last = self.source[0], self.source[-1]
        before = (t < first) | ((t == first) & (side < 0))
        after = (t > last) | ((t == last) & (side > 0))
        return np.where(before | after, 1.0, inside)

    @property
    def kinks(self) -> Floats:
        """Pins at which curves need keys: the ends, and where the speed changes at once."""
        if self.smooth:
            return np.asarray(self.source[[0, -1]])
        around = np.concatenate([[1.0], self._steps, [1.0]])
        return np.asarray(self.source[np.abs(np.diff(around)) > 1e-12])
