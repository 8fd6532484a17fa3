"""Layers brought from another clip, and what a change made of a clip, as a layer over it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from fractions import Fraction
from typing import Any, ClassVar

import numpy as np
from pydantic import Field

from leancurve.curves.curve import Curve, KeyedCurve, SampledCurve
from leancurve.document.clip import Clip
from leancurve.document.layer import Layer
from leancurve.document.track import TrackId
from leancurve.errors import BadInput
from leancurve.operations.base import (
    InputKind,
    Inputs,
    Operation,
    Params,
    Patch,
    Progress,
    Scope,
    silent,
)
from leancurve.operations.layers.edit import free_name, fresh_id
from leancurve.operations.layers.lift import differences, sampled_layer


class BringLayersParams(Params):
    layers: tuple[str, ...] = Field((), description="which of its layers; all where none is named")


class BringLayers(Operation[BringLayersParams]):
    """Lay another clip's layers over this one, on top: joints by name, frames by the second.

    Joints that this clip has not, and those whose numbers would mean another turn here, are left
    out and told.
    """

    name = "bring_layers"
    title = "Bring layers over"
    step = "shape"
    part = "layers"
    inputs: ClassVar[Mapping[str, InputKind]] = {"source": "clip"}
    Params: ClassVar[type[BringLayersParams]] = BringLayersParams

    def apply(
        self, clip: Clip, scope: Scope, params: BringLayersParams, progress: Progress = silent
    ) -> Patch:
        raise BadInput("bring_layers: choose the clip whose layers are wanted")

    def apply_with(
        self,
        clip: Clip,
        inputs: Inputs,
        scope: Scope,
        params: BringLayersParams,
        progress: Progress = silent,
    ) -> Patch:
        source = inputs["source"]
        assert isinstance(source, Clip)
        unknown = [n for n in params.layers if source.layer_named(n) is None]
        if unknown:
            raise BadInput(f"{source.name} has no layer named {unknown[0]!r}")
        wanted = [x for x in source.layers if not params.layers or x.name in params.layers]
        if not wanted:
            raise BadInput(f"{source.name} has no layers")
        curves: dict[TrackId, Curve] = {}
        layers = list(clip.layers)
        unplaced: list[dict[str, Any]] = []
        for layer in wanted:
            given, missed = _here(source, clip, layer)
            unplaced += [{"layer": layer.name, "joint": n} for n in missed]
            made = replace(
                given,
                id=fresh_id(clip, layers),
                name=free_name(clip, layer.name, layers),
                solo=False,
            )
            for theirs, own in zip(_tracks(source, clip, layer, given), made.tracks, strict=True):
                size = 1.0 if theirs.turns or theirs == layer.weight else _units(source, clip)
                curves[own] = _on_time(source.curves[theirs], source, clip, size)
            layers.append(made)
        report: dict[str, Any] = {"layers": len(wanted), "channels": len(curves)}
        if unplaced:
            report["unplaced"] = unplaced
        return Patch(curves=curves, layers=tuple(layers), report=report)

    def told(self, params: Mapping[str, Any]) -> str:
        names = params.get("layers") or ()
        return f"Bring {', '.join(names)} over" if names else "Bring layers over"


def _here(source: Clip, clip: Clip, layer: Layer) -> tuple[Layer, list[str]]:
    """A layer on this clip's joints, by name, and the joints that are left out."""
    layout, missed = [], []
    for joint, channels in layer.layout:
        name = source.skeleton.names[joint]
        at = clip.skeleton.index(name) if name in clip.skeleton.names else -1
        alike = layer.kind == "add" or (at >= 0 and clip.order(at) == source.order(joint))
        if at < 0 or not alike or (len(clip.order(at)) != 3 and any(c[0] == "r" for c in channels)):
            missed.append(name)
            continue
        layout.append((at, channels))
    mask = [
        (clip.skeleton.index(n), share)
        for j, share in layer.mask
        if (n := source.skeleton.names[j]) in clip.skeleton.names
    ]
    return replace(layer, layout=tuple(sorted(layout)), mask=tuple(sorted(mask))), missed


def _tracks(source: Clip, clip: Clip, layer: Layer, given: Layer) -> list[TrackId]:
    """The source's tracks in the order of those that they become."""
    out = [layer.weight]
    for joint, channels in given.layout:
        theirs = source.skeleton.index(clip.skeleton.names[joint])
        out += [TrackId(layer.owner, theirs, c) for c in channels]
    return out


def _units(source: Clip, clip: Clip) -> float:
    return source.reading.metres_per_unit / clip.reading.metres_per_unit


def _on_time(curve: Curve, source: Clip, clip: Clip, size: float) -> Curve:
    """A curve at this clip's rate, its values times a size; one with a value on every frame is as
    long as the clip is."""
    ratio = Fraction(clip.rate) / Fraction(source.rate)
    scale = float(ratio)
    if isinstance(curve, SampledCurve):
        times = np.minimum(np.arange(clip.frames) / scale, max(source.frames - 1, 0))
        return SampledCurve(size * curve.at(times))
    assert isinstance(curve, KeyedCurve)
    return curve.edited(
        time=curve.time * scale,
        value=size * curve.value,
        slope_in=size * curve.slope_in / scale,
        slope_out=size * curve.slope_out / scale,
    )


class ExtractParams(Params):
    name: str = Field("extracted", min_length=1, max_length=60, description="the new layer's name")


class Extract(Operation[ExtractParams]):
    """What lies between two states of this clip becomes a layer over it: what a line of its recipe
    changed, to be weighed or muted by itself once the line is taken out."""

    name = "extract"
    title = "Extract into a layer"
    step = "shape"
    part = "layers"
    inputs: ClassVar[Mapping[str, InputKind]] = {"before": "clip", "after": "clip"}
    Params: ClassVar[type[ExtractParams]] = ExtractParams

    def apply(
        self, clip: Clip, scope: Scope, params: ExtractParams, progress: Progress = silent
    ) -> Patch:
        raise BadInput("extract: choose what was before and what is after")

    def apply_with(
        self,
        clip: Clip,
        inputs: Inputs,
        scope: Scope,
        params: ExtractParams,
        progress: Progress = silent,
    ) -> Patch:
        lower, upper = (
            replace(x, plants=(), placement=None)
            for x in (inputs["before"], inputs["after"])
            if isinstance(x, Clip)
        )
        for other in (lower, upper):
            if other.skeleton != clip.skeleton or other.frames != clip.frames:
                raise BadInput("extract: it was made on another time or skeleton than the clip's")
        joints = sorted({t.joint for t in scope.resolve(clip)})
        free = [j for j in joints if len(clip.order(j)) == 3]
        vectors, moves = differences(lower, upper, free)
        if not vectors and not moves:
            raise BadInput("extract: no joint stands otherwise by that")
        layer, curves = sampled_layer(clip, params.name, vectors, moves)
        return Patch(
            curves=curves,
            layers=(*clip.layers, layer),
            report={"joints": len(layer.layout)},
        )

    def told(self, params: Mapping[str, Any]) -> str:
        return f"Extract {params.get('name', 'extracted')} into a layer"
