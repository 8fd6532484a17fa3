"""Near the gimbal: how near an order comes to it, and the easiest way through."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from leancurve.document.rotations import middle_angles, quaternions
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats, runs

TURNS = 72
"""Candidates a frame: the free turn about the lost axis in steps of 5°."""


@dataclass(frozen=True)
class OrderRating:
    """How well a rotation order suits a joint's motion.

    ``strain`` is the 99.9th percentile of 1 / |cos(middle angle)|: how many degrees of channel a
    degree of turn can cost. ``nearest_deg`` is the least distance from the singularity.
    """

    order: str
    strain: float
    nearest_deg: float


def rate_orders(local: Floats) -> list[OrderRating]:
    """All six orders for rotations ``(F, 4)``, the calmest first."""
    out = []
    for order in rotation.TAIT_BRYAN:
        middle = middle_angles(local, order)
        cosine = np.maximum(np.abs(np.cos(np.radians(middle))), 1e-9)
        away = float(np.min(90.0 - np.abs(middle)))
        out.append(OrderRating(order, float(np.percentile(1.0 / cosine, 99.9)), away))
    return sorted(out, key=lambda r: r.strain)


def away_from_gimbal(middle: Floats) -> Floats:
    """Degrees between middle angles of any size and the nearest ±90°."""
    folded = np.remainder(middle + 180.0, 360.0) - 180.0
    return np.asarray(np.abs(90.0 - np.abs(folded)))


def easiest_path(angles: Floats, order: str, tolerance_deg: float) -> Floats:
    """Angles ``(F, 3)`` with the passes within ``tolerance_deg`` of the gimbal made smooth.

    There the two outer axes are one: the middle angle is set to ±90°, which costs no more than
    its distance from it, and how the turn is shared between the outer two is free. Of a grid of
    shares, the sequence with the least sum of squared steps is chosen by dynamic programming,
    joined to the frames before and after. Elsewhere nothing changes but whole turns.
    """
    close = away_from_gimbal(angles[:, 1]) <= tolerance_deg
    if order[0] == order[2] or not np.any(close):
        return angles
    out = angles.copy()
    for first, last in runs(close):
        _smooth_span(out, order, first, last + 1, tolerance_deg)
    return out


def _candidates(angles: Floats, order: str) -> Floats:
    """``(N, TURNS + 1, 3)``: shares of the free turn at the gimbal, and the angles as they are."""
    folded = np.remainder(angles[:, 1] + 180.0, 360.0) - 180.0
    pole = angles[:, 1] + np.sign(folded) * (90.0 - np.abs(folded))
    turn = np.arange(TURNS) * (360.0 / TURNS)
    # Which way the third angle answers the first depends on the order and on the pole.
    probe = np.stack([angles[:, 0] + 30.0, pole, angles[:, 2] + 30.0], axis=-1)
    here = quaternions(np.stack([angles[:, 0], pole, angles[:, 2]], axis=-1), order)
    same = rotation.geodesic_deg(quaternions(probe, order), here) < 1.0
    sign = np.where(same, 1.0, -1.0)
    free = np.empty((len(angles), TURNS + 1, 3))
    free[:, :TURNS, 0] = angles[:, :1] + turn
    free[:, :TURNS, 1] = pole[:, None]
    free[:, :TURNS, 2] = angles[:, 2:] + sign[:, None] * turn
    free[:, TURNS] = angles
    return free


def _gap(a: Floats, b: Floats) -> Floats:
    """Squared length of steps between angle triples, whole turns not counted."""
    step = b - a
    step -= 360.0 * np.round(step / 360.0)
    return np.asarray(np.einsum("...k,...k->...", step, step))


def _smooth_span(out: Floats, order: str, first: int, end: int, tolerance: float) -> None:
    """Choose the path through frames ``first`` to ``end - 1`` of ``out``, in place."""
    choices = _candidates(out[first:end], order)
    exact = quaternions(out[first:end], order)
    drift = rotation.geodesic_deg(quaternions(choices, order), exact[:, None])
    allowed = np.where(drift <= tolerance + 1e-9, 0.0, np.inf)
    count = end - first
    cost = allowed[0] + (_gap(out[first - 1], choices[0]) if first > 0 else 0.0)
    back = np.zeros((count, TURNS + 1), dtype=np.int64)
    for k in range(1, count):
        way = cost[:, None] + _gap(choices[k - 1][:, None], choices[k][None])
        back[k] = np.argmin(way, axis=0)
        cost = way[back[k], np.arange(TURNS + 1)] + allowed[k]
    if end < len(out):
        cost = cost + _gap(choices[-1], out[end])
    chosen = int(np.argmin(cost))
    path = np.empty((count, 3))
    for k in range(count - 1, -1, -1):
        path[k] = choices[k, chosen]
        chosen = int(back[k, chosen])
    before = out[first - 1] if first > 0 else path[0]
    joined = np.concatenate([before[None], path, out[end:]])
    turns = 360.0 * np.round(np.diff(joined, axis=0) / 360.0)
    joined[1:] -= np.cumsum(turns, axis=0)
    out[first:] = joined[1:]
