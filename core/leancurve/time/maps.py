"""Where the frames of one time lie on another, as numbers: kept, put together and turned round."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from itertools import pairwise
from math import inf
from typing import TypeAlias

Piece: TypeAlias = tuple[float, float, float, float]
"""From one frame to another, and where these two come to lie."""
STRAIGHT = 0.01
"""Frames by which what is kept as one piece may lie off."""


@dataclass(frozen=True)
class TimeMap:
    """Straight pieces, in the order of the frames that they come from; one that runs backwards
    comes to lie from a later frame to an earlier one. What lies in none of them is no more: frames
    that were taken out; and, on the way back, frames that were put in."""

    pieces: tuple[Piece, ...]

    @classmethod
    def of(cls, moved: Callable[[float], float | None], frames: int) -> TimeMap:
        """The map of a change of time, of a clip of so many frames.

        It is looked at on half frames: where one half is stretched and the other is not, frames
        have been put in between.
        """
        times = [0.5 * k for k in range(2 * frames - 1)]
        found = [moved(t) for t in times]
        joined = [a is not None and b is not None for a, b in pairwise(found)]
        for k in range(0, len(joined) - 1, 2):
            a, b, c = found[k], found[k + 1], found[k + 2]
            if a is None or b is None or c is None:
                continue
            halves = (abs(b - a), abs(c - b))
            if max(halves) > 1.0 and max(halves) > 3.0 * min(halves):
                joined[k + (0 if halves[0] > halves[1] else 1)] = False
        pieces: list[Piece] = []
        start = 0
        for k in range(len(times)):
            if k < len(joined) and joined[k]:
                continue
            pieces += _straight(times[start : k + 1], found[start : k + 1])
            start = k + 1
        return cls(tuple(pieces))

    @classmethod
    def kept(cls, values: Iterable[Sequence[float]]) -> TimeMap:
        """The map of plain numbers that :attr:`values` gave."""
        return cls(tuple((a, b, c, d) for a, b, c, d in values))

    @property
    def values(self) -> list[list[float]]:
        """The pieces as plain JSON values."""
        return [list(piece) for piece in self.pieces]

    def at(self, frame: float) -> float | None:
        """Where a frame lies; None where it is no more."""
        for first, last, there, end in self.pieces:
            if first - STRAIGHT <= frame <= last + STRAIGHT:
                share = 0.0 if last == first else (frame - first) / (last - first)
                return there + share * (end - there)
        return None

    @property
    def inverse(self) -> TimeMap:
        """The way back. Frames that all lie on one have the first of them to go back to."""
        turned: list[Piece] = []
        for first, last, there, end in self.pieces:
            if end - there > 0.0:
                turned.append((there, end, first, last))
            elif end - there < 0.0:
                turned.append((end, there, last, first))
            elif not turned or turned[-1][1] < there:
                turned.append((there, there, first, first))
        return TimeMap(tuple(sorted(turned)))


def _straight(times: Sequence[float], found: Sequence[float | None]) -> list[Piece]:
    """Straight pieces through what was found at some times, each as long as it stays near all of
    it: by the cone of slopes from its first point (swing filter)."""
    points = [(t, y) for t, y in zip(times, found, strict=True) if y is not None]
    out: list[Piece] = []
    low, high = -inf, inf
    for t, y in points:
        if out:
            first, last, there, end = out[-1]
            slope = (y - there) / (t - first)
            if not low <= slope <= high:
                first, there, low, high = last, end, -inf, inf
                out.append((first, t, there, y))
            out[-1] = (first, t, there, y)
            low = max(low, (y - STRAIGHT - there) / (t - first))
            high = min(high, (y + STRAIGHT - there) / (t - first))
        else:
            out.append((t, t, y, y))
    return out
