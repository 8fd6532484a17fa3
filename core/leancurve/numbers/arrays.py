"""Array types used in signatures throughout the core, and runs in a mask."""

from __future__ import annotations

from typing import Any, TypeAlias

import numpy as np
import numpy.typing as npt

Floats: TypeAlias = npt.NDArray[np.float64]
Ints: TypeAlias = npt.NDArray[np.int64]
Bools: TypeAlias = npt.NDArray[np.bool_]
Bytes: TypeAlias = npt.NDArray[np.uint8]
AnyArray: TypeAlias = npt.NDArray[Any]


def runs(mask: Bools) -> list[tuple[int, int]]:
    """Runs of true in ``(F,)``, both ends included: ``0110`` → ``[(1, 2)]``."""
    padded = np.concatenate([[False], mask, [False]])
    edges = np.flatnonzero(padded[1:] != padded[:-1])
    return list(zip(edges[::2].tolist(), (edges[1::2] - 1).tolist(), strict=True))
