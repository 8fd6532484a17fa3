"""Swap: channels exchanged or negated, where data is mirrored or wrongly labelled."""

from __future__ import annotations

from typing import Any, ClassVar, Literal

from pydantic import Field

from leancurve.curves.curve import Curve, negated
from leancurve.document.clip import Clip
from leancurve.document.track import TrackId, base_track
from leancurve.errors import BadInput
from leancurve.operations.base import Operation, Params, Patch, Progress, Scope, silent
from leancurve.operations.shaping import change_report


class SwapParams(Params):
    exchange: Literal["none", "x and y", "y and z", "x and z"] = Field(
        "none", description="two axes whose curves change places"
    )
    negate_x: bool = Field(False, description="turn the X curve upside down, after exchanging")
    negate_y: bool = Field(False, description="turn the Y curve upside down, after exchanging")
    negate_z: bool = Field(False, description="turn the Z curve upside down, after exchanging")


class Swap(Operation[SwapParams]):
    """Exchange or negate a joint's channels, where data is mirrored or wrongly labelled."""

    name = "swap"
    title = "Swap or negate channels"
    step = "shape"
    part = "amount"
    Params: ClassVar[type[SwapParams]] = SwapParams

    def apply(
        self, clip: Clip, scope: Scope, params: SwapParams, progress: Progress = silent
    ) -> Patch:
        opposed = {a for a in "xyz" if getattr(params, f"negate_{a}")}
        if params.exchange == "none" and not opposed:
            raise BadInput("swap: choose two axes to exchange, or one to negate")
        other = {a: a for a in "xyz"}
        if params.exchange != "none":
            a, b = params.exchange.split(" and ")
            other |= {a: b, b: a}
        inside = set(scope.resolve(clip))
        curves: dict[TrackId, Curve] = {}
        for channel in inside:
            axis = channel.name[1]
            source = base_track(channel.joint, channel.name[0] + other[axis])
            if source not in inside:
                # One of a pair alone has nothing to change places with.
                source = channel
            curve = clip.curves[source]
            if axis in opposed:
                curve = negated(curve)
            if curve is not clip.curves[channel]:
                curves[channel] = curve
        return Patch(curves=curves, report=change_report(clip, curves))

    def told(self, params: Any) -> str:
        parts = []
        if params.get("exchange", "none") != "none":
            parts.append(f"exchange {params['exchange']}")
        axes = [a.upper() for a in "xyz" if params.get(f"negate_{a}")]
        parts += [f"negate {', '.join(axes)}"] if axes else []
        told = ", ".join(parts) or "swap"
        return told[0].upper() + told[1:]
