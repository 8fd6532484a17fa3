"""Compiled fit of one smooth segment: its handle lengths, and what of its ends is free."""

from __future__ import annotations

import numpy as np

from leancurve.numbers.arrays import Floats
from leancurve.numbers.kernels import kernel
from leancurve.numbers.kernels.lengths import worst_error
from leancurve.numbers.kernels.segments import solve_time

MIN_LENGTH = 0.02
SAMPLES = 24
"""Samples of a segment that guide its fit; the bound is then checked on every one."""
ROUNDS = 16
"""Gauss-Newton steps a fit may take: the first 5 plain, then reweighted."""


@kernel
def _solve(m: Floats, v: Floats, n: int) -> bool:
    """Solve the n × n system in place by Gauss elimination with pivoting."""
    for i in range(n):
        pivot = i
        for r in range(i + 1, n):
            if np.abs(m[r, i]) > np.abs(m[pivot, i]):
                pivot = r
        if np.abs(m[pivot, i]) < 1e-300:
            return False
        if pivot != i:
            for c in range(n):
                m[i, c], m[pivot, c] = m[pivot, c], m[i, c]
            v[i], v[pivot] = v[pivot], v[i]
        for r in range(i + 1, n):
            factor = m[r, i] / m[i, i]
            if factor != 0.0:
                for c in range(i, n):
                    m[r, c] -= factor * m[i, c]
                v[r] -= factor * v[i]
    for i in range(n - 1, -1, -1):
        for c in range(i + 1, n):
            v[i] -= m[i, c] * v[c]
        v[i] /= m[i, i]
    return True


@kernel
def _clamp(value: float, low: float, high: float) -> float:
    return min(max(value, low), high)


@kernel
def fit_segment(
    y: Floats,
    a: int,
    b: int,
    tolerance: float,
    p: Floats,
    free_start: bool,
    free_end: bool,
    slope_hint: float,
    hinted: bool,
    value_room: float,
    value_centre: float,
) -> bool:
    """Fit segment ``p = (v0, s0, l0, v1, s1, l1)`` to ``y[a..b]``; True if within tolerance.

    The start's value is fixed; its slope is fitted if ``free_start``; value and slope of the
    end are fitted if ``free_end`` (value within ``value_room`` of ``value_centre``, slope
    drawn to ``slope_hint`` if ``hinted``). Damped Gauss-Newton, then weights that grow where
    the error is large (Lawson), which moves least squares towards least maximum.
    """
    span = float(b - a)
    count = b - a + 1
    taken = min(count, SAMPLES)
    x = np.empty(taken)
    at = np.empty(taken)
    target = np.empty(taken)
    weight = np.ones(taken)
    error = np.empty(taken)
    for i in range(taken):
        f = (i * (count - 1)) // (taken - 1)
        x[i] = f / span
        at[i] = x[i]
        target[i] = y[a + f]
    # Unknowns: l0, l1, start handle rise, end value, end handle rise.
    free = np.zeros(5, dtype=np.bool_)
    free[0] = True
    free[1] = True
    free[2] = free_start
    free[3] = free_end and value_room > 0.0
    free[4] = free_end
    rise0 = p[1] * p[2] * span
    rise1 = p[4] * p[5] * span
    best = 1e300
    kept = p.copy()
    m = np.empty((5, 5))
    g = np.empty(5)
    damping = 1e-3
    previous = 1e300
    l0, l1, v1 = p[2], p[5], p[3]
    keep_l0, keep_l1, keep_v1, keep_r0, keep_r1 = l0, l1, v1, rise0, rise1
    for iteration in range(ROUNDS):
        s0 = p[1] * span
        s1 = p[4] * span
        if not free_start:
            rise0 = s0 * l0
        if not free_end:
            rise1 = s1 * l1
        g0, g1, g2, g3, g4 = 0.0, 0.0, 0.0, 0.0, 0.0
        m00, m01, m02, m03, m04 = 0.0, 0.0, 0.0, 0.0, 0.0
        m11, m12, m13, m14 = 0.0, 0.0, 0.0, 0.0
        m22, m23, m24 = 0.0, 0.0, 0.0
        m33, m34 = 0.0, 0.0
        m44 = 0.0
        cost = 0.0
        largest = 0.0
        v0 = p[0]
        q1, q2 = 3.0 * l0, 3.0 * (1.0 - l1)
        c3, c2 = 1.0 + q1 - q2, q2 - 2.0 * q1
        for i in range(taken):
            # Where the sample was in the round before, led on by Newton: near is enough.
            u = at[i]
            for _ in range(3):
                off = ((c3 * u + c2) * u + q1) * u - x[i]
                speed = (3.0 * c3 * u + 2.0 * c2) * u + q1
                if speed > 1e-3:
                    u -= off / speed
            if not 0.0 <= u <= 1.0 or np.abs(off) > 1e-6:
                u = solve_time(x[i], l0, l1)
            at[i] = u
            w = 1.0 - u
            a0 = 3.0 * w * w * u
            a1 = 3.0 * w * u * u
            u3 = u * u * u
            value = w * w * w * v0 + a0 * (v0 + rise0) + a1 * (v1 - rise1) + u3 * v1
            e = target[i] - value
            dy = 3.0 * (w * w * rise0 + 2.0 * w * u * (v1 - rise1 - v0 - rise0) + u * u * rise1)
            dx = 3.0 * (w * w * l0 + 2.0 * w * u * (1.0 - l1 - l0) + u * u * l1)
            slope = dy / max(dx, 1e-6)
            error[i] = e
            if np.abs(e) > largest:
                largest = np.abs(e)
            cost += weight[i] * e * e
            j0 = -a0 * slope if free_start else a0 * (s0 - slope)
            j1 = a1 * slope if free_end else a1 * (slope - s1)
            j2, j3, j4 = a0, a1 + u3, -a1
            k = weight[i]
            wj0, wj1, wj2, wj3, wj4 = k * j0, k * j1, k * j2, k * j3, k * j4
            g0 += wj0 * e
            m00 += wj0 * j0
            m01 += wj0 * j1
            m02 += wj0 * j2
            m03 += wj0 * j3
            m04 += wj0 * j4
            g1 += wj1 * e
            m11 += wj1 * j1
            m12 += wj1 * j2
            m13 += wj1 * j3
            m14 += wj1 * j4
            g2 += wj2 * e
            m22 += wj2 * j2
            m23 += wj2 * j3
            m24 += wj2 * j4
            g3 += wj3 * e
            m33 += wj3 * j3
            m34 += wj3 * j4
            g4 += wj4 * e
            m44 += wj4 * j4
        g[0], g[1], g[2], g[3], g[4] = g0, g1, g2, g3, g4
        m[0, 0], m[0, 1], m[0, 2], m[0, 3], m[0, 4] = m00, m01, m02, m03, m04
        m[1, 1], m[1, 2], m[1, 3], m[1, 4] = m11, m12, m13, m14
        m[2, 2], m[2, 3], m[2, 4] = m22, m23, m24
        m[3, 3], m[3, 4] = m33, m34
        m[4, 4] = m44
        if hinted:
            # The end slope is also the next segment's start: a soft pull keeps it sane.
            k = 0.01 * taken
            gap = slope_hint * l1 * span - rise1
            g[4] += k * gap
            m[4, 4] += k
            cost += k * gap * gap
        if largest < best:
            best = largest
            kept[1] = rise0 / (l0 * span) if free_start else p[1]
            kept[2] = l0
            kept[3] = v1
            kept[4] = rise1 / (l1 * span) if free_end else p[4]
            kept[5] = l1
            if largest <= tolerance and worst_error(y, a, b, kept, tolerance) <= tolerance:
                p[:] = kept
                return True
        lawson = iteration >= 5
        if not lawson and cost > previous * (1.0 + 1e-9):
            l0, l1, v1, rise0, rise1 = keep_l0, keep_l1, keep_v1, keep_r0, keep_r1
            damping = damping * 30.0
            if damping > 1e4:
                break
            continue
        if iteration == 5 and best > 2.2 * tolerance:
            break
        if lawson and best > 1.5 * tolerance and iteration > 9:
            break
        previous = cost
        damping = max(damping * 0.2, 1e-7)
        keep_l0, keep_l1, keep_v1, keep_r0, keep_r1 = l0, l1, v1, rise0, rise1
        if iteration >= 4 and largest > 0.0:
            total = 0.0
            for i in range(taken):
                weight[i] *= 0.15 + np.abs(error[i]) / largest
                total += weight[i]
            for i in range(taken):
                weight[i] *= taken / total
            previous = 1e300
        for r in range(5):
            for c in range(r):
                m[r, c] = m[c, r]
        for r in range(5):
            if free[r]:
                m[r, r] += damping * m[r, r] + 1e-12
            else:
                m[r, :] = 0.0
                m[:, r] = 0.0
                m[r, r] = 1.0
                g[r] = 0.0
        if not _solve(m, g, 5):
            break
        limit = 0.35
        l0 = _clamp(l0 + _clamp(g[0], -limit, limit), MIN_LENGTH, 1.0)
        l1 = _clamp(l1 + _clamp(g[1], -limit, limit), MIN_LENGTH, 1.0)
        rise0 += g[2]
        v1 = _clamp(v1 + g[3], value_centre - value_room, value_centre + value_room)
        rise1 += g[4]
    p[:] = kept
    return False


@kernel
def local_slope(y: Floats, f: int, half: int, low: int, high: int) -> float:
    """Slope a frame at ``f`` of the least-squares cubic over f ± half, within low..high."""
    reach = min(half, f - low, high - f)
    if reach >= 2:
        # Symmetric window: the odd moments decouple (Savitzky and Golay 1964, cubic).
        m2 = 0.0
        m4 = 0.0
        m6 = 0.0
        b1 = 0.0
        b3 = 0.0
        for k in range(1, reach + 1):
            d = y[f + k] - y[f - k]
            k2 = float(k) * k
            m2 += 2.0 * k2
            m4 += 2.0 * k2 * k2
            m6 += 2.0 * k2 * k2 * k2
            b1 += k * d
            b3 += k * k2 * d
        det = m2 * m6 - m4 * m4
        if det > 1e-9:
            return (b1 * m6 - b3 * m4) / det
        return b1 / m2
    first, last = max(low, f - half), min(high, f + half)
    if last - first < 1:
        return 0.0
    if last - first < 3:
        return (y[last] - y[first]) / (last - first)
    # At a border: least-squares quadratic about f.
    s = np.zeros(5)
    r = np.zeros(3)
    for k in range(first, last + 1):
        t = float(k - f)
        power = 1.0
        for i in range(5):
            s[i] += power
            if i < 3:
                r[i] += power * y[k]
            power *= t
    m = np.empty((3, 3))
    for i in range(3):
        for c in range(3):
            m[i, c] = s[i + c]
    _solve(m, r, 3)
    return r[1]
