"""Compiled fitting of few smooth cubic segments to a sampled channel, within a tolerance."""

from __future__ import annotations

import numpy as np

from leancurve.numbers.arrays import Floats, Ints
from leancurve.numbers.kernels import kernel
from leancurve.numbers.kernels.free_ends import fit_segment, local_slope
from leancurve.numbers.kernels.lengths import fit_lengths
from leancurve.numbers.kernels.minimax import longest_cubic
from leancurve.numbers.kernels.reach import reach_of
from leancurve.numbers.kernels.segments import segment_value

SNUG = 0.8
"""Share of the tolerance within which a cubic in time has to go on from a key: of ends that reach
as far, the one that leaves more room (measured: 1 and 0.6 need more keys)."""
VALUE_ROOM = 0.9
"""How far from its sample a fitted key may lie, as a share of the tolerance."""
TRIALS, PATIENT = 9, 3
"""How many ends are tried for the farthest one, and how many before one that is known to do."""
BESIDE = 2
"""How many frames an extreme's key, and the turn of the curve, may lie beside the extreme."""


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
def _start_slope(
    y: Floats, a: int, limit: int, step: int, value: float, tolerance: float, guess: int
) -> float:
    """Of slopes at frame ``a`` read from the samples on one side of it, the one from which a
    cubic follows ``y`` farthest."""
    low, high = (a, limit) if step > 0 else (limit, a)
    best, farthest = 0.0, -1
    for half in (2, 4, 8, 14):
        slope = local_slope(y, a, half, low, high)
        far = reach_of(y, a, limit, step, value, step * slope, tolerance, guess)
        if far > farthest:
            best, farthest = slope, far
    return best


@kernel
def _slope_at(y: Floats, f: int, which: int, low: int, high: int, tolerance: float) -> float:
    """Slopes that a key may be given, the likeliest first."""
    if which < 3:
        return local_slope(y, f, (4, 2, 7)[which], low, high)
    if which < 5:
        return local_slope(y, f, 2, low, high) + (0.25 if which == 3 else -0.25) * tolerance
    return local_slope(y, f, 4, low, high) + (0.125 if which == 5 else -0.125) * tolerance


@kernel
def _value_at(y: Floats, f: int, which: int, tolerance: float) -> float:
    """Values that a key may be given: its sample, then half a tolerance to either side."""
    if which == 0:
        return y[f]
    return y[f] + (0.5 if which == 1 else -0.5) * tolerance


@kernel
def fit_between(
    y: Floats,
    first: int,
    last: int,
    start: Floats,
    end: Floats,
    soonest: Ints,
    latest: Ints,
    tolerances: Floats,
    effort: Ints,
    frames: Ints,
    keys: Floats,
) -> int:
    """Smooth keys from frame ``first`` to ``last``, as few as looking ahead finds.

    ``start`` and ``end`` are ``(value, slope, slope is free)``. Between the two are stops:
    in order of ``latest``, a key lies from frame ``soonest[k]`` to ``latest[k]`` in any case, and
    one key may serve several. ``tolerances`` are those of the parts that the stops make.
    ``effort`` begins with ``(cuts, slopes, values, fits)``: how many frames before the farthest,
    how many slopes and values a key is tried with, and how many of these are fitted. Fills
    ``frames[k]`` and ``keys[k] = (value, slope in, length in, slope out, length out)``; returns
    the key count.
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
    guess = 16
    while a < last:
        while part < latest.shape[0] and (soonest[part] <= a or latest[part] >= last):
            part += 1
        limit, window = last, 0
        if part < latest.shape[0]:
            limit = latest[part]
            window = limit - soonest[part]
        tolerance = tolerances[part]
        # A key at a stop belongs to both parts: it lies within the tighter one.
        room = min(tolerance, tolerances[part + 1]) if limit < last else tolerance
        after = latest[part + 1] if part + 1 < latest.shape[0] else last
        free_start = state[2] > 0.0
        if free_start:
            state[1] = _start_slope(y, a, limit, 1, state[0], tolerance, guess)
        far = reach_of(y, a, limit, 1, state[0], state[1], tolerance, guess)
        guess = max(4, far)
        b = -1
        free = longest_cubic(y, a, limit, tolerance, guess)
        if limit - a <= int(1.25 * (free - a)) + 1:
            if limit == last:
                if _to_end(y, a, last, tolerance, state, end, p, good):
                    b = last
            else:
                b = _ahead(
                    y, a, limit, limit, window, first, after, last, tolerance, room, state, effort,
                    p, good,
                )  # fmt: skip
        if b < 0 and limit == last and limit - a <= int(2.6 * far) + 4:
            b = _in_two(y, a, last, far, tolerance, state, end, effort, p, good)
        if b < 0:
            b = _step(y, a, far, free, first, limit, last, tolerance, state, effort, p, good)
        if b < 0:
            # Neighbouring frames always meet in a straight step.
            b = a + 1
            value = end[0] if b == last else y[b]
            rise = value - state[0]
            good[0], good[3] = state[0], value
            good[1] = rise if free_start else state[1]
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
def _between(
    y: Floats,
    a: int,
    b: int,
    tolerance: float,
    state: Floats,
    value: float,
    slope: float,
    p: Floats,
) -> bool:
    """Whether a segment from ``state`` to a key at ``b`` holds; ``p`` is it."""
    p[0], p[1], p[2] = state[0], state[1], 1.0 / 3.0
    p[3], p[4], p[5] = value, slope, 1.0 / 3.0
    return fit_lengths(y, a, b, tolerance, p)


@kernel
def _to_end(
    y: Floats,
    a: int,
    last: int,
    tolerance: float,
    state: Floats,
    end: Floats,
    p: Floats,
    good: Floats,
) -> bool:
    """Whether one segment leads from ``state`` to the given end; ``good`` is it."""
    if state[2] == 0.0 and end[2] == 0.0:
        if _between(y, a, last, tolerance, state, end[0], end[1], p):
            good[:] = p
            return True
        return False
    if _reach(y, a, last, a, last, tolerance, tolerance, state, end, True, p):
        good[:] = p
        return True
    return False


@kernel
def _in_two(
    y: Floats,
    a: int,
    last: int,
    far: int,
    tolerance: float,
    state: Floats,
    end: Floats,
    effort: Ints,
    p: Floats,
    good: Floats,
) -> int:
    """Where a key between ``a`` and ``last`` needs no other beside it, or -1: ``good`` leads to it.

    The key lies where what can be followed from either side meets, in the middle first.
    """
    slope = end[1]
    if end[2] > 0.0:
        slope = _start_slope(y, last, a, -1, end[0], tolerance, far)
    back = reach_of(y, last, a, -1, end[0], -slope, tolerance, far)
    if far + back < int(0.8 * (last - a)):
        return -1
    low = max(a + 1, last - int(1.25 * back) - 1)
    high = min(last - 1, a + int(1.25 * far) + 1)
    if low > high:
        return -1
    # Where both have as much of their reach left.
    middle = a + int(round((last - a) * far / max(far + back, 1)))
    middle = min(max(middle, low), high)
    q = np.empty(6)
    goal = np.empty(3)
    tried = 0
    for away in range(0, 2 * (1 + effort[0]) + 1):
        stride = max(1, (high - low) // 8)
        b = middle + (away + 1) // 2 * stride * (1 if away % 2 == 1 else -1)
        if b < low or b > high:
            continue
        for k in range(effort[1] * effort[2]):
            which = k % effort[1]
            s = _slope_at(y, b, which, a, last, tolerance)
            v = _value_at(y, b, k // effort[1], tolerance)
            tried += 1
            if tried > 3 * effort[3]:
                return -1
            if not _near_enough(y, a, b, v, s, state, tolerance):
                continue
            if not _between(y, a, b, tolerance, state, v, s, p):
                continue
            goal[0], goal[1], goal[2] = v, s, 0.0
            if end[2] == 0.0:
                if _between(y, b, last, tolerance, goal, end[0], end[1], q):
                    good[:] = p
                    return b
            elif _reach(y, b, last, b, last, tolerance, tolerance, goal, end, True, q):
                good[:] = p
                return b
    return -1


@kernel
def _near_enough(
    y: Floats, a: int, b: int, v: float, s: float, state: Floats, tolerance: float
) -> bool:
    """A cheap look before a fit: whether the third-length Hermite is not hopelessly far."""
    span = float(b - a)
    worst = 0.0
    for i in range(1, 4):
        f = a + int(round(span * i / 4.0))
        u = (f - a) / span
        w = 1.0 - u
        h = (
            w * w * (1.0 + 2.0 * u) * state[0]
            + u * w * w * span * state[1]
            + u * u * (3.0 - 2.0 * u) * v
            - u * u * w * span * s
        )
        worst = max(worst, np.abs(y[f] - h))
    return worst <= 12.0 * tolerance


@kernel
def _step(
    y: Floats,
    a: int,
    far: int,
    free: int,
    first: int,
    limit: int,
    last: int,
    tolerance: float,
    state: Floats,
    effort: Ints,
    p: Floats,
    good: Floats,
) -> int:
    """The next key where the way goes on farthest, or -1; ``good`` leads to it."""
    b = _farthest(y, a, far, free, first, limit, last, tolerance, state, p, good)
    if b < 0:
        return -1
    return _ahead(
        y, a, b, limit, 0, first, limit, last, tolerance, tolerance, state, effort, p, good
    )


@kernel
def _ahead(
    y: Floats,
    a: int,
    b: int,
    limit: int,
    window: int,
    first: int,
    after: int,
    last: int,
    tolerance: float,
    room: float,
    state: Floats,
    effort: Ints,
    p: Floats,
    good: Floats,
) -> int:
    """Of keys about ``b``, or in the ``window`` up to ``limit`` where that is it, the one from
    which a cubic follows farthest and that a segment reaches; -1 if none is. ``good``, where it
    already leads to ``b``, is one of them."""
    at_limit = b == limit
    most = (2 * (effort[0] + 2) + window) * effort[1] * effort[2] + 1
    score = np.empty(most)
    frame = np.empty(most, dtype=np.int64)
    value = np.empty(most)
    slope = np.empty(most)
    count = 0
    beyond = -1.0
    if not at_limit:
        beyond = float(
            b + reach_of(y, b, after, 1, good[3], good[4], SNUG * tolerance, max(4, b - a))
        )
    else:
        end = np.empty(3)
        if state[2] > 0.0 and not _reach(
            y, a, b, first, last, tolerance, room, state, end, False, p
        ):
            return -1
    top = b if at_limit else min(b + 2, limit - 1)
    bottom = max(b - (window if at_limit else effort[0]), a + 1)
    for f in range(top, bottom - 1, -1):
        for k in range(effort[1] * effort[2]):
            s = _slope_at(y, f, k % effort[1], first, last, tolerance)
            v = _value_at(y, f, k // effort[1], room)
            goes = f + reach_of(y, f, after, 1, v, s, SNUG * tolerance, max(4, b - a))
            if goes <= beyond:
                continue
            score[count], frame[count], value[count], slope[count] = goes, f, v, s
            count += 1
    for _ in range(min(effort[3], count)):
        k = int(np.argmax(score[:count]))
        if score[k] < 0.0:
            break
        if _between(y, a, frame[k], tolerance, state, value[k], slope[k], p):
            good[:] = p
            return frame[k]
        score[k] = -1.0
    if not at_limit:
        return b
    end = np.empty(3)
    if _reach(y, a, b, first, last, tolerance, room, state, end, False, p):
        good[:] = p
        return b
    return -1


@kernel
def _farthest(
    y: Floats,
    a: int,
    sure: int,
    reach: int,
    first: int,
    limit: int,
    last: int,
    tolerance: float,
    state: Floats,
    p: Floats,
    good: Floats,
) -> int:
    """The farthest frame before ``limit`` a smooth segment from ``state`` was seen to reach, or -1.

    Begins at ``reach``, which some cubic reaches; gallops on while that succeeds, shrinks while it
    fails, soon to the ``sure`` frames that a cubic from ``state`` follows.
    """
    length = float(min(reach, limit - 1) - a)
    low, high = a, limit
    best = -1
    trial = a + int(length)
    end = np.empty(3)
    for attempt in range(TRIALS):
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
            shrunk = a + int((trial - a) * 0.82) if low == a else (low + high) // 2
            known = low == a and attempt >= PATIENT and a + sure < shrunk
            trial = a + sure if known else shrunk
        if high - low <= max(1, int(length * 0.04)):
            break
    return best


@kernel
def _settle(y: Floats, marks: Ints, values: Floats, to: int, tolerance: float) -> None:
    """Put an extreme's key where the curve is followed farthest on both sides of it.

    No more than two frames from the true one, and its value no more than a quarter of the
    tolerance from the extreme's.
    """
    f, value = marks[to], values[to]
    before, after = marks[to - 1], marks[to + 1]
    best = -1
    for away in range(5):
        g = f + (away + 1) // 2 * (1 if away % 2 == 1 else -1)
        if g <= before or g >= after or np.abs(y[g] - value) > 0.25 * tolerance:
            continue
        for side in range(3):
            v = value + (0.0, 0.24, -0.24)[side] * tolerance
            guess = max(4, (after - g) // 2)
            far = reach_of(y, g, after, 1, v, 0.0, SNUG * tolerance, guess)
            far += reach_of(y, g, before, -1, v, 0.0, SNUG * tolerance, guess)
            if far > best:
                best, marks[to], values[to] = far, g, v


@kernel
def _turns(keys: Floats, frames: Ints, count: int, y: Floats, f: int) -> bool:
    """Whether a curve turns within two frames of ``f``, the way the samples do there."""
    low, high = max(f - BESIDE, frames[0]), min(f + BESIDE, frames[count - 1])
    up = 1.0 if 2.0 * y[f] >= y[max(f - BESIDE, 0)] + y[min(f + BESIDE, y.shape[0] - 1)] else -1.0
    k = np.searchsorted(frames[:count], low, side="right") - 1
    first, most, last = 0.0, -1e300, 0.0
    steps = 4 * (high - low)
    for i in range(steps + 1):
        x = low + 0.25 * i
        while k < count - 2 and frames[k + 1] <= x:
            k += 1
        span = float(frames[k + 1] - frames[k])
        u = (x - frames[k]) / span
        v = up * segment_value(
            u,
            span,
            keys[k, 0],
            keys[k, 3],
            keys[k, 4],
            keys[k + 1, 0],
            keys[k + 1, 1],
            keys[k + 1, 2],
        )
        if i == 0:
            first = v
        elif i == steps:
            last = v
        else:
            most = max(most, v)
    return most > max(first, last)


@kernel
def fit_channel(
    y: Floats,
    tolerances: Floats,
    marks: Ints,
    values: Floats,
    kinds: Ints,
    effort: Ints,
    frames: Ints,
    keys: Floats,
    handles: Ints,
) -> int:
    """Keys of a whole channel through its landmarks.

    ``marks`` are the landmarks' frames (the first and last frame among them), ``values``
    their values, ``kinds`` 0 free, 1 flat, 2 broken, 3 flat and held until the next landmark
    that is neither 4 nor 5; 4 passed: a smooth key there, its value fitted; 5 turned: a smooth
    key within two frames, about which the curve turns, or else flat. ``tolerances`` are those
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
    last = marks.shape[0] - 1
    marks, values, kinds = marks.copy(), values.copy(), kinds.copy()
    soonest, latest = marks.copy(), marks.copy()
    settled = np.zeros(last, dtype=np.bool_)
    for k in range(last - 1, 0, -1):
        # Where the tolerance changes, the key parts what is held within either.
        if kinds[k] == 5 and (effort[4] == 0 or tolerances[k - 1] != tolerances[k]):
            kinds[k] = 1
        elif kinds[k] == 5:
            soonest[k] = max(marks[k] - BESIDE, 0)
            latest[k] = min(marks[k] + BESIDE, latest[k + 1])
    while i < last:
        to = i + 1
        while kinds[to] >= 4 and to < last:
            to += 1
        flat = kinds[i] == 1 or kinds[i] == 3
        loose = kinds[to] == 1 and kinds[i] != 3 and to < last and not settled[to]
        if effort[4] and loose and tolerances[to - 1] == tolerances[to]:
            _settle(y, marks, values, to, tolerances[to])
            settled[to] = True
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
                soonest[i + 1 : to],
                latest[i + 1 : to],
                tolerances[i:to],
                effort,
                part_frames,
                part,
            )
            straight = False
            for k in range(i + 1, to):
                if kinds[k] == 5 and not _turns(part, part_frames, count, y, marks[k]):
                    kinds[k], soonest[k], latest[k], straight = 1, marks[k], marks[k], True
            if straight:
                continue
            keys[n, 3], keys[n, 4] = part[0, 3], part[0, 4]
            if i == 0:
                keys[0, 1] = part[0, 1]
        between = 1 if kinds[i] == 3 else 0
        for k in range(1, count):
            n += 1
            frames[n] = part_frames[k]
            keys[n] = part[k]
            handles[n] = between
        handles[n] = kinds[to]
        i = to
    return n + 1
