"""A body's skin: a mesh whose points follow several joints each, by weights."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from leancurve.errors import BadInput
from leancurve.figure.skeleton import Skeleton
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats, Ints

MOST_TRIANGLES = 400_000
MOST_POINTS = 1_200_000
MOST_WEIGHTS = 8
"""Joints that a point follows at most."""
WHOLE = 65_535
"""What the weights of a point add up to: 8 bits would put points 4e-3 of the height off, these
1.5e-5."""


@dataclass(frozen=True, eq=False)
class Skin:
    """Points ``(N, 3)`` float32 as they were bound, triangles ``(T, 3)`` int32 of them, and for
    each point up to eight joints ``(N, K)`` uint16 of a skeleton with weights ``(N, K)`` uint16,
    the largest first.

    ``binds (J, 3, 4)`` put a bound point into each joint's own space: a joint at place ``p`` turned
    by ``R`` carries a point ``v`` to ``R (B v) + p``, in the skeleton's unit.
    """

    points: NDArray[np.float32]
    triangles: NDArray[np.int32]
    joints: NDArray[np.uint16]
    weights: NDArray[np.uint16]
    binds: Floats

    def posed(self, turned: Floats, placed: Floats) -> Floats:
        """Points ``(N, 3)`` where joints stand so in the world: rotations ``(J, 4)``, places
        ``(J, 3)``; matrices blended by weight (linear blend skinning, as glTF 2.0 defines it)."""
        carry = rotation.matrix(turned) @ self.binds
        carry[:, :, 3] += placed
        share = self.weights / WHOLE
        blended = np.einsum("nk,nkij->nij", share, carry[self.joints])
        return np.asarray(
            np.einsum("nij,nj->ni", blended[:, :, :3], self.points) + blended[:, :, 3]
        )

    def require_sound(self, joints: int) -> None:
        """:class:`BadInput` where its parts do not fit one another, or so many joints."""
        n, t = len(self.points), len(self.triangles)
        fits = (
            self.points.shape == (n, 3)
            and self.triangles.shape == (t, 3)
            and self.joints.shape == self.weights.shape == (n, self.joints.shape[-1])
            and self.joints.shape[-1] <= MOST_WEIGHTS
            and self.binds.shape == (joints, 3, 4)
        )
        if not fits or n > MOST_POINTS or t > MOST_TRIANGLES:
            raise BadInput("the body's parts do not fit together")
        if not np.all(np.isfinite(self.points)) or not np.all(np.isfinite(self.binds)):
            raise BadInput("the body holds what is not a finite number")
        if t and not 0 <= int(self.triangles.min()) <= int(self.triangles.max()) < n:
            raise BadInput("the body has triangles of points that are not there")
        if n and int(self.joints.max()) >= joints:
            raise BadInput("the body follows joints that are not there")


def binds_at_rest(skeleton: Skeleton) -> Floats:
    """Binds ``(J, 3, 4)`` of a skin that was put on as a skeleton rests."""
    turned, placed = skeleton.rest_world
    back = rotation.conjugate(turned)
    return np.concatenate([rotation.matrix(back), -rotation.rotate(back, placed)[..., None]], -1)


def skin_from(
    points: Floats, triangles: Ints, joints: Ints, weights: Floats, binds: Floats
) -> Skin:
    """A skin of plain numbers: each point's largest weights are kept and made whole; points that
    are one but for their texture become one, triangles that have come to nothing go."""
    weights = _once(joints, weights)
    order = np.argsort(-weights, axis=1, kind="stable")[:, :MOST_WEIGHTS]
    share = np.maximum(np.take_along_axis(weights, order, axis=1), 0.0)
    which = np.take_along_axis(joints, order, axis=1)
    share /= np.maximum(share.sum(axis=1, keepdims=True), 1e-12)
    whole = np.floor(share * WHOLE + 0.5).astype(np.int64)
    whole[:, 0] += WHOLE - whole.sum(axis=1)
    which = np.where(whole > 0, which, 0)
    used = max(int((whole > 0).sum(axis=1).max(initial=1)), 1)
    rows = np.concatenate(
        [
            np.ascontiguousarray(points, dtype=np.float32).view(np.int32),
            which[:, :used].astype(np.int32),
            whole[:, :used].astype(np.int32),
        ],
        axis=1,
    )
    packed = np.ascontiguousarray(rows).view(np.dtype((np.void, rows.itemsize * rows.shape[1])))
    _, first, where = np.unique(packed[:, 0], return_index=True, return_inverse=True)
    # In the order in which they stood: neighbours stay near one another.
    rank = np.empty(len(first), dtype=np.int64)
    rank[np.argsort(first)] = np.arange(len(first))
    kept = np.sort(first)
    corners = rank[where][triangles]
    a, b, c = corners.T
    corners = corners[(a != b) & (b != c) & (c != a)]
    return Skin(
        np.ascontiguousarray(points[kept], dtype=np.float32),
        corners.astype(np.int32),
        which[kept, :used].astype(np.uint16),
        whole[kept, :used].astype(np.uint16),
        np.ascontiguousarray(binds, dtype=np.float64),
    )


def _once(joints: Ints, weights: Floats) -> Floats:
    """Weights of a point with what it follows a joint by for a second time added to the first."""
    out = weights.copy()
    for k in range(1, joints.shape[1]):
        for before in range(k):
            same = joints[:, before] == joints[:, k]
            out[same, before] += out[same, k]
            out[same, k] = 0.0
    return out
