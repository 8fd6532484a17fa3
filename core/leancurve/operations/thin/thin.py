"""Thin: dense channels replaced by few keys with fitted handles, within a tolerance."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any, ClassVar

from leancurve.curves.curve import Curve, SampledCurve
from leancurve.curves.splice import spliced
from leancurve.document.clip import Clip
from leancurve.document.kept import kept
from leancurve.document.track import TrackId
from leancurve.measures.findings import Motion
from leancurve.measures.findings.base import spans
from leancurve.measures.findings.floor import largest_slide_mm, standing_frames
from leancurve.operations.base import (
    Operation,
    Patch,
    Progress,
    Scope,
    apply_patch,
    continuous_patch,
    silent,
)
from leancurve.operations.thin.params import ThinParams
from leancurve.operations.thin.tracks import thinned_tracks
from leancurve.operations.thin.window import Window
from leancurve.progress import part_of


class Thin(Operation[ThinParams]):
    """Replace dense channels by few keys within a tolerance.

    ``(0, 0, 0, 0, 1, 1, 1, 1)`` keeps keys at the ends of its two holds. The bound holds on
    every original frame. A keyed curve in scope is thinned from its values on frames; to thin
    again, change the line of the recipe: it works on what stood before it. Channels of one key
    stay as they are.
    """

    name = "thin"
    title = "Thin"
    step = "thin"
    version = 4
    ranged = True
    continuous = True
    Params: ClassVar[type[ThinParams]] = ThinParams

    def apply(
        self, clip: Clip, scope: Scope, params: ThinParams, progress: Progress = silent
    ) -> Patch:
        # A channel of one key is as thin as can be.
        channels = [
            c
            for c in scope.resolve(clip)
            if isinstance(clip.curves[c], SampledCurve) or clip.curves[c].key_count > 1
        ]
        windows = spans(scope.mask(clip))
        if clip.frames == 0 or not channels or not windows:
            return Patch(report=_report(0, 0, 0, 0.0, 0.0))
        before = sum(clip.curves[c].key_count for c in channels)
        curves: dict[TrackId, Curve] = {c: clip.curves[c] for c in channels}
        bound = times = 0
        worst = {True: 0.0, False: 0.0}
        for k, (first, last) in enumerate(windows):
            part = Window(clip.below, channels, params, first, last)
            solved = part.solve(part_of(progress, k / len(windows), 0.95 / len(windows)))
            bound += part.bound
            times += part.times
            for turns in (True, False):
                worst[turns] = max(worst[turns], part.worst(solved, turns))
            for channel, curve in solved.items():
                curves[channel] = spliced(curves[channel], curve, first, last, clip.frames)
        report: dict[str, float] = {}
        patch = continuous_patch(clip, Patch(curves=curves, report=report))
        after = sum(c.key_count for c in patch.curves.values())
        if params.props and scope == Scope():
            things = _things(clip, params)
            report["prop_keys_before"] = sum(clip.curves[t].key_count for t in things)
            report["prop_keys_after"] = sum(c.key_count for c in things.values())
            patch = replace(patch, curves={**patch.curves, **things})
        report |= _report(before, after, bound, worst[True], worst[False] * clip.millimetres)
        if times:
            report["poses"] = times
        if scope.joints is None and scope.groups is None:
            report["slide_before_mm"] = slide_before(clip)
            changed = Motion(apply_patch(clip, patch))
            report["slide_after_mm"] = largest_slide_mm(changed, standing_frames(clip))
        progress(1.0)
        return patch

    def upgraded(self, version: int, params: Mapping[str, Any]) -> dict[str, Any]:
        """Version 1 kept to each channel and knew nothing of contacts; 2 gave keys other ids;
        3 made every extreme's key flat and left props alone."""
        if version < 4:
            params = {"props": False, **params}
        first = {"layout": "channel", "measure": "channel", "contacts": False, "planted": 1.0}
        return {**(first if version < 2 else {}), **params}

    def told(self, params: Mapping[str, Any]) -> str:
        if params.get("keep"):
            return "Refit handles"
        if params.get("most_keys"):
            return f"Thin to {params['most_keys']} keys"
        if params.get("poses"):
            return f"Thin to {params['poses']} poses"
        if params.get("measure") == "ends":
            return f"Thin within {params.get('ends_mm', 5.0):g} mm at the ends"
        layout = {"joint": ", joint keys", "part": ", part keys", "pose": ", pose keys"}
        return f"Thin within {params.get('tolerance_deg', 0.25):g}°" + layout.get(
            params.get("layout", "channel"), ""
        )


def _things(clip: Clip, params: ThinParams) -> dict[TrackId, Curve]:
    """Channels of props that have a value on every frame, thinned."""
    out: dict[TrackId, Curve] = {}
    for prop in clip.props:
        out |= thinned_tracks(clip, prop.tracks, params.tolerance_deg, params.tolerance_mm)
    return out


@kept
def slide_before(clip: Clip) -> float:
    """How far feet slide in a clip, mm: of what stands, whatever tolerance is tried on it."""
    return largest_slide_mm(Motion(clip), standing_frames(clip))


def _report(before: int, after: int, bound: int, degrees: float, mm: float) -> dict[str, float]:
    return {
        "keys_before": before,
        "keys_after": after,
        "keys_bound": bound,
        "max_error_deg": degrees,
        "max_error_mm": mm,
    }
