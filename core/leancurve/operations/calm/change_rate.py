"""Change rate: the same motion sampled at another number of frames a second."""

from __future__ import annotations

from collections.abc import Mapping
from fractions import Fraction
from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import Field

from leancurve.curves.curve import Curve, KeyedCurve, SampledCurve
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.document.rotations import angles_near
from leancurve.document.track import TrackId, base_track
from leancurve.errors import BadInput
from leancurve.measures.account import Kind
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats
from leancurve.numbers.cubic import hermite
from leancurve.operations.base import ClipTime, Operation, Params, Patch, Progress, Scope, silent
from leancurve.time.resample import resampled, sample_times
from leancurve.time.retimed import moved_parts

NAMED = {
    "23.976": Fraction(24000, 1001),
    "29.97": Fraction(30000, 1001),
    "47.952": Fraction(48000, 1001),
    "59.94": Fraction(60000, 1001),
    "119.88": Fraction(120000, 1001),
}
"""Rates that are written shorter than they are (SMPTE ST 12-1: 24, 30, 60 by 1000/1001)."""


def rate_named(text: str) -> Fraction:
    """``"30"``, ``"29.97"`` or ``"30000/1001"`` as a rational number of frames a second."""
    try:
        rate = NAMED.get(text.strip()) or Fraction(text.strip())
    except (ValueError, ZeroDivisionError):
        raise BadInput(
            f"rate: expected frames a second such as 30, 29.97 or 30000/1001, got {text!r}"
        ) from None
    if not 0 < rate <= 10_000:
        raise BadInput(f"rate: expected above 0 and at most 10000, got {text}")
    return rate


class ChangeRateParams(Params):
    rate: str = Field("30", description="frames a second: 24, 29.97, 30000/1001 …", max_length=20)
    between: Literal["slerp", "spline"] = Field(
        "slerp", description="how sampled rotations go between frames"
    )
    keys: Literal["keep", "sample"] = Field(
        "keep", description="keyed curves keep their keys, at times in new frames, or are sampled"
    )


class ChangeRate(Operation[ChangeRateParams]):
    """Sample the clip at another rate; exact at times that both rates have.

    The duration in seconds stays, to within one new frame at the end. Kept keys may come to
    lie between frames: Tidy keys puts them right.
    """

    name = "change_rate"
    title = "Change rate"
    step = "calm"
    scoped = False
    Params: ClassVar[type[ChangeRateParams]] = ChangeRateParams

    def counted_as(self, params: Mapping[str, Any]) -> Kind:
        return "continuity"

    def apply(
        self, clip: Clip, scope: Scope, params: ChangeRateParams, progress: Progress = silent
    ) -> Patch:
        rate = rate_named(params.rate)
        report: dict[str, Any] = {
            "rate_before": float(clip.rate),
            "rate_after": float(rate),
            "frames_before": clip.frames,
        }
        if rate == clip.rate or clip.frames == 0:
            return Patch(report={**report, "frames_after": clip.frames})
        sampled = resampled(clip, rate)
        progress(0.6)
        curves: dict[TrackId, Curve] = dict(sampled.curves)
        if params.between == "spline":
            curves |= _by_spline(clip, rate, curves)
        scale = float(rate / clip.rate)
        if params.keys == "keep":
            for channel, curve in clip.curves.items():
                if isinstance(curve, KeyedCurve):
                    curves[channel] = curve.edited(
                        time=curve.time * scale,
                        slope_in=curve.slope_in / scale,
                        slope_out=curve.slope_out / scale,
                    )
        return Patch(
            curves=curves,
            rate=rate,
            frames=sampled.frames,
            **moved_parts(clip, lambda f: f * scale, sampled.frames),
            report={**report, "frames_after": sampled.frames},
        )

    def time_after(self, time: ClipTime, params: ChangeRateParams) -> ClipTime:
        rate = rate_named(params.rate)
        frames = int(Fraction(time.frames - 1) * rate / time.rate) + 1 if time.frames else 0
        scale = float(rate / time.rate)
        return time.then(frames, lambda f: f * scale, rate)

    def told(self, params: Any) -> str:
        return f"Change rate to {params.get('rate', '30')}"


def _by_spline(clip: Clip, rate: Fraction, straight: dict[TrackId, Curve]) -> dict[TrackId, Curve]:
    """Sampled channels between frames by a cubic through them; rotations as rotations.

    Rotations follow a Hermite cubic in the rotation vector relative to the frame before, with
    central differences as speeds (the Catmull-Rom form); positions the same in their values.
    """
    times = sample_times(clip, rate, 0, clip.frames - 1)
    low = np.clip(np.floor(times).astype(np.int64), 0, max(clip.frames - 2, 0))
    u = (times - low)[:, None]
    between = times != np.floor(times)
    before, after = np.maximum(low - 1, 0), np.minimum(low + 2, clip.frames - 1)
    high = np.minimum(low + 1, clip.frames - 1)
    local = rotation.hemisphere(evaluate(clip.below).rotation)
    out: dict[TrackId, Curve] = {}
    for joint, names in enumerate(clip.layout):
        order = clip.order(joint)
        channels = [base_track(joint, f"r{a.lower()}") for a in order]
        dense = [c for c in channels if isinstance(clip.curves[c], SampledCurve)]
        if len(order) == 3 and len(dense) == 3:
            q = local[:, joint]
            base = rotation.conjugate(q[low])
            points = [rotation.log(rotation.multiply(base, q[k])) for k in (before, high, after)]
            path = _catmull_rom(u, points[0], np.zeros_like(points[1]), points[1], points[2])
            turned = rotation.multiply(q[low], rotation.exp(path))
            near = np.stack(
                [straight[c].at(np.arange(len(times), dtype=np.float64)) for c in channels], axis=1
            )
            angles = near.copy()
            angles[between] = angles_near(turned[between], order, near[between])
            for k, channel in enumerate(channels):
                out[channel] = SampledCurve(np.ascontiguousarray(angles[:, k]))
        for name in names:
            curve = clip.curves[base_track(joint, name)]
            if name[0] == "t" and isinstance(curve, SampledCurve):
                v = curve.values[:, None]
                path = _catmull_rom(u, v[before], v[low], v[high], v[after])[:, 0]
                exact = curve.values[np.minimum(np.round(times).astype(int), clip.frames - 1)]
                out[base_track(joint, name)] = SampledCurve(np.where(between, path, exact))
    return out


def _catmull_rom(u: Floats, p0: Floats, p1: Floats, p2: Floats, p3: Floats) -> Floats:
    """A cubic at ``u`` in [0, 1] from p1 to p2, speeds from the points around."""
    return hermite(u, p1, (p2 - p0) / 2, p2, (p3 - p1) / 2)
