"""What the columns of an array were found to hold, remembered by what is in them: after an edit of
one joint all others are as they were, and need not be looked at again."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable
from hashlib import blake2b
from threading import Lock
from typing import Generic, TypeVar

import numpy as np

from leancurve.numbers.arrays import Floats

T = TypeVar("T")


class ByColumn(Generic[T]):
    """Looks at columns that were not seen lately. What was found is remembered up to ``most``
    bytes, as ``weigh`` counts them."""

    def __init__(self, most: int, weigh: Callable[[T], int]) -> None:
        self._most, self._weigh, self._held = most, weigh, 0
        self._found: OrderedDict[bytes, T] = OrderedDict()
        self._lock = Lock()

    def forget(self) -> None:
        with self._lock:
            self._found.clear()
            self._held = 0

    def of(
        self, columns: Floats, about: tuple[float, ...], look: Callable[[Floats], list[T]]
    ) -> list[T]:
        """What ``look`` gives for each of ``columns (F, J, ...)``: it gets ``(F, n, ...)``, those
        that are new, and its answer may hang on nothing but these and ``about``."""
        names = [_name(columns[:, j], about) for j in range(columns.shape[1])]
        with self._lock:
            known = {n: self._found[n] for n in names if n in self._found}
        fresh = [j for j, name in enumerate(names) if name not in known]
        if fresh:
            known |= zip((names[j] for j in fresh), look(columns[:, fresh]), strict=True)
        with self._lock:
            for name in names:
                if name not in self._found:
                    self._found[name] = known[name]
                    self._held += self._weigh(known[name])
                self._found.move_to_end(name)
            while self._held > self._most:
                self._held -= self._weigh(self._found.popitem(last=False)[1])
        return [known[name] for name in names]


def _name(column: Floats, about: tuple[float, ...]) -> bytes:
    digest = blake2b(repr((column.shape, about)).encode(), digest_size=16)
    digest.update(np.ascontiguousarray(column).tobytes())
    return digest.digest()
