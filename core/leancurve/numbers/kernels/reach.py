"""Compiled foresight: how far one cubic in time can follow a channel from a given start."""

from __future__ import annotations

import numpy as np

from leancurve.numbers.arrays import Floats
from leancurve.numbers.kernels import kernel


@kernel
def cubic_follows(
    y: Floats, a: int, b: int, step: int, value: float, slope: float, tolerance: float
) -> bool:
    """Whether some cubic that starts at frame ``a`` with a value and a slope follows ``y`` to
    frame ``b`` within ``tolerance``; ``step`` is 1 forwards, -1 back in time (the slope too).

    Two coefficients are free. Discrete minimax by exchange (Remez) as in :mod:`minimax`: the
    levelled error of any three points is a bound from below.
    """
    count = (b - a) * step
    if count <= 2:
        return True
    scale = 1.0 / count
    r0, r1, r2 = (count + 2) // 3, (2 * count + 2) // 3, count
    for _ in range(30):
        # e_i = g_i - c2 t² - c3 t³ levelled: +h, -h, +h.
        t0, t1, t2 = r0 * scale, r1 * scale, r2 * scale
        g0 = y[a + step * r0] - value - slope * r0
        g1 = y[a + step * r1] - value - slope * r1
        g2 = y[a + step * r2] - value - slope * r2
        # Divided by t²: g/t² = c2 + c3 t ± h/t², a straight line through three points.
        p0, p1, p2 = g0 / (t0 * t0), g1 / (t1 * t1), g2 / (t2 * t2)
        q0, q1, q2 = 1.0 / (t0 * t0), -1.0 / (t1 * t1), 1.0 / (t2 * t2)
        # Second divided differences of both sides.
        d = (p2 - p1) / (t2 - t1) - (p1 - p0) / (t1 - t0)
        n = (q2 - q1) / (t2 - t1) - (q1 - q0) / (t1 - t0)
        level = d / n
        if np.abs(level) > tolerance:
            return False
        z0, z2 = p0 - level * q0, p2 - level * q2
        c3 = (z2 - z0) / (t2 - t0)
        c2 = z0 - c3 * t0
        worst, at, error_at = -1.0, 0, 0.0
        for k in range(1, count + 1):
            t = k * scale
            error = y[a + step * k] - value - slope * k - (c2 + c3 * t) * t * t
            if np.abs(error) > worst:
                worst, at, error_at = np.abs(error), k, error
        if worst <= tolerance:
            return True
        if worst <= np.abs(level) * (1.0 + 1e-9) + 1e-13:
            return False
        up, first_up = error_at > 0.0, level > 0.0
        if at in (r0, r1, r2):
            return False
        if at < r0:
            if up == first_up:
                r0 = at
            else:
                r2, r1, r0 = r1, r0, at
        elif at < r1:
            if up == first_up:
                r0 = at
            else:
                r1 = at
        elif at < r2:
            if up == first_up:
                r2 = at
            else:
                r1 = at
        elif up == first_up:
            r2 = at
        else:
            r0, r1, r2 = r1, r2, at
    return False


@kernel
def reach_of(
    y: Floats,
    a: int,
    limit: int,
    step: int,
    value: float,
    slope: float,
    tolerance: float,
    guess: int,
) -> int:
    """How many frames from ``a`` towards ``limit`` some cubic follows: gallop, then bisect."""
    most = (limit - a) * step
    if most <= 2:
        return most
    low, high = 2, -1
    trial = min(max(guess, 3), most)
    while True:
        if cubic_follows(y, a, a + step * trial, step, value, slope, tolerance):
            low = trial
            if low == most:
                return most
            if high < 0:
                trial = min(low + max(4, low // 2), most)
                continue
        else:
            high = trial
        if high - low <= max(1, low // 16):
            return low
        trial = (low + high) // 2
