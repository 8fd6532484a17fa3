"""The frame rate of motion whose keys are told in seconds."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from fractions import Fraction

import numpy as np

from leancurve.numbers.arrays import Floats

KNOWN = (
    *(Fraction(n) for n in (24, 25, 30, 48, 50, 60, 90, 100, 120, 150, 240)),
    Fraction(30000, 1001), Fraction(60000, 1001),
)  # fmt: skip
"""Rates that motion comes in (common practice)."""
NEAR_S, NEAR_LOOSELY_S = 2e-6, 6e-4
"""How far a key's time may be from its frame: by the text's rounding, and of careless writers."""
OFF = 0.03
"""Share of the keys that may be off all frames."""
USUAL = Fraction(30)


@dataclass(frozen=True)
class Told:
    """A rate, the time of the first frame in seconds, how many frames, and keys off them."""

    rate: Fraction
    first: float
    frames: int
    off: int = 0

    @property
    def seconds(self) -> Floats:
        """The times of the frames ``(F,)``."""
        return np.asarray(self.first + np.arange(self.frames) / float(self.rate))


def told_by(times: Iterable[Floats], rate: Fraction | None = None) -> Told:
    """The rate that key times, in seconds, fit: of the known ones the lowest, or the spacing most
    of them have. The first key is frame 0."""
    lists = [t for t in times if len(t)]
    if not lists:
        return Told(rate or USUAL, 0.0, 1)
    seconds = np.unique(np.concatenate(lists))
    since = seconds - seconds[0]
    found = rate or _rate_of(since, float(np.abs(seconds).max()))
    frames = since * float(found)
    off = np.abs(frames - np.round(frames)) > 0.01
    count = max(int(np.ceil(frames[-1] - 0.01)), 0) + 1
    return Told(found, float(seconds[0]), count, int(off.sum()))


def _rate_of(since: Floats, largest: float) -> Fraction:
    if len(since) < 2:
        return USUAL
    # Times are mostly kept as float32: the farther from zero, the coarser.
    step = 2.0 * float(np.spacing(np.float32(largest)))
    for near in (NEAR_S + step, NEAR_LOOSELY_S):
        fits = [r for r in sorted(KNOWN) if _share_off(since, r, near) <= _allowed(len(since))]
        plain = [r for r in fits if r.denominator == 1]
        if not fits:
            continue
        best = plain[0] if plain else fits[0]
        for rate in fits:
            # 29.97 is not told from 30 by a few keys: it must fit much better.
            if rate.denominator > 1 and _residual(since, rate) < 0.25 * _residual(since, best):
                best = rate
        return best
    return _spacing(since)


def _allowed(count: int) -> float:
    return max(OFF, 1.0 / count if count >= 12 else 0.0)


def _away(since: Floats, rate: Fraction) -> Floats:
    """How far each time is from the nearest frame, seconds."""
    frames = since * float(rate)
    return np.asarray(np.abs(frames - np.round(frames)) / float(rate))


def _share_off(since: Floats, rate: Fraction, near: float) -> float:
    return float(np.mean(_away(since, rate) > near))


def _residual(since: Floats, rate: Fraction) -> float:
    return float(np.sqrt(np.mean(_away(since, rate) ** 2)))


def _spacing(since: Floats) -> Fraction:
    """The rate of the spacing that most neighbours have, by least squares over all of them."""
    each = float(np.median(np.diff(since)))
    frames = np.round(since / each)
    each = float(since @ frames / (frames @ frames)) if frames.any() else each
    return Fraction(1.0 / each).limit_denominator(1000)
