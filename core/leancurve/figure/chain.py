"""Chains of any length led so that their end is at a target, by the least turning."""

from __future__ import annotations

import numpy as np

from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats

ROUNDS = 24
DAMPING = 1e-3
"""Share of a chain's own leverage below which a push turns it less: near straight it has none."""
MOST_DEG = 15.0
"""How far a joint turns in a round at most."""
LONGEST = 0.999
"""Share of its length to which a chain is led."""


def follow(turns: Floats, points: Floats, target: Floats, weights: Floats | None = None) -> Floats:
    """World rotations ``(F, n, 4)`` of a chain's joints that bring its end to ``target (F, 3)``.

    ``turns (F, n, 4)`` are the joints' world rotations from the top down, ``points (F, n + 1, 3)``
    their positions and the end's. Damped least squares over the joints' rotation vectors, a part of
    the way in each round: of all turns that lead there about the least, shared by ``weights (n,)``.
    A target out of reach is approached. Bones keep their lengths.
    """
    turns, points = turns.copy(), points.copy()
    count = turns.shape[1]
    target = _within(points, target)
    shares = np.ones(count) if weights is None else weights
    for round_ in range(ROUNDS):
        left = (target - points[:, -1]) / (ROUNDS - round_)
        arms = points[:, -1:] - points[:, :-1]
        square = np.sum(arms**2, axis=2)
        whole = np.maximum(np.sum(shares * square, axis=1), 1e-12)
        # How far the end goes for a push: each joint turns square to its arm.
        outer = arms[:, :, :, None] * arms[:, :, None, :]
        each = square[:, :, None, None] * np.eye(3) - outer
        lever = np.einsum("n,fnij->fij", shares, each) / whole[:, None, None]
        push = np.linalg.solve(lever + DAMPING * np.eye(3), left[:, :, None])[:, :, 0]
        vectors = shares[None, :, None] * np.cross(arms, push[:, None, :]) / whole[:, None, None]
        for j in range(count):
            vector = np.degrees(vectors[:, j])
            size = np.linalg.norm(vector, axis=1, keepdims=True)
            by = rotation.exp(vector * np.minimum(1.0, MOST_DEG / np.maximum(size, 1e-12)))
            turns[:, j:] = rotation.multiply(by[:, None], turns[:, j:])
            below = points[:, j + 1 :] - points[:, j : j + 1]
            points[:, j + 1 :] = points[:, j : j + 1] + rotation.rotate(by[:, None], below)
    return turns


def _within(points: Floats, target: Floats) -> Floats:
    """Targets as near as a chain's length lets its end come; where it stood farther, as far."""
    bones = np.linalg.norm(np.diff(points, axis=1), axis=2).sum(axis=1)
    was = np.linalg.norm(points[:, -1] - points[:, 0], axis=1)
    away = target - points[:, 0]
    far = np.linalg.norm(away, axis=1)
    most = np.maximum(LONGEST * bones, was)
    share = np.minimum(1.0, most / np.maximum(far, 1e-12))
    return np.asarray(points[:, 0] + share[:, None] * away)
