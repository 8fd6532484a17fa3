"""Put back dropped frames: the body's way of several frames in one is given its time again."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any, ClassVar

from pydantic import Field

from leancurve.document.clip import Clip
from leancurve.errors import BadInput
from leancurve.measures.account import Kind
from leancurve.measures.findings import Motion
from leancurve.measures.findings.dropped import MOST, dropped_frames
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
from leancurve.time.retimed import moved_parts
from leancurve.time.timing import opened


class Missing(Params):
    """A place where frames are missing."""

    after: int = number(..., "frame", "the frame after which frames are missing", ge=0)
    count: int = Field(
        1, description="how many are missing", json_schema_extra={"unit": ""}, ge=1, le=MOST
    )


class RestoreFramesParams(Params):
    places: tuple[Missing, ...] | None = Field(
        None, description="where frames are missing; found where not given", max_length=10_000
    )


class RestoreFrames(Operation[RestoreFramesParams]):
    """Put a frame back where one was dropped: what comes after it moves later by one.

    Steps of 2, 2, 4, 2 become 2, 2, 2, 2, 2. The new frame lies on the way from the one before to
    the one after, with the speeds of both. The clip is longer by what was missing.
    """

    name = "restore_frames"
    title = "Put back dropped frames"
    step = "calm"
    by_joint = True
    scoped = False
    Params: ClassVar[type[RestoreFramesParams]] = RestoreFramesParams

    def counted_as(self, params: Mapping[str, Any]) -> Kind:
        return "mend"

    def apply(
        self, clip: Clip, scope: Scope, params: RestoreFramesParams, progress: Progress = silent
    ) -> Patch:
        places = params.places
        if places is None:
            found = dropped_frames(Motion(clip))
            places = tuple(Missing(after=after, count=count) for after, count in found)
        report = {
            "places": [place.model_dump() for place in places],
            "frames_before": clip.frames,
            "frames_after": clip.frames + sum(place.count for place in places),
        }
        out = clip
        # From the last one on, so that those before lie where they are said to.
        ordered = sorted(places, key=lambda p: -p.after)
        for done, place in enumerate(ordered, start=1):
            if place.after >= clip.frames - 1:
                raise BadInput(f"restore_frames: expected a frame within 0 to {clip.frames - 2}")
            curves = opened(out, place.after, place.count, hold=False)
            out = replace(out, curves=curves, frames=out.frames + place.count)
            progress(done / len(places))
        if not places:
            return Patch(report=report)
        time = self.time_after(ClipTime(clip.rate, clip.frames), RestoreFramesParams(places=places))
        return Patch(
            curves=out.curves,
            frames=out.frames,
            **moved_parts(clip, time.moved, out.frames),
            report=report,
        )

    def as_done(self, params: Mapping[str, Any], report: Mapping[str, Any]) -> dict[str, Any]:
        return {"places": report["places"]}

    def time_after(self, time: ClipTime, params: RestoreFramesParams) -> ClipTime:
        """As far as the parameters say: places that are found are found when it is done."""
        places = params.places or ()
        return time.then(
            time.frames + sum(p.count for p in places),
            lambda f: f + sum(p.count for p in places if f > p.after),
        )

    def told(self, params: Any) -> str:
        places = params.get("places")
        if not places:
            return self.title
        frames = sum(p.get("count", 1) for p in places)
        return f"Put back {counted(frames, 'dropped frame')}"
