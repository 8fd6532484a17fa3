"""Rotations and places as cubic splines: the keys a clip has, and as many more as a bound takes.

An Euler curve is no quaternion spline, so tangents are fitted by least squares at eight points a
frame; of rotations only what lies across the quaternion counts, since readers make it whole again.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import TypeAlias

import numpy as np
from scipy.linalg import solveh_banded

from leancurve.numbers.arrays import Bools, Floats, Ints
from leancurve.numbers.kernels.splines import normal_equations, segment_sums, strays

PER_FRAME = 8
"""Points a frame at which a spline is held to its bound."""
ALONG = 1e-5
"""How strongly a tangent is pulled to the derivative where it counts for nothing else."""
ROUNDS = 3
"""How often segments are weighed again by how far they stray."""
FLOAT32 = 0.998
"""Share of the bound that is fitted to: files hold numbers of 24 bits."""
SHORT = 2 * PER_FRAME
"""A segment as long as this at most gets tangents of its own before it gets another key."""


@dataclass(frozen=True, eq=False)
class Spline:
    """Keys at points of an eighth of a frame ``(K,)``, their values ``(K, D)``, and the tangents
    into and out of each ``(K, D)``, by the frame."""

    keys: Ints
    values: Floats
    takes: Floats
    gives: Floats
    worst: float


def spline_of(wanted: Floats, keys: Ints, broken: Ints, within: float, turns: bool) -> Spline:
    """A spline that stays within a bound of ``wanted (N, D)``, given at eight points a frame:
    degrees for rotations (unit quaternions on one side of the sphere), else the values' unit.

    It begins with ``keys`` (points); those that are ``broken`` have a tangent of their own on
    either side. Where it strays it gets more of both, until it does so nowhere.
    """
    last = len(wanted) - 1
    at = np.unique(np.concatenate([keys, [0, last]]))
    at = at[(at >= 0) & (at <= last)]
    apart = np.isin(at, broken)
    if len(at) == 1:
        still = np.zeros((1, wanted.shape[1]))
        return Spline(at, wanted[at], still, still, 0.0)
    bound = FLOAT32 * within
    sums = segment_sums(wanted, at[:-1], at[1:], turns)
    while True:
        takes, gives, most, where = _fitted(wanted, at, apart, sums, turns, bound)
        over = np.flatnonzero(most > bound)
        if not len(over):
            values = wanted[at]
            return Spline(at, values, PER_FRAME * takes, PER_FRAME * gives, float(most.max()))
        before = at
        at, apart = _with_more(at, apart, over, where)
        sums = _carried(wanted, before, at, sums, turns)


Sums: TypeAlias = tuple[Floats, Floats]


def _carried(wanted: Floats, before: Ints, at: Ints, sums: Sums, turns: bool) -> Sums:
    """The sums of all segments, where only those are new that have got a key."""
    was = np.searchsorted(before, at[1:], side="left") - 1
    new = (before[was] != at[:-1]) | (before[was + 1] != at[1:])
    blocks, sides = sums[0][was], sums[1][was]
    blocks[new], sides[new] = segment_sums(wanted, at[:-1][new], at[1:][new], turns)
    return blocks, sides


def _fitted(
    wanted: Floats, at: Ints, apart: Bools, sums: Sums, turns: bool, bound: float
) -> tuple[Floats, Floats, Floats, Ints]:
    """Tangents into and out of each key, how far each segment strays, and where most: the best of
    some rounds, each weighing segments anew by how far they strayed."""
    takes = np.arange(len(at)) + np.concatenate([[0], np.cumsum(apart[:-1])])
    gives = takes + apart
    weights = np.ones(len(at) - 1)
    best = None
    for _ in range(ROUNDS):
        bands, right = normal_equations(wanted, at, gives, takes, *sums, weights, turns, ALONG)
        tangents = solveh_banded(bands, right, check_finite=False).reshape(-1, wanted.shape[1])
        into, out = tangents[takes], tangents[gives]
        most, square, where = strays(wanted, at, out, into, turns)
        if best is None or most.max() < best[2].max():
            best = into, out, most, where
        if most.max() <= bound:
            break
        weights *= (0.3 + most / np.maximum(square, 1e-12)) / 2.0
        weights /= max(float(weights.mean()), 1e-300)
    assert best is not None
    return best


def _with_more(at: Ints, apart: Bools, over: Ints, where: Ints) -> tuple[Ints, Bools]:
    """Keys with what the segments that stray take: a short one tangents of its own, then a key
    between its own."""
    apart, more = apart.copy(), []
    for k in over:
        short = at[k + 1] - at[k] <= SHORT
        if short and not (apart[k] and apart[k + 1]):
            apart[k] = apart[k + 1] = True
        else:
            more.append(where[k])
    if not more:
        return at, apart
    both = np.union1d(at, more)
    told = np.isin(both, at[apart])
    return both, told
