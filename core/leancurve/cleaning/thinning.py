"""Key reduction: landmarks, smooth fitting within a tolerance, shared key times.

A bound goes with every layout: the fewest keys that any curve of cubics in time can have.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from leancurve.curves.curve import Handle, KeyedCurve, KeyFlag, Segment
from leancurve.numbers.arrays import Floats, Ints
from leancurve.progress import Progress, silent

FREE, FLAT, BROKEN, HELD, PASSED, TURNED = 0, 1, 2, 3, 4, 5
"""Kinds of landmark, as the fitting kernel reads them: a passed one is a smooth key there, a
turned one a key within two frames of an extreme, flat only where the curve would not turn."""

USUAL: Ints = np.array([3, 3, 1, 16, 1])
FEWEST: Ints = np.array([4, 7, 3, 80, 1])
"""How hard a key is looked for: frames before the farthest, slopes, values, and fits a key; last,
whether an extreme's key may stand beside it."""
ON_TIMES: Ints = np.array([3, 3, 1, 16, 0])

SHORTEST_HOLD_S = 0.2
BREAK_WINDOW_S = 0.08
PROMINENCE = 10.0
LARGE = 30.0
PROMINENT_NOISE = 12.0
"""How many tolerances, and standard deviations of its channel's noise, an extreme stands out by;
a large one stands out by more tolerances."""


@dataclass(frozen=True)
class Landmarks:
    """Frames of a channel that must be keys, ascending, with their values and kinds."""

    frames: Ints
    values: Floats
    kinds: Ints


def find_landmarks(
    values: Floats,
    tolerance: float,
    rate: float,
    *,
    least: float,
    prominence: float = PROMINENCE,
) -> Landmarks:
    """Extremes, ends of holds and velocity breaks that earn their keys.

    Extremes stand out by ``max(prominence × tolerance, least, 12 × noise)``: a wiggle that the
    tolerance or the channel's noise may have made is none. A break is one that no smooth cubic
    follows. Values in the channel's unit, rate in frames a second. Always holds the first and
    last frame. A hold's two ends share its median, so that it truly rests.
    """
    from leancurve.numbers.kernels import landmarks  # numba loads late

    n = len(values)
    kinds = np.full(n, -1, dtype=np.int64)
    at = values.copy()
    noise = noise_level(values)
    turning = np.zeros(n, dtype=np.bool_)
    standing_out = max(prominence * tolerance, least, PROMINENT_NOISE * noise)
    landmarks.extremes(values, standing_out, turning)
    broken = np.zeros(n, dtype=np.bool_)
    window = max(3, round(BREAK_WINDOW_S * rate))
    smallest = max(4.0 * tolerance, least, PROMINENT_NOISE * noise)
    landmarks.breaks(values, window, smallest, tolerance, broken)
    kinds[turning] = TURNED
    kinds[broken] = BROKEN
    shortest = max(4, round(SHORTEST_HOLD_S * rate))
    spans = np.empty((n // shortest + 1, 2), dtype=np.int64)
    # Noise may wander within a hold, as far as the tolerance has room for it.
    room = min(max(0.5 * tolerance, 8.0 * noise), 1.6 * tolerance)
    count = landmarks.holds(values, room, 0.2 * tolerance, shortest, spans)
    for first, last in _left(values, spans[:count].tolist(), smallest):
        rest = _rest(values[first : last + 1], max(0.1 * tolerance, 3.0 * noise), tolerance)
        if rest is None or rest.stop - rest.start < shortest:
            continue
        start, end = first + rest.start, first + rest.stop - 1
        kinds[start : end + 1] = -1
        at[start] = at[end] = np.median(values[start : end + 1])
        kinds[start], kinds[end] = HELD, FLAT
    for border in (0, n - 1):
        if kinds[border] < 0:
            kinds[border] = FREE
    frames = np.flatnonzero(kinds >= 0)
    return Landmarks(frames, at[frames], kinds[frames])


def _left(values: Floats, holds: list[list[int]], least: float) -> list[list[int]]:
    """Of spans of rest those that the channel comes to, or leaves, by at least that much."""
    edges = [0, *(f for hold in holds for f in hold), len(values) - 1]
    out = []
    for k, (first, last) in enumerate(holds):
        level = values[(first + last) // 2]
        before, after = values[edges[2 * k] : first + 1], values[last : edges[2 * k + 3] + 1]
        if max(np.abs(before - level).max(), np.abs(after - level).max()) >= least:
            out.append([first, last])
    return out


def _rest(values: Floats, near: float, tolerance: float) -> slice | None:
    """The part of a found hold that truly rests: without the way in and out of it."""
    away = np.abs(values - np.median(values))
    close = np.flatnonzero(away <= near)
    if len(close) == 0:
        return None
    part = slice(int(close[0]), int(close[-1]) + 1)
    if len(close) < len(values):
        inside = values[part]
        away = np.abs(inside - np.median(inside))
    return part if np.max(away) <= tolerance else None


def truly_broken(values: Floats, frames: Ints, tolerance: float, rate: float) -> Ints:
    """Those of some frames, such as where a contact begins, at which a channel breaks."""
    from leancurve.numbers.kernels import landmarks  # numba loads late

    out = np.zeros(len(frames), dtype=np.bool_)
    window = max(3, round(BREAK_WINDOW_S * rate))
    landmarks.unfollowed(values, frames, window, tolerance, out)
    return frames[out]


def noise_level(values: Floats) -> float:
    """Standard deviation of white noise on a channel, from its fourth differences.

    Robust: 1.4826 × the median absolute difference, which for independent samples has the
    variance 1 + 16 + 36 + 16 + 1 = 70 times the noise's; motion hardly shows in it.
    """
    from leancurve.numbers.kernels import landmarks  # numba loads late

    if len(values) < 5:
        return 0.0
    return float(1.4826 * landmarks.fourth_difference(values) / np.sqrt(70.0))


def borders(values: Floats) -> Landmarks:
    """The first and last frame alone."""
    ends = np.unique(np.array([0, len(values) - 1], dtype=np.int64))
    return Landmarks(ends, values[ends], np.full(len(ends), FREE, dtype=np.int64))


def passing(marks: Landmarks, values: Floats, frames: Ints) -> Landmarks:
    """Landmarks with smooth keys at ``frames`` too, where none stands yet; an extreme's key, which
    else may lie beside it, stays on a frame of these."""
    inner = {f for f in frames.tolist() if 0 < f < len(values) - 1}
    held = (marks.kinds == TURNED) & np.isin(marks.frames, frames)
    marks = Landmarks(marks.frames, marks.values, np.where(held, PASSED, marks.kinds))
    fresh = np.array(sorted(inner.difference(marks.frames.tolist())), dtype=np.int64)
    if len(fresh) == 0:
        return marks
    at = np.concatenate([marks.frames, fresh])
    order = np.argsort(at, kind="stable")
    kinds = np.concatenate([marks.kinds, np.full(len(fresh), PASSED, dtype=np.int64)])
    return Landmarks(at[order], np.concatenate([marks.values, values[fresh]])[order], kinds[order])


@dataclass(frozen=True)
class Channel:
    """A channel to be thinned: values ``(F,)``, tolerance in its unit, landmarks.

    ``share (F,)`` tightens the tolerance over time: 0.5 is half of it; None leaves it.
    """

    values: Floats
    tolerance: float
    marks: Landmarks
    share: Floats | None = None

    def with_tolerance(self, tolerance: float) -> Channel:
        return Channel(self.values, tolerance, self.marks, self.share)

    @property
    def tightest(self) -> float:
        """The least tolerance over time."""
        return self.tolerance * (1.0 if self.share is None else float(self.share.min()))

    @property
    def still(self) -> bool:
        return bool(np.ptp(self.values) <= 0.2 * self.tightest)

    @property
    def at_rest(self) -> Channel:
        """The channel of a joint that stands still: a key at each end is all it needs."""
        return Channel(self.values, self.tightest, borders(self.values))

    @property
    def turns_of_share(self) -> Ints:
        """Frames at which the share changes: keys, so that each part has one tolerance."""
        if self.share is None:
            return np.empty(0, dtype=np.int64)
        return np.flatnonzero(np.diff(self.share)) + 1


def fit(values: Floats, tolerance: float, marks: Landmarks) -> KeyedCurve:
    """Smooth keys through landmarks, never farther than ``tolerance`` from any sample."""
    return fit_channel(Channel(values, tolerance, marks))


def fit_channel(channel: Channel, times: Ints | None = None, effort: Ints = USUAL) -> KeyedCurve:
    """Smooth keys of a channel through its landmarks, and at ``times`` in any case.

    Every frame is evaluated apart from the fit; where one is off by more than its tolerance, a
    key is put there and the channel fitted again.
    """
    marks = passing(channel.marks, channel.values, channel.turns_of_share)
    if times is not None:
        marks = passing(marks, channel.values, times)
    while True:
        curve = _through(channel, marks, effort)
        beyond = _beyond(channel, curve)
        if len(beyond) == 0:
            return curve
        marks = _repaired(marks, channel.values, beyond)


def few_keys(values: Floats, tolerance: float, times: Ints | None = None) -> KeyedCurve:
    """Smooth keys of values ``(F,)`` within a tolerance, at ``times`` in any case; of what stands
    still, one at each end."""
    channel = Channel(values, tolerance, borders(values))
    return fit_channel(channel.at_rest) if channel.still else fit_channel(channel, times)


def _beyond(channel: Channel, curve: KeyedCurve) -> Ints:
    """The worst frame of each span in which a curve breaks the channel's tolerance."""
    error = np.abs(curve.at(np.arange(len(channel.values), dtype=np.float64)) - channel.values)
    limit = channel.tolerance * (1.0 if channel.share is None else channel.share)
    over = error - limit
    # The fit certifies the same polynomials by another order of sums.
    frames = np.flatnonzero(over > 1e-9 * limit + 1e-13 * np.abs(channel.values).max())
    spans = np.split(frames, np.flatnonzero(np.diff(frames) > 1) + 1)
    return np.array([s[np.argmax(over[s])] for s in spans if len(s)], dtype=np.int64)


def _repaired(marks: Landmarks, values: Floats, beyond: Ints) -> Landmarks:
    """Landmarks that also pass through the frames ``beyond``: one that lies there, or a hold
    that wanders there, becomes a key of its own value and slope."""
    at, kinds = marks.values.copy(), marks.kinds.copy()
    for frame in beyond.tolist():
        here = int(np.searchsorted(marks.frames, frame, side="right")) - 1
        anchor = int(np.flatnonzero(kinds[: here + 1] < PASSED)[-1])
        if kinds[anchor] == HELD or marks.frames[anchor] == frame:
            kinds[anchor] = PASSED if 0 < anchor < len(kinds) - 1 else FREE
            at[anchor] = values[marks.frames[anchor]]
    return passing(Landmarks(marks.frames, at, kinds), values, beyond)


def _through(channel: Channel, marks: Landmarks, effort: Ints) -> KeyedCurve:
    """Smooth keys through landmarks as the compiled fit lays them."""
    from leancurve.numbers.kernels import fitting  # numba loads late

    values = channel.values
    n = len(values)
    frames, handles = np.empty(n, dtype=np.int64), np.empty(n, dtype=np.int64)
    keys = np.empty((n, 5))
    if n == 1:
        count, frames[0], handles[0] = 1, 0, FREE
        keys[0] = (values[0], 0.0, 1 / 3, 0.0, 1 / 3)
    else:
        tolerances = np.full(len(marks.frames) - 1, channel.tolerance)
        if channel.share is not None:
            tolerances *= np.minimum.reduceat(channel.share, marks.frames[:-1])
        count = fitting.fit_channel(
            values,
            tolerances,
            marks.frames,
            marks.values,
            marks.kinds,
            effort,
            frames,
            keys,
            handles,
        )
    kind = handles[:count]
    third = 1.0 / 3.0
    columns = keys[:count]
    return KeyedCurve(
        id=np.arange(count, dtype=np.int64),
        time=frames[:count].astype(np.float64),
        value=columns[:, 0].copy(),
        slope_in=columns[:, 1].copy(),
        slope_out=columns[:, 3].copy(),
        length_in=np.concatenate([[third], columns[1:, 2]]),
        length_out=np.concatenate([columns[:-1, 4], [third]]),
        handle=np.where((kind == FLAT) | (kind == HELD), Handle.FLAT, Handle.FREE).astype(np.uint8),
        segment=np.full(count, Segment.CURVE, dtype=np.uint8),
        flags=np.where(kind == BROKEN, KeyFlag.BROKEN, 0).astype(np.uint8),
    ).checked()


SNUG = 0.85
"""Share of the tolerance with which shared key times are laid: smooth handles need the rest."""
BACK = 0.2
"""How far back from its farthest reach a shared key may go to meet extremes and contacts."""
ROUNDS = 12


def _laid(channels: Sequence[Channel], fixed: Ints, snug: float, drawn: Ints | None = None) -> Ints:
    """Shared key times as far apart as some cubic can follow all channels within ``snug`` of
    their tolerances, drawn to where most of them turn or break, and to the frames ``drawn``."""
    from leancurve.numbers.kernels import minimax  # numba loads late

    n = len(channels[0].values)
    pull = np.zeros(n)
    for channel in channels:
        marks = channel.marks
        pull[marks.frames] += np.where(marks.kinds == FREE, 0.0, 1.0)
    if drawn is not None:
        pull[drawn] += len(channels)
    # Keys a frame or two beside a turning point serve it as well.
    pull = np.convolve(pull, [0.5, 0.8, 1.0, 0.8, 0.5], mode="same")
    rows = np.stack([c.values for c in channels])
    limits = np.array([snug * c.tightest for c in channels])
    out = np.empty(n, dtype=np.int64)
    count = minimax.shared_times(rows, limits, fixed, pull, BACK, out)
    return out[:count].copy()


def key_poses(
    channels: Sequence[Channel], wanted: int, fixed: Ints, drawn: Ints
) -> tuple[Ints, float]:
    """About ``wanted`` shared key times, ``fixed`` among them, and the scale of the tolerances
    at which cubics would need them. Times are drawn to extremes, breaks and ``drawn`` frames."""
    n = len(channels[0].values)
    ends = np.unique(np.array([0, n - 1, *fixed], dtype=np.int64))
    moving = [c for c in channels if not c.still]
    if not moving or len(ends) >= wanted:
        return ends, 1.0
    low, high = 1e-3, 1e4
    best = ends, high
    for _ in range(14):
        scale = float(np.sqrt(low * high))
        times = _laid(moving, ends, scale, drawn)
        if len(times) <= wanted:
            high = scale
            if len(times) >= len(best[0]):
                best = times, scale
            if len(times) == wanted:
                break
        else:
            low = scale
    return best


def fit_handles(channel: Channel, times: Ints) -> KeyedCurve:
    """Keys at ``times`` and at both ends, and nowhere else: only handles and values are fitted.

    The tolerance grows until no key is added and is then narrowed down, so the error is close
    to the least that these keys can have by this fitting; it has no bound.
    """
    plain = Channel(channel.values, channel.tolerance, borders(channel.values))
    wanted = len(np.union1d(times, plain.marks.frames))
    low, high = 0.0, 0.25 * channel.tolerance
    curve = fit_channel(plain.with_tolerance(high), times)
    while curve.key_count > wanted:
        low, high = high, high * 1.8
        curve = fit_channel(plain.with_tolerance(high), times)
    for _ in range(3 if low else 0):
        middle = float(np.sqrt(low * high))
        closer = fit_channel(plain.with_tolerance(middle), times)
        if closer.key_count > wanted:
            low = middle
        else:
            high, curve = middle, closer
    return curve


def fit_shared(
    channels: Sequence[Channel], fixed: Ints, progress: Progress = silent
) -> tuple[list[KeyedCurve], Ints]:
    """Curves of channels that share their key times, and those times.

    ``fixed`` frames are key times in any case. Others lie as far apart as some cubic can follow
    all channels, drawn to where most of them turn or break; where smooth handles cannot hold
    the tolerance a time is added for all. Channels that stand still have a key at each end.
    """
    n = len(channels[0].values)
    curves: list[KeyedCurve | None] = [
        fit_channel(c.at_rest) if c.still else None for c in channels
    ]
    moving = [k for k, c in enumerate(channels) if curves[k] is None]
    ends = np.unique(np.array([0, n - 1, *fixed], dtype=np.int64))
    if not moving or n < 3:
        return [c or fit_channel(channels[k]) for k, c in enumerate(curves)], ends
    ends = np.union1d(ends, np.concatenate([channels[k].turns_of_share for k in moving]))
    times = _laid([channels[k] for k in moving], ends, SNUG)
    asked = moving
    for round_ in range(ROUNDS):
        added: list[int] = []
        for k in asked:
            curve = fit_channel(_sharing(channels[k], times), times, ON_TIMES)
            curves[k] = curve
            added += np.setdiff1d(curve.time.astype(np.int64), times).tolist()
        progress(min(0.9, (round_ + 1) / 6))
        if not added and asked is moving:
            break
        if added:
            asked = [k for k in asked if (c := curves[k]) and c.key_count > len(times)]
            times = np.union1d(times, _apart(sorted(set(added))))
        else:
            asked = moving
    else:
        # Every frame that any channel needs, for all: this always ends.
        while True:
            done = [fit_channel(_sharing(channels[k], times), times, ON_TIMES) for k in moving]
            wanted = np.unique(np.concatenate([c.time for c in done])).astype(np.int64)
            if len(wanted) == len(times):
                break
            times = wanted
        for k, curve in zip(moving, done, strict=True):
            curves[k] = curve
    return [c for c in curves if c is not None], times


def _sharing(channel: Channel, times: Ints) -> Channel:
    """The channel with those of its landmarks that fall on shared times."""
    marks = channel.marks
    kept = np.isin(marks.frames, times) & (marks.kinds != HELD)
    kept[[0, -1]] = True
    kinds = np.where(marks.kinds == HELD, FLAT, marks.kinds)
    chosen = Landmarks(marks.frames[kept], marks.values[kept], kinds[kept])
    return Channel(channel.values, channel.tolerance, chosen, channel.share)


def _apart(frames: list[int]) -> Ints:
    """Of frames close together the first: one key may serve them all."""
    out: list[int] = []
    for f in frames:
        if not out or f - out[-1] > 2:
            out.append(f)
    return np.array(out, dtype=np.int64)


def least_keys(values: Floats, tolerance: float) -> int:
    """Fewest keys that cubics in time need for this channel: see :mod:`kernels.minimax`."""
    from leancurve.numbers.kernels import minimax  # numba loads late

    return int(minimax.least_keys(np.ascontiguousarray(values), tolerance))


def least_shared(channels: Sequence[Channel]) -> int:
    """Fewest key times that channels need if they share all of them."""
    from leancurve.numbers.kernels import minimax  # numba loads late

    moving = [c for c in channels if not c.still]
    if not moving:
        return min(2, len(channels[0].values))
    rows = np.stack([c.values for c in moving])
    return int(minimax.least_shared(rows, np.array([c.tolerance for c in moving])))
