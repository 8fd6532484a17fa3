"""What layers make, written as curves: a value on every frame, or keys where there were some."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

import numpy as np
from pydantic import Field

from leancurve.cleaning.thinning import few_keys
from leancurve.curves.curve import Curve, KeyedCurve, SampledCurve
from leancurve.document.clip import Clip
from leancurve.document.layer import Layer
from leancurve.document.track import TrackId
from leancurve.numbers.arrays import Floats, Ints
from leancurve.operations.base import Params, number


class KeyedParams(Params):
    keyed: bool = Field(
        False, description="write keys where the clip's own curves and the layers have theirs"
    )
    tolerance_deg: float = number(
        0.25, "°", "how far keyed turns may lie off", {"keyed": [True]}, gt=0, le=45
    )
    tolerance_mm: float = number(
        1.0, "mm", "how far keyed moves may lie off", {"keyed": [True]}, gt=0, le=1000
    )


def without(layers: Iterable[Layer], done: set[int], stay: bool) -> tuple[Layer, ...]:
    """Layers after some of them, by id, were written elsewhere: without these, or with them muted
    where they are to ``stay``."""
    if not stay:
        return tuple(x for x in layers if x.id not in done)
    return tuple(replace(x, muted=True) if x.id in done else x for x in layers)


def key_times(curves: Iterable[Curve], frames: int) -> Ints | None:
    """Frames of a clip on which any of some curves has a key; None where one of them has a value on
    every frame."""
    found: set[int] = set()
    for curve in curves:
        if not isinstance(curve, KeyedCurve):
            return None
        found |= {round(t) for t in curve.time.tolist()}
    inside = sorted(f for f in found if 0 <= f < frames)
    return np.array(inside, dtype=np.int64) if inside else None


def written(
    clip: Clip, track: TrackId, values: Floats, times: Ints | None, params: KeyedParams
) -> Curve:
    """Values ``(F,)`` as a curve: keyed at times, and where the tolerance asks for more."""
    values = np.ascontiguousarray(values)
    if times is None or clip.frames < 2:
        return SampledCurve(values)
    mm = params.tolerance_mm / clip.millimetres
    return few_keys(values, params.tolerance_deg if track.turns else mm, times)
