"""Despike: frames that both neighbourhoods contradict, filled from the good samples around."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, ClassVar

import numpy as np

from leancurve.curves.curve import Curve
from leancurve.document.clip import Clip
from leancurve.document.track import TrackId
from leancurve.document.tracks import (
    bridged,
    refilled,
    skipped,
    turning_tracks,
    value_tracks,
    written,
    written_values,
)
from leancurve.measures.account import Kind
from leancurve.measures.findings.spikes import (
    AROUND,
    LEAST_DEG,
    LEAST_MM,
    longest,
    predictors,
    search,
)
from leancurve.numbers.arrays import Floats
from leancurve.operations.base import Operation, Params, Patch, Progress, Scope, number, silent

PASSES = 3
"""A spike can hide another close by: what is found after the first is filled is filled too."""


class DespikeParams(Params):
    least_deg: float = number(
        LEAST_DEG, "°", "smallest spike of a rotation that is taken out", gt=0, le=90
    )
    least_mm: float = number(
        LEAST_MM, "mm", "smallest spike of a position that is taken out", gt=0, le=1000
    )


class Despike(Operation[DespikeParams]):
    """Take out spikes of one to three frames and fill them by a cubic through the good samples.

    ``(0, 0, 9, 0, 0)`` → ``(0, 0, 0, 0, 0)``. A frame is a spike if both sides predict something
    else and agree with each other; an impact, where the speed truly breaks, is none.
    """

    name = "despike"
    title = "Despike"
    step = "calm"
    ranged = True
    Params: ClassVar[type[DespikeParams]] = DespikeParams

    def counted_as(self, params: Mapping[str, Any]) -> Kind:
        return "mend"

    def apply(
        self, clip: Clip, scope: Scope, params: DespikeParams, progress: Progress = silent
    ) -> Patch:
        rate, inside = float(clip.rate), scope.mask(clip)
        tracks = turning_tracks(clip, scope)
        curves: dict[TrackId, Curve] = {}
        spikes, frames, largest = 0, 0, 0.0
        if tracks:
            local = np.stack([t.rotations for t in tracks], axis=1)
            changed: dict[int, Floats] = {}
            for passed in range(PASSES):
                found = [
                    s
                    for s in search(local, rate, np.radians(params.least_deg) / 2)
                    if inside[s[1] : s[2] + 1].all()
                ]
                # Straight ways first: none is then led by another spike close by.
                for k, first, last, size in found:
                    local[:, k] = bridged(local[:, k], first, last)
                    changed[tracks[k].joint] = local[:, k]
                    spikes, frames = spikes + 1, frames + last - first + 1
                    largest = max(largest, float(np.degrees(2 * size)))
                for k, first, last, _ in found:
                    local[:, k] = refilled(local[:, k], first, last)
                progress(0.8 * (passed + 1) / PASSES)
                if not found:
                    break
            curves |= written([t for t in tracks if t.joint in changed], changed)
        for track in value_tracks(clip, scope):
            scale = 1.0 if track.turns else clip.millimetres
            least = params.least_deg if track.turns else params.least_mm
            values = track.values.copy()
            spans = [
                (first, last)
                for _, first, last, _ in search(values[:, None] * scale, rate, least)
                if inside[first : last + 1].all()
            ]
            for first, last in spans:
                share = np.linspace(0.0, 1.0, last - first + 3)[1:-1, None]
                values[first : last + 1] = (1 - share) * values[first - 1] + share * values[
                    last + 1
                ]
                spikes, frames = spikes + 1, frames + last - first + 1
            for first, last in spans:
                _fill(values, first, last, rate)
            curves |= written_values(track, values)
        progress(1.0)
        return Patch(
            curves=curves,
            report={
                "spikes": spikes,
                "frames": frames,
                "largest_deg": largest,
                "keyed_skipped": skipped(clip, scope),
            },
        )


def _fill(values: Floats, first: int, last: int, rate: float) -> None:
    """Frames of ``values (F, n)`` from the cubic through the samples on both sides, in place."""
    inside, _ = predictors(longest(rate))
    width = last - first + 1
    around = np.concatenate(
        [np.arange(first - AROUND, first), np.arange(last + 1, last + 1 + AROUND)]
    )
    values[first : last + 1] = inside[width - 1, :width] @ values[around]
