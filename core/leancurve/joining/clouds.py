"""How far apart frames of two clips are, by the points of their bodies over a short while.

The distance of Kovar, Gleicher and Pighin (Motion Graphs, 2002): points of both bodies over a
window about a frame, after the best turn about the up axis and the best shift over the floor. That
turn and shift have a closed form, of which three products of matrices are left for all pairs. Three
times stand for the window, as Gauss's rule has them, and thirteen points for the body.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from leancurve.cleaning.contacts import support_of
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.document.moves import Move, point_of, turn_of
from leancurve.errors import BadInput
from leancurve.figure.body import SIDES, Body
from leancurve.figure.skeleton import UP
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats, Ints

WINDOW_S = 0.1
"""Half of the time about a frame that counts."""
AT = np.array([-np.sqrt(0.6), 0.0, np.sqrt(0.6)])
WEIGHTS = np.array([5.0, 8.0, 5.0]) / 18.0
"""Gauss's rule of three points: where in the window, and how much each counts."""
LIMBS = ("forearm", "hand", "shin", "foot", "toe")
FEWEST = 3
BLOCK = 256
"""Frames of the first clip at once: what is in use stays near the processor."""

Singles = NDArray[np.float32]


@dataclass(frozen=True, eq=False)
class Cloud:
    """A clip's points about each of its frames, in millimetres above the floor: along the floor as
    complex numbers ``(F, N)`` about their middle ``(F,)``, and heights ``(F, N)``. All weigh
    ``weights (N,)``, 1 in all."""

    flat: NDArray[np.complex128]
    middle: NDArray[np.complex128]
    heights: Floats
    weights: Floats
    floor: float
    """How high the floor is, mm."""


def part_of_cloud(whole: Cloud, frames: slice | Ints) -> Cloud:
    """Some of its frames."""
    return replace(
        whole, flat=whole.flat[frames], middle=whole.middle[frames], heights=whole.heights[frames]
    )


def points_of(body: Body) -> list[int]:
    """The joints that stand for a body: hips, chest, head, and those of the limbs."""
    spine = body.all("spine")
    found = [body.find("hips"), spine[-1] if spine else None, body.find("head")]
    found += [body.find(f"{side} {part}") for part in LIMBS for side in SIDES]
    out = [j for j in found if j is not None]
    return out if len(out) >= FEWEST else list(range(len(body.joints)))


def cloud(clip: Clip) -> Cloud:
    """The points of a clip's body as it plays."""
    if not clip.frames:
        raise BadInput(f"{clip.name} has no frames to be joined")
    joints = points_of(clip.body)
    places = evaluate(clip).world(clip.skeleton)[1][:, joints] * clip.millimetres
    frames = np.arange(clip.frames)
    windows = []
    for at in AT * WINDOW_S * float(clip.rate):
        t = np.clip(frames + at, 0, clip.frames - 1)
        low = np.floor(t).astype(np.int64)
        high = np.minimum(low + 1, clip.frames - 1)
        share = (t - low)[:, None, None]
        windows.append(places[low] + share * (places[high] - places[low]))
    every = np.concatenate(windows, axis=1)
    weights = np.repeat(WEIGHTS / len(joints), len(joints))
    up = UP[clip.reading.up_axis]
    flat = every[..., (up + 1) % 3] + 1j * every[..., (up + 2) % 3]
    middle = flat @ weights
    floor = support_of(clip).floor * clip.millimetres
    return Cloud(flat - middle[:, None], middle, every[..., up] - floor, weights, floor)


def distances(a: Cloud, b: Cloud) -> Singles:
    """How far apart all pairs of frames are ``(Fa, Fb)``: the root mean square over all points,
    millimetres."""
    root = np.sqrt(a.weights)
    ours, theirs = (c.flat * root for c in (a, b))
    one = np.concatenate([ours.real, ours.imag], axis=1).astype(np.float32)
    across = np.concatenate([ours.imag, -ours.real], axis=1).astype(np.float32)
    two = np.concatenate([theirs.real, theirs.imag], axis=1).astype(np.float32).T.copy()
    high = (a.heights * root).astype(np.float32)
    low = (b.heights * root).astype(np.float32).T.copy()
    sizes = [(np.abs(c.flat) ** 2 + c.heights**2) @ c.weights for c in (a, b)]
    mine, other = (s.astype(np.float32) for s in sizes)
    out = np.empty((len(one), two.shape[1]), dtype=np.float32)
    for begin in range(0, len(one), BLOCK):
        part = slice(begin, begin + BLOCK)
        best = np.hypot(one[part] @ two, across[part] @ two)
        left = mine[part, None] + other - 2.0 * (best + high[part] @ low)
        out[part] = np.sqrt(np.maximum(left, 0.0))
    return out


@dataclass(frozen=True, eq=False)
class Fit:
    """How the second clip's frame lies best on the first one's: how far apart they are then, the
    turn about the up axis and the move that lays it there, in millimetres."""

    distance_mm: float
    turned_deg: float
    move: Move


def fit(a: Cloud, b: Cloud, frame_a: int, frame_b: int, up: int) -> Fit:
    """How a frame of the second clip is laid on one of the first: heights go with the floors."""
    ours, theirs = a.flat[frame_a], b.flat[frame_b]
    product = complex(np.sum(a.weights * ours * np.conj(theirs)))
    turn = product / abs(product) if abs(product) > 0.0 else 1.0 + 0.0j
    apart = ours - turn * theirs
    high = a.heights[frame_a] - b.heights[frame_b]
    distance = float(np.sqrt((np.abs(apart) ** 2 + high**2) @ a.weights))
    by = a.middle[frame_a] - turn * b.middle[frame_b]
    moved = np.zeros(3)
    moved[(up + 1) % 3], moved[(up + 2) % 3], moved[up] = by.real, by.imag, a.floor - b.floor
    degrees = float(np.degrees(np.angle(turn)))
    turned = rotation.from_axis("XYZ"[up], np.array(degrees))
    return Fit(distance, degrees, Move(point_of(moved), turn_of(turned)))
