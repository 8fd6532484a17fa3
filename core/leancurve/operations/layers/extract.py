"""Extract: what a change made of a clip, as a layer over it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any, ClassVar

from pydantic import Field

from leancurve.document.clip import Clip
from leancurve.errors import BadInput
from leancurve.operations.base import (
    Input,
    Inputs,
    Operation,
    Params,
    Patch,
    Progress,
    Scope,
    silent,
)
from leancurve.operations.identity import identity
from leancurve.operations.layers.lift import differences, sampled_layer


class ExtractParams(Params):
    name: str = Field("extracted", min_length=1, max_length=60, description="the new layer's name")
    new_id: int | None = identity()


class Extract(Operation[ExtractParams]):
    """What lies between two states of this clip becomes a layer over it: what a line of its recipe
    changed, to be weighed or muted by itself once the line is taken out."""

    name = "extract"
    title = "Extract into a layer"
    step = "shape"
    part = "layers"
    inputs: ClassVar[Mapping[str, Input]] = {
        "before": Input("clip", "choose what was before"),
        "after": Input("clip", "choose what is after"),
    }
    Params: ClassVar[type[ExtractParams]] = ExtractParams

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
                raise BadInput("extract: that line was made on another length, rate or skeleton")
        joints = sorted({t.joint for t in scope.resolve(clip)})
        vectors, moves = differences(lower, upper, joints)
        if not vectors and not moves:
            raise BadInput("extract: that line moves no joint")
        layer, curves = sampled_layer(clip, params.name, vectors, moves, params.new_id)
        return Patch(
            curves=curves,
            layers=(*clip.layers, layer),
            report={"joints": len(layer.layout)},
        )

    def told(self, params: Mapping[str, Any]) -> str:
        return f"Extract {params.get('name', 'extracted')} into a layer"
