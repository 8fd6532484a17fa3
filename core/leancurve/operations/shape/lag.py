"""Lag: the joints of a chain follow later, one after another."""

from __future__ import annotations

from typing import Any, ClassVar

import numpy as np

from leancurve.curves.curve import SAME_TIME, Curve, SampledCurve
from leancurve.curves.insertion import insert_key
from leancurve.document.clip import Clip
from leancurve.document.track import TrackId
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


class LagParams(Params):
    frames: float = number(2.0, "frames", "how much later each joint follows the one above", ge=0)
    fall_off: float = number(
        1.0, "×", "each joint's own delay, times that of the one above", gt=0, le=2
    )


class Lag(Operation[LagParams]):
    """Let the joints of a chain follow later, one after another; the clip grows no longer.

    With 2 frames and a fall-off of 0.5 the joints below the first come 2, 3, 3.5 … frames later.
    """

    name = "lag"
    title = "Lag"
    step = "shape"
    part = "timing"
    Params: ClassVar[type[LagParams]] = LagParams

    def apply(
        self, clip: Clip, scope: Scope, params: LagParams, progress: Progress = silent
    ) -> Patch:
        channels = scope.resolve(clip)
        depth = depths(clip, {c.joint for c in channels})
        delay = {
            j: params.frames * sum(params.fall_off**k for k in range(d)) for j, d in depth.items()
        }
        curves: dict[TrackId, Curve] = {
            c: later(clip.curves[c], delay[c.joint], clip.frames)
            for c in channels
            if delay[c.joint] > 0
        }
        longest = max(delay.values(), default=0.0)
        return Patch(
            curves=curves,
            report={"joints": sum(d > 0 for d in delay.values()), "longest_frames": longest},
        )

    def told(self, params: Any) -> str:
        return f"Lag of {counted(params.get('frames', 2.0), 'frame')}"


def depths(clip: Clip, joints: set[int]) -> dict[int, int]:
    """How many joints of the set stand above each of its joints."""
    out: dict[int, int] = {}
    for joint in sorted(joints):
        above = clip.skeleton.parents[joint]
        while above >= 0 and above not in joints:
            above = clip.skeleton.parents[above]
        out[joint] = out[above] + 1 if above >= 0 else 0
    return out


def later(curve: Curve, delay: float, frames: int) -> Curve:
    """The curve ``delay`` frames later on the same frames: its first value is held till then."""
    if isinstance(curve, SampledCurve):
        return SampledCurve(curve.at(np.arange(frames, dtype=np.float64) - delay))
    end = float(max(frames - 1, 0))
    extent = (0.0, end)
    moved = curve.edited(time=curve.time + delay)
    if moved.time[-1] > end > moved.time[0]:
        moved = insert_key(moved, end, extent)
        moved = moved.only(moved.time <= end + SAME_TIME)
    if moved.time[0] > end:
        return moved.only(moved.time == moved.time[0]).edited(time=np.zeros(1))
    return insert_key(moved, 0.0, extent) if moved.time[0] > 0 else moved
