"""All parts of a clip, and what is done with every one of them.

Who adds a part declares it and adds it here, as a field of :class:`Clip` and of the patches that
change it: comparing, limits, storage, clip JSON, changes of time, moves and excerpts follow.
"""

from __future__ import annotations

from collections.abc import Hashable, Mapping, Sequence
from dataclasses import fields, replace
from typing import Any, TypeAlias

from leancurve.document.clip import Clip
from leancurve.document.limits import require_count
from leancurve.document.moves import Move
from leancurve.document.parts.base import Part, Retimed
from leancurve.document.parts.layers import LAYERS
from leancurve.document.parts.partners import PARTNERS
from leancurve.document.parts.placement import PLACEMENT
from leancurve.document.parts.plants import PLANTS
from leancurve.document.parts.props import PROPS
from leancurve.document.parts.spans import ACCEPTED, CONTACTS, MARKS
from leancurve.document.track import BASE

PARTS: tuple[Part[Any], ...] = (
    CONTACTS,
    ACCEPTED,
    MARKS,
    PLANTS,
    PROPS,
    PARTNERS,
    PLACEMENT,
    LAYERS,
)

Touched: TypeAlias = tuple[str, Hashable]
"""A part's name and which of its items: what two changes may have in common."""


def touched(before: Clip, after: Clip) -> frozenset[Touched]:
    """What differs between two clips beside their curves: items of parts by their keys, and
    everything else that a clip is by its name."""
    named = {"curves", *(part.name for part in PARTS)}
    out: set[Touched] = {
        (f.name, None)
        for f in fields(before)
        if f.name not in named and getattr(before, f.name) != getattr(after, f.name)
    }
    for part in PARTS:
        old, new = part.of(before), part.of(after)
        if old == new:
            continue
        here, there = _by_key(part, old), _by_key(part, new)
        out |= {(part.name, k) for k in {*here, *there} if here.get(k) != there.get(k)}
        if part.ordered and list(here) != list(there):
            out.add((part.name, "order"))
    return frozenset(out)


def _by_key(part: Part[Any], items: Sequence[Any]) -> dict[Hashable, list[Any]]:
    out: dict[Hashable, list[Any]] = {}
    for item in items:
        out.setdefault(part.key(item), []).append(item)
    return out


def require_sound_parts(clip: Clip, before: Clip | None = None) -> None:
    """Raise :class:`BadInput` where parts hold what no motion has; those that are as they were in
    the clip ``before`` are known to be sound."""
    for part in PARTS:
        items = part.of(clip)
        if not items or (
            before is not None and getattr(before, part.name) is getattr(clip, part.name)
        ):
            continue
        require_count(len(items), part.most, part.told)
        if part.sound is not None:
            part.sound(clip)


def part_values(clip: Clip, by_names: bool = False) -> dict[str, Any]:
    """All parts as plain JSON values, what is empty left out; joints by number, or by their names
    where these are asked for."""
    out: dict[str, Any] = {}
    for part in PARTS:
        if getattr(clip, part.name) == part.none:
            continue
        told = [
            part.by_names(item, clip.skeleton.names)
            if by_names and part.by_names is not None
            else part.values(item)
            for item in part.of(clip)
        ]
        out[part.name] = told[0] if part.single else told
    return out


def parts_of(values: Mapping[str, Any], joints: Sequence[str] | None = None) -> dict[str, Any]:
    """The parts that :func:`part_values` gave, by their names; ``joints`` are the skeleton's where
    they are named."""
    out: dict[str, Any] = {}
    for part in PARTS:
        found = values.get(part.name)
        if found is None:
            out[part.name] = part.none
            continue
        given = [found] if part.single else found
        if joints is None or part.of_names is None:
            out[part.name] = part.whole([part.item(v) for v in given])
        else:
            out[part.name] = part.whole([part.of_names(v, joints) for v in given])
    return out


def public_parts(clip: Clip) -> dict[str, Any]:
    """What the browser gets of a clip's parts with the clip itself."""
    return {
        part.name: part.whole([part.public(item) for item in part.of(clip)])
        for part in PARTS
        if part.public is not None
    }


def retimed_parts(clip: Clip, time: Retimed) -> dict[str, Any]:
    """What of the clip lies in time, under a change of it, as parts of a patch: spans with their
    frames moved and cut to the clip's; what falls outside goes."""
    return {
        part.name: part.whole(_retimed(part, part.of(clip), time))
        for part in PARTS
        if (part.spans or part.retimed is not None) and getattr(clip, part.name) is not None
    }


def _retimed(part: Part[Any], items: Sequence[Any], time: Retimed) -> Sequence[Any]:
    if part.retimed is not None:
        return [part.retimed(item, time) for item in items]
    out = []
    for item in items:
        span = item if part.lengths is None else part.lengths(item, time)
        first, last = time.span(item.first, item.last)
        if last >= max(first, 0) and first < time.frames:
            out.append(replace(span, first=max(0, first), last=min(last, time.frames - 1)))
    return out if part.apart is None else part.apart(out)


def moved_by(clip: Clip, move: Move) -> Clip:
    """The whole clip elsewhere: every root and prop by its placement, and what has a place in the
    world along with them. Its curves and layers stay as they are."""
    moved = {
        part.name: part.whole(part.moved(clip, part.of(clip), move))
        for part in PARTS
        if part.moved is not None
    }
    return replace(clip, **moved)


def bare(clip: Clip) -> Clip:
    """A clip's own curves alone, without any of its parts."""
    own = {t: c for t, c in clip.curves.items() if t.owner == BASE}
    return replace(clip, curves=own, **{part.name: part.none for part in PARTS})


def without_figure() -> dict[str, Any]:
    """Parts that mean the skeleton that a clip has, as a patch that puts it on another has them."""
    return {part.name: part.none for part in PARTS if part.of_figure}
