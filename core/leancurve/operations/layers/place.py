"""Place: where the whole clip stands, as a correction that is listed, muted and taken back."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any, ClassVar

import numpy as np

from leancurve.document.clip import Clip, Placement
from leancurve.document.evaluation import evaluate
from leancurve.document.moves import Move, point_of
from leancurve.document.parts.plants import moved_plant
from leancurve.document.placement import turn_of
from leancurve.document.plant import Plant, Point
from leancurve.errors import BadInput
from leancurve.figure.skeleton import UP
from leancurve.measures.account import Kind
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats
from leancurve.operations.base import (
    Operation,
    Patch,
    Progress,
    Scope,
    number,
    silent,
)
from leancurve.operations.lengths import WithLengths, length


class PlaceParams(WithLengths):
    move: Point | None = length(
        None, "how far the whole clip is moved, along X, Y, Z; empty: as it is"
    )
    turn: float | None = number(
        None, "degrees", "how far it is turned about the up axis; empty: as it is",
        ge=-36000, le=36000,
    )  # fmt: skip
    scale: float | None = number(
        None, "times", "how long its path over the floor is; heights stay; empty: as it is",
        ge=0.01, le=100,
    )  # fmt: skip
    about: Point | None = length(
        None, "the point it is turned and scaled about; empty: as it is, at first where the root "
        "stands on the first frame",
    )  # fmt: skip
    muted: bool | None = number(None, "", "switched off, for a while; empty: as it is")


class Place(Operation[PlaceParams]):
    """Move, turn and scale the way of the whole clip about a point, over all its layers.

    The curves stay as they are: muted or set back to nothing the clip is where it was. What is
    planted in the world goes along.
    """

    name = "place"
    title = "Place the clip"
    step = "shape"
    part = "layers"
    version = 2
    scoped = False
    Params: ClassVar[type[PlaceParams]] = PlaceParams

    def apply(
        self, clip: Clip, scope: Scope, params: PlaceParams, progress: Progress = silent
    ) -> Patch:
        before = clip.placement
        was = before or Placement(about=_start(clip))
        placement = Placement(
            was.move if params.move is None else params.move,
            was.turn if params.turn is None else params.turn,
            was.scale if params.scale is None else params.scale,
            was.about if params.about is None else params.about,
            was.muted if params.muted is None else params.muted,
        )
        _require_channels(clip, placement)
        plants = _with(clip, placement)
        far = np.linalg.norm(_roots(clip, placement) - _roots(clip, None), axis=-1)
        return Patch(
            placement=placement,
            plants=plants if plants != clip.plants else None,
            report={
                "moved_mm": float(far.max(initial=0.0)) * clip.millimetres,
                "turned_deg": placement.turn if placement.counts else 0.0,
            },
        )

    def upgraded(self, version: int, params: Mapping[str, Any]) -> dict[str, Any]:
        """Lengths were centimetres once."""
        told = {k: [10.0 * x for x in params[k]] for k in ("move", "about") if params.get(k)}
        return {**params, **told} if version < 2 else dict(params)

    def told(self, params: Mapping[str, Any]) -> str:
        given = {k: v for k, v in params.items() if v is not None}
        if set(given) == {"muted"}:
            return "Mute the placement" if given["muted"] else "Unmute the placement"
        return "Place the clip"

    def counted_as(self, params: Mapping[str, Any]) -> Kind:
        return "place"


def _start(clip: Clip) -> Point:
    """The root's place on the first frame, on the ground of its axes."""
    if not clip.frames:
        return (0.0, 0.0, 0.0)
    place = evaluate(clip, np.zeros(1), [clip.skeleton.root]).translation[0, 0].copy()
    place[UP[clip.reading.up_axis]] = 0.0
    return point_of(place)


def _require_channels(clip: Clip, placement: Placement) -> None:
    """What placement makes is delivered in the root's channels: it needs them."""
    for root in clip.skeleton.roots if placement.counts else ():
        name = clip.skeleton.names[root]
        if not {"tx", "ty", "tz"} <= set(clip.layout[root]):
            raise BadInput(f"place: {name} needs three position channels to be moved")
        if placement.turn and len(clip.order(root)) != 3:
            raise BadInput(f"place: {name} needs three rotation channels to be turned")


def _roots(clip: Clip, placement: Placement | None) -> Floats:
    """The root's places ``(F, 3)`` under a placement, without plants."""
    bare = replace(clip, plants=(), placement=placement)
    return evaluate(bare, joints=[clip.skeleton.root]).translation[:, 0]


def _with(clip: Clip, after: Placement) -> tuple[Plant, ...]:
    """The clip's plants where another placement takes them: a foot goes as its root goes in the
    middle of its span, and turns with it."""
    old, new = clip.placement, after
    if not any(p.in_world for p in clip.plants):
        return clip.plants
    there, here = _roots(clip, old), _roots(clip, new)
    off = replace(Placement(), muted=True)
    by = rotation.multiply(
        turn_of(clip, new if new.counts else off),
        rotation.conjugate(turn_of(clip, old if old and old.counts else off)),
    )
    out = []
    for plant in clip.plants:
        middle = (plant.first + plant.last) // 2
        out.append(moved_plant(plant, Move.between(there[middle], here[middle], by)))
    return tuple(out)
