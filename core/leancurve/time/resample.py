"""A clip at another rate and over another range: what is delivered."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction

import numpy as np

from leancurve.curves.curve import Curve, SampledCurve
from leancurve.document.base import channel_values
from leancurve.document.clip import Clip
from leancurve.document.evaluation import effective
from leancurve.document.limits import require_room
from leancurve.document.prop import PROP
from leancurve.document.track import BASE, TrackId
from leancurve.errors import BadInput
from leancurve.numbers.arrays import Floats
from leancurve.time.retimed import moved_parts


def sample_times(clip: Clip, rate: Fraction, first: int, last: int) -> Floats:
    """Times in the clip's frames at which ``rate`` samples the span first..last, both included.

    Computed as exact fractions, so that coinciding times are whole frames exactly.
    """
    if not 0 <= first <= last < max(clip.frames, 1):
        raise BadInput(
            f"range: expected 0 ≤ first ≤ last ≤ {clip.frames - 1}, got {first} to {last}"
        )
    if rate <= 0:
        raise BadInput(f"rate: must be above 0, got {rate}")
    ratio = clip.rate / rate
    count = int(Fraction(last - first) / ratio) + 1
    require_room(len(clip.skeleton), len(clip.curves), count, f"{clip.name} at {rate} a second")
    steps = np.arange(count, dtype=np.int64) * ratio.numerator
    whole, rest = np.divmod(steps, ratio.denominator)
    return np.asarray(first + whole + rest / ratio.denominator)


def resampled(
    clip: Clip,
    rate: Fraction | None = None,
    first: int = 0,
    last: int | None = None,
    planted: bool = False,
) -> Clip:
    """A sampled clip of the span at ``rate``; exact at times that are frames of this clip.

    Keyed channels follow their curves. Between the frames of sampled rotations the joint turns
    by slerp, and its angles are the solution continuous with their neighbours. What has a time goes
    along; layers and plants do, or are ``planted``: in the curves, and no more beside them.
    """
    rate = clip.rate if rate is None else rate
    end = max(clip.frames - 1, 0) if last is None else last
    if clip.frames == 0:
        return replace(clip, rate=rate)
    times = sample_times(clip, rate, first, end)
    curves: dict[TrackId, Curve] = {
        c: SampledCurve(np.ascontiguousarray(v))
        for c, v in (effective if planted else channel_values)(clip, times, clip.tracks).items()
    }
    scale = float(rate / clip.rate)
    parts = moved_parts(clip, lambda f: (f - first) * scale, len(times))
    out = replace(clip, curves=curves, rate=rate, frames=len(times), **parts)
    if planted:
        # What layers make is in the curves as well.
        own = {t: c for t, c in curves.items() if t.owner in (BASE, PROP)}
        return replace(out, curves=own, plants=(), layers=(), placement=None)
    return out
