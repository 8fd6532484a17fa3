"""What has a time moves when time is changed: contacts, acceptances, marks."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any, TypeVar

from leancurve.clip import Accepted, Clip, Contact, Mark

Span = TypeVar("Span", Contact, Accepted, Mark)


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


def moved_parts(clip: Clip, moved: Callable[[float], float], frames: int) -> dict[str, Any]:
    """The clip's contacts, acceptances and marks under a change of time, as parts of a patch."""
    contacts = None if clip.contacts is None else moved_spans(clip.contacts, moved, frames)
    return {
        "contacts": contacts,
        "accepted": moved_spans(clip.accepted, moved, frames),
        "marks": moved_spans(clip.marks, moved, frames),
    }
