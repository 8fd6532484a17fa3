"""What has a time moves when time is changed: contacts and acceptances."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import TypeVar

from leancurve.clip import Accepted, Clip, Contact

Span = TypeVar("Span", Contact, Accepted)


def moved_spans(
    spans: tuple[Span, ...], moved: Callable[[float], float], frames: int
) -> tuple[Span, ...]:
    """Spans with their frames moved and clipped to 0 … ``frames`` - 1; what falls outside goes."""
    out = []
    for span in spans:
        first, last = round(moved(span.first)), round(moved(span.last))
        if last >= 0 and first < frames:
            out.append(replace(span, first=max(0, first), last=min(last, frames - 1)))
    return tuple(out)


def moved_parts(
    clip: Clip, moved: Callable[[float], float], frames: int
) -> tuple[tuple[Contact, ...] | None, tuple[Accepted, ...]]:
    """The clip's contacts and acceptances under a change of time."""
    contacts = None if clip.contacts is None else moved_spans(clip.contacts, moved, frames)
    return contacts, moved_spans(clip.accepted, moved, frames)
