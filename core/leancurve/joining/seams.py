"""Seams: the pairs of frames at which one clip goes over into another best."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from leancurve.cleaning.contacts import contacts_of
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.document.limits import require_pairs
from leancurve.document.moves import Move, point_of
from leancurve.errors import BadInput, short
from leancurve.figure.skeleton import UP
from leancurve.joining.clouds import Cloud, Fit, Singles, cloud, distances, fit, part_of_cloud
from leancurve.numbers import rotation

TILE_S = 0.25
"""Minima are looked for so far apart."""
SHOWN = 3
MANY = 60
"""Minima among which those that are shown are told apart."""
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
    return seam_of(a, b, cloud(a), cloud(b), frame_a, frame_b)


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
    apart = _between(ours, theirs, room_a, room_b)
    return _nearest(a, b, ours, theirs, apart, (room_a[0], room_b[0]), most)


def laid_by(a: Clip, b: Clip, seam: Seam, joint: str) -> Seam:
    """A seam at which a joint stands on the floor's plane where it stood: turned as it fits."""
    at = a.joint_called(joint)
    if at is None:
        raise BadInput(f"join: the skeleton has no joint {short(joint)}")
    ends = [
        evaluate(clip, np.array([float(frame)])).world(clip.skeleton)[1][0, at] * clip.millimetres
        for clip, frame in ((a, seam.frame_a), (b, seam.frame_b))
    ]
    up = UP[a.reading.up_axis]
    by = ends[0] - rotation.rotate(np.array(seam.fit.move.turn), ends[1])
    by[up] = seam.fit.move.by[up]
    return replace(seam, fit=replace(seam.fit, move=Move(point_of(by), seam.fit.move.turn)))


@dataclass(frozen=True, eq=False)
class Pairs:
    """How far apart all frames of two clips are ``apart (H, W)``, millimetres: rows are the second
    clip's frames ``0 … Fb - 1``, columns the first one's from where it begins, each the nearest of
    those that a picture of this size has room for; and the seams that fit best."""

    apart: Singles
    best: list[Seam]


def pairs_of(a: Clip, b: Clip, start: int, edges: tuple[int, int], size: tuple[int, int]) -> Pairs:
    """All pairs of frames of two clips, the first one's from ``start`` on, as a picture of at most
    ``size`` (width, height); the best seams have ``edges`` frames before and after them in both."""
    _require_frames(a, b, start, 0)
    ours, theirs = cloud(a), cloud(b)
    apart = _between(ours, theirs, (start, a.frames - 1), (0, b.frames - 1))
    before, after = edges
    inside = apart[before : max(a.frames - start - after, 0), before : max(b.frames - after, 0)]
    at = start + before, before
    found = _nearest(a, b, ours, theirs, inside, at, MANY) if inside.size else []
    columns, rows = (
        np.arange(min(count, room)) * count // min(count, room)
        for count, room in zip(apart.shape, size, strict=True)
    )
    shown = np.minimum.reduceat(np.minimum.reduceat(apart, columns, axis=0), rows, axis=1)
    apart_by = round(TILE_S * float(a.rate))
    best: list[Seam] = []
    for seam in found:
        by = seam.frame_a - seam.frame_b
        # Two on which the second clip comes at the same time are one way of joining them.
        if all(abs(by - s.frame_a + s.frame_b) > apart_by for s in best) and len(best) < SHOWN:
            best.append(seam)
    return Pairs(np.ascontiguousarray(shown.T), best)


def _between(ours: Cloud, theirs: Cloud, a: tuple[int, int], b: tuple[int, int]) -> Singles:
    """How far apart frames are, of spans that include both their ends."""
    require_pairs(a[1] - a[0] + 1, b[1] - b[0] + 1)
    one, two = (slice(first, last + 1) for first, last in (a, b))
    return distances(part_of_cloud(ours, one), part_of_cloud(theirs, two))


def _nearest(
    a: Clip, b: Clip, ours: Cloud, theirs: Cloud, apart: Singles, at: tuple[int, int], most: int
) -> list[Seam]:
    """The best seams among distances that begin ``at`` a frame of either."""
    found = minima(apart, round(TILE_S * float(a.rate)), round(TILE_S * float(b.rate)))[:most]
    return [seam_of(a, b, ours, theirs, at[0] + i, at[1] + j) for i, j in found]


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


def seam_of(a: Clip, b: Clip, ours: Cloud, theirs: Cloud, frame_a: int, frame_b: int) -> Seam:
    """The seam of a pair of frames, whose clips' clouds are at hand."""
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
