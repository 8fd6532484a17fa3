"""Unflip: rotation channels made continuous, every pose as it was."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, ClassVar

import numpy as np

from leancurve.cleaning.continuity import said_as, solve, whole_turns, with_snaps
from leancurve.cleaning.gimbal import away_from_gimbal, easiest_path
from leancurve.curves.curve import Curve, SampledCurve
from leancurve.document.base import sampled_on_frames
from leancurve.document.clip import Clip
from leancurve.document.rotations import quaternions
from leancurve.document.track import TrackId
from leancurve.measures.account import Kind
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Bools, Floats
from leancurve.operations.base import Operation, Params, Patch, Progress, Scope, number, silent


class UnflipParams(Params):
    """By default the one continuous reading of the poses, begun as the first frame stands."""

    gimbal_deg: float = number(
        0.0,
        "°",
        "how far a pose may drift where a joint passes within this of the gimbal, for a "
        "smoother way through, of joints with a value on every frame; 0 changes no pose",
        ge=0,
        le=5,
    )
    begin_frame: int | None = number(
        None,
        "frame",
        "begin in the solution of this frame; of the first one when absent",
        time="hint",
        ge=0,
    )


class Unflip(Operation[UnflipParams]):
    """Remove jumps of ±360° and swaps between the two equal Euler solutions.

    One channel ``(170, 179, -172)`` → ``(170, 179, 188)``. No pose changes. Turns that are true
    in the data, fast or at once, are not flips: they stay and are reported as snaps. Keys stay
    at their times; where a flip was, keys on the two frames beside it hold the curves as they
    are. In a range of frames the solution begins as the frame before it stands.
    """

    name = "unflip"
    title = "Unflip"
    step = "unflip"
    ranged = True
    keeps = "motion"
    Params: ClassVar[type[UnflipParams]] = UnflipParams

    def counted_as(self, params: Mapping[str, Any]) -> Kind:
        """A smoother way through the gimbal is bought with poses."""
        return "calm" if params.get("gimbal_deg") else "continuity"

    def apply(
        self, clip: Clip, scope: Scope, params: UnflipParams, progress: Progress = silent
    ) -> Patch:
        given = whole_turns(clip.below, scope)
        result, flips = solve(clip, given, scope, progress)
        before, after, drift = 0.0, 0.0, 0.0
        curves: dict[TrackId, Curve] = {}
        for joint, angles in result.items():
            order = clip.order(joint)
            if params.begin_frame is not None and scope.whole_time:
                at = min(params.begin_frame, clip.frames - 1)
                angles = _begun_at(angles, given[joint], at, order)
            if params.gimbal_deg > 0 and len(order) == 3 and _dense(clip, joint):
                near = away_from_gimbal(angles[:, 1]) <= params.gimbal_deg
                eased = easiest_path(angles, order, params.gimbal_deg)
                if np.any(near):
                    moved = rotation.geodesic_deg(
                        quaternions(angles, order), quaternions(eased, order)
                    )
                    drift = max(drift, float(moved.max()))
                    before = max(before, _worst_step(angles, near))
                    after = max(after, _worst_step(eased, near))
                    curves |= _sampled(clip, joint, eased)
                    continue
            curves |= said_as(clip, joint, given[joint], angles)
        report = with_snaps(flips, clip, scope).report(clip)
        if params.gimbal_deg > 0:
            report |= {
                "gimbal_step_before_deg": before,
                "gimbal_step_after_deg": after,
                "gimbal_drift_deg": drift,
            }
        return Patch(curves=curves, report=report)


def _dense(clip: Clip, joint: int) -> bool:
    return all(sampled_on_frames(clip.curves[t], clip.frames) for t in clip.turns_of(joint))


def _sampled(clip: Clip, joint: int, angles: Floats) -> dict[TrackId, Curve]:
    return {
        t: SampledCurve(np.ascontiguousarray(angles[:, k]))
        for k, t in enumerate(clip.turns_of(joint))
    }


def _begun_at(angles: Floats, given: Floats, frame: int, order: str) -> Floats:
    """Continuous angles ``(F, n)`` turned over whole, so that a frame reads as it was given."""
    gap = np.abs(np.remainder(angles[frame] - given[frame] + 180.0, 360.0) - 180.0)
    if len(order) == 3 and gap.max() > 1e-6:
        angles = rotation.alternate(angles, order)
        angles = angles - 360.0 * np.round((angles[frame] - given[frame]) / 360.0)
    return np.asarray(angles + (given[frame] - angles[frame]))


def _worst_step(angles: Floats, near: Bools) -> float:
    """The largest step of any channel into, within or out of frames near the gimbal."""
    step = np.abs(np.diff(angles, axis=0)).max(axis=1, initial=0.0)
    touched = near[1:] | near[:-1]
    return float(step[touched].max()) if np.any(touched) else 0.0
