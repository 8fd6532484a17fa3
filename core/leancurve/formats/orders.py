"""Rotation orders chosen for motion that comes as quaternions."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np

from leancurve.numbers.arrays import Floats

USUAL = "ZXY"
NEAR_DEG = 20.0
"""A joint that comes nearer to gimbal lock than this is given another order …"""
GAIN_DEG = 10.0
"""… where that keeps it farther away by so much."""

SINES: Mapping[str, tuple[int, int, float]] = {
    "XYZ": (0, 2, 1.0), "ZYX": (0, 2, -1.0), "YZX": (0, 1, 1.0),
    "XZY": (0, 1, -1.0), "ZXY": (1, 2, 1.0), "YXZ": (1, 2, -1.0),
}  # fmt: skip
"""Of each intrinsic order half the sine of its middle angle: the product of two parts of the
quaternion, and by which sign that of the third with w comes to it."""


def _from_lock(turns: Floats, order: str) -> Floats:
    """How far joints ``(F, J, 4)`` come to gimbal lock at most, degrees ``(J,)``."""
    a, b, sign = SINES[order]
    third = 3 - a - b
    sine = 2.0 * (turns[..., a] * turns[..., b] + sign * turns[..., third] * turns[..., 3])
    nearest = np.abs(sine).max(axis=0)
    return np.asarray(90.0 - np.degrees(np.arcsin(np.minimum(nearest, 1.0))))


def best_orders(motions: Sequence[Floats]) -> list[str]:
    """An order for each joint of one skeleton over all its motions ``(F, J, 4)``: the usual one,
    or where that comes near to gimbal lock and another stays well away, that one."""
    usual = np.min([_from_lock(m, USUAL) for m in motions], axis=0)
    out = [USUAL] * motions[0].shape[1]
    locked = np.flatnonzero(usual < NEAR_DEG)
    if len(locked):
        away = {o: np.min([_from_lock(m[:, locked], o) for m in motions], axis=0) for o in SINES}
        for k, joint in enumerate(locked.tolist()):
            best = max(SINES, key=lambda o: float(away[o][k]))
            if away[best][k] > usual[joint] + GAIN_DEG:
                out[joint] = best
    return out
