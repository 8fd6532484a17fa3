"""Split: a layer made two, by joints or by time, the motion as it was."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any, ClassVar

import numpy as np
from pydantic import Field

from leancurve.curves.curve import Curve, KeyedCurve, SampledCurve, Segment
from leancurve.curves.insertion import insert_key
from leancurve.document.clip import Clip
from leancurve.document.layer import Layer
from leancurve.document.track import TrackId
from leancurve.errors import BadInput
from leancurve.operations.base import (
    Operation,
    Params,
    Patch,
    Progress,
    Scope,
    silent,
    timed,
)
from leancurve.operations.identity import identity, meant
from leancurve.operations.layers.edit import free_layer_name, fresh_id, layer_meant


class SplitLayerParams(Params):
    layer: str = Field(min_length=1, max_length=60, description="the layer's name")
    layer_id: int | None = meant()
    name: str = Field("", max_length=60, description="the name of what is split off")
    new_id: int | None = identity()
    joints: tuple[str, ...] = Field((), description="the joints that are split off")
    frame: int | None = timed(
        None, time="frame", ge=1, description="the first frame of what is split off"
    )


class SplitLayer(Operation[SplitLayerParams]):
    """Make two layers of one: some of its joints, or all from a frame on, in a layer of their own
    above it. The motion stays as it is on every frame."""

    name = "split_layer"
    title = "Split a layer"
    step = "shape"
    part = "layers"
    scoped = False
    keeps = "motion"
    Params: ClassVar[type[SplitLayerParams]] = SplitLayerParams

    def apply(
        self, clip: Clip, scope: Scope, params: SplitLayerParams, progress: Progress = silent
    ) -> Patch:
        layer = layer_meant(clip, params.layer, params.layer_id)
        if bool(params.joints) == (params.frame is not None):
            raise BadInput("split_layer: name joints, or a frame")
        name = params.name or f"{layer.name}, split"
        made = replace(
            layer, id=fresh_id(clip, wanted=params.new_id), name=free_layer_name(clip, name)
        )
        if params.frame is None:
            kept, made, curves = _by_joints(clip, layer, made, params.joints)
        else:
            kept, made, curves = _by_time(clip, layer, made, params.frame)
        layers = list(clip.layers)
        at = layers.index(layer)
        layers[at : at + 1] = [kept, made]
        return Patch(
            curves=curves,
            layers=tuple(layers),
            report={"joints": len(made.layout), "left": len(kept.layout)},
        )

    def told(self, params: Mapping[str, Any]) -> str:
        return f"Split {params['layer']}"


def _by_joints(
    clip: Clip, layer: Layer, made: Layer, names: tuple[str, ...]
) -> tuple[Layer, Layer, dict[TrackId, Curve]]:
    unknown = [n for n in names if n not in clip.skeleton.names]
    if unknown:
        raise BadInput(f"split_layer: no joint is named {unknown[0]!r}")
    wanted = {clip.skeleton.index(n) for n in names} & set(layer.channels)
    left = set(layer.channels) - wanted
    if not wanted or not left:
        raise BadInput(f"{layer.name}: choose some of its joints, not all and not none")
    above = {k for j in wanted for k in clip.skeleton.chain(j)}
    if layer.space == "figure" and (
        above & left or {k for j in left for k in clip.skeleton.chain(j)} & wanted
    ):
        raise BadInput(
            f"{layer.name} works in character space, where joints on one chain depend on each other"
        )
    made = replace(made, layout=tuple((j, c) for j, c in layer.layout if j in wanted))
    kept = replace(layer, layout=tuple((j, c) for j, c in layer.layout if j in left))
    curves = {made.weight: clip.curves[layer.weight]}
    for joint, channels in made.layout:
        for c in channels:
            curves[TrackId(made.owner, joint, c)] = clip.curves[TrackId(layer.owner, joint, c)]
    return kept, made, curves


def _by_time(
    clip: Clip, layer: Layer, made: Layer, frame: int
) -> tuple[Layer, Layer, dict[TrackId, Curve]]:
    """The same curves twice: the one weighs until the frame before, the other from it on."""
    if frame >= clip.frames:
        raise BadInput(f"frame: expected one within 1 to {clip.frames - 1}")
    curves: dict[TrackId, Curve] = {
        TrackId(made.owner, t.joint, t.name): clip.curves[t]
        for t in layer.tracks
        if t != layer.weight
    }
    weight = clip.curves[layer.weight]
    curves[layer.weight] = _weighing(weight, frame, clip.frames, later=False)
    curves[made.weight] = _weighing(weight, frame, clip.frames, later=True)
    return layer, made, curves


def _weighing(weight: Curve, frame: int, frames: int, later: bool) -> Curve:
    """A weight that counts before a frame alone, or from it on."""
    if isinstance(weight, SampledCurve):
        on = (np.arange(frames) >= frame) == later
        return SampledCurve(np.where(on, weight.values, 0.0))
    assert isinstance(weight, KeyedCurve)
    extent = (0.0, float(frames - 1))
    curve = insert_key(insert_key(weight, frame - 1.0, extent), float(frame), extent)
    off = curve.time < frame if later else curve.time >= frame
    edge = np.abs(curve.time - (frame - 1.0)) < 1e-6
    return curve.edited(
        value=np.where(off, 0.0, curve.value),
        slope_in=np.where(off, 0.0, curve.slope_in),
        slope_out=np.where(off | edge, 0.0, curve.slope_out),
        segment=np.where(edge, Segment.STRAIGHT, curve.segment).astype(np.uint8),
    )
