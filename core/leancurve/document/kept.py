"""What follows from a clip alone, found once for each: clips never change."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable
from functools import wraps
from threading import Lock, RLock
from typing import TypeVar
from weakref import WeakKeyDictionary, ref

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


RECENT = 3
"""So many clips are at hand at once: what stands, what a change makes of it, and one more."""


def recent(
    most: int, weigh: Callable[[T], int]
) -> Callable[[Callable[[Clip], T]], Callable[[Clip], T]]:
    """A function of a clip that remembers what it found for the last few clips, while these are
    there: for what is large. What weighs more than ``most`` bytes is not remembered."""

    def remembering(look: Callable[[Clip], T]) -> Callable[[Clip], T]:
        found: OrderedDict[int, tuple[ref[Clip], T]] = OrderedDict()
        lock = RLock()  # a clip may go, and be forgotten, at any moment of the same thread

        def forget(name: int) -> None:
            with lock:
                found.pop(name, None)

        @wraps(look)
        def asked(clip: Clip) -> T:
            name = id(clip)
            with lock:
                there = found.get(name)
                if there is not None and there[0]() is clip:
                    found.move_to_end(name)
                    return there[1]
            made = look(clip)
            if weigh(made) <= most:
                with lock:
                    found[name] = (ref(clip, lambda _: forget(name)), made)
                    while len(found) > RECENT:
                        found.popitem(last=False)
            return made

        return asked

    return remembering
