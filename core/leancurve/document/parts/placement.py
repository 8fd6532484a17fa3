"""Placement as a part of a clip."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict, replace
from typing import Any

import numpy as np

from leancurve.document.clip import Clip, Placement
from leancurve.document.limits import LARGEST, require_within
from leancurve.document.moves import Move, point_of
from leancurve.document.parts.base import Part, Values
from leancurve.errors import BadInput
from leancurve.figure.skeleton import UP
from leancurve.numbers import rotation


def _values(placement: Placement) -> Values:
    given = asdict(placement)
    return {**given, "move": list(given["move"]), "about": list(given["about"])}


def _item(values: Mapping[str, Any]) -> Placement:
    points = {n: point_of(values[n]) for n in ("move", "about") if n in values}
    return Placement(**{**values, **points})


def _sound(clip: Clip) -> None:
    placement = clip.placement
    assert placement is not None
    numbers = (*placement.move, *placement.about, placement.turn, placement.scale)
    require_within(np.array(numbers, dtype=np.float64), LARGEST, "the placement: its numbers")
    if not placement.scale > 0.0:
        raise BadInput("the placement: its scale must be above 0")


def _moved(clip: Clip, standing: tuple[Placement, ...], move: Move) -> tuple[Placement, ...]:
    """The placement with a move after it, which turns about the up axis. One that is muted gives
    way to it."""
    was = standing[0] if standing and not standing[0].muted else Placement()
    up = UP[clip.reading.up_axis]
    turn = rotation.log(np.array(move.turn))
    if np.abs(np.delete(turn, up)).max() > 1e-9:
        raise BadInput("a clip is turned about its up axis alone")
    # The scale lies along the floor and commutes with the turn: only where it is put changes.
    about = np.array(was.about)
    by = move.points(about + np.array(was.move)) - about
    return (replace(was, move=point_of(by), turn=was.turn + float(turn[up])),)


PLACEMENT = Part(
    "placement", "placement",
    values=_values,
    item=_item,
    key=lambda placement: None,
    most=1,
    single=True,
    sound=_sound,
    moved=_moved,
)  # fmt: skip
