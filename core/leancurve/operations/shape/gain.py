"""Gain and offset: curves made larger or smaller about a reference, or moved."""

from __future__ import annotations

from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import Field

from leancurve.curves.curve import Curve
from leancurve.document.clip import Clip
from leancurve.document.track import TrackId
from leancurve.numbers.arrays import Floats
from leancurve.operations.base import Operation, Patch, Progress, Scope, number, silent
from leancurve.operations.shaping import (
    RampParams,
    Target,
    Window,
    change_report,
    key_mask,
    reshaped,
    windows_of,
)


class GainParams(RampParams):
    factor: float = number(1.2, "×", "how many times as far from the reference", ge=-100, le=100)
    about: Literal["mean", "first", "ends", "value"] = Field(
        "mean", description="the reference: the mean, the first value, the line between the ends"
    )
    value: float = number(
        0.0, "", "the reference, in the channel's unit", when={"about": ["value"]}
    )


class Gain(Operation[GainParams]):
    """Make what curves do larger or smaller about a reference.

    ``(0, 10, 0)`` by 1.5 about the first value becomes ``(0, 15, 0)``. The reference is taken over
    the frames in scope.
    """

    name = "gain"
    title = "Gain"
    step = "shape"
    part = "amount"
    ranged = True
    keyed = True
    of_any = True
    Params: ClassVar[type[GainParams]] = GainParams

    def apply(
        self, clip: Clip, scope: Scope, params: GainParams, progress: Progress = silent
    ) -> Patch:
        windows = windows_of(clip, scope, params)
        curves: dict[TrackId, Curve] = {}
        for channel in scope.resolve(clip):
            curve = clip.curves[channel]
            goal = _about(curve, windows, params)
            curves[channel] = reshaped(curve, windows, goal, key_mask(clip, scope, channel))
        return Patch(curves=curves, report=change_report(clip, curves))

    def told(self, params: Any) -> str:
        return f"Gain × {params.get('factor', 1.2):g}"


def _about(curve: Curve, windows: list[Window], params: GainParams) -> Target:
    first, last = (windows[0].first, windows[-1].last) if windows else (0, 0)
    frames = np.arange(first, last + 1, dtype=np.float64)
    inside = curve.at(frames)
    start, rise = params.value, 0.0
    if params.about == "mean":
        start = float(inside.mean())
    elif params.about == "first":
        start = float(inside[0])
    elif params.about == "ends":
        rise = float(inside[-1] - inside[0]) / max(last - first, 1)
        start = float(inside[0]) - rise * first

    def goal(t: Floats, v: Floats, s: Floats) -> tuple[Floats, Floats]:
        line = start + rise * t
        return line + params.factor * (v - line), rise + params.factor * (s - rise)

    return goal


class OffsetParams(RampParams):
    amount: float = number(5.0, "", "how far: degrees for turns, the clip's unit for moves")


class Offset(Operation[OffsetParams]):
    """Move curves up or down by an amount: the same motion from elsewhere."""

    name = "offset"
    title = "Offset"
    step = "shape"
    part = "amount"
    ranged = True
    keyed = True
    Params: ClassVar[type[OffsetParams]] = OffsetParams

    def apply(
        self, clip: Clip, scope: Scope, params: OffsetParams, progress: Progress = silent
    ) -> Patch:
        windows = windows_of(clip, scope, params)
        curves = {
            c: reshaped(
                clip.curves[c],
                windows,
                lambda t, v, s: (v + params.amount, s),
                key_mask(clip, scope, c),
            )
            for c in scope.resolve(clip)
        }
        return Patch(curves=curves, report=change_report(clip, curves))

    def told(self, params: Any) -> str:
        return f"Offset {params.get('amount', 5.0):+g}"
