"""What moves the nodes of a scene: samplers, evaluated at times as glTF 2.0 says."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats, Ints
from leancurve.numbers.cubic import hermite

WIDE = {"translation": 3, "rotation": 4, "scale": 3}
"""Properties of a node that may move, and of how many numbers each is."""


@dataclass(frozen=True)
class Sampler:
    """Keys of one property of a node: seconds ``(K,)``, values ``(K, n)``, and of splines the
    tangents ``(K, 2, n)`` coming in and going out, values a second."""

    seconds: Floats
    values: Floats
    way: str
    tangents: Floats | None = None

    def at(self, seconds: Floats, turns: bool, near: float = 0.0) -> Floats:
        """Values ``(F, n)`` at times (glTF 2.0, appendix C): held before the first and after the
        last key; rotations by slerp the shorter way, and of length one. A time as ``near`` a key
        as that is the key's."""
        if len(seconds) == len(self.seconds) and np.all(np.abs(seconds - self.seconds) <= near):
            return self._lengthened(self.values, turns)
        key = self._nearest(seconds)
        on = np.abs(self.seconds[key] - seconds) <= near
        if np.all(on):
            return self._lengthened(self.values[key], turns)
        seconds = np.where(on, self.seconds[key], seconds)
        k = np.clip(np.searchsorted(self.seconds, seconds, side="right") - 1, 0, None)
        last = len(self.seconds) - 1
        k = np.minimum(k, max(last - 1, 0))
        if last == 0:
            return np.repeat(self._lengthened(self.values, turns), len(seconds), axis=0)
        span = self.seconds[k + 1] - self.seconds[k]
        share = np.clip((seconds - self.seconds[k]) / span, 0.0, 1.0)
        a, b = self.values[k], self.values[k + 1]
        if self.way == "STEP":
            out = np.where((share >= 1.0)[:, None], b, a)
        elif self.way == "CUBICSPLINE":
            out = self._spline(k, share, span)
        elif turns:
            out = rotation.slerp(self._lengthened(a, True), self._lengthened(b, True), share)
        else:
            out = a + share[:, None] * (b - a)
        return self._lengthened(out, turns)

    def _nearest(self, seconds: Floats) -> Ints:
        """The key nearest to each time."""
        after = np.minimum(np.searchsorted(self.seconds, seconds), len(self.seconds) - 1)
        before = np.maximum(after - 1, 0)
        nearer = np.abs(self.seconds[before] - seconds) < np.abs(self.seconds[after] - seconds)
        return np.where(nearer, before, after)

    def _spline(self, k: Ints, share: Floats, span: Floats) -> Floats:
        assert self.tangents is not None
        out, into = span[:, None] * self.tangents[k, 1], span[:, None] * self.tangents[k + 1, 0]
        return hermite(share[:, None], self.values[k], out, self.values[k + 1], into)

    @staticmethod
    def _lengthened(values: Floats, turns: bool) -> Floats:
        if not turns:
            return values
        size = np.sqrt(np.einsum("...k,...k->...", values, values))[..., None]
        return np.asarray(values / np.maximum(size, 1e-12))


@dataclass(frozen=True)
class Animation:
    """A name, and a sampler for each node and property that it moves."""

    name: str
    moves: Mapping[tuple[int, str], Sampler]
    ignored: int
    """Channels of what is not read: weights of morph targets."""


NOTHING = Animation("", {}, 0)
"""What moves nothing."""
