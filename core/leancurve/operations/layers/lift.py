"""Lift: what was done to the capture in the clip's own curves becomes a layer over it."""

from __future__ import annotations

from collections.abc import Mapping
from functools import partial
from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import Field

from leancurve.cleaning.turned import turned_curves, with_values
from leancurve.curves.curve import Curve, SampledCurve, keyed
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.document.layer import Layer
from leancurve.document.rotations import read
from leancurve.document.track import TrackId
from leancurve.document.tracks import curves_near
from leancurve.errors import BadInput
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats
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
from leancurve.operations.layers.edit import free_layer_name, fresh_id

LEAST_DEG, LEAST_MM = 1e-3, 1e-3
"""A joint that never differs by more is no part of the layer."""
NOTHING = 1e-9
"""Degrees, or lengths, that are what calculating leaves where nothing was changed."""


class LiftParams(Params):
    name: str = Field("by hand", min_length=1, max_length=60, description="the new layer's name")
    what: Literal["by hand", "all"] = Field(
        "by hand",
        description="what is lifted: what was done by hand, or all that was done to the capture",
    )
    new_id: int | None = identity()


class Lift(Operation[LiftParams]):
    """Lift what was done by hand off the clip's own curves, or all that was done to the capture:
    a layer right over them makes the motion what it was, to be weighed, masked or muted.

    ``hand`` are the states before and after each line of hand work, in turns. Keyed curves that
    lose their hand work keep their key times.
    """

    name = "lift"
    title = "Extract edits to a layer"
    step = "shape"
    part = "layers"
    version = 2
    inputs: ClassVar[Mapping[str, Input]] = {
        "take": Input("take", "it works on a clip with its take", optional=True),
        "hand": Input("hand", "nothing was done by hand", optional=True),
    }
    keeps = "motion"
    Params: ClassVar[type[LiftParams]] = LiftParams

    def apply_with(
        self,
        clip: Clip,
        inputs: Inputs,
        scope: Scope,
        params: LiftParams,
        progress: Progress = silent,
    ) -> Patch:
        inside = sorted({t.joint for t in scope.resolve(clip)})
        if params.what == "all":
            take = inputs["take"]
            assert isinstance(take, Clip)
            if take.skeleton.names != clip.skeleton.names or take.frames != clip.frames:
                raise BadInput("lift: the take has another skeleton or length than the clip")
            vectors, moves = differences(take.below, clip.below, inside)
            below = partial(curves_near, clip, take)
        else:
            vectors, moves = _by_hand(clip, inputs["hand"], inside)
            below = partial(_without, clip, vectors, moves)
        progress(0.5)
        layer, curves = sampled_layer(clip, params.name, vectors, moves, params.new_id)
        touched = sorted({*vectors, *moves})
        if not touched:
            raise BadInput("lift: these joints have no edits to extract")
        curves |= below(touched)
        progress(1.0)
        return Patch(
            curves=curves,
            # Right over the curves: what lay over them lies over it as it did.
            layers=(layer, *clip.layers),
            report={
                "joints": len(touched),
                "most_turned_deg": _most(vectors),
                "most_moved_mm": _most(moves) * clip.millimetres,
            },
        )

    def needs(self, params: LiftParams) -> frozenset[str]:
        return frozenset({"take"} if params.what == "all" else {"hand"})

    def upgraded(self, version: int, params: Mapping[str, Any]) -> dict[str, Any]:
        """All of the work was lifted once."""
        return {"what": "all", **params} if version == 1 else dict(params)

    def told(self, params: Mapping[str, Any]) -> str:
        return f"Extract edits to {params.get('name', 'by hand')}"


Turns = dict[int, Floats]


def _by_hand(clip: Clip, states: Any, joints: list[int]) -> tuple[Turns, Turns]:
    """What lines of hand work made one after the other, by joint: rotation vectors ``(F, 3)`` in
    degrees and moves ``(F, 3)``."""
    turned, moved = (np.zeros((clip.frames, len(joints), n)) for n in (4, 3))
    turned[..., 3] = 1.0
    for before, after in zip(states[::2], states[1::2], strict=True):
        for state in (before, after):
            if state.skeleton != clip.skeleton or state.frames != clip.frames:
                raise BadInput(
                    "lift: some was done by hand on another time than the clip's: lift it before "
                    "time is moved"
                )
        lower, upper = (evaluate(x.below, joints=joints) for x in (before, after))
        by = rotation.multiply(rotation.conjugate(lower.rotation), upper.rotation)
        turned = rotation.multiply(turned, by)
        moved += upper.translation - lower.translation
    return worth(clip, joints, rotation.log(turned), moved)


def _without(clip: Clip, vectors: Turns, moves: Turns, joints: list[int]) -> dict[TrackId, Curve]:
    """The clip's own curves of joints, turned and moved back by vectors and moves."""
    out: dict[TrackId, Curve] = {}
    every = np.ones(clip.frames, dtype=np.bool_)
    back = {
        j: rotation.multiply(read(clip, j), rotation.exp(-v))
        for j, v in vectors.items()
        if clip.order(j)
    }
    out |= turned_curves(clip, back, every, LEAST_DEG)
    own = evaluate(clip.below, joints=joints)
    for k, joint in enumerate(joints):
        if joint in moves:
            where = clip.translation_values(joint, own.translation[:, k] - moves[joint])
            least = LEAST_MM / clip.millimetres
            out |= {t: with_values(clip.curves[t], v, every, least) for t, v in where.items()}
    return out


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
    return worth(upper, joints, vectors, there.translation - here.translation)


def worth(
    clip: Clip, joints: list[int], vectors: Floats, moves: Floats
) -> tuple[dict[int, Floats], dict[int, Floats]]:
    """Vectors and moves ``(F, J, 3)`` by joint, without a jump, of the joints that have any."""
    vectors = rotation.unrolled(vectors)
    vectors[np.linalg.norm(vectors, axis=-1) < NOTHING] = 0.0
    moves = np.where(np.abs(moves) < NOTHING, 0.0, moves)
    least = LEAST_MM / clip.millimetres
    turned = np.linalg.norm(vectors, axis=-1).max(axis=0, initial=0.0) > LEAST_DEG
    moved = np.abs(moves).max(axis=(0, 2), initial=0.0) > least
    return (
        {j: vectors[:, k] for k, j in enumerate(joints) if turned[k]},
        {j: moves[:, k] for k, j in enumerate(joints) if moved[k]},
    )


def sampled_layer(
    clip: Clip,
    name: str,
    vectors: Mapping[int, Floats],
    moves: Mapping[int, Floats],
    new_id: int | None = None,
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
    layer = Layer(fresh_id(clip, wanted=new_id), free_layer_name(clip, name), layout=layout)
    curves: dict[TrackId, Curve] = {layer.weight: keyed([0.0], [1.0])}
    for letter, found in (("r", vectors), ("t", moves)):
        for joint, values in found.items():
            for k, axis in enumerate("xyz"):
                track = TrackId(layer.owner, joint, f"{letter}{axis}")
                curves[track] = SampledCurve(np.ascontiguousarray(values[:, k]))
    return layer, curves
