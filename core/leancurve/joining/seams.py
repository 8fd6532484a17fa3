"""Seams: the pairs of frames at which one clip goes over into another best."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from leancurve.cleaning.contacts import contacts_of
from leancurve.document.clip import Clip
from leancurve.errors import BadInput
from leancurve.figure.skeleton import UP
from leancurve.joining.clouds import Cloud, Fit, Singles, cloud, distances, fit

TILE_S = 0.25
"""Minima are looked for so far apart."""
SHOWN = 3
NONE_GOOD_MM = 70.0
"""Above this no blend of tried takes looked right."""


@dataclass(frozen=True)
class Seam:
    """A pair of frames, how far apart the bodies are there, and how the second clip is laid.
    ``unlike`` are limbs that are held in the one and not in the other."""

    frame_a: int
    frame_b: int
    fit: Fit
    unlike: tuple[str, ...]

    @property
    def good(self) -> bool:
        """Whether a blend there is likely to look right."""
        return self.fit.distance_mm <= NONE_GOOD_MM


def seam_at(a: Clip, b: Clip, frame_a: int, frame_b: int) -> Seam:
    """The seam of a pair of frames that somebody chose."""
    _require_frames(a, b, frame_a, frame_b)
    return _seam(a, b, cloud(a), cloud(b), frame_a, frame_b)


def best_seams(
    a: Clip, b: Clip, room_a: tuple[int, int], room_b: tuple[int, int], most: int = SHOWN
) -> list[Seam]:
    """The nearest pairs of frames, nearest first, none beside another: of the first clip within
    ``room_a``, of the second within ``room_b``, both ends included."""
    _require_frames(a, b, room_a[0], room_b[0])
    _require_frames(a, b, room_a[1], room_b[1])
    if room_a[0] > room_a[1] or room_b[0] > room_b[1]:
        raise BadInput("join: the clips are too short for a blend: choose a shorter one")
    ours, theirs = cloud(a), cloud(b)
    one, two = slice(room_a[0], room_a[1] + 1), slice(room_b[0], room_b[1] + 1)
    apart = distances(_part(ours, one), _part(theirs, two))
    found = minima(apart, round(TILE_S * float(a.rate)), round(TILE_S * float(b.rate)))[:most]
    return [_seam(a, b, ours, theirs, room_a[0] + i, room_b[0] + j) for i, j in found]


def minima(apart: Singles, rows: int, columns: int) -> list[tuple[int, int]]:
    """Pairs ``(i, j)`` that are nearest in their tile of so many frames, whose tile is nearer than
    all around it: nearest first."""
    rows, columns = max(rows, 1), max(columns, 1)
    high, wide = apart.shape
    padded = np.full((-(-high // rows) * rows, -(-wide // columns) * columns), np.inf, apart.dtype)
    padded[:high, :wide] = apart
    split = padded.reshape(padded.shape[0] // rows, rows, -1, columns).swapaxes(1, 2)
    tiles = split.reshape(*split.shape[:2], -1)
    at, low = tiles.argmin(axis=2), tiles.min(axis=2)
    edged = np.pad(low, 1, constant_values=np.inf)
    around = [
        edged[1 + i : 1 + i + low.shape[0], 1 + j : 1 + j + low.shape[1]]
        for i in (-1, 0, 1)
        for j in (-1, 0, 1)
        if i or j
    ]
    best = np.argwhere(low <= np.min(around, axis=0))
    out = sorted(best.tolist(), key=lambda t: float(low[t[0], t[1]]))
    inside = [(i, j, int(at[i, j])) for i, j in out]
    return [(i * rows + k // columns, j * columns + k % columns) for i, j, k in inside]


def _part(whole: Cloud, part: slice) -> Cloud:
    return replace(
        whole, flat=whole.flat[part], middle=whole.middle[part], heights=whole.heights[part]
    )


def _seam(a: Clip, b: Clip, ours: Cloud, theirs: Cloud, frame_a: int, frame_b: int) -> Seam:
    held = [
        {c.limb for c in contacts_of(clip) if c.first <= frame <= c.last}
        for clip, frame in ((a, frame_a), (b, frame_b))
    ]
    laid = fit(ours, theirs, frame_a, frame_b, UP[a.reading.up_axis])
    return Seam(frame_a, frame_b, laid, tuple(sorted(held[0] ^ held[1])))


def _require_frames(a: Clip, b: Clip, frame_a: int, frame_b: int) -> None:
    for clip, frame in ((a, frame_a), (b, frame_b)):
        if not 0 <= frame < clip.frames:
            raise BadInput(f"join: {clip.name} has frames 0 to {clip.frames - 1}, not {frame}")
