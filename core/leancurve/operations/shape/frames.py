"""Frames taken out, put in, held, and everything from a frame on moved."""

from __future__ import annotations

from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import Field

from leancurve.curves.curve import Curve, SampledCurve
from leancurve.document.clip import Clip
from leancurve.document.track import TrackId
from leancurve.errors import BadInput
from leancurve.operations.base import (
    ClipTime,
    Operation,
    Params,
    Patch,
    Progress,
    Scope,
    counted,
    number,
    silent,
)
from leancurve.operations.calm.trim import trimmed
from leancurve.operations.shape.retime import SpanParams
from leancurve.time.retimed import moved_parts
from leancurve.time.timing import closed, opened, shifted

MOST_NEW = 100_000


class RemoveSpanParams(SpanParams):
    blend: int = number(
        10, "frames", "over how many frames the seam is made continuous; 0 leaves it", ge=0, le=1000
    )


class RemoveSpan(Operation[RemoveSpanParams]):
    """Take a span out and close the gap: what comes after it moves up.

    Of 100 frames, without 25 to 74, 50 remain. The seam is led over in place and in speed, half
    of it before and half of it after.
    """

    name = "remove_span"
    title = "Remove a span"
    step = "shape"
    part = "time"
    by_joint = True
    scoped = False
    Params: ClassVar[type[RemoveSpanParams]] = RemoveSpanParams

    def apply(
        self, clip: Clip, scope: Scope, params: RemoveSpanParams, progress: Progress = silent
    ) -> Patch:
        first, last = params.within(clip, self.name)
        end = clip.frames - 1
        if first == 0 and last == end:
            raise BadInput("remove_span: nothing would be left of the clip")
        report = {"frames_before": clip.frames, "frames_after": clip.frames - (last - first + 1)}
        if first == 0 or last == end:
            kept = (last + 1, end) if first == 0 else (0, first - 1)
            return trimmed(clip, *kept, report)
        frames = clip.frames - (last - first + 1)
        return Patch(
            curves=closed(clip, first, last, params.blend),
            frames=frames,
            **moved_parts(
                clip,
                lambda f: _closed_up(f, first, last, first),
                frames,
                lambda f: _closed_up(f, first, last, first - 1),
            ),
            report=report,
        )

    def time_after(self, time: ClipTime, params: RemoveSpanParams) -> ClipTime:
        first, last = params.first, params.last
        gone = last - first + 1
        return time.then(time.frames - gone, lambda f: _closed_up(f, first, last, first))

    def told(self, params: Any) -> str:
        return f"Remove {params.get('first', 0)} – {params.get('last', 1)}"


def _closed_up(frame: float, first: int, last: int, inside: int) -> float:
    """Where a frame lies without the span; ``inside`` is where one in it does."""
    return frame if frame < first else inside if frame <= last else frame - (last - first + 1)


class InsertFramesParams(Params):
    after: int = number(0, "frame", "the frame after which they come", ge=0)
    count: int = number(10, "frames", "how many", ge=1, le=MOST_NEW)
    fill: Literal["bridge", "hold"] = Field(
        "bridge", description="go on to the next pose, or hold the one before"
    )


class InsertFrames(Operation[InsertFramesParams]):
    """Make room for new frames; what comes after moves later, with everything that has a time.

    With ``fill`` hold the pose is held for so many frames more.
    """

    name = "insert_frames"
    title = "Insert frames, hold"
    step = "shape"
    part = "time"
    by_joint = True
    scoped = False
    Params: ClassVar[type[InsertFramesParams]] = InsertFramesParams

    def apply(
        self, clip: Clip, scope: Scope, params: InsertFramesParams, progress: Progress = silent
    ) -> Patch:
        after = params.after
        if after >= clip.frames:
            raise BadInput(f"insert_frames: expected a frame within 0 to {clip.frames - 1}")
        time = self.time_after(ClipTime(clip.rate, clip.frames), params)
        frames = time.frames
        return Patch(
            curves=opened(clip, after, params.count, params.fill == "hold"),
            frames=frames,
            **moved_parts(clip, time.moved, frames),
            report={"frames_before": clip.frames, "frames_after": frames},
        )

    def time_after(self, time: ClipTime, params: InsertFramesParams) -> ClipTime:
        after, count = params.after, params.count
        return time.then(time.frames + count, lambda f: f if f <= after else f + count)

    def told(self, params: Any) -> str:
        after, count = params.get("after", 0), params.get("count", 10)
        if params.get("fill", "bridge") == "hold":
            return f"Hold {after} for {counted(count, 'frame')}"
        return f"Insert {counted(count, 'frame')} after {after}"


class ShiftFromParams(Params):
    frame: int = number(0, "frame", "from here on", ge=0)
    by: int = number(1, "frames", "later; earlier below 0", ge=-MOST_NEW, le=MOST_NEW)


class ShiftFrom(Operation[ShiftFromParams]):
    """Move everything from a frame on, later or earlier.

    Keyed curves keep their keys: the segment across the frame is stretched. Sampled ones get a
    bridge of new frames, or lose those that are in the way, as keys in the way are lost.
    """

    name = "shift_from"
    title = "Shift from now on"
    step = "shape"
    part = "time"
    by_joint = True
    scoped = False
    Params: ClassVar[type[ShiftFromParams]] = ShiftFromParams

    def apply(
        self, clip: Clip, scope: Scope, params: ShiftFromParams, progress: Progress = silent
    ) -> Patch:
        frame, by = params.frame, params.by
        if frame >= clip.frames or frame + by < 0:
            raise BadInput(
                f"shift_from: expected a frame within {max(0, -by)} to {clip.frames - 1}"
            )
        frames = clip.frames + by
        curves: dict[TrackId, Curve] = {}
        removed = 0
        dense = {c: k for c, k in clip.curves.items() if isinstance(k, SampledCurve)}
        if by > 0 and frame > 0:
            curves |= opened(clip.with_only(dense), frame - 1, by, hold=False)
        for channel, curve in clip.curves.items():
            if not isinstance(curve, SampledCurve):
                curves[channel], gone = shifted(curve, float(frame), float(by))
                removed += gone
            elif by <= 0:
                late = curve.values[frame:]
                curves[channel] = SampledCurve(np.concatenate([curve.values[: frame + by], late]))
            elif frame == 0:
                held = np.full(by, curve.values[0])
                curves[channel] = SampledCurve(np.concatenate([held, curve.values]))

        return Patch(
            curves=curves,
            frames=frames,
            **moved_parts(
                clip,
                lambda f: _shifted(f, frame, by, frame + by),
                frames,
                lambda f: _shifted(f, frame, by, frame + by - 1),
            ),
            report={
                "frames_before": clip.frames,
                "frames_after": frames,
                "keys_removed": removed,
            },
        )

    def time_after(self, time: ClipTime, params: ShiftFromParams) -> ClipTime:
        frame, by = params.frame, params.by
        return time.then(time.frames + by, lambda f: _shifted(f, frame, by, frame + by))

    def told(self, params: Any) -> str:
        by = params.get("by", 1)
        return f"Shift from {params.get('frame', 0)} on by {by:+d}"


def _shifted(at: float, frame: int, by: int, inside: int) -> float:
    """Where a frame lies after a shift; ``inside`` is where those that are in the way do."""
    return at + by if at >= frame else min(at, max(inside, 0)) if by < 0 else at
