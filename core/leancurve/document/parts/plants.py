"""Plants as a part of a clip: their limits, their stored form, and how they follow."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import asdict, fields, replace
from typing import Any

import numpy as np

from leancurve.document.clip import Clip
from leancurve.document.limits import LARGEST, require_name, require_within
from leancurve.document.moves import Move, point_of, turn_of
from leancurve.document.parts.base import Part, Retimed, Values
from leancurve.document.plant import Plant
from leancurve.errors import BadInput, short


def _values(plant: Plant) -> Values:
    """What is as it is for most is left out."""
    usual = {f.name: f.default for f in fields(Plant)}
    return {k: v for k, v in asdict(plant).items() if v != usual[k]}


def _item(values: Mapping[str, Any]) -> Plant:
    turn = values.get("turn")
    whole = {**values, "place": point_of(values["place"])}
    return Plant(**whole if turn is None else {**whole, "turn": turn_of(turn)})


def _sound(clip: Clip) -> None:
    for plant in clip.plants:
        named = f"the plant of {short(plant.part)}"
        require_name(plant.part)
        if not 0 <= plant.first <= plant.last < max(clip.frames, 1):
            raise BadInput(
                f"{named}: frames {plant.first} to {plant.last} are not within the clip's"
            )
        if not 0 <= min(plant.ease_in, plant.ease_out) <= max(plant.ease_in, plant.ease_out) < 1e6:
            raise BadInput(f"{named}: expected eases of 0 or more frames")
        if not (0.0 <= plant.strength <= 1.0 and 0.0 <= plant.hips <= 1.0):
            raise BadInput(f"{named}: expected shares from 0 to 1")
        require_within(np.array(plant.place, dtype=np.float64), LARGEST, f"{named}: its place")
        if plant.turn is not None:
            size = float(np.linalg.norm(np.array(plant.turn, dtype=np.float64)))
            if not abs(size - 1.0) < 1e-6:
                raise BadInput(f"{named}: its turn must have length 1")


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


def _eased(plant: Plant, time: Retimed) -> Plant:
    """A plant with its eases on the new time, its frames on the old one: what it takes to come and
    go takes its share of the new time."""
    if time.backwards:
        return replace(plant, ease_in=plant.ease_out, ease_out=plant.ease_in)
    coming = time.begins(plant.first) - time.begins(plant.first - plant.ease_in)
    going = time.ends(plant.last + plant.ease_out) - time.ends(plant.last)
    return replace(plant, ease_in=max(0, round(coming)), ease_out=max(0, round(going)))


def moved_plant(plant: Plant, move: Move) -> Plant:
    """A plant whose place in the world goes along with a move; what carries others moves them."""
    if not plant.in_world:
        return plant
    turn = None if plant.turn is None else turn_of(move.turns(np.array(plant.turn)))
    return replace(plant, place=point_of(move.points(np.array(plant.place))), turn=turn)


def _moved(clip: Clip, plants: tuple[Plant, ...], move: Move) -> tuple[Plant, ...]:
    return tuple(sorted(moved_plant(p, move) for p in plants))


PLANTS = Part(
    "plants", "plants",
    values=_values,
    item=_item,
    key=lambda plant: plant.part,
    most=5_000,
    of_figure=True,
    sound=_sound,
    spans=True, lengths=_eased, apart=told_apart,
    moved=_moved,
)  # fmt: skip
