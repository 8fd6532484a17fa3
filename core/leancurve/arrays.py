"""Array types used in signatures throughout the core."""

from __future__ import annotations

from typing import Any, TypeAlias

import numpy as np
import numpy.typing as npt

Floats: TypeAlias = npt.NDArray[np.float64]
Ints: TypeAlias = npt.NDArray[np.int64]
Bools: TypeAlias = npt.NDArray[np.bool_]
Bytes: TypeAlias = npt.NDArray[np.uint8]
AnyArray: TypeAlias = npt.NDArray[Any]
