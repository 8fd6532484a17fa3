"""Compiled minimum of keys: how far a single cubic in time can follow a channel.

``least_keys`` is a provable minimum for curves made of cubics in time. Segments with free
handle lengths are cubics in a parameter of their own, a wider family: on very smooth
channels they can need slightly fewer keys than this minimum.
"""

from __future__ import annotations

import math

import numpy as np

from leancurve.numbers.arrays import Floats, Ints
from leancurve.numbers.kernels import kernel


@kernel
def cubic_fits(y: Floats, a: int, b: int, tolerance: float) -> bool:
    """Whether some cubic polynomial stays within ``tolerance`` of ``y[a..b]``, both included.

    Discrete minimax by exchange (Remez): a levelled error above the tolerance on any five
    points proves that none does (de la Vallée-Poussin), a largest error within it that one does.
    """
    count = b - a + 1
    if count <= 4:
        return True
    ref = np.empty(5, dtype=np.int64)
    for i in range(5):
        ref[i] = int(round((count - 1) * 0.5 * (1.0 - math.cos(np.pi * i / 4.0))))
    if count < 9:
        for i in range(5):
            ref[i] = int(round((count - 1) * i / 4.0))
    scale = 2.0 / (count - 1)
    x = np.empty(5)
    c = np.empty(5)
    for _ in range(40):
        for i in range(5):
            x[i] = ref[i] * scale - 1.0
        top = 0.0
        bottom = 0.0
        sign = 1.0
        for i in range(5):
            weight = 1.0
            for j in range(5):
                if j != i:
                    weight /= x[i] - x[j]
            top += weight * y[a + ref[i]]
            bottom += weight * sign
            sign = -sign
        level = top / bottom
        if np.abs(level) > tolerance:
            return False
        sign = 1.0
        for i in range(4):
            c[i] = y[a + ref[i]] - sign * level
            sign = -sign
        for k in range(1, 4):
            for i in range(3, k - 1, -1):
                c[i] = (c[i] - c[i - 1]) / (x[i] - x[i - k])
        worst = -1.0
        at = 0
        error_at = 0.0
        for f in range(count):
            t = f * scale - 1.0
            p = ((c[3] * (t - x[2]) + c[2]) * (t - x[1]) + c[1]) * (t - x[0]) + c[0]
            error = y[a + f] - p
            if np.abs(error) > worst:
                worst = np.abs(error)
                at = f
                error_at = error
        if worst <= tolerance:
            return True
        if worst <= np.abs(level) * (1.0 + 1e-9) + 1e-13:
            return False
        # Exchange: the worst point takes the place of a neighbour of its own sign.
        up = error_at > 0.0
        first_up = level > 0.0
        if at < ref[0]:
            if up == first_up:
                ref[0] = at
            else:
                for i in range(4, 0, -1):
                    ref[i] = ref[i - 1]
                ref[0] = at
        elif at > ref[4]:
            if up == first_up:
                ref[4] = at
            else:
                for i in range(4):
                    ref[i] = ref[i + 1]
                ref[4] = at
        else:
            i = 0
            while i < 4 and ref[i + 1] <= at:
                i += 1
            if ref[i] == at:
                return False
            left_up = first_up if i % 2 == 0 else not first_up
            if up == left_up:
                ref[i] = at
            else:
                ref[i + 1] = at
    return False


@kernel
def longest_cubic(y: Floats, a: int, last: int, tolerance: float, guess: int) -> int:
    """The farthest frame b ≤ last so that some cubic fits ``y[a..b]``: gallop, then bisect."""
    low = min(a + 3, last)
    if low == last:
        return last
    step = max(4, guess)
    high = low
    while True:
        high = min(low + step, last)
        if cubic_fits(y, a, high, tolerance):
            low = high
            if low == last:
                return last
            step *= 2
        else:
            break
    while high - low > 1:
        middle = (low + high) // 2
        if cubic_fits(y, a, middle, tolerance):
            low = middle
        else:
            high = middle
    return low


@kernel
def least_keys(y: Floats, tolerance: float) -> int:
    """Fewest keys on frames that any curve of cubics in time needs to stay within ``tolerance``.

    Greedy longest stretches are optimal because feasibility only shrinks with length.
    """
    last = y.shape[0] - 1
    if last <= 0:
        return last + 1
    keys = 1
    a = 0
    guess = 32
    while a < last:
        b = longest_cubic(y, a, last, tolerance, guess)
        guess = max(4, (b - a) // 2)
        a = b
        keys += 1
    return keys


@kernel
def _all_fit(y: Floats, a: int, b: int, tolerances: Floats, first: int) -> int:
    """-1 if every channel of ``y (C, F)`` has a cubic over a..b; else one that has none.

    Channel ``first`` is tried first: what failed last is likely to fail again.
    """
    if not cubic_fits(y[first], a, b, tolerances[first]):
        return first
    for c in range(y.shape[0]):
        if c != first and not cubic_fits(y[c], a, b, tolerances[c]):
            return c
    return -1


@kernel
def shared_reach(y: Floats, tolerances: Floats, a: int, last: int, guess: int) -> int:
    """The farthest frame b ≤ last so that some cubic fits every channel of ``y (C, F)`` on a..b."""
    low = min(a + 3, last)
    if low == last:
        return last
    step = max(4, guess)
    high = low
    worst = 0
    while True:
        high = min(low + step, last)
        failed = _all_fit(y, a, high, tolerances, worst)
        if failed < 0:
            low = high
            if low == last:
                return last
            step *= 2
        else:
            worst = failed
            break
    while high - low > 1:
        middle = (low + high) // 2
        failed = _all_fit(y, a, middle, tolerances, worst)
        if failed < 0:
            low = middle
        else:
            worst = failed
            high = middle
    return low


@kernel
def least_shared(y: Floats, tolerances: Floats) -> int:
    """Fewest key times on frames that channels ``y (C, F)`` need if they share all of them."""
    last = y.shape[1] - 1
    if last <= 0:
        return last + 1
    keys = 1
    a = 0
    guess = 32
    while a < last:
        b = shared_reach(y, tolerances, a, last, guess)
        guess = max(4, (b - a) // 2)
        a = b
        keys += 1
    return keys


@kernel
def shared_times(
    y: Floats, tolerances: Floats, fixed: Ints, pull: Floats, back: float, out: Ints
) -> int:
    """Key times for channels ``y (C, F)`` that share them: as far apart as cubics reach.

    ``fixed`` frames, ascending, the first and last among them, are times in any case. Each
    other time is put on the frame with the greatest ``pull (F,)`` in the last share ``back`` of
    its reach. Fills ``out``, returns how many.
    """
    count = 1
    out[0] = fixed[0]
    guess = 32
    for i in range(fixed.shape[0] - 1):
        a = fixed[i]
        last = fixed[i + 1]
        while a < last:
            b = shared_reach(y, tolerances, a, last, guess)
            guess = max(4, (b - a) // 2)
            if b < last:
                best = b
                for f in range(b - int(back * (b - a)), b):
                    if f > a and pull[f] > pull[best]:
                        best = f
                b = best
            a = b
            out[count] = b
            count += 1
    return count
