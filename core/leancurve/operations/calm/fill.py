"""Fill: a span replaced by a smooth way from the good samples before it to those after."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, ClassVar

import numpy as np
from pydantic import Field

from leancurve.curves.curve import Curve
from leancurve.document.clip import Clip
from leancurve.document.track import TrackId
from leancurve.document.tracks import (
    refilled,
    skipped,
    turning_tracks,
    value_tracks,
    written,
    written_values,
)
from leancurve.measures.account import Kind
from leancurve.measures.findings import Motion
from leancurve.measures.findings.base import spans
from leancurve.measures.findings.gaps import detect as find_gaps
from leancurve.measures.findings.pops import detect as find_pops
from leancurve.numbers.arrays import Floats
from leancurve.numbers.cubic import hermite
from leancurve.operations.base import Operation, Params, Patch, Progress, Scope, number, silent


class FillParams(Params):
    longest_s: float = number(
        0.5, "s", "gaps that are found by themselves are filled up to this long", gt=0, le=10
    )
    pops: bool = Field(True, description="fill a knee or an elbow that pops as well")


class Fill(Operation[FillParams]):
    """Fill gaps by a spline through the good samples on both sides.

    With frames in the scope just those are filled, for the joints in scope; without, the gaps
    that are found: frozen frames of the whole body or of a joint, and limbs that pop.
    """

    name = "fill"
    title = "Fill gaps"
    step = "calm"
    ranged = True
    Params: ClassVar[type[FillParams]] = FillParams

    def counted_as(self, params: Mapping[str, Any]) -> Kind:
        return "mend"

    def apply(
        self, clip: Clip, scope: Scope, params: FillParams, progress: Progress = silent
    ) -> Patch:
        chosen = None if scope.whole_time else spans(scope.mask(clip))
        found = {} if chosen is not None else _gaps(clip, params)
        turning, moving = turning_tracks(clip, scope), value_tracks(clip, scope)
        filled: set[tuple[int, int]] = set()
        changed: dict[int, Floats] = {}
        curves: dict[TrackId, Curve] = {}
        for track in turning:
            q = track.rotations
            for first, last in _of(found, track.joint) if chosen is None else chosen:
                q = refilled(q, first, last)
                filled.add((first, last))
            changed[track.joint] = q
        progress(0.7)
        curves |= written(turning, changed)
        for values in moving:
            out = values.values.copy()
            joint = values.channels[0].joint
            for first, last in _of(found, joint) if chosen is None else chosen:
                _fill(out, first, last)
                filled.add((first, last))
            curves |= written_values(values, out)
        return Patch(
            curves=curves,
            report={
                "gaps": len(filled),
                "frames": sum(b - a + 1 for a, b in filled),
                "keyed_skipped": skipped(clip, scope),
            },
        )


def _gaps(clip: Clip, params: FillParams) -> dict[int | None, list[tuple[int, int]]]:
    """Found gaps by joint; those of the whole body under None."""
    motion = Motion(clip)
    index = {n: j for j, n in enumerate(motion.names)}
    most = max(1, round(params.longest_s * motion.rate))
    out: dict[int | None, list[tuple[int, int]]] = {}
    for pop in find_pops(motion) if params.pops else ():
        if pop.last - pop.first + 1 <= most:
            out.setdefault(index[pop.joint], []).append((pop.first, pop.last))
    for gap in find_gaps(motion):
        if gap.last - gap.first + 1 <= most:
            whole = gap.joint == motion.names[0]
            out.setdefault(None if whole else index[gap.joint], []).append((gap.first, gap.last))
    return out


def _of(gaps: dict[int | None, list[tuple[int, int]]], joint: int) -> list[tuple[int, int]]:
    return [*gaps.get(None, []), *gaps.get(joint, [])]


def _fill(values: Floats, first: int, last: int) -> None:
    """Frames of ``values (F, n)`` by a Hermite cubic with the speeds of both sides, in place."""
    before, after = first - 1, last + 1
    if before < 0 or after >= len(values):
        if before >= 0 or after < len(values):
            values[first : last + 1] = values[before if before >= 0 else after]
        return
    left = max(0, before - 3)
    right = min(len(values) - 1, after + 3)
    start = (values[before] - values[left]) / max(before - left, 1)
    end = (values[right] - values[after]) / max(right - after, 1)
    span = after - before
    u = (np.arange(first, last + 1) - before)[:, None] / span
    values[first : last + 1] = hermite(u, values[before], start * span, values[after], end * span)
