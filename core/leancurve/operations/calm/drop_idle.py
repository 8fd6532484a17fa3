"""Drop idle channels: what never moves becomes one key."""

from __future__ import annotations

from typing import ClassVar

import numpy as np
from pydantic import Field

from leancurve.curves.curve import Curve, Handle, keyed
from leancurve.document.base import channel_values
from leancurve.document.clip import Clip
from leancurve.document.track import TrackId
from leancurve.measures.findings.idle import STILL_DEG, STILL_MM
from leancurve.operations.base import Operation, Params, Patch, Progress, Scope, number, silent


class DropIdleParams(Params):
    least_deg: float = number(
        STILL_DEG, "°", "a rotation channel that stays within this is idle", ge=0, le=45
    )
    least_mm: float = number(
        STILL_MM, "mm", "a position channel that stays within this is idle", ge=0, le=1000
    )
    keep: tuple[str, ...] = Field(
        (), description='channels brought back, by joint and name: "Hips.tx"'
    )


class DropIdle(Operation[DropIdleParams]):
    """Give channels that never move a single key at their median.

    ``(3.1, 3.1, 3.1)`` → one key of 3.1. The channel keeps its value, so that the pose stays;
    what ``keep`` names is left as it is.
    """

    name = "drop_idle"
    title = "Drop idle channels"
    step = "calm"
    Params: ClassVar[type[DropIdleParams]] = DropIdleParams

    def apply(
        self, clip: Clip, scope: Scope, params: DropIdleParams, progress: Progress = silent
    ) -> Patch:
        kept = set(params.keep)
        names = clip.skeleton.names
        chosen = [
            c
            for c in scope.resolve(clip)
            if clip.curves[c].key_count > 1 and f"{names[c.joint]}.{c.name}" not in kept
        ]
        values = channel_values(clip, np.arange(clip.frames, dtype=np.float64), chosen)
        curves: dict[TrackId, Curve] = {}
        before = 0
        for channel in chosen:
            least = params.least_deg if channel.turns else params.least_mm / clip.millimetres
            if np.ptp(values[channel]) <= least:
                before += clip.curves[channel].key_count
                curves[channel] = keyed(
                    [0.0], [float(np.median(values[channel]))], handle=Handle.FLAT
                )
        return Patch(
            curves=curves,
            report={"channels": len(curves), "keys_before": before, "keys_after": len(curves)},
        )
