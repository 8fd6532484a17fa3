"""Trim: the clip cut to a range; a calibration pose taken off its ends."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, ClassVar

import numpy as np
from pydantic import Field

from leancurve.curves.curve import Curve, SampledCurve
from leancurve.curves.insertion import cut
from leancurve.document.clip import Clip
from leancurve.document.track import TrackId
from leancurve.errors import BadInput
from leancurve.measures.account import Kind
from leancurve.measures.findings import Motion
from leancurve.measures.findings.calibration import calibration_spans
from leancurve.operations.base import (
    ClipTime,
    Operation,
    Params,
    Patch,
    Progress,
    Scope,
    number,
    silent,
)
from leancurve.time.retimed import moved_parts


class TrimParams(Params):
    first: int | None = number(None, "frame", "first frame that is kept", time="begins", ge=0)
    last: int | None = number(None, "frame", "last frame that is kept", time="ends", ge=0)
    calibration: bool = Field(
        True, description="take off a calibration pose at either end, where one is found"
    )


class Trim(Operation[TrimParams]):
    """Cut everything before ``first`` and after ``last``; what is left begins at frame 0.

    Keyed curves keep their shape: keys are set at both ends. Contacts and acceptances move
    along. With nothing given a calibration pose is taken off.
    """

    name = "trim"
    title = "Trim"
    step = "calm"
    scoped = False
    Params: ClassVar[type[TrimParams]] = TrimParams

    def counted_as(self, params: Mapping[str, Any]) -> Kind:
        return "continuity"

    def apply(
        self, clip: Clip, scope: Scope, params: TrimParams, progress: Progress = silent
    ) -> Patch:
        end = clip.frames - 1
        first = params.first or 0
        last = end if params.last is None else min(params.last, end)
        if params.calibration:
            for a, b in calibration_spans(Motion(clip)):
                first, last = (max(first, b + 1), last) if a == 0 else (first, min(last, a - 1))
        if clip.frames and last < first:
            raise BadInput(f"trim: nothing is left between frame {first} and {last}")
        report = {"frames_before": clip.frames, "first": first, "last": last}
        if first == 0 and last == end:
            return Patch(report={**report, "frames_after": clip.frames})
        return trimmed(clip, first, last, {**report, "frames_after": last - first + 1})

    def as_done(self, params: Mapping[str, Any], report: Mapping[str, Any]) -> dict[str, Any]:
        return {"first": report["first"], "last": report["last"], "calibration": False}

    def time_after(self, time: ClipTime, params: TrimParams) -> ClipTime:
        """As far as the parameters say: a calibration pose is found out when it is done."""
        first = params.first or 0
        last = time.frames - 1 if params.last is None else min(params.last, time.frames - 1)
        return time.then(max(last - first + 1, 0), lambda f: f - first)

    def told(self, params: Any) -> str:
        first, last = params.get("first"), params.get("last")
        if first is None and last is None:
            return "Trim the calibration pose"
        return f"Trim to {first or 0} – {'end' if last is None else last}"


def trimmed(clip: Clip, first: int, last: int, report: Mapping[str, Any]) -> Patch:
    """What is left of a clip from ``first`` to ``last``, beginning at frame 0, as a patch."""
    frames = last - first + 1
    curves: dict[TrackId, Curve] = {}
    for channel, curve in clip.curves.items():
        if isinstance(curve, SampledCurve):
            curves[channel] = SampledCurve(np.ascontiguousarray(curve.values[first : last + 1]))
        elif curve.key_count == 1:
            curves[channel] = curve.edited(time=np.zeros(1))
        else:
            part = cut(curve, float(first), float(last))
            curves[channel] = part.edited(time=part.time - first)
    return Patch(
        curves=curves,
        frames=frames,
        **moved_parts(clip, lambda f: f - first, frames),
        report=report,
    )
