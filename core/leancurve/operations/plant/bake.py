"""Plants written into the curves, or onto a layer where something lies over these."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any, ClassVar

import numpy as np
from pydantic import Field

from leancurve.cleaning.turned import with_values
from leancurve.curves.curve import Curve
from leancurve.document import layering
from leancurve.document.clip import Clip
from leancurve.document.evaluation import effective
from leancurve.document.placement import placed_joints, unplaced_moves
from leancurve.document.plant import Plant
from leancurve.document.planting.plan import planted_joints
from leancurve.document.track import TrackId
from leancurve.operations.base import (
    Operation,
    Params,
    Patch,
    Progress,
    Scope,
    number,
    silent,
)
from leancurve.operations.identity import identity
from leancurve.operations.layers.lift import differences, sampled_layer


class BakePlantsParams(Params):
    parts: tuple[str, ...] = Field(
        (), description="whose plants are written; all where none is named", max_length=40
    )
    new_id: int | None = identity()
    tolerance_deg: float = number(
        0.25, "deg", "how far keyed turns may be from the planted ones", gt=0, le=20
    )
    tolerance_mm: float = number(
        1.0, "mm", "how far keyed positions may be from the planted ones", gt=0, le=200
    )


class BakePlants(Operation[BakePlantsParams]):
    """Write what plants make into the curves, and take the plants out.

    Dense channels stay dense; keyed ones keep their key times and get what keys the tolerance asks.
    Where layers or placement lie between the curves and the plants, what these make becomes a layer
    over them instead: what lies below stays as it is.
    """

    name = "bake_plants"
    title = "Bake plants"
    step = "plant"
    scoped = False
    keeps = "motion"
    Params: ClassVar[type[BakePlantsParams]] = BakePlantsParams

    def apply(
        self, clip: Clip, scope: Scope, params: BakePlantsParams, progress: Progress = silent
    ) -> Patch:
        chosen = tuple(
            p for p in clip.plants if p.live and (not params.parts or p.part in params.parts)
        )
        left = tuple(p for p in clip.plants if p not in chosen)
        baked = replace(clip, plants=chosen)
        joints = planted_joints(baked)
        if (layering.touched(clip) | placed_joints(clip)) & joints:
            return _onto_a_layer(clip, baked, left, params.new_id)
        tracks = [t for t in clip.channels if t.joint in joints]
        values = effective(baked, channels=tracks)
        own = effective(clip.below, channels=tracks)
        curves: dict[TrackId, Curve] = {}
        for done, track in enumerate(tracks, start=1):
            moved = values[track] != own[track]
            if np.any(moved):
                mm = params.tolerance_mm / clip.millimetres
                most = params.tolerance_deg if track.turns else mm
                curves[track] = with_values(clip.curves[track], values[track], moved, most)
            progress(done / len(tracks))
        return Patch(
            curves=curves,
            plants=left,
            report={
                "plants": len(chosen),
                "channels": len(curves),
                "keys_before": sum(clip.curves[t].key_count for t in curves),
                "keys_after": sum(c.key_count for c in curves.values()),
            },
        )

    def told(self, params: Mapping[str, Any]) -> str:
        return "Bake plants"


def _onto_a_layer(clip: Clip, baked: Clip, left: tuple[Plant, ...], new_id: int | None) -> Patch:
    """What plants make as a layer on top of all others, with a value on every frame."""
    vectors, moves = differences(baked.unplanted, baked, sorted(planted_joints(baked)))
    roots = placed_joints(clip)
    moves = {j: unplaced_moves(clip, v) if j in roots else v for j, v in moves.items()}
    layer, curves = sampled_layer(clip, "held by plants", vectors, moves, new_id)
    return Patch(
        curves=curves,
        plants=left,
        layers=(*clip.layers, layer),
        report={"plants": len(clip.plants) - len(left), "channels": len(curves) - 1, "layers": 1},
    )
