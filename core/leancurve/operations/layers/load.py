"""Load: another clip's performance stands in a layer, in a range of this one."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import Field

from leancurve.curves.curve import Curve, Handle, SampledCurve, keyed
from leancurve.curves.handles import with_handle
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.document.layer import Layer
from leancurve.document.parts.registry import bare
from leancurve.document.rotations import angles_afresh, angles_near
from leancurve.document.rotations import written as turned_to
from leancurve.document.track import TrackId
from leancurve.errors import BadInput
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats, runs
from leancurve.operations.base import (
    Input,
    Inputs,
    Operation,
    Params,
    Patch,
    Progress,
    Scope,
    number,
    silent,
    timed,
)
from leancurve.operations.identity import identity
from leancurve.operations.layers.edit import free_layer_name, fresh_id
from leancurve.operations.layers.lift import LEAST_DEG, sampled_layer
from leancurve.operations.retarget.bring_over import given_joints, source_times
from leancurve.operations.retarget.retarget import ChainParams, pairs_of, require_joints
from leancurve.progress import part_of
from leancurve.retarget.retargeting import Wishes, retargeted

StandsAs = Literal[
    "poses",
    "difference from its rest",
    "difference from its first frame",
    "difference from this clip",
    "difference from a frame of this clip",
    "difference from a frame of another clip",
]


class LoadLayerParams(Params):
    name: str = Field("loaded", min_length=1, max_length=60, description="the new layer's name")
    new_id: int | None = identity()
    stands_as: StandsAs = Field(
        "poses", description="whether it takes the place of what is below, or is added to it"
    )
    against: int = number(
        0, "frame", "the frame of this clip that the difference is told from",
        {"stands_as": ["difference from a frame of this clip"]}, ge=0,
    )  # fmt: skip
    reference_frame: int = number(
        0, "of its frames", "the frame of the other clip that the difference is told from",
        {"stands_as": ["difference from a frame of another clip"]}, ge=0,
    )  # fmt: skip
    at: int = timed(
        0, time="frame", ge=0, description="the frame of this clip that the source's frame comes to"
    )
    start: int = number(0, "of its frames", "the source's frame that comes there", ge=0)
    pace: float = number(1.0, "×", "how many times as fast it goes", gt=0, le=20)
    ramp_in: int = number(12, "frames", "over how many frames it comes in", ge=0, le=100000)
    ramp_out: int = number(12, "frames", "over how many frames it goes out", ge=0, le=100000)
    joints: dict[str, str] = Field(
        default_factory=dict,
        description="this clip's joints with the source joint that gives them theirs, if by hand",
    )
    chains: tuple[ChainParams, ...] = Field(
        (), description="chains that are set by hand to follow others along their lengths"
    )


class LoadLayer(Operation[LoadLayerParams]):
    """Load another clip onto a new layer: as poses that take the place of what is below, or as the
    difference from its own rest or first frame, from this clip or a frame of it, added to it.

    The other clip is retargeted onto this one's skeleton first: it may be anybody's, at any rate.
    The layer's weight comes and goes where the source begins and ends.
    """

    name = "load_layer"
    title = "Load onto a layer"
    step = "shape"
    part = "layers"
    ranged = True
    inputs: ClassVar[Mapping[str, Input]] = {
        "source": Input("clip", "choose a clip to load"),
        "reference": Input(
            "clip", "choose the clip or pose that the difference is told from", optional=True
        ),
    }
    Params: ClassVar[type[LoadLayerParams]] = LoadLayerParams

    def apply_with(
        self,
        clip: Clip,
        inputs: Inputs,
        scope: Scope,
        params: LoadLayerParams,
        progress: Progress = silent,
    ) -> Patch:
        source = inputs["source"]
        assert isinstance(source, Clip)
        require_joints(source, clip, params.joints, {})
        frames, lasts = source_times(clip, source, params.at, params.start, params.pace)
        wishes = Wishes(joints=params.joints, chains=pairs_of(params.chains))
        done = retargeted(source, clip, wishes, part_of(progress, 0.0, 0.7))
        inside = runs(scope.mask(clip) & lasts)
        if not inside:
            raise BadInput("load_layer: the source has no frames within the scope")
        joints = given_joints(clip, scope, done)
        pose = evaluate(done.clip, np.clip(frames, 0.0, source.frames - 1.0), joints)
        if params.stands_as == "poses":
            layer, curves = _poses(clip, params, joints, pose.rotation)
        else:
            told_from = inputs.get("reference")
            other = told_from if isinstance(told_from, Clip) else None
            reference = _reference(clip, source, done.clip, other, joints, params)
            away = rotation.multiply(rotation.conjugate(reference), pose.rotation)
            vectors = rotation.unrolled(rotation.log(away))
            most = np.linalg.norm(vectors, axis=-1).max(axis=0)
            found = {j: vectors[:, k] for k, j in enumerate(joints) if most[k] > LEAST_DEG}
            layer, curves = sampled_layer(clip, params.name, found, {}, params.new_id)
        curves[layer.weight] = _weight(clip, inside, params)
        progress(1.0)
        return Patch(
            curves=curves,
            layers=(*clip.layers, layer),
            report={
                "joints": len(layer.layout),
                "frames": sum(last - first + 1 for first, last in inside),
            },
        )

    def needs(self, params: LoadLayerParams) -> frozenset[str]:
        other = params.stands_as == "difference from a frame of another clip"
        return frozenset({"source", "reference"} if other else {"source"})

    def told(self, params: Mapping[str, Any]) -> str:
        return f"Load onto {params.get('name', 'loaded')}"


def _reference(
    clip: Clip,
    source: Clip,
    brought: Clip,
    other: Clip | None,
    joints: list[int],
    params: LoadLayerParams,
) -> Floats:
    """What a difference is told from: rotations ``(F, J, 4)`` or ``(1, J, 4)``. ``brought`` is the
    source on this clip's skeleton."""
    if params.stands_as == "difference from a frame of this clip":
        if params.against >= clip.frames:
            raise BadInput(f"against: expected a frame within 0 to {clip.frames - 1}")
        return evaluate(clip.unplanted, np.array([float(params.against)]), joints).rotation
    if params.stands_as == "difference from a frame of another clip":
        assert other is not None  # it is needed then
        if params.reference_frame >= other.frames:
            raise BadInput(f"reference_frame: expected a frame within 0 to {other.frames - 1}")
        there = retargeted(
            other, clip, Wishes(joints=params.joints, chains=pairs_of(params.chains))
        )
        return evaluate(there.clip, np.array([float(params.reference_frame)]), joints).rotation
    if params.stands_as == "difference from this clip":
        return evaluate(clip.unplanted, joints=joints).rotation
    if params.stands_as == "difference from its first frame":
        return evaluate(brought, np.array([float(params.start)]), joints).rotation
    # Its rest as it stands on this skeleton: limbs that rest otherwise are brought to agree.
    wishes = Wishes(joints=params.joints, chains=pairs_of(params.chains), feet=0.0, hands=0.0)
    at_rest = retargeted(_resting(source), clip, wishes)
    return evaluate(at_rest.clip, np.zeros(1), joints).rotation


def _resting(clip: Clip) -> Clip:
    """One frame of a clip's skeleton at rest."""
    curves: dict[TrackId, Curve] = {}
    for joint, order in enumerate(clip.orders):
        rest = clip.skeleton.rest_rotations[None, joint]
        near = np.zeros((1, len(order)))
        curves |= turned_to(clip, joint, angles_near(rest, order, near))
        place = clip.translation_values(joint, clip.skeleton.offset_array[None, joint])
        curves |= {t: SampledCurve(np.ascontiguousarray(v)) for t, v in place.items()}
    return replace(bare(clip), curves=curves, frames=1, contacts=())


def _poses(
    clip: Clip, params: LoadLayerParams, joints: list[int], turns: Floats
) -> tuple[Layer, dict[TrackId, Curve]]:
    """A layer that leads to rotations ``(F, J, 4)``, said in the clip's own orders."""
    layout = tuple((j, tuple(f"r{a.lower()}" for a in clip.order(j))) for j in sorted(joints))
    made = fresh_id(clip, wanted=params.new_id)
    layer = Layer(made, free_layer_name(clip, params.name), "override", layout=layout)
    curves: dict[TrackId, Curve] = {}
    for k, joint in enumerate(joints):
        order = clip.order(joint)
        angles = angles_afresh(turns[:, k], order)
        for n, axis in enumerate(order):
            track = TrackId(layer.owner, joint, f"r{axis.lower()}")
            curves[track] = SampledCurve(np.ascontiguousarray(angles[:, n]))
    return layer, curves


def _weight(clip: Clip, spans: list[tuple[int, int]], params: LoadLayerParams) -> Curve:
    """A weight that is 1 within spans of frames and comes and goes there; from an end of the clip
    on. Between spans it is nothing."""
    wanted: dict[float, float] = {}
    for first, last in spans:
        into = min(params.ramp_in, last - first) if first > 0 else 0
        out_of = min(params.ramp_out, last - first - into) if last < clip.frames - 1 else 0
        own = {float(first + into): 1.0, float(last - out_of): 1.0}
        if first > 0:
            own.setdefault(float(first), 0.0)
            own[float(first - 1)] = 0.0
        if last < clip.frames - 1:
            own.setdefault(float(last), 0.0)
            own[float(last + 1)] = 0.0
        wanted |= {t: w for t, w in own.items() if not (w == 0.0 and t in wanted)}
    times = sorted(wanted)
    made = keyed(times, [wanted[t] for t in times])
    return with_handle(made, np.ones(made.key_count, dtype=np.bool_), Handle.FLAT)
