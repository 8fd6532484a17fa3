"""Rotations from key to key as keyed angles: the file's own keys, and more where it takes them."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from leancurve.curves.curve import KeyedCurve, evaluate_keyed
from leancurve.document.rotations import angles_afresh, angles_near, quaternions
from leancurve.formats.scene.keys import key_curves
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats, Ints

PER_FRAME = 8
"""Points a frame at which curves are held against the rotations."""
STEP = 0.05
"""Frames by which a slope is taken, at most a quarter of the way to the next key."""


def fitted_angles(
    turns: Callable[[Floats], Floats], keys: Floats, frames: int, order: str, within_deg: float
) -> list[KeyedCurve] | None:
    """Three curves of angles that stay within some degrees of rotations, at eight points a frame.

    ``turns`` gives rotations ``(F, 4)`` at times in frames, smooth between the ``keys (K,)``; every
    one of these is a key of the curves, with the slopes that the rotations have on either side of
    it. Halfway between two keys from which curves stray there is another one, until none do. None
    where it would take as many keys as there are frames.
    """
    every = np.arange((frames - 1) * PER_FRAME + 1) / PER_FRAME
    times = np.unique(np.concatenate([every, keys]))
    wanted = rotation.hemisphere(turns(times))
    angles = angles_afresh(wanted, order)
    at = np.searchsorted(times, keys)
    while len(at) < frames:
        slopes = _slopes(turns, times[at], angles[at], order)
        curves = key_curves(times[at], angles[at], "CUBICSPLINE", slopes)
        drawn = quaternions(evaluate_keyed(curves, times).T, order)
        strays = np.flatnonzero(rotation.geodesic_deg(drawn, wanted) > within_deg)
        more = _halfway(at, strays)
        if not len(more):
            return curves
        at = np.union1d(at, more)
    return None


def _halfway(at: Ints, strays: Ints) -> Ints:
    """Points halfway between the neighbours in ``at`` that have any of ``strays`` between them."""
    after = np.unique(np.searchsorted(at, strays))
    after = after[(after > 0) & (after < len(at))]
    halfway = (at[after - 1] + at[after]) // 2
    return np.asarray(halfway[halfway > at[after - 1]])


def _slopes(turns: Callable[[Floats], Floats], keys: Floats, angles: Floats, order: str) -> Floats:
    """Slopes of angles coming into keys and going out of them ``(K, 2, 3)``, degrees a frame, from
    two points on either side (the one-sided difference of second order)."""
    gaps = np.diff(keys)
    out = np.zeros((len(keys), 2, 3))
    for side, direction, steps in ((0, -1.0, gaps), (1, 1.0, gaps)):
        # Before the first key and after the last one nothing moves.
        own = slice(1, None) if side == 0 else slice(None, -1)
        step = np.minimum(STEP, steps / 4.0)
        here = angles[own]
        near, far = (
            angles_near(turns(keys[own] + direction * n * step), order, here) for n in (1, 2)
        )
        out[own, side] = direction * (4.0 * near - far - 3.0 * here) / (2.0 * step[:, None])
    return out
