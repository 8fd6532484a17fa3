"""Compiled fit of one segment between given ends: its two handle lengths alone are free."""

from __future__ import annotations

import numpy as np

from leancurve.numbers.arrays import Floats
from leancurve.numbers.kernels import kernel

SHORTEST = 0.02
SAMPLES = 20
PLAIN = 5
"""Rounds of least squares before weights grow where the error is large (Lawson)."""
ROUNDS = 11


@kernel
def worst_error(y: Floats, a: int, b: int, p: Floats, enough: float) -> float:
    """Largest error of segment ``p = (v0, s0, l0, v1, s1, l1)`` on the frames a..b; stops early
    once it is above ``enough``."""
    span = float(b - a)
    v0, l0, v1, l1 = p[0], p[2], p[3], p[5]
    b1, b2 = v0 + p[1] * l0 * span, v1 - p[4] * l1 * span
    q1, q2 = 3.0 * l0, 3.0 * (1.0 - l1)
    c3, c2 = 1.0 + q1 - q2, q2 - 2.0 * q1
    worst = 0.0
    u = 0.0
    for f in range(a, b + 1):
        x = (f - a) / span
        # Newton from the frame before, held in what is left of the way.
        low, high = u, 1.0
        u = min(u + 1.0 / span, 1.0)
        for _ in range(60):
            error = ((c3 * u + c2) * u + q1) * u - x
            if np.abs(error) < 1e-13:
                break
            if error > 0.0:
                high = u
            else:
                low = u
            slope = (3.0 * c3 * u + 2.0 * c2) * u + q1
            step = u - error / slope if slope > 1e-9 else low - 1.0
            if step <= low or step >= high:
                step = 0.5 * (low + high)
            u = step
        w = 1.0 - u
        v = w * w * w * v0 + 3.0 * w * w * u * b1 + 3.0 * w * u * u * b2 + u * u * u * v1
        error = np.abs(y[f] - v)
        if error > worst:
            worst = error
            if worst > enough:
                return worst
    return worst


@kernel
def fit_lengths(y: Floats, a: int, b: int, tolerance: float, p: Floats) -> bool:
    """Fit ``l0`` and ``l1`` of ``p = (v0, s0, l0, v1, s1, l1)`` to ``y[a..b]``; True if every
    frame lies within ``tolerance``.

    Damped Gauss-Newton on points spread over the parameter, where time is known without solving
    for it; what is found is certified on the frames themselves.
    """
    count = b - a
    if count <= 0:
        return False
    span = float(count)
    v0, s0, v1, s1 = p[0], p[1] * span, p[3], p[4] * span
    l0, l1 = 1.0 / 3.0, 1.0 / 3.0
    taken = min(count + 1, SAMPLES)
    if taken <= 3:
        p[2], p[5] = l0, l1
        return worst_error(y, a, b, p, tolerance) <= tolerance
    weight = np.ones(taken)
    error = np.empty(taken)
    best, best0, best1 = 1e300, l0, l1
    keep0, keep1, previous, damping = l0, l1, 1e300, 1e-3
    for iteration in range(ROUNDS):
        m00, m01, m11, g0, g1, cost, largest = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
        for i in range(1, taken - 1):
            u = i / (taken - 1.0)
            w = 1.0 - u
            a0, a1, u3 = 3.0 * w * w * u, 3.0 * w * u * u, u * u * u
            x = a0 * l0 + a1 * (1.0 - l1) + u3
            f = x * span
            k = min(int(f), count - 1)
            value = y[a + k] + (f - k) * (y[a + k + 1] - y[a + k])
            e = value - (w * w * w * v0 + a0 * (v0 + s0 * l0) + a1 * (v1 - s1 * l1) + u3 * v1)
            error[i] = e
            largest = max(largest, np.abs(e))
            # What the sample itself rises by as its time moves.
            rise = (y[a + k + 1] - y[a + k]) * span
            j0, j1 = a0 * (s0 - rise), a1 * (rise - s1)
            cost += weight[i] * e * e
            m00 += weight[i] * j0 * j0
            m01 += weight[i] * j0 * j1
            m11 += weight[i] * j1 * j1
            g0 += weight[i] * j0 * e
            g1 += weight[i] * j1 * e
        if largest < best:
            best, best0, best1 = largest, l0, l1
            if largest <= tolerance:
                p[2], p[5] = l0, l1
                if worst_error(y, a, b, p, tolerance) <= tolerance:
                    return True
        if iteration == 1 and best > 8.0 * tolerance:
            return False
        if iteration == PLAIN and best > 2.0 * tolerance:
            return False
        if iteration > PLAIN + 2 and best > 1.25 * tolerance:
            return False
        if iteration < PLAIN and cost > previous * (1.0 + 1e-9):
            l0, l1 = keep0, keep1
            damping *= 30.0
            if damping > 1e4:
                break
            continue
        previous = cost
        damping = max(damping * 0.2, 1e-7)
        keep0, keep1 = l0, l1
        if iteration >= PLAIN - 1 and largest > 0.0:
            total = 0.0
            for i in range(1, taken - 1):
                weight[i] *= 0.15 + np.abs(error[i]) / largest
                total += weight[i]
            for i in range(1, taken - 1):
                weight[i] *= (taken - 2) / total
            previous = 1e300
        m00 += damping * m00 + 1e-12
        m11 += damping * m11 + 1e-12
        det = m00 * m11 - m01 * m01
        if det <= 1e-300:
            break
        d0 = (g0 * m11 - g1 * m01) / det
        d1 = (g1 * m00 - g0 * m01) / det
        l0 = min(max(l0 + min(max(d0, -0.35), 0.35), SHORTEST), 1.0)
        l1 = min(max(l1 + min(max(d1, -0.35), 0.35), SHORTEST), 1.0)
    p[2], p[5] = best0, best1
    return worst_error(y, a, b, p, tolerance) <= tolerance
