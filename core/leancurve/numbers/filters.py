"""Filters along time for vectors ``(F, n)``: adaptive, and the classics.

All keep the number of frames, do not shift in time and do not shrink the ends: the classics see
the signal turned about its end points (odd extension). SciPy is imported where it is called: half
of the time that a process needs to start would be its.
"""

from __future__ import annotations

from functools import lru_cache

import numpy as np

from leancurve.numbers.arrays import Floats, Ints

WINDOWS_S = (0.033, 0.042, 0.058, 0.083, 0.117, 0.158, 0.217, 0.3)
GAIN = 2.4
"""Width of the confidence intervals; with wider ones windows grow and contacts are blunted."""


@lru_cache(maxsize=16)
def _windows(rate: float) -> tuple[Ints, Floats]:
    """Lengths ``(3, K)`` and weights ``(3, K, longest)`` of the adaptive filter's windows."""
    one_sided = sorted({max(4, round(s * rate)) for s in WINDOWS_S})
    around = sorted({2 * max(2, round(s * rate / 2)) + 1 for s in WINDOWS_S})
    steps = min(len(one_sided), len(around))
    one_sided, around = one_sided[-steps:], around[-steps:]
    lengths = np.array([one_sided, one_sided, around], dtype=np.int64)
    weights = np.zeros((3, steps, int(lengths.max())))
    for kind, at in enumerate((-1, 0, None)):
        for k, length in enumerate(lengths[kind].tolist()):
            here = length // 2 if at is None else at % length
            t = (np.arange(length) - here) / length
            weights[kind, k, :length] = np.linalg.pinv(np.vander(t, 3))[2]
    return lengths, weights


def adaptive(x: Floats, rate: float, sigma: Floats) -> Floats:
    """Local quadratic smoothing whose window follows the motion: see the kernel.

    ``sigma (F,)`` is the noise's standard deviation per component of ``x (F, n)``.
    """
    from leancurve.numbers.kernels import adaptive as compiled  # numba loads late

    lengths, weights = _windows(rate)
    out = np.empty_like(x)
    compiled.smooth(np.ascontiguousarray(x), sigma, lengths, weights, GAIN, out)
    return out


def _extended(x: Floats, pad: int) -> tuple[Floats, int]:
    """The signal continued at both ends, turned about its end points."""
    pad = min(pad, len(x) - 1)
    if pad <= 0:
        return x, 0
    before = 2 * x[:1] - x[pad:0:-1]
    after = 2 * x[-1:] - x[-2 : -pad - 2 : -1]
    return np.concatenate([before, x, after]), pad


def butterworth(x: Floats, rate: float, cutoff_hz: float, order: int = 2) -> Floats:
    """Zero-phase low pass: a Butterworth filter of ``order`` run forwards and backwards.

    The cut-off is that of both passes together: each is raised by (√2 - 1)^(-1/(2·order)), so
    that the two together stand 3 dB down at ``cutoff_hz`` (Winter, Biomechanics).
    """
    from scipy import signal  # scipy loads late

    single = cutoff_hz / (np.sqrt(2.0) - 1.0) ** (1.0 / (2 * order))
    if single >= 0.499 * rate or len(x) < 4:
        return x.copy()
    sections = signal.butter(order, single, fs=rate, output="sos")
    wide, pad = _extended(x, int(3 * rate / cutoff_hz))
    out = signal.sosfiltfilt(sections, wide, axis=0, padtype=None)
    return np.asarray(out[pad : pad + len(x)])


def savitzky_golay(x: Floats, rate: float, window_s: float, degree: int = 2) -> Floats:
    """Least-squares polynomial of ``degree`` in a running window (Savitzky and Golay 1964)."""
    from scipy import signal  # scipy loads late

    length = 2 * max(1, round(window_s * rate / 2)) + 1
    if length <= degree or len(x) < 2:
        return x.copy()
    wide, pad = _extended(x, length)
    if len(wide) < length:
        return x.copy()
    return np.asarray(signal.savgol_filter(wide, length, degree, axis=0)[pad : pad + len(x)])


def gaussian(x: Floats, rate: float, sigma_s: float) -> Floats:
    """Weighted mean, weights a normal curve of standard deviation ``sigma_s`` seconds."""
    from scipy import ndimage  # scipy loads late

    wide, pad = _extended(x, int(np.ceil(4 * sigma_s * rate)))
    out = ndimage.gaussian_filter1d(wide, sigma_s * rate, axis=0, mode="nearest")
    return np.asarray(out[pad : pad + len(x)])


def suggested_cutoff(x: Floats, rate: float) -> float:
    """A Butterworth cut-off in Hz by residual analysis (Winter, Biomechanics).

    The root mean square left over is found for cut-offs up to a sixth of the rate. Where only
    noise is left over it falls along a straight line; that line's height at 0 Hz is the noise,
    and the cut-off whose residual equals it balances noise let through and motion cut away.
    """
    highest = min(24.0, rate / 6.0)
    tried = np.linspace(1.0, highest, 16)
    left = np.array([np.sqrt(np.mean((x - butterworth(x, rate, float(f))) ** 2)) for f in tried])
    tail = tried >= 0.55 * highest
    slope, noise = np.polyfit(tried[tail], left[tail], 1)
    if slope >= 0 or noise <= 0:
        return float(highest)
    under = np.flatnonzero(left <= noise)
    if len(under) == 0:
        return float(highest)
    k = int(under[0])
    if k == 0:
        return float(tried[0])
    share = (left[k - 1] - noise) / max(left[k - 1] - left[k], 1e-15)
    return float(tried[k - 1] + share * (tried[k] - tried[k - 1]))
