"""A keyed performance retargeted keyed: the source's key times kept, handles fitted to what is
retargeted, keys added only where it would lie farther off than a tolerance."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from leancurve.cleaning.thinning import few_keys
from leancurve.curves.curve import Curve, KeyedCurve
from leancurve.document.clip import Clip
from leancurve.document.track import TrackId
from leancurve.numbers.arrays import Ints
from leancurve.retarget.retargeting import Retargeted


@dataclass(frozen=True, eq=False)
class Kept:
    """Keyed curves of a retargeted clip, how many of their keys stand where the source's do, and
    how many were added between."""

    curves: dict[TrackId, Curve]
    kept: int
    added: int


def keyed_as(source: Clip, done: Retargeted, tolerance_deg: float, tolerance_mm: float) -> Kept:
    """Curves for the retargeted clip's channels whose source is keyed; others stay dense."""
    clip = done.clip
    curves: dict[TrackId, Curve] = {}
    kept = added = 0
    hips = done.source.find("hips") or 0
    for track in clip.channels:
        link = done.links.links[track.joint]
        joints = link.sources if track.turns else (hips,)
        times = _times(source, joints, "r" if track.turns else "t")
        curve = clip.curves[track]
        if times is None or isinstance(curve, KeyedCurve) or clip.frames < 2:
            continue
        tolerance = tolerance_deg if track.turns else tolerance_mm / clip.millimetres
        curves[track] = fitted = few_keys(curve.values, tolerance, times)
        there = int(np.isin(fitted.time.astype(np.int64), times).sum())
        kept, added = kept + there, added + fitted.key_count - there
    return Kept(curves, kept, added)


def _times(source: Clip, joints: Sequence[int], kind: str) -> Ints | None:
    """Frames on which the channels of some joints have keys; None where one of them is dense, or
    there is none."""
    found: set[int] = set()
    for joint in joints:
        for track in source.channels:
            if track.joint != joint or track.name[0] != kind:
                continue
            curve = source.curves[track]
            if not isinstance(curve, KeyedCurve):
                return None
            found |= {round(t) for t in curve.time.tolist()}
    inside = sorted(f for f in found if 0 <= f < source.frames)
    return np.array(inside, dtype=np.int64) if inside else None
