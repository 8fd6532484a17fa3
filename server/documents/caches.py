"""What each process keeps at hand: weighed in bytes, and safe for all its threads."""

import threading
from collections.abc import Callable, Iterable
from typing import Generic, TypeVar

from cachetools import LRUCache

V = TypeVar("V")


class Cache(Generic[V]):
    """The newest values by name, as many as weigh no more than ``most`` bytes together.

    A value that weighs more than that by itself is not kept.
    """

    def __init__(self, most: int, weigh: Callable[[V], int]) -> None:
        self._kept: LRUCache[str, V] = LRUCache(most, getsizeof=lambda v: max(weigh(v), 1))
        self._lock = threading.Lock()

    def get(self, name: str) -> V | None:
        with self._lock:
            return self._kept.get(name)

    def some(self, names: Iterable[str]) -> dict[str, V]:
        """Those of the names that are here."""
        with self._lock:
            return {n: self._kept[n] for n in names if n in self._kept}

    def put(self, name: str, value: V) -> None:
        with self._lock:
            if self._kept.getsizeof(value) <= self._kept.maxsize:
                self._kept[name] = value

    def clear(self) -> None:
        with self._lock:
            self._kept.clear()

    @property
    def bytes(self) -> int:
        with self._lock:
            return int(self._kept.currsize)
