"""How long work tells how far it is, and how it is ended early."""

from __future__ import annotations

from collections.abc import Callable


class Cancelled(Exception):
    """Raised by a progress callback to end an operation early; nothing is changed."""


Progress = Callable[[float], None]
"""Called with the share done, 0 to 1, between joints; may raise :class:`Cancelled`."""


def silent(_share: float) -> None:
    """Progress that nobody watches."""
