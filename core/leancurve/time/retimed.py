"""What has a time moves when time is changed: contacts, acceptances, marks, plants."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import replace
from typing import Any, TypeAlias, TypeVar

from leancurve.document.clip import Accepted, Clip, Contact, Mark
from leancurve.document.plant import Plant

Span = TypeVar("Span", Contact, Accepted, Mark, Plant)


Moved: TypeAlias = Callable[[float], float]


def moved_spans(
    spans: tuple[Span, ...], moved: Moved, frames: int, ended: Moved | None = None
) -> tuple[Span, ...]:
    """Spans with their frames moved and clipped to 0 … ``frames`` - 1; what falls outside goes.

    ``ended`` is where last frames come to lie, if elsewhere than first ones: at a gap.
    """
    out = []
    for span in spans:
        first, last = round(moved(span.first)), round((ended or moved)(span.last))
        if last >= max(first, 0) and first < frames:
            out.append(replace(span, first=max(0, first), last=min(last, frames - 1)))
    return tuple(out)


def moved_parts(
    clip: Clip, moved: Moved, frames: int, ended: Moved | None = None
) -> dict[str, Any]:
    """The clip's contacts, acceptances, marks and plants under a change of time, as parts of a
    patch. What plants take to come and go takes its share of the new time."""
    contacts = None if clip.contacts is None else moved_spans(clip.contacts, moved, frames, ended)
    return {
        "contacts": contacts,
        "accepted": moved_spans(clip.accepted, moved, frames, ended),
        "marks": moved_spans(clip.marks, moved, frames, ended),
        "plants": moved_plants(clip, moved, frames, ended),
    }


def moved_plants(
    clip: Clip, moved: Moved, frames: int, ended: Moved | None = None
) -> tuple[Plant, ...]:
    """The clip's plants with their frames and their eases moved."""
    eased = tuple(_eased(p, moved, ended or moved) for p in clip.plants)
    return told_apart(moved_spans(eased, moved, frames, ended))


def told_apart(plants: Iterable[Plant]) -> tuple[Plant, ...]:
    """Plants of which those of one part that have come to overlap begin later: a part is held once
    at a time. One of which nothing is left goes."""
    out: list[Plant] = []
    ends: dict[str, int] = {}
    for plant in sorted(plants, key=lambda p: (p.first, p.last)):
        first = max(plant.first, ends.get(plant.part, -1) + 1)
        if first <= plant.last:
            out.append(replace(plant, first=first))
            ends[plant.part] = plant.last
    return tuple(sorted(out))


def _eased(plant: Plant, moved: Moved, ended: Moved) -> Plant:
    """A plant with its eases on the new time, its frames on the old one."""
    coming = moved(plant.first) - moved(plant.first - plant.ease_in)
    going = ended(plant.last + plant.ease_out) - ended(plant.last)
    return replace(plant, ease_in=max(0, round(coming)), ease_out=max(0, round(going)))
