"""Compiled fitting of few smooth cubic segments to a sampled channel, within a tolerance."""

from __future__ import annotations

import numpy as np

from leancurve.numbers.arrays import Floats, Ints
from leancurve.numbers.kernels import kernel
from leancurve.numbers.kernels.minimax import longest_cubic
from leancurve.numbers.kernels.segments import segment_value, solve_time

MIN_LENGTH = 0.02
SAMPLES = 40
"""Samples of a segment that guide its fit; the bound is then checked on every one."""
ROUNDS = 16
"""Gauss-Newton steps a fit may take: the first 5 plain, then reweighted."""
VALUE_ROOM = 0.9
"""How far from its sample a fitted key may lie, as a share of the tolerance."""


@kernel
def _worst(y: Floats, a: int, b: int, p: Floats) -> float:
    """Largest error of segment ``p = (v0, s0, l0, v1, s1, l1)`` on every frame of a..b."""
    span = float(b - a)
    worst = 0.0
    for f in range(a, b + 1):
        v = segment_value((f - a) / span, span, p[0], p[1], p[2], p[3], p[4], p[5])
        error = np.abs(y[f] - v)
        if error > worst:
            worst = error
    return worst


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
    target = np.empty(taken)
    weight = np.ones(taken)
    error = np.empty(taken)
    for i in range(taken):
        f = (i * (count - 1)) // (taken - 1)
        x[i] = f / span
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
    j = np.empty(5)
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
        for r in range(5):
            g[r] = 0.0
            for c in range(5):
                m[r, c] = 0.0
        cost = 0.0
        largest = 0.0
        v0 = p[0]
        for i in range(taken):
            u = solve_time(x[i], l0, l1)
            w = 1.0 - u
            a0 = 3.0 * w * w * u
            a1 = 3.0 * w * u * u
            value = w * w * w * v0 + a0 * (v0 + rise0) + a1 * (v1 - rise1) + u * u * u * v1
            dy = 3.0 * (w * w * rise0 + 2.0 * w * u * (v1 - rise1 - v0 - rise0) + u * u * rise1)
            dx = 3.0 * (w * w * l0 + 2.0 * w * u * (1.0 - l1 - l0) + u * u * l1)
            slope = dy / max(dx, 1e-6)
            e = target[i] - value
            error[i] = e
            if np.abs(e) > largest:
                largest = np.abs(e)
            cost += weight[i] * e * e
            j[0] = -a0 * slope if free_start else a0 * (s0 - slope)
            j[1] = a1 * slope if free_end else a1 * (slope - s1)
            j[2] = a0
            j[3] = a1 + u * u * u
            j[4] = -a1
            for r in range(5):
                if not free[r]:
                    continue
                g[r] += weight[i] * j[r] * e
                for c in range(r, 5):
                    if free[c]:
                        m[r, c] += weight[i] * j[r] * j[c]
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
            if largest <= tolerance and _worst(y, a, b, kept) <= tolerance:
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
        if iteration >= 4:
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
            if free[r]:
                m[r, r] += damping * m[r, r] + 1e-12
            else:
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


@kernel
def _reach(
    y: Floats,
    a: int,
    b: int,
    low: int,
    high: int,
    tolerance: float,
    key_room: float,
    start: Floats,
    end: Floats,
    end_given: bool,
    p: Floats,
) -> bool:
    """Fit a..b from ``start`` to ``end``, each ``(value, slope, slope is free)``.

    A fitted key at b may lie ``key_room`` from its sample at most, as a tolerance. Where the
    end is not given its value and slope are free, the slope drawn towards that of the samples
    around it.
    """
    half = max(2, (b - a) // 4)
    start_free = start[2] > 0.0
    end_free = not end_given or end[2] > 0.0
    p[0] = start[0]
    p[1] = local_slope(y, a, half, low, high) if start_free else start[1]
    p[2] = 1.0 / 3.0
    p[3] = end[0] if end_given else y[b]
    p[4] = local_slope(y, b, half, low, high) if end_free else end[1]
    p[5] = 1.0 / 3.0
    room = 0.0 if end_given else key_room * VALUE_ROOM
    return fit_segment(y, a, b, tolerance, p, start_free, end_free, p[4], not end_given, room, p[3])


@kernel
def fit_between(
    y: Floats,
    first: int,
    last: int,
    start: Floats,
    end: Floats,
    stops: Ints,
    tolerances: Floats,
    frames: Ints,
    keys: Floats,
) -> int:
    """Smooth keys from frame ``first`` to ``last``, greedily as far apart as they may be.

    ``start`` and ``end`` are ``(value, slope, slope is free)``. At ``stops``, ascending frames
    between the two, there is a smooth key in any case; ``tolerances`` are those of the parts
    that the stops make. Fills ``frames[k]`` and ``keys[k] = (value, slope in, length in, slope
    out, length out)``; returns the key count.
    """
    n = 0
    part = 0
    frames[0] = first
    keys[0, 0] = start[0]
    keys[0, 1] = start[1]
    keys[0, 2] = 1.0 / 3.0
    state = start.copy()
    p = np.empty(6)
    good = np.empty(6)
    a = first
    guess = 32
    while a < last:
        while part < stops.shape[0] and stops[part] <= a:
            part += 1
        limit = stops[part] if part < stops.shape[0] else last
        tolerance = tolerances[part]
        # A key at a stop belongs to both parts: it lies within the tighter one.
        key_room = min(tolerance, tolerances[part + 1]) if limit < last else tolerance
        reach = longest_cubic(y, a, limit, tolerance, guess)
        guess = max(4, (reach - a) // 2)
        b = -1
        if limit <= a + int((reach - a) * 1.25) + 1 and _reach(
            y, a, limit, first, last, tolerance, key_room, state, end, limit == last, p
        ):
            b = limit
            good[:] = p
        if b < 0:
            b = _farthest(y, a, reach, first, limit, last, tolerance, state, end, p, good)
        if b < 0:
            # Neighbouring frames always meet in a straight step.
            b = a + 1
            value = end[0] if b == last else y[b]
            rise = value - state[0]
            good[0], good[3] = state[0], value
            good[1] = rise if state[2] > 0.0 else state[1]
            good[4] = end[1] if b == last and end[2] == 0.0 else rise
            good[2], good[5] = 1.0 / 3.0, 1.0 / 3.0
        keys[n, 3], keys[n, 4] = good[1], good[2]
        if n == 0 and start[2] > 0.0:
            keys[0, 1] = good[1]
        n += 1
        frames[n] = b
        keys[n, 0], keys[n, 1], keys[n, 2] = good[3], good[4], good[5]
        keys[n, 3], keys[n, 4] = good[4], 1.0 / 3.0
        state[0], state[1], state[2] = good[3], good[4], 0.0
        a = b
    return n + 1


@kernel
def _farthest(
    y: Floats,
    a: int,
    reach: int,
    first: int,
    limit: int,
    last: int,
    tolerance: float,
    state: Floats,
    end: Floats,
    p: Floats,
    good: Floats,
) -> int:
    """The farthest frame before ``limit`` a smooth segment from ``state`` was seen to reach, or -1.

    Begins where a cubic reaches; gallops on while that succeeds, shrinks while it fails.
    """
    length = float(min(reach, limit - 1) - a)
    low, high = a, limit
    best = -1
    trial = a + int(length)
    for _ in range(9):
        trial = min(max(trial, low + 1), high - 1)
        if trial <= low or trial >= high:
            break
        if _reach(y, a, trial, first, last, tolerance, tolerance, state, end, False, p):
            low = trial
            good[:] = p
            best = trial
            trial = low + max(1, int(length * 0.12)) if high == limit else (low + high) // 2
        else:
            high = trial
            trial = a + int((trial - a) * 0.82) if low == a else (low + high) // 2
        if high - low <= max(1, int(length * 0.04)):
            break
    return best


@kernel
def fit_channel(
    y: Floats,
    tolerances: Floats,
    marks: Ints,
    values: Floats,
    kinds: Ints,
    frames: Ints,
    keys: Floats,
    handles: Ints,
) -> int:
    """Keys of a whole channel through its landmarks.

    ``marks`` are the landmarks' frames (the first and last frame among them), ``values``
    their values, ``kinds`` 0 free, 1 flat, 2 broken, 3 flat and held until the next landmark
    that is not passed, 4 passed: a smooth key there, its value fitted. ``tolerances`` are those
    of the parts between marks. Fills frames, keys as :func:`fit_between` does, and each key's
    landmark kind.
    """
    n = 0
    start = np.empty(3)
    end = np.empty(3)
    part_frames = np.empty_like(frames)
    part = np.empty_like(keys)
    frames[0] = marks[0]
    keys[0, 0] = values[0]
    keys[0, 1:] = 0.0
    keys[0, 2], keys[0, 4] = 1.0 / 3.0, 1.0 / 3.0
    handles[0] = kinds[0]
    i = 0
    while i < marks.shape[0] - 1:
        to = i + 1
        while kinds[to] == 4 and to < marks.shape[0] - 1:
            to += 1
        flat = kinds[i] == 1 or kinds[i] == 3
        if kinds[i] == 3:
            keys[n, 3], keys[n, 4] = 0.0, 1.0 / 3.0
            count = to - i + 1
            for k in range(1, count):
                part_frames[k] = marks[i + k]
                part[k, 0] = values[to]
                part[k, 1], part[k, 2], part[k, 3], part[k, 4] = 0.0, 1.0 / 3.0, 0.0, 1.0 / 3.0
        else:
            start[0], start[1] = values[i], 0.0
            start[2] = 0.0 if flat else 1.0
            end[0], end[1] = values[to], 0.0
            end[2] = 0.0 if kinds[to] == 1 or kinds[to] == 3 else 1.0
            count = fit_between(
                y,
                marks[i],
                marks[to],
                start,
                end,
                marks[i + 1 : to],
                tolerances[i:to],
                part_frames,
                part,
            )
            keys[n, 3], keys[n, 4] = part[0, 3], part[0, 4]
            if i == 0:
                keys[0, 1] = part[0, 1]
        inner = 1 if kinds[i] == 3 else 0
        for k in range(1, count):
            n += 1
            frames[n] = part_frames[k]
            keys[n] = part[k]
            handles[n] = inner
        handles[n] = kinds[to]
        i = to
    return n + 1
