"""Merge: layers made one, the motion as it was."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any, ClassVar

import numpy as np
from pydantic import Field

from leancurve.document.clip import Clip
from leancurve.document.layering import live_layers
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
from leancurve.operations.identity import all_meant, identity
from leancurve.operations.layers.edit import layer_meant
from leancurve.operations.layers.lift import differences, sampled_layer
from leancurve.operations.layers.writing import KeyedParams, key_times, without, written


class MergeLayersParams(KeyedParams):
    layers: tuple[str, ...] = Field(
        min_length=2, description="the layers that become one: they lie one over the other"
    )
    ids: tuple[int, ...] | None = all_meant("their ids, in the same order")
    name: str = Field("", max_length=60, description="the new layer's name")
    new_id: int | None = identity()
    keyed: bool = Field(True, description="write keys where all of them have theirs")
    stay: bool = Field(False, description="keep those it was made of, switched off")


class MergeLayers(Operation[MergeLayersParams]):
    """Make one layer of some that lie one over the other: it turns further by what they made
    together, as they count, and the motion stays as it is.

    Those it was made of go.
    """

    name = "merge_layers"
    title = "Merge layers"
    step = "shape"
    part = "layers"
    version = 3
    scoped = False
    keeps = "motion"
    Params: ClassVar[type[MergeLayersParams]] = MergeLayersParams

    def apply(
        self, clip: Clip, scope: Scope, params: MergeLayersParams, progress: Progress = silent
    ) -> Patch:
        ids = params.ids or (None,) * len(params.layers)
        if len(ids) != len(params.layers):
            raise BadInput("merge_layers: give one id for each layer")
        named = dict(zip(params.layers, ids, strict=True))
        chosen = [layer_meant(clip, name, i) for name, i in named.items()]
        places = sorted(clip.layers.index(x) for x in chosen)
        first, last = places[0], places[-1]
        between = [x for x in clip.layers[first : last + 1] if x not in chosen]
        live = {x.id for x in live_layers(clip)}
        in_the_way = next((x for x in between if x.id in live), None)
        if in_the_way is not None:
            raise BadInput(f"{in_the_way.name} lies between them: merge it too, or move it away")
        merged = [x for x in chosen if x.id in live]
        if not merged:
            raise BadInput("these layers are muted or have no weight: there is nothing to merge")
        lower, upper = (_through(clip, live, end) for end in (first, last + 1))
        joints = sorted({j for x in merged for j in x.shares})
        vectors, moves = differences(lower, upper, joints)
        progress(0.6)
        layer, curves = sampled_layer(clip, params.name or f"{chosen[0].name}, merged",
                                      vectors, moves, params.new_id)  # fmt: skip
        if params.keyed:
            owners = {x.owner for x in merged}
            frames = np.arange(clip.frames, dtype=np.float64)
            for track in layer.tracks[1:]:
                times = _times(clip, track, owners)
                curves[track] = written(clip, track, curves[track].at(frames), times, params)
        off = {x.id for x in chosen}
        layers = (*without(clip.layers[: last + 1], off, params.stay), layer)
        layers += clip.layers[last + 1 :]
        progress(1.0)
        return Patch(
            curves=curves,
            layers=layers,
            report={
                "layers": len(merged),
                "joints": len(layer.layout),
                "keys": sum(c.key_count for t, c in curves.items() if t != layer.weight),
            },
        )

    def upgraded(self, version: int, params: Mapping[str, Any]) -> dict[str, Any]:
        """Values on every frame were what was written where nothing else was said; then keys were,
        and what was merged stayed."""
        first = {"keyed": False} if version == 1 else {}
        return {**first, "stay": True, **params} if version < 3 else dict(params)

    def told(self, params: Mapping[str, Any]) -> str:
        return f"Merge {' and '.join(params['layers'])}"


def _through(clip: Clip, live: set[int], end: int) -> Clip:
    """The clip with its layers up to a place, those that are live, and nothing over them."""
    kept = tuple(x for x in clip.layers[:end] if x.id in live)
    return replace(clip, layers=kept, plants=(), placement=None)


def _times(clip: Clip, track: TrackId, owners: set[str]) -> Ints | None:
    """Frames on which layers have keys on a joint, their weights' among them."""
    return key_times(
        (
            curve
            for other, curve in clip.curves.items()
            if other.owner in owners
            and (other.name == "w" or (other.joint, other.turns) == (track.joint, track.turns))
        ),
        clip.frames,
    )
