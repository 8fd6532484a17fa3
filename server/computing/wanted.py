"""Whether an answer is still waited for: what work in a child process asks now and then."""

from collections.abc import Callable

from leancurve.progress import Cancelled

_is_wanted: Callable[[], bool] = lambda: True  # noqa: E731


def while_wanted(_share: float) -> None:
    """Progress of work for a request: raises :class:`Cancelled` once nobody waits for it."""
    if not _is_wanted():
        raise Cancelled


def ask_with(is_wanted: Callable[[], bool]) -> None:
    """Where this process learns it from."""
    global _is_wanted
    _is_wanted = is_wanted
