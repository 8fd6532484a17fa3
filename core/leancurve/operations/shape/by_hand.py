"""Poses by hand: keys set on all of a pose, and dense motion led to a pose softly."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, ClassVar

import numpy as np
from pydantic import Field

from leancurve.curves.curve import Curve, KeyedCurve
from leancurve.curves.insertion import insert_key
from leancurve.document.clip import Clip
from leancurve.document.track import TrackId
from leancurve.document.tracks import turning_tracks, value_tracks, written, written_values
from leancurve.errors import BadInput
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats
from leancurve.operations.base import (
    Operation,
    Params,
    Patch,
    Progress,
    Scope,
    counted,
    number,
    silent,
)
from leancurve.operations.lengths import WithLengths, length, of_own_unit
from leancurve.operations.shape.brush import fall_off
from leancurve.operations.shaping import change_report


class KeyPoseParams(Params):
    frame: float = number(0.0, "frame", "the pose's frame", ge=0)


class KeyPose(Operation[KeyPoseParams]):
    """Set a key on every channel in scope at one frame; no curve changes its shape."""

    name = "key_pose"
    title = "Key the pose"
    step = "shape"
    part = "pose"
    keeps = "motion"
    Params: ClassVar[type[KeyPoseParams]] = KeyPoseParams

    def apply(
        self, clip: Clip, scope: Scope, params: KeyPoseParams, progress: Progress = silent
    ) -> Patch:
        if params.frame > clip.frames - 1:
            raise BadInput(f"key_pose: expected a frame within 0 to {clip.frames - 1}")
        curves: dict[TrackId, Curve] = {}
        dense = 0
        for channel in scope.resolve(clip):
            curve = clip.curves[channel]
            if not isinstance(curve, KeyedCurve):
                dense += 1
            elif (fresh := insert_key(curve, params.frame, (0.0, clip.frames - 1.0))) is not curve:
                curves[channel] = fresh
        return Patch(curves=curves, report={"keys_made": len(curves), "dense_skipped": dense})

    def told(self, params: Any) -> str:
        return f"Key the pose at {params.get('frame', 0.0):g}"


class Offset(Params):
    """How far one joint is led: turned about its own axes, moved along its parent's."""

    joint: str
    turn: tuple[float, float, float] = Field(
        (0.0, 0.0, 0.0), description="rotation vector in degrees, in the joint's own axes"
    )
    move: tuple[float, float, float] = length((0.0, 0.0, 0.0), "in the parent's axes")


class SoftOffsetParams(WithLengths):
    frame: int = number(0, "frame", "where it counts in full", ge=0)
    radius: float = number(12.0, "frames", "how far from there it dies out", ge=2, le=100000)
    offsets: tuple[Offset, ...] = Field(min_length=1, max_length=1000)


class SoftOffset(Operation[SoftOffsetParams]):
    """Lead dense motion to a pose and back again: in full at one frame, nothing from the radius
    on. Never a spike of one frame.

    Keyed channels are left alone: there a key does it.
    """

    name = "soft_offset"
    title = "Soft offset"
    step = "shape"
    part = "pose"
    grows = True
    version = 2
    Params: ClassVar[type[SoftOffsetParams]] = SoftOffsetParams

    def apply(
        self, clip: Clip, scope: Scope, params: SoftOffsetParams, progress: Progress = silent
    ) -> Patch:
        if params.frame >= clip.frames:
            raise BadInput(f"soft_offset: expected a frame within 0 to {clip.frames - 1}")
        names = clip.skeleton.names
        unplaced = [o.joint for o in params.offsets if o.joint not in names]
        wanted = {names.index(o.joint): o for o in params.offsets if o.joint in names}
        inside = scope.model_copy(
            update={"joints": tuple(names[j] for j in wanted), "groups": None}
        )
        allowed = set(scope.resolve(clip))
        weight, _ = fall_off(
            np.arange(clip.frames, dtype=np.float64), float(params.frame), params.radius
        )
        tracks = [t for t in turning_tracks(clip, inside) if wanted[t.joint].turn != (0, 0, 0)]
        turned: dict[int, Floats] = {}
        for track in tracks:
            vector = np.array(wanted[track.joint].turn)
            by = rotation.exp(weight[:, None] * vector)
            turned[track.joint] = rotation.multiply(track.rotations, by)
        curves = written(tracks, turned)
        for values in value_tracks(clip, inside):
            offset = wanted[values.channels[0].joint]
            own = np.array([_along(offset, c) for c in values.channels])
            curves |= written_values(values, values.values + weight[:, None] * own)
        curves = {c: curve for c, curve in curves.items() if c in allowed}
        report = change_report(clip, curves)
        if unplaced:
            report["unplaced"] = [{"joint": name} for name in unplaced]
        return Patch(curves=curves, report=report)

    def upgraded(self, version: int, params: Mapping[str, Any]) -> dict[str, Any]:
        """Lengths were in the skeleton's own unit once."""
        return of_own_unit(params) if version < 2 else dict(params)

    def told(self, params: Any) -> str:
        count = len(params["offsets"])
        return f"Soft offset of {counted(count, 'joint')} at {params.get('frame', 0)}"


def _along(offset: Offset, channel: TrackId) -> float:
    """How far a channel on its own goes: that part of the offset that is along its axis."""
    return (offset.turn if channel.turns else offset.move)["xyz".index(channel.name[1])]
