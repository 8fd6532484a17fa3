"""Spans of frames, both ends included: how far two overlap, which does most, several as one."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Protocol, TypeVar


class Span(Protocol):
    """Whatever has a first and a last frame, both included."""

    @property
    def first(self) -> int: ...
    @property
    def last(self) -> int: ...


S = TypeVar("S", bound=Span)


def shared(a: Span, b: Span) -> int:
    """How many frames two spans have in common; below 1 they do not meet."""
    return min(a.last, b.last) - max(a.first, b.first) + 1


def meet(a: Span, b: Span) -> bool:
    """Whether two spans have a frame in common."""
    return shared(a, b) > 0


def most_shared(spans: Iterable[S], span: Span) -> S | None:
    """The one that shares most frames with a span, None where none does."""
    met = [s for s in spans if meet(s, span)]
    return max(met, key=lambda s: shared(s, span), default=None)


def merged(spans: Sequence[tuple[int, int]], gap: int = 0) -> list[tuple[int, int]]:
    """Spans that overlap or touch, or lie no more than ``gap`` frames apart, as one; ascending."""
    out: list[tuple[int, int]] = []
    for first, last in sorted(spans):
        if out and first - out[-1][1] - 1 <= gap:
            out[-1] = (out[-1][0], max(last, out[-1][1]))
        else:
            out.append((first, last))
    return out
