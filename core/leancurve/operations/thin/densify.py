"""Densify: a key every few frames again."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, ClassVar

import numpy as np

from leancurve.curves.curve import Curve, SampledCurve, keyed, made_anew
from leancurve.document.base import channel_values
from leancurve.document.clip import Clip
from leancurve.document.track import TrackId
from leancurve.operations.base import Operation, Params, Patch, Progress, Scope, number, silent


class DensifyParams(Params):
    every: int = number(1, "frames", "a key every so many frames; 1 samples the curve", ge=1)


class Densify(Operation[DensifyParams]):
    """Give keyed curves a key every few frames, at their values and slopes there.

    With 1 the curves become sampled again, as a capture is, for brushes and filters to work on.
    """

    name = "densify"
    title = "Densify"
    step = "thin"
    of_any = True
    keeps = "motion"
    Params: ClassVar[type[DensifyParams]] = DensifyParams

    def apply(
        self, clip: Clip, scope: Scope, params: DensifyParams, progress: Progress = silent
    ) -> Patch:
        chosen = [c for c in scope.resolve(clip) if not isinstance(clip.curves[c], SampledCurve)]
        frames = np.arange(clip.frames, dtype=np.float64)
        values = channel_values(clip, frames, chosen)
        at = np.unique(np.append(np.arange(0, clip.frames, params.every), clip.frames - 1))
        curves: dict[TrackId, Curve] = {}
        for channel in chosen:
            if params.every == 1:
                curves[channel] = SampledCurve(values[channel])
            else:
                slope = np.gradient(values[channel])[at] if clip.frames > 1 else np.zeros(len(at))
                curves[channel] = made_anew(
                    keyed(at.astype(np.float64), values[channel][at], slope)
                )
        return Patch(
            curves=curves,
            report={
                "channels": len(curves),
                "keys_before": sum(clip.curves[c].key_count for c in chosen),
                "keys_after": sum(c.key_count for c in curves.values()),
            },
        )

    def told(self, params: Mapping[str, Any]) -> str:
        every = params.get("every", 1)
        return "Sample every frame" if every == 1 else f"A key every {every} frames"
