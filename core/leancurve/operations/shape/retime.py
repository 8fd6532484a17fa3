"""Time as a whole: pins that stretch and squeeze, a span scaled."""

from __future__ import annotations

from typing import Any, ClassVar

import numpy as np
from pydantic import Field

from leancurve.document.clip import Clip
from leancurve.errors import BadInput
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
from leancurve.time.timing import warped_clip
from leancurve.time.warp import Warp

MOST_TIMES = 50
"""A span made so many times longer holds no motion any more."""


class RetimeParams(Params):
    pins: tuple[tuple[int, int], ...] = Field(
        description="each a frame and the frame at which it shall come",
        json_schema_extra={"unit": "frame", "time": "map"},
        min_length=2,
        max_length=500,
    )
    smooth: bool = Field(
        True, description="speed changes smoothly at a pin; else at once, from stretch to stretch"
    )
    whole_frames: bool = Field(True, description="keys come to lie on whole frames")
    tolerance_deg: float = number(0.15, "°", "how far keyed turns may leave their path", gt=0)
    tolerance_mm: float = number(1.5, "mm", "how far keyed moves may leave theirs", gt=0)


class Retime(Operation[RetimeParams]):
    """Time pins: the motion between them comes sooner or later, its path as it was.

    ``[[0, 0], [40, 20], [80, 80]]`` takes the first half in half the time. What comes before the
    first pin stays; what comes after the last one moves along with it, with everything that has
    a time.
    """

    name = "retime"
    title = "Time pins"
    step = "shape"
    part = "time"
    by_joint = True
    scoped = False
    Params: ClassVar[type[RetimeParams]] = RetimeParams

    def apply(
        self, clip: Clip, scope: Scope, params: RetimeParams, progress: Progress = silent
    ) -> Patch:
        source, target = np.array(params.pins, dtype=np.float64).T
        warp = Warp(source, target, params.smooth).checked()
        return retimed(clip, warp, params.tolerance_deg, params.tolerance_mm, params.whole_frames)

    def time_after(self, time: ClipTime, params: RetimeParams) -> ClipTime:
        source, target = np.array(params.pins, dtype=np.float64).T
        warp = Warp(source, target, params.smooth)
        return time.then(time.frames + round(warp.later), warp.moved)

    def told(self, params: Any) -> str:
        pins = params["pins"]
        moved = sum(a != b for a, b in pins)
        return f"Time pins {pins[0][0]} – {pins[-1][0]}, {moved} moved"


def retimed(
    clip: Clip,
    warp: Warp,
    tolerance_deg: float = 0.15,
    tolerance_mm: float = 1.5,
    whole_frames: bool = True,
) -> Patch:
    """A change of the clip's time, as a patch; :class:`BadInput` for pins outside of it."""
    end = clip.frames - 1
    if warp.source[0] < 0 or warp.source[-1] > end:
        raise BadInput(f"pins: expected frames within 0 to {end}")
    frames = clip.frames + round(warp.later)
    if frames > MOST_TIMES * max(clip.frames, 100):
        raise BadInput(f"pins: the clip would have {frames} frames; that is too long")
    curves, made = warped_clip(clip, warp, frames, tolerance_deg, tolerance_mm, whole_frames)
    return Patch(
        curves=curves,
        frames=frames,
        **moved_parts(clip, warp.moved, frames),
        report={
            "frames_before": clip.frames,
            "frames_after": frames,
            "keys_made": made,
            "fastest_times": _fastest(warp),
        },
    )


def _fastest(warp: Warp) -> float:
    """The most frames that pass in a new one."""
    times = np.linspace(warp.source[0], warp.source[-1], 1001)
    return round(float(1.0 / warp.rate(times, 1).min()), 3)


class SpanParams(Params):
    """Frames of the clip, both included."""

    first: int = number(0, "frame", "first frame of the span", time="begins", ge=0)
    last: int = number(1, "frame", "last frame of the span", time="ends", ge=0)

    def within(self, clip: Clip, name: str) -> tuple[int, int]:
        """The span, or :class:`BadInput` where the clip has no such frames."""
        if not 0 <= self.first <= self.last < clip.frames:
            raise BadInput(
                f"{name}: expected frames within 0 to {clip.frames - 1}, the first before the "
                f"last, got {self.first} to {self.last}"
            )
        return self.first, self.last


class ScaleSpanParams(SpanParams):
    factor: float = number(1.0, "×", "how many times as long", gt=0, le=MOST_TIMES)
    whole_frames: bool = Field(True, description="keys come to lie on whole frames")

    @property
    def length(self) -> int:
        """How many frames the span is long afterwards."""
        return round((self.last - self.first) * self.factor)

    @property
    def warp(self) -> Warp:
        source = np.array([self.first, self.last], dtype=np.float64)
        target = np.array([self.first, self.first + self.length], dtype=np.float64)
        return Warp(source, target)


class ScaleSpan(Operation[ScaleSpanParams]):
    """A span made longer or shorter as a whole; what comes after it moves along.

    Its new length is rounded to whole frames.
    """

    name = "scale_span"
    title = "Scale a span"
    step = "shape"
    part = "time"
    by_joint = True
    scoped = False
    Params: ClassVar[type[ScaleSpanParams]] = ScaleSpanParams

    def apply(
        self, clip: Clip, scope: Scope, params: ScaleSpanParams, progress: Progress = silent
    ) -> Patch:
        first, last = params.within(clip, self.name)
        if params.length < 1:
            count = last - first + 1
            raise BadInput(f"scale_span: {count} frames times {params.factor:g} leaves no frame")
        return retimed(clip, params.warp.checked(), whole_frames=params.whole_frames)

    def time_after(self, time: ClipTime, params: ScaleSpanParams) -> ClipTime:
        return time.then(time.frames + round(params.warp.later), params.warp.moved)

    def told(self, params: Any) -> str:
        return (
            f"Scale {params.get('first', 0)} – {params.get('last', 1)} "
            f"by {params.get('factor', 1.0):g}"
        )
