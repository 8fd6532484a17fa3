"""Reverse: the clip played backwards."""

from __future__ import annotations

from typing import Any, ClassVar

from leancurve.curves.reversing import backwards
from leancurve.document.clip import Clip
from leancurve.document.parts.base import Retimed
from leancurve.document.parts.registry import retimed_parts
from leancurve.operations.base import (
    ClipTime,
    Operation,
    Params,
    Patch,
    Progress,
    Scope,
    silent,
)


class ReverseParams(Params):
    pass


class Reverse(Operation[ReverseParams]):
    """Play the whole clip backwards: the last frame is the first.

    Contacts, marks and plants lie where they did on the motion; a plant goes as it came. Keyed
    curves keep their keys.
    """

    name = "reverse"
    title = "Reverse"
    step = "shape"
    part = "time"
    scoped = False
    Params: ClassVar[type[ReverseParams]] = ReverseParams

    def apply(
        self, clip: Clip, scope: Scope, params: ReverseParams, progress: Progress = silent
    ) -> Patch:
        end = max(clip.frames - 1, 0)
        time = Retimed(lambda f: end - f, lambda f: end - f, clip.frames, backwards=True)
        return Patch(
            curves={track: backwards(curve, end) for track, curve in clip.curves.items()},
            frames=clip.frames,
            **retimed_parts(clip, time),
            report={"frames_before": clip.frames, "frames_after": clip.frames},
        )

    def time_after(self, time: ClipTime, params: ReverseParams) -> ClipTime:
        end = time.frames - 1
        return time.then(time.frames, lambda f: end - f)

    def told(self, params: Any) -> str:
        return "Reverse"
