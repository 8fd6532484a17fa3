"""Bring over: parts of another clip's performance, on whatever skeleton, in a range of this one."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, ClassVar

import numpy as np
from pydantic import Field

from leancurve.cleaning.turned import turned_curves, with_values
from leancurve.curves.curve import Curve
from leancurve.curves.easing import easing_of
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.document.root_motion import RootMotion
from leancurve.document.track import TrackId, base_track
from leancurve.errors import BadInput
from leancurve.figure.pose import Pose
from leancurve.figure.skeleton import UP
from leancurve.measures.account import Kind
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Bools, Floats, runs
from leancurve.operations.base import (
    Input,
    Inputs,
    Operation,
    Patch,
    Progress,
    Scope,
    number,
    silent,
    timed,
)
from leancurve.operations.retarget.retarget import ChainParams, Turn, pairs_of, require_joints
from leancurve.operations.shaping import RampParams, Window
from leancurve.progress import part_of
from leancurve.retarget.retargeting import Retargeted, Wishes, retargeted


class BringOverParams(RampParams):
    ramp_in: int = number(12, "frames", "over how many frames it comes in", ge=0, le=100000)
    ramp_out: int = number(12, "frames", "over how many frames it goes out", ge=0, le=100000)
    at: int = timed(
        0, time="frame", ge=0, description="the frame of this clip that the source's frame comes to"
    )
    start: int = number(0, "of its frames", "the source's frame that comes there", ge=0)
    share: float = number(1.0, "share", "how much of it is taken", ge=0, le=1)
    go_on: bool = Field(
        True, description="hips go on from where this clip has them, where they are brought as well"
    )
    joints: dict[str, str] = Field(
        default_factory=dict,
        description="this clip's joints with the source joint that gives them theirs, if by hand",
    )
    chains: tuple[ChainParams, ...] = Field(
        (), description="chains that are set by hand to follow others along their lengths"
    )
    rest: dict[str, Turn] = Field(
        default_factory=dict,
        description="this clip's joints turned by hand at rest, degrees about left, up and forward",
    )
    tolerance_deg: float = number(0.25, "°", "how far keyed turns may lie off", gt=0, le=20)
    tolerance_mm: float = number(1.0, "mm", "how far keyed moves may lie off", gt=0, le=1000)


class BringOver(Operation[BringOverParams]):
    """Bring parts of another clip over: the joints and the frames in scope do what that clip's do.

    The other clip is retargeted onto this one's skeleton first: it may be anybody's, at any rate.
    It begins where it is put and counts as far as it lasts. What is not in scope stays, and so do
    all plants.
    """

    name = "bring_over"
    title = "Bring parts over"
    step = "retarget"
    ranged = True
    inputs: ClassVar[Mapping[str, Input]] = {
        "source": Input("clip", "choose a clip to bring parts of")
    }
    Params: ClassVar[type[BringOverParams]] = BringOverParams

    def apply_with(
        self,
        clip: Clip,
        inputs: Inputs,
        scope: Scope,
        params: BringOverParams,
        progress: Progress = silent,
    ) -> Patch:
        source = inputs["source"]
        assert isinstance(source, Clip)
        require_joints(source, clip, params.joints, params.rest)
        frames, lasts = source_times(clip, source, params.at, params.start)
        wishes = Wishes(joints=params.joints, chains=pairs_of(params.chains), rest=params.rest)
        done = retargeted(source, clip, wishes, part_of(progress, 0.0, 0.7))
        weight = params.share * _weight(clip, scope.mask(clip) & lasts, params)
        moved = weight > 0.0
        joints = given_joints(clip, scope, done)
        if not np.any(moved):
            raise BadInput("bring_over: the source has no frames within the scope")
        if not joints:
            return Patch(report={"joints": 0, "frames": 0, "most_turned_deg": 0.0})
        there = evaluate(done.clip, np.clip(frames[moved], 0.0, source.frames - 1.0))
        here = evaluate(clip.below, np.flatnonzero(moved).astype(np.float64))
        places = {j: there.translation[:, j] for j in joints if _moves(clip, j)}
        turns = {j: there.rotation[:, j] for j in joints}
        if params.go_on:
            _go_on(clip, here, turns, places)
        mixed = {j: rotation.slerp(here.rotation[:, j], q, weight[moved]) for j, q in turns.items()}
        curves: dict[TrackId, Curve] = {}
        curves |= turned_curves(clip, mixed, moved, params.tolerance_deg)
        for joint, place in places.items():
            led = here.translation[:, joint]
            led = led + weight[moved, None] * (place - led)
            curves |= _moved_curves(clip, joint, led, moved, params.tolerance_mm)
        progress(1.0)
        apart = [float(rotation.geodesic_deg(here.rotation[:, j], mixed[j]).max()) for j in joints]
        return Patch(
            curves=curves,
            report={
                "joints": len(joints),
                "frames": int(np.count_nonzero(moved)),
                "most_turned_deg": round(max(apart), 3),
            },
        )

    def told(self, params: Mapping[str, Any]) -> str:
        return f"Bring parts over at frame {params.get('at', 0)}"

    def counted_as(self, params: Mapping[str, Any]) -> Kind:
        """The performance is another there, on the same skeleton."""
        return "hand"


def _weight(clip: Clip, inside: Bools, params: BringOverParams) -> Floats:
    """How much it counts on each frame ``(F,)``: it comes and goes softly within a clip, not at its
    ends."""
    frames = np.arange(clip.frames, dtype=np.float64)
    easing = easing_of(params.easing, params.bezier)
    out = np.zeros(clip.frames)
    for first, last in runs(inside):
        into = params.ramp_in if first > 0 else 0
        out_of = params.ramp_out if last < clip.frames - 1 else 0
        out += Window(first, last, into, out_of, easing, clip.frames).at(frames) * (
            (frames >= first) & (frames <= last)
        )
    return np.clip(out, 0.0, 1.0)


def source_times(
    clip: Clip, source: Clip, at: int, start: int, pace: float = 1.0
) -> tuple[Floats, Bools]:
    """The source's frames that come to each of a clip's ``(F,)``, its frame ``start`` to ``at``,
    and where it has begun and still lasts ``(F,)``; :class:`BadInput` where it has no such frame.
    """
    if start >= source.frames:
        raise BadInput(f"start: the source has frames 0 to {max(source.frames - 1, 0)}")
    ratio = pace * float(source.rate / clip.rate)
    frames = start + (np.arange(clip.frames, dtype=np.float64) - at) * ratio
    return frames, (frames > start - 1e-6) & (frames < source.frames - 1 + 1e-6)


def given_joints(clip: Clip, scope: Scope, done: Retargeted) -> list[int]:
    """Joints in scope that turn freely and whose turn what was retargeted gives."""
    inside = {t.joint for t in scope.resolve(clip)}
    return [j for j in sorted(inside) if len(clip.order(j)) == 3 and done.gives(j)]


def _moves(clip: Clip, joint: int) -> bool:
    return {"tx", "ty", "tz"} <= set(clip.layout[joint]) and clip.skeleton.parents[joint] < 0


def _go_on(clip: Clip, here: Pose, turns: dict[int, Floats], places: dict[int, Floats]) -> None:
    """The root motion laid on from where this clip has it on the first frame, level and about the
    up axis, in place."""
    up = UP[clip.reading.up_axis]
    for joint, place in places.items():
        theirs = RootMotion.of(turns[joint][:1], place[:1], up).at(0)
        ours = RootMotion.of(here.rotation[:1, joint], here.translation[:1, joint], up).at(0)
        on = theirs.inverse.then(ours)
        turns[joint], places[joint] = on.turns(turns[joint]), on.points(place)


def _moved_curves(
    clip: Clip, joint: int, places: Floats, moved: Bools, tolerance_mm: float
) -> dict[TrackId, Curve]:
    values = clip.translation_values(joint, places)
    frames = np.arange(clip.frames, dtype=np.float64)
    out: dict[TrackId, Curve] = {}
    for channel in ("tx", "ty", "tz"):
        track = base_track(joint, channel)
        curve = clip.curves[track]
        whole = curve.at(frames)
        whole[moved] = values[track]
        out[track] = with_values(curve, whole, moved, tolerance_mm / clip.millimetres)
    return out
