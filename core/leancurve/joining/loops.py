"""Loops: spans of a clip whose end goes over into their beginning."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from leancurve.document.clip import Clip
from leancurve.errors import BadInput
from leancurve.joining.clouds import Cloud, cloud, distances, part_of_cloud
from leancurve.joining.seams import TILE_S, Seam, minima, seam_of
from leancurve.measures.travel import Round, round_of, travel_of

SHORTEST_S = 0.3
MOVES = 5.0
"""How many times as far as its ends are apart a loop has to move in between: standing, which has
the nearest ends of all, does at most 3.1 times, walks at least 7."""
LARGEST = 2500
"""Frames that are compared at once, all with all; of longer spans every second, third … ."""


@dataclass(frozen=True)
class Loop:
    """A span whose last frame is as its first one: how well, how far the poses within it are from
    that, and what it goes on by in each round."""

    seam: Seam
    moves_mm: float
    goes_on: Round

    @property
    def first(self) -> int:
        return self.seam.frame_b

    @property
    def last(self) -> int:
        return self.seam.frame_a

    @property
    def distance_mm(self) -> float:
        """How far the poses at its ends are apart, over a short window."""
        return self.seam.fit.distance_mm


def loops_of(clip: Clip, first: int, last: int, most: int = 5) -> list[Loop]:
    """The spans within some frames that make the best loops, best first, none beside another."""
    if not 0 <= first <= last < clip.frames:
        raise BadInput(f"loop: expected frames within 0 to {clip.frames - 1}")
    whole = cloud(clip)
    stride = max(1, -(-(last - first + 1) // LARGEST))
    at = np.arange(first, last + 1, stride)
    some = part_of_cloud(whole, at)
    apart = distances(some, some)
    rate = float(clip.rate)
    ahead = np.subtract.outer(np.arange(len(at)), np.arange(len(at))) * stride
    # Rows are ends, columns beginnings, as a seam has them: what comes back too soon is no loop.
    near = np.where(ahead >= SHORTEST_S * rate, apart, np.inf).astype(np.float32)
    tile = max(1, round(TILE_S * rate / stride))
    out: list[Loop] = []
    travel = travel_of(clip)
    for i, j in minima(near, tile, tile):
        moves = float(apart[j : i + 1, j].max(initial=0.0))
        if not np.isfinite(near[i, j]) or moves < MOVES * near[i, j]:
            continue
        end, begin = _finer(whole, int(at[i]), int(at[j]), stride, first, last)
        seam = seam_of(clip, clip, whole, whole, end, begin)
        out.append(Loop(seam, moves, round_of(clip, begin, end, travel)))
        if len(out) == most:
            break
    return out


def _finer(
    whole: Cloud, end: int, begin: int, stride: int, first: int, last: int
) -> tuple[int, int]:
    """The best pair of frames around one that was found among some of them."""
    if stride == 1:
        return end, begin
    ends = np.arange(max(end - stride, first), min(end + stride, last) + 1)
    begins = np.arange(max(begin - stride, first), min(begin + stride, last) + 1)
    apart = distances(part_of_cloud(whole, ends), part_of_cloud(whole, begins))
    i, j = np.unravel_index(int(np.argmin(apart)), apart.shape)
    return int(ends[i]), int(begins[j])
