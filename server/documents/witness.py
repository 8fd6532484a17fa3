"""What tells, of a state whose curves are not kept, whether what is made again is what it was.

Of each track two sums of all its numbers with signs drawn at random (the same for the same length),
and how many numbers there are: 24 bytes a track. Numbers that each differ by ``SAME`` at the most
change such a sum by a few times ``SAME`` times the root of their count; a single number that
differs by more changes it by all of that. (Random projections: Johnson and Lindenstrauss, 1984.)
"""

from functools import lru_cache
from typing import Any

import numpy as np
import orjson
from leancurve.curves.curve import Curve
from leancurve.document.clip import Clip
from leancurve.numbers.arrays import Floats

SAME = 1e-9
"""Degrees, lengths or frames that a number may differ by and still be the same."""
SIGMAS = 6.0


@lru_cache(64)
def _signs(count: int) -> Floats:
    return np.random.default_rng(count).choice((-1.0, 1.0), (2, count))


def _of_curve(curve: Curve) -> Floats:
    values = [np.asarray(c, dtype=np.float64).ravel() for c in curve.stored.values()]
    numbers = np.concatenate(values) if values else np.zeros(0)
    return np.array([len(numbers), *(_signs(len(numbers)) @ numbers)])


def witness_of(clip: Clip) -> bytes:
    """A clip's witness: ``(tracks, 3)`` float64."""
    rows = [_of_curve(clip.curves[t]) for t in clip.tracks]
    return np.array(rows, dtype="<f8").reshape(-1, 3).tobytes()


def agrees(clip: Clip, witness: bytes) -> bool:
    """Whether a clip is the one of a witness, within ``SAME``."""
    was = np.frombuffer(witness, dtype="<f8").reshape(-1, 3)
    now = np.frombuffer(witness_of(clip), dtype="<f8").reshape(-1, 3)
    if was.shape != now.shape or (was[:, 0] != now[:, 0]).any():
        return False
    bound = SIGMAS * SAME * np.sqrt(np.maximum(was[:, :1], 1.0))
    return bool((np.abs(was[:, 1:] - now[:, 1:]) <= bound).all())


def differs_by(one: Clip, other: Clip) -> float:
    """The largest difference between two clips' numbers; infinite where they differ in more."""
    if one.tracks != other.tracks:
        return float("inf")
    worst = 0.0
    for track in one.tracks:
        a, b = one.curves[track], other.curves[track]
        if a is b:
            continue
        ours, theirs = a.stored, b.stored
        if ours.keys() != theirs.keys():
            return float("inf")
        for name, column in ours.items():
            x, y = np.asarray(column, np.float64), np.asarray(theirs[name], np.float64)
            if x.shape != y.shape:
                return float("inf")
            worst = max(worst, float(np.max(np.abs(x - y), initial=0.0)))
    return worst


def headers_agree(one: bytes, other: bytes) -> bool:
    """Whether two headers say the same, their numbers within ``SAME``."""
    return one == other or _alike(orjson.loads(one), orjson.loads(other))


def _alike(a: Any, b: Any) -> bool:
    if isinstance(a, dict) and isinstance(b, dict):
        return a.keys() == b.keys() and all(_alike(a[k], b[k]) for k in a)
    if isinstance(a, list) and isinstance(b, list):
        return len(a) == len(b) and all(_alike(x, y) for x, y in zip(a, b, strict=True))
    if isinstance(a, int | float) and isinstance(b, int | float):
        return abs(a - b) <= SAME * max(1.0, abs(a))
    return bool(a == b)
