"""The brushes: pull, calm and restore, with a fall-off about where they are put down."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import Field

from leancurve.curves.curve import Curve, KeyedCurve, SampledCurve
from leancurve.curves.handles import settled
from leancurve.document.clip import Clip
from leancurve.document.prop import PROP
from leancurve.document.track import TrackId
from leancurve.document.tracks import curves_near
from leancurve.errors import BadInput
from leancurve.numbers.arrays import Bools, Floats
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
from leancurve.operations.shaping import change_report, key_mask

STEEPEST = 1.5396007178390020
"""The steepest slope of the fall-off, 8 / (3 √3) a radius."""


class Dab(Params):
    """Where a brush is put down once: its middle, and how strongly."""

    frame: float = timed(time="frame", allow_inf_nan=False)
    strength: float = Field(1.0, ge=0, le=1)


class BrushParams(Params):
    kind: Literal["pull", "calm", "restore"] = Field(
        "pull", description="pull moves, calm smooths, restore brings back the take"
    )
    radius: float = number(15.0, "frames", "how far from its middle the brush reaches", gt=0)
    dabs: tuple[Dab, ...] = Field(min_length=1, max_length=2000)
    by: float = number(0.0, "", "how far values are pulled, in the channel's unit")
    by_frames: float = number(0.0, "frames", "how far in time")


class Brush(Operation[BrushParams]):
    """Put a brush down on curves: full in its middle, nothing from its radius on.

    Pull moves values or time, and never lets keys pass each other; calm smooths and keeps the
    ends; restore brings back the take. Picked keys alone are touched where some are picked.
    """

    name = "brush"
    title = "Brush"
    step = "shape"
    keyed = True
    of_any = True
    grows = True
    inputs: ClassVar[Mapping[str, Input]] = {
        "take": Input(
            "take", "restore brings back the take: it works on a clip with its take", optional=True
        )
    }
    Params: ClassVar[type[BrushParams]] = BrushParams

    def apply_with(
        self,
        clip: Clip,
        inputs: Inputs,
        scope: Scope,
        params: BrushParams,
        progress: Progress = silent,
    ) -> Patch:
        take = inputs.get("take", clip)
        assert isinstance(take, Clip)
        channels = scope.resolve(clip)
        goals: Mapping[TrackId, Curve] = clip.curves
        if params.kind == "restore":
            if scope.owner == PROP:
                raise BadInput("restore brings back the take: it works on the figure, not on props")
            goals = curves_near(clip, take, sorted({c.joint for c in channels}))
        curves: dict[TrackId, Curve] = {
            c: brushed(clip.curves[c], params, goals[c], key_mask(clip, scope, c))
            for c in channels
            if c in goals
        }
        return Patch(curves=curves, report=change_report(clip, curves))

    def needs(self, params: BrushParams) -> frozenset[str]:
        return frozenset({"take"} if params.kind == "restore" else ())

    def told(self, params: Any) -> str:
        kind = params.get("kind", "pull")
        dabs = params["dabs"]
        return f"{kind.capitalize()} about frame {dabs[0]['frame']:.0f}"


def fall_off(t: Floats, middle: float, radius: float) -> tuple[Floats, Floats]:
    """The brush's weight at times, and its slope: ``(1 - x²)²`` within the radius."""
    x = (t - middle) / radius
    inside = np.abs(x) < 1.0
    weight = np.where(inside, (1.0 - x * x) ** 2, 0.0)
    slope = np.where(inside, -4.0 * x * (1.0 - x * x) / radius, 0.0)
    return weight, slope


def brushed(curve: Curve, params: BrushParams, take: Curve, picked: Bools | None = None) -> Curve:
    """One curve under a brush."""
    for dab in params.dabs:
        if params.kind == "pull":
            curve = _pulled(curve, params, dab, picked)
        else:
            curve = _led(curve, params, dab, take, picked)
    return curve


def _pulled(curve: Curve, params: BrushParams, dab: Dab, picked: Bools | None) -> Curve:
    most = 0.98 * params.radius / STEEPEST
    # Time may be squeezed, never turned: no key reaches its neighbour.
    later = float(np.clip(params.by_frames * dab.strength, -most, most))
    by = params.by * dab.strength
    if isinstance(curve, SampledCurve):
        t = np.arange(len(curve.values), dtype=np.float64)
        w, _ = fall_off(t, dab.frame, params.radius)
        if later == 0.0:
            return SampledCurve(curve.values + by * w)
        return SampledCurve(np.interp(t, t + later * w, curve.values + by * w))
    w, rate = fall_off(curve.time, dab.frame, params.radius)
    if picked is not None:
        w, rate = np.where(picked, w, 0.0), np.zeros_like(rate)
        moved = curve.time + later * w
        # Keys that stay are no brush's to pass.
        later = later if np.all(np.diff(moved) > 0) else 0.0
    stretch = 1.0 + later * rate
    # Keys that the brush did not reach keep their handles: the curve beyond stays as it was.
    return settled(
        curve.edited(
            time=curve.time + later * w,
            value=curve.value + by * w,
            slope_in=(curve.slope_in + by * rate) / stretch,
            slope_out=(curve.slope_out + by * rate) / stretch,
        ),
        w != 0.0,
    )


def _led(curve: Curve, params: BrushParams, dab: Dab, take: Curve, picked: Bools | None) -> Curve:
    """Calm and restore: values led to a smoother curve, or to the take."""
    if isinstance(curve, SampledCurve):
        t = np.arange(len(curve.values), dtype=np.float64)
        w, _ = fall_off(t, dab.frame, params.radius)
        calm = params.kind == "calm"
        goal = _smoothed(curve.values, params.radius) if calm else take.at(t)
        w[[0, -1]] *= 0.0 if calm else 1.0
        return SampledCurve(curve.values + dab.strength * w * (goal - curve.values))
    w, _ = fall_off(curve.time, dab.frame, params.radius)
    w = dab.strength * (w if picked is None else np.where(picked, w, 0.0))
    if params.kind == "calm":
        w[[0, -1]] = 0.0
        goal, slope = _between_neighbours(curve)
    else:
        goal, h = take.at(curve.time), 0.5
        slope = (take.at(curve.time + h) - take.at(curve.time - h)) / (2 * h)
    return settled(
        curve.edited(
            value=curve.value + w * (goal - curve.value),
            slope_in=curve.slope_in + w * (slope - curve.slope_in),
            slope_out=curve.slope_out + w * (slope - curve.slope_out),
        ),
        w != 0.0,
    )


def _between_neighbours(curve: KeyedCurve) -> tuple[Floats, Floats]:
    """Where the line between a key's neighbours is at its time, and that line's slope."""
    goal, slope = curve.value.copy(), np.zeros(curve.key_count)
    if curve.key_count > 2:
        span = curve.time[2:] - curve.time[:-2]
        slope[1:-1] = (curve.value[2:] - curve.value[:-2]) / span
        goal[1:-1] = curve.value[:-2] + slope[1:-1] * (curve.time[1:-1] - curve.time[:-2])
    return goal, slope


def _smoothed(values: Floats, radius: float) -> Floats:
    """Weighted means over a fifth of the radius; ends mirrored about themselves: they stay."""
    from scipy.ndimage import gaussian_filter1d  # scipy loads late

    sigma = max(0.8, radius / 5.0)
    room = min(len(values) - 1, int(np.ceil(4 * sigma)))
    if room < 1:
        return values.copy()
    head = 2 * values[0] - values[room:0:-1]
    tail = 2 * values[-1] - values[-2 : -room - 2 : -1]
    wide = gaussian_filter1d(np.concatenate([head, values, tail]), sigma, mode="nearest")
    return np.asarray(wide[room : room + len(values)])
