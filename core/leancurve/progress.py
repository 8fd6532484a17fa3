"""How long work tells how far it is, and how it is ended early."""

from __future__ import annotations

from collections.abc import Callable


class Cancelled(Exception):
    """Raised by a progress callback to end an operation early; nothing is changed."""


Progress = Callable[[float], None]
"""Called with the share done, 0 to 1, between joints; may raise :class:`Cancelled`."""


def silent(_share: float) -> None:
    """Progress that nobody watches."""


def part_of(progress: Progress, start: float, share: float) -> Progress:
    """Progress of a part that begins at ``start`` of the whole and makes up ``share`` of it."""

    def within(done: float) -> None:
        progress(start + share * done)

    return within
