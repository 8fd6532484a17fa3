"""What follows from a clip alone, found once for each: clips never change."""

from __future__ import annotations

from collections.abc import Callable
from functools import wraps
from threading import Lock
from typing import TypeVar
from weakref import WeakKeyDictionary

from leancurve.document.clip import Clip

T = TypeVar("T")


def kept(look: Callable[[Clip], T]) -> Callable[[Clip], T]:
    """A function of a clip that remembers what it found as long as the clip is there: for what is
    small and dear. Two that ask at once may both look."""
    found: WeakKeyDictionary[Clip, T] = WeakKeyDictionary()
    lock = Lock()

    @wraps(look)
    def asked(clip: Clip) -> T:
        with lock:
            if clip in found:
                return found[clip]
        made = look(clip)
        with lock:
            found[clip] = made
        return made

    return asked
