"""Lift: what was done to the capture in the clip's own curves becomes a layer over it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, ClassVar

import numpy as np
from pydantic import Field

from leancurve.curves.curve import Curve, SampledCurve, keyed
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.document.layer import Layer
from leancurve.document.track import TrackId
from leancurve.document.tracks import curves_near
from leancurve.errors import BadInput
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats
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

LEAST_DEG, LEAST_MM = 1e-3, 1e-3
"""A joint that never differs by more is no part of the layer."""


class LiftParams(Params):
    name: str = Field("by hand", min_length=1, max_length=60, description="the new layer's name")


class Lift(Operation[LiftParams]):
    """Lift the difference from the capture off the clip's own curves: they become the capture's
    again, and a layer over them makes the motion what it was, to be weighed, masked or muted."""

    name = "lift"
    title = "Lift off into a layer"
    step = "shape"
    part = "layers"
    continuous = True
    inputs: ClassVar[Mapping[str, InputKind]] = {"take": "take"}
    Params: ClassVar[type[LiftParams]] = LiftParams

    def apply(
        self, clip: Clip, scope: Scope, params: LiftParams, progress: Progress = silent
    ) -> Patch:
        raise BadInput("lift works on a clip with its take: it is the difference from that")

    def apply_with(
        self,
        clip: Clip,
        inputs: Inputs,
        scope: Scope,
        params: LiftParams,
        progress: Progress = silent,
    ) -> Patch:
        take = inputs["take"]
        assert isinstance(take, Clip)
        if take.skeleton.names != clip.skeleton.names or take.frames != clip.frames:
            raise BadInput("lift: the take has another skeleton or another length than the clip")
        inside = sorted({t.joint for t in scope.resolve(clip)})
        vectors, moves = differences(take.below, clip.below, inside)
        progress(0.5)
        layer, curves = sampled_layer(clip, params.name, vectors, moves)
        touched = sorted({*vectors, *moves})
        curves |= curves_near(clip, take, touched)
        progress(1.0)
        return Patch(
            curves=curves,
            layers=(*clip.layers, layer),
            report={
                "joints": len(touched),
                "most_turned_deg": _most(vectors),
                "most_moved_mm": _most(moves) * clip.millimetres,
            },
        )

    def told(self, params: Mapping[str, Any]) -> str:
        return f"Lift off into {params.get('name', 'by hand')}"


def _most(found: Mapping[int, Floats]) -> float:
    return max((float(np.linalg.norm(v, axis=1).max()) for v in found.values()), default=0.0)


def differences(
    lower: Clip, upper: Clip, joints: list[int]
) -> tuple[dict[int, Floats], dict[int, Floats]]:
    """What has to be added to one clip of a skeleton to make another, by joint: rotation vectors
    ``(F, 3)`` in degrees about the joint's own axes, without a jump, and moves ``(F, 3)`` in its
    own unit. Joints that do not differ are left out."""
    here, there = evaluate(lower, joints=joints), evaluate(upper, joints=joints)
    vectors = rotation.log(rotation.multiply(rotation.conjugate(here.rotation), there.rotation))
    vectors = rotation.unrolled(vectors)
    moves = there.translation - here.translation
    least = LEAST_MM / upper.millimetres
    turned = np.linalg.norm(vectors, axis=-1).max(axis=0, initial=0.0) > LEAST_DEG
    moved = np.abs(moves).max(axis=(0, 2), initial=0.0) > least
    return (
        {j: vectors[:, k] for k, j in enumerate(joints) if turned[k]},
        {j: moves[:, k] for k, j in enumerate(joints) if moved[k]},
    )


def sampled_layer(
    clip: Clip, name: str, vectors: Mapping[int, Floats], moves: Mapping[int, Floats]
) -> tuple[Layer, dict[TrackId, Curve]]:
    """A layer of added turns and moves with a value on every frame, and its curves."""
    layout = tuple(
        (
            j,
            (
                *(("tx", "ty", "tz") if j in moves else ()),
                *(("rx", "ry", "rz") if j in vectors else ()),
            ),
        )
        for j in sorted({*vectors, *moves})
    )
    layer = Layer(fresh_id(clip), free_name(clip, name), layout=layout)
    curves: dict[TrackId, Curve] = {layer.weight: keyed([0.0], [1.0])}
    for letter, found in (("r", vectors), ("t", moves)):
        for joint, values in found.items():
            for k, axis in enumerate("xyz"):
                track = TrackId(layer.owner, joint, f"{letter}{axis}")
                curves[track] = SampledCurve(np.ascontiguousarray(values[:, k]))
    return layer, curves
