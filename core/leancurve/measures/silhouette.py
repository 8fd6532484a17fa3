"""The outline of a body seen flat, for small pictures."""

from __future__ import annotations

import numpy as np

from leancurve.numbers.arrays import AnyArray, Bools, Floats

CELL = 1.0 / 120.0
"""How fine the body is seen, in figure heights."""
FINEST = 0.7
"""Share of a cell at which triangles are looked at."""
WIDEST = 4.0
"""Figure heights beyond which nothing of a body is seen."""
STRAIGHT = 0.25
"""Cells by which a point may be off the line of its neighbours and is left out."""


def silhouette(points: Floats, triangles: AnyArray) -> list[list[float]]:
    """Rings ``[x1, y1, x2, y2, …]`` around what triangles of flat points ``(N, 2)`` cover, in
    their unit, figure heights; what lies within an odd number of rings is the body."""
    if not len(triangles):
        return []
    corners = np.clip(points, -WIDEST, WIDEST)[triangles] / CELL
    low = np.floor(corners.reshape(-1, 2).min(axis=0)) - 2.0
    covered = _closed(_covered(corners - low))
    rings = [_smoothed(ring) for ring in _rings(covered)]
    return [np.round((ring + low) * CELL, 3).ravel().tolist() for ring in rings if len(ring) > 3]


def _covered(corners: Floats) -> Bools:
    """The cells ``(x, y)`` that triangles ``(T, 3, 2)`` touch, by points spread over each."""
    size = np.ceil(corners.reshape(-1, 2).max(axis=0)).astype(int) + 3
    out = np.zeros(size, dtype=np.bool_)
    edges = np.linalg.norm(corners - np.roll(corners, 1, axis=1), axis=-1).max(axis=1)
    steps = np.maximum(np.ceil(edges / FINEST), 1).astype(int)
    for n in np.unique(steps).tolist():
        i, j = np.nonzero(np.add.outer(np.arange(n + 1), np.arange(n + 1)) <= n)
        shares = np.stack([i, j, n - i - j], axis=1) / n
        for some in np.array_split(corners[steps == n], 1 + (steps == n).sum() * len(i) // 2**20):
            cells = np.floor(shares @ some).reshape(-1, 2).astype(int)
            out[cells[:, 0], cells[:, 1]] = True
    return out


def _closed(cells: Bools) -> Bools:
    """Cells with gaps of one cell between them filled."""
    from scipy.ndimage import binary_closing  # it loads slowly, and few takes have a body

    return np.asarray(binary_closing(cells))


def _rings(cells: Bools) -> list[Floats]:
    """Corners ``(n, 2)`` around cells that are set, inside on the left."""
    onward: dict[tuple[int, int], list[tuple[int, int]]] = {}
    for (dx, dy), (ax, ay), (bx, by) in (
        ((0, -1), (0, 0), (1, 0)), ((1, 0), (1, 0), (1, 1)),
        ((0, 1), (1, 1), (0, 1)), ((-1, 0), (0, 1), (0, 0)),
    ):  # fmt: skip
        for x, y in np.argwhere(cells & ~np.roll(cells, (-dx, -dy), axis=(0, 1))).tolist():
            onward.setdefault((x + ax, y + ay), []).append((x + bx, y + by))
    out = []
    while onward:
        at = next(iter(onward))
        ring = []
        while at in onward:
            ring.append(at)
            ways = onward[at]
            at = ways.pop()
            if not ways:
                del onward[ring[-1]]
        out.append(np.array(ring, dtype=np.float64))
    return out


def _smoothed(ring: Floats) -> Floats:
    """A ring of steps between cells as a line, its straight parts told by their ends."""
    for _ in range(3):
        ring = 0.25 * np.roll(ring, 1, axis=0) + 0.5 * ring + 0.25 * np.roll(ring, -1, axis=0)
    kept = [0]
    for k in range(2, len(ring)):
        a, b = ring[kept[-1]], ring[k]
        along = (b - a) / max(float(np.hypot(*(b - a))), 1e-9)
        between = ring[kept[-1] + 1 : k] - a
        away = np.abs(between[:, 0] * along[1] - between[:, 1] * along[0])
        if away.max() > STRAIGHT:
            kept.append(k - 1)
    return ring[kept]
