"""Compiled adaptive smoothing: local quadratics whose window follows the motion."""

from __future__ import annotations

import numpy as np

from leancurve.numbers.arrays import Floats, Ints
from leancurve.numbers.kernels import kernel


@kernel
def smooth(
    x: Floats, sigma: Floats, lengths: Ints, weights: Floats, gain: float, out: Floats
) -> None:
    """Smooth ``x (F, n)`` with noise ``sigma (F,)`` per component into ``out``.

    ``lengths (3, K)`` are window lengths of three kinds: before, after, around; ``weights (3, K,
    longest)`` give the quadratic's value at the frame. In each kind the longest window is taken
    whose estimates all agree within ``gain`` standard deviations (intersection of confidence
    intervals: Goldenshluger and Nemirovski 1997; Katkovnik 1999). The three kinds are then
    weighed by the inverse of their variance.
    """
    frames, size = x.shape
    kinds, steps = lengths.shape
    low = np.empty(size)
    high = np.empty(size)
    value = np.empty(size)
    kept = np.empty(size)
    for f in range(frames):
        total = 0.0
        for c in range(size):
            out[f, c] = 0.0
        for kind in range(kinds):
            for c in range(size):
                low[c] = -np.inf
                high[c] = np.inf
            spread = 0.0
            for k in range(steps):
                length = lengths[kind, k]
                start = f - length + 1
                if kind == 1:
                    start = f
                elif kind == 2:
                    start = f - length // 2
                if start < 0 or start + length > frames:
                    break
                squares = 0.0
                for i in range(length):
                    squares += weights[kind, k, i] * weights[kind, k, i]
                for c in range(size):
                    value[c] = 0.0
                for i in range(length):
                    w = weights[kind, k, i]
                    for c in range(size):
                        value[c] += w * x[start + i, c]
                deviation = sigma[f] * np.sqrt(squares)
                agrees = True
                for c in range(size):
                    low[c] = max(low[c], value[c] - gain * deviation)
                    high[c] = min(high[c], value[c] + gain * deviation)
                    if low[c] > high[c]:
                        agrees = False
                if not agrees:
                    break
                spread = squares
                for c in range(size):
                    kept[c] = value[c]
            if spread > 0.0:
                for c in range(size):
                    out[f, c] += kept[c] / spread
                total += 1.0 / spread
        for c in range(size):
            if total > 0.0:
                out[f, c] /= total
            else:
                out[f, c] = x[f, c]
