"""Unflip: rotation channels made continuous, every pose as it was."""

from __future__ import annotations

from typing import ClassVar

import numpy as np

from leancurve.cleaning.continuity import solve, with_snaps
from leancurve.cleaning.gimbal import away_from_gimbal, easiest_path
from leancurve.curves.curve import Curve, KeyedCurve, SampledCurve, frame_values
from leancurve.document.clip import Clip
from leancurve.document.track import TrackId, base_track
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Bools, Floats
from leancurve.operations.base import Operation, Params, Patch, Progress, Scope, number, silent


class UnflipParams(Params):
    """By default the one continuous reading of the poses, begun as the first frame stands."""

    gimbal_deg: float = number(
        0.0,
        "°",
        "how far a pose may drift where a joint passes within this of the gimbal, for a "
        "smoother way through; 0 changes no pose",
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
    in the data, fast or at once, are not flips: they stay and are reported as snaps. Keyed
    curves that are not dense are left alone: their values between keys are meant. In a range
    of frames the solution begins as the frame before it stands.
    """

    name = "unflip"
    title = "Unflip"
    step = "unflip"
    ranged = True
    Params: ClassVar[type[UnflipParams]] = UnflipParams

    def apply(
        self, clip: Clip, scope: Scope, params: UnflipParams, progress: Progress = silent
    ) -> Patch:
        result, flips = solve(clip, scope, progress)
        before, after, drift = 0.0, 0.0, 0.0
        for joint, angles in result.items():
            order = clip.order(joint)
            if params.begin_frame is not None and scope.whole_time:
                at = min(params.begin_frame, clip.frames - 1)
                angles = _begun_at(angles, _angles(clip, joint), at, order)
            if params.gimbal_deg > 0 and len(order) == 3:
                near = away_from_gimbal(angles[:, 1]) <= params.gimbal_deg
                eased = easiest_path(angles, order, params.gimbal_deg)
                if np.any(near):
                    moved = rotation.geodesic_deg(
                        rotation.from_euler(angles, order), rotation.from_euler(eased, order)
                    )
                    drift = max(drift, float(moved.max()))
                    before = max(before, _worst_step(angles, near))
                    after = max(after, _worst_step(eased, near))
                angles = eased
            result[joint] = angles
        curves: dict[TrackId, Curve] = {}
        for joint, angles in result.items():
            _write(clip, joint, angles, curves)
        report = with_snaps(flips, clip, scope).report(clip)
        if params.gimbal_deg > 0:
            report |= {
                "gimbal_step_before_deg": before,
                "gimbal_step_after_deg": after,
                "gimbal_drift_deg": drift,
            }
        return Patch(curves=curves, report=report)


def _angles(clip: Clip, joint: int) -> Floats:
    names = [base_track(joint, f"r{a.lower()}") for a in clip.order(joint)]
    return np.stack([frame_values(clip.curves[c]) for c in names], axis=1)


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


def _write(clip: Clip, joint: int, angles: Floats, curves: dict[TrackId, Curve]) -> None:
    """Curves of a joint's channels whose values have changed."""
    for k, axis in enumerate(clip.order(joint)):
        channel = base_track(joint, f"r{axis.lower()}")
        old = clip.curves[channel]
        if np.array_equal(frame_values(old), angles[:, k]):
            continue
        values = np.ascontiguousarray(angles[:, k])
        if isinstance(old, KeyedCurve):
            sign = np.where(np.diff(values) * np.diff(old.value) < 0, -1.0, 1.0)
            first = np.concatenate([sign[:1], sign])
            curves[channel] = old.edited(
                value=values,
                slope_in=old.slope_in * first,
                slope_out=old.slope_out * np.concatenate([sign, sign[-1:]]),
            )
        else:
            curves[channel] = SampledCurve(values)
