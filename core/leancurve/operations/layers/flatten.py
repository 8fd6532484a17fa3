"""Flatten: what layers make is written into the clip's own curves."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any, ClassVar

import numpy as np
from pydantic import Field

from leancurve.curves.curve import Curve
from leancurve.document import layering
from leancurve.document.clip import Clip
from leancurve.document.evaluation import effective
from leancurve.document.layering import live_layers, with_only_layers
from leancurve.document.placement import placed_joints
from leancurve.document.planting.plan import planted_joints
from leancurve.document.track import TrackId
from leancurve.errors import BadInput
from leancurve.numbers.arrays import Ints
from leancurve.operations.base import (
    Operation,
    Patch,
    Progress,
    Scope,
    silent,
)
from leancurve.operations.identity import all_meant
from leancurve.operations.layers.edit import layer_meant
from leancurve.operations.layers.writing import KeyedParams, key_times, without, written


class FlattenParams(KeyedParams):
    layers: tuple[str, ...] = Field(
        (),
        description="the layers that are flattened, by name; all with plants where none is given",
    )
    ids: tuple[int, ...] | None = all_meant("their ids, in the place of names")
    stay: bool = Field(False, description="keep the layers, switched off")


class Flatten(Operation[FlattenParams]):
    """Write what layers make of the clip into its own curves, on its frames and nowhere else.

    The motion stays as it is on every frame, and the layers go. Of all layers the plants above
    them are written as well, and muted; of some, what those make of the clip without the others.
    """

    name = "flatten"
    title = "Flatten"
    step = "shape"
    part = "layers"
    version = 2
    continuous = True
    scoped = False
    keeps = "motion"
    Params: ClassVar[type[FlattenParams]] = FlattenParams

    def apply(
        self, clip: Clip, scope: Scope, params: FlattenParams, progress: Progress = silent
    ) -> Patch:
        ids = params.ids or tuple(layer_meant(clip, name).id for name in params.layers)
        if ids:
            gone = next((i for i in ids if clip.layer_named("", i) is None), None)
            if gone is not None:
                raise BadInput("one of these layers is not here any more")
            chosen = set(ids)
            seen = with_only_layers(clip, sorted(chosen))
        else:
            chosen = {x.id for x in live_layers(clip)}
            seen = clip
        joints = layering.touched(seen) | planted_joints(seen) | placed_joints(seen)
        tracks = [t for t in clip.channels if t.joint in joints]
        values = effective(seen, channels=tracks)
        own = effective(clip.below, channels=tracks)
        progress(0.6)
        curves: dict[TrackId, Curve] = {}
        for track in tracks:
            if np.array_equal(values[track], own[track]):
                continue
            times = _times(clip, track) if params.keyed else None
            curves[track] = written(clip, track, values[track], times, params)
        layers = without(clip.layers, chosen, params.stay)
        plants, placement = clip.plants, clip.placement
        if not ids:
            placement = None if placement is None else replace(placement, muted=True)
            plants = tuple(replace(p, muted=True) for p in clip.plants)
        progress(1.0)
        return Patch(
            curves=curves,
            layers=layers if layers != clip.layers else None,
            plants=plants if plants != clip.plants else None,
            placement=placement if placement != clip.placement else None,
            report={
                "layers": len(chosen),
                "channels": len(curves),
                "keys": sum(c.key_count for c in curves.values()),
            },
        )

    def upgraded(self, version: int, params: Mapping[str, Any]) -> dict[str, Any]:
        """Layers stayed once."""
        return {"stay": True, **params} if version == 1 else dict(params)

    def told(self, params: Mapping[str, Any]) -> str:
        names = params.get("layers") or ()
        return f"Flatten {', '.join(names)}" if names else "Flatten"


def _times(clip: Clip, track: TrackId) -> Ints | None:
    """Frames on which the clip's own curve or a layer on its joint has keys."""
    owners = {x.owner for x in live_layers(clip)}
    return key_times(
        (
            curve
            for other, curve in clip.curves.items()
            if other == track
            or (other.owner in owners and other.joint == track.joint and other.turns == track.turns)
        ),
        clip.frames,
    )
