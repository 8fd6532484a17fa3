"""Compiled search for the frames of a channel where an animator wants keys."""

from __future__ import annotations

import numpy as np

from leancurve.numbers.arrays import Bools, Floats, Ints
from leancurve.numbers.kernels import kernel
from leancurve.numbers.kernels.minimax import cubic_fits


@kernel
def extremes(y: Floats, prominence: float, out: Bools) -> None:
    """Mark turning points that the channel leaves by at least ``prominence`` on both sides.

    On a plateau its middle frame is taken.
    """
    n = y.shape[0]
    if n < 3:
        return
    low, high = 0, 0
    direction = 0
    for f in range(1, n):
        if y[f] > y[high]:
            high = f
        if y[f] < y[low]:
            low = f
        if direction >= 0 and y[high] - y[f] >= prominence:
            if direction > 0:
                out[_middle(y, high)] = True
            direction = -1
            low, high = f, f
        elif direction <= 0 and y[f] - y[low] >= prominence:
            if direction < 0:
                out[_middle(y, low)] = True
            direction = 1
            low, high = f, f
        if direction > 0:
            low = f if y[f] < y[low] else low
        elif direction < 0:
            high = f if y[f] > y[high] else high


@kernel
def _middle(y: Floats, f: int) -> int:
    last = f
    while last + 1 < y.shape[0] and y[last + 1] == y[f]:
        last += 1
    return (f + last) // 2


@kernel
def _rise_and_bend(y: Floats, a: int, b: int) -> tuple[float, float]:
    """How far the least-squares parabola over a..b travels, and how far it bends off its chord."""
    size = b - a + 1
    centre = 0.5 * (size - 1)
    line = 0.0
    square = 0.0
    curve = 0.0
    fourth = 0.0
    m2 = 0.0
    for f in range(size):
        m2 += (f - centre) * (f - centre)
    m2 /= size
    for f in range(size):
        d = f - centre
        q = d * d - m2
        line += d * y[a + f]
        square += d * d
        curve += q * y[a + f]
        fourth += q * q
    rise = line / square * (size - 1)
    bend = curve / fourth * centre * centre if fourth > 0.0 else 0.0
    return rise, bend


@kernel
def holds(y: Floats, room: float, travel: float, shortest: int, out: Ints) -> int:
    """Spans ``out[k] = (first, last)`` in which the channel rests; returns how many.

    A rest stays within ``room`` for at least ``shortest`` frames, and what it moves there is
    neither travel nor a turn: its least-squares parabola rises and bends by at most
    ``travel``. A slow travel cut by ``room`` into pieces uses all of it to rise, the top of a
    slow swing all of it to bend.
    """
    n = y.shape[0]
    count = 0
    a = 0
    while a + shortest <= n:
        low, high = y[a], y[a]
        b = a
        while b + 1 < n:
            v = y[b + 1]
            if max(high, v) - min(low, v) > room:
                break
            low, high = min(low, v), max(high, v)
            b += 1
        size = b - a + 1
        if size < shortest:
            a += 1
            continue
        rise, bend = _rise_and_bend(y, a, b)
        if np.abs(rise) <= travel and np.abs(bend) <= travel:
            out[count, 0], out[count, 1] = a, b
            count += 1
            a = b + 1
        else:
            a += max(1, size // 4)
    return count


@kernel
def one_sided_weights(window: int) -> Floats:
    """Weights on samples 0..window whose sum is the slope at 0 of their least-squares quadratic."""
    s = np.zeros(5)
    for k in range(window + 1):
        power = 1.0
        for i in range(5):
            s[i] += power
            power *= k
    a, b, c, d, e = s[0], s[1], s[2], s[3], s[4]
    det = a * (c * e - d * d) - b * (b * e - c * d) + c * (b * d - c * c)
    out = np.empty(window + 1)
    for k in range(window + 1):
        t = float(k)
        out[k] = (-(b * e - c * d) + (a * e - c * c) * t - (a * d - b * c) * t * t) / det
    return out


@kernel
def breaks(y: Floats, window: int, smallest: float, tolerance: float, out: Bools) -> None:
    """Mark frames where the speed changes at once, as at a contact.

    The slopes of one-sided quadratic fits over ``window`` frames before and after are
    compared; a break bends the curve by at least ``smallest`` over the window, stands out from
    the bending a window away on either side, and no cubic follows it within ``tolerance``.
    """
    n = y.shape[0]
    if n < 4 * window + 3:
        return
    weights = one_sided_weights(window)
    bend = np.zeros(n)
    for f in range(window, n - window):
        after = 0.0
        before = 0.0
        for k in range(window + 1):
            after += weights[k] * y[f + k]
            before -= weights[k] * y[f - k]
        bend[f] = np.abs(after - before) * window
    for f in range(2 * window, n - 2 * window):
        if bend[f] < smallest:
            continue
        peak = True
        for k in range(-window, window + 1):
            if bend[f + k] > bend[f] or (bend[f + k] == bend[f] and k < 0):
                peak = False
                break
        if not peak or bend[f] <= 2.5 * max(bend[f - window], bend[f + window]):
            continue
        out[f] = not cubic_fits(y, f - window, f + window, tolerance)


@kernel
def unfollowed(y: Floats, frames: Ints, window: int, tolerance: float, out: Bools) -> None:
    """Which of some frames break a channel: no cubic follows it about them within ``tolerance``."""
    last = y.shape[0] - 1
    for i in range(frames.shape[0]):
        f = frames[i]
        out[i] = not cubic_fits(y, max(f - window, 0), min(f + window, last), tolerance)


@kernel
def fourth_difference(y: Floats) -> float:
    """The median of the absolute fourth differences of ``y (F,)``, of five frames or more."""
    size = np.empty(y.shape[0] - 4)
    for f in range(size.shape[0]):
        size[f] = np.abs(
            ((y[f + 4] - y[f + 3]) - (y[f + 3] - y[f + 2]))
            - ((y[f + 3] - y[f + 2]) - (y[f + 2] - y[f + 1]))
            - (
                ((y[f + 3] - y[f + 2]) - (y[f + 2] - y[f + 1]))
                - ((y[f + 2] - y[f + 1]) - (y[f + 1] - y[f]))
            )
        )
    return np.median(size)
