"""What free flights tell of a clip's unit: everything falls at 9.80665 m/s²."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from leancurve.cleaning.contacts import AIRBORNE, contacts_of
from leancurve.document.clip import Clip
from leancurve.document.evaluation import posed
from leancurve.document.kept import kept
from leancurve.figure.masses import weights_of
from leancurve.figure.skeleton import UP
from leancurve.numbers.arrays import Floats

GRAVITY = 9.80665
"""m/s², the standard one (General Conference on Weights and Measures, 1901)."""
SHORTEST_S = 0.2
"""A flight that is shorter tells too little of how it bends."""
HALF_SPAN_S = 0.1
"""What is fitted to tell an acceleration, to either side."""
FALLING = 0.7
"""Share of a flight's own acceleration at which it begins and ends."""
BENT = 0.004
"""Share of the figure's height by which a flight may be off its parabola (RMS), and off a straight
line over the floor: a capture's jumps are off by 0.2 %."""


@dataclass(frozen=True)
class Flight:
    """Frames ``first`` to ``last`` in which a figure falls freely, and how fast it falls, in the
    clip's unit a second squared."""

    first: int
    last: int
    falls: float


def flights(clip: Clip) -> list[Flight]:
    """Where the centre of mass goes as what is thrown does; none where the body's joints are not
    understood."""
    spans = [c for c in contacts_of(clip) if c.limb == AIRBORNE]
    if not spans:
        return []
    centre = centre_of(clip)
    if centre is None:
        return []
    rate, up = float(clip.rate), UP[clip.reading.up_axis]
    bends = acceleration(centre[:, up], rate)
    most = BENT * clip.skeleton.rest_height
    found = (_flight(centre, bends, up, rate, most, c.first, c.last) for c in spans)
    return [f for f in found if f is not None]


@kept
def centre_of(clip: Clip) -> Floats | None:
    """Where the weight of the figure is on each frame ``(F, 3)``, as it plays; None where its
    joints are not understood."""
    weights = weights_of(clip.skeleton, clip.body)
    return None if weights is None else weights.centre(posed(clip).world(clip.skeleton)[1])


def acceleration(height: Floats, rate: float) -> Floats:
    """Second derivatives ``(F,)`` of heights, of quadratics fitted to their neighbours."""
    from scipy.signal import savgol_filter  # it loads slowly, and few clips have flights

    span = 2 * max(2, round(HALF_SPAN_S * rate)) + 1
    if len(height) < span:
        return np.zeros(len(height))
    return np.asarray(savgol_filter(height, span, 2, deriv=2, delta=1.0 / rate))


def falling_part(bends: Floats, first: int, last: int) -> tuple[int, int] | None:
    """The part of an airborne span in which nothing but gravity acts, of the heights' second
    derivatives ``(F,)``; None where it does not fall."""
    quarter = (last - first) // 4
    middle = (first + last) // 2
    falls = -float(np.median(bends[first + quarter : last - quarter + 1]))
    falling = bends < -FALLING * falls
    if falls <= 0.0 or not falling[middle]:
        return None
    while first < middle and not falling[first : middle + 1].all():
        first += 1
    while last > middle and not falling[middle : last + 1].all():
        last -= 1
    return first, last


def fall_of(heights: Floats, rate: float) -> float:
    """How fast what has these heights ``(F,)`` falls: twice what a parabola through them bends."""
    seconds = np.arange(len(heights)) / rate
    return float(-2.0 * np.polynomial.Polynomial.fit(seconds, heights, 2).convert().coef[2])


def _flight(
    centre: Floats, bends: Floats, up: int, rate: float, most: float, first: int, last: int
) -> Flight | None:
    """The flight within an airborne span, where it follows a parabola."""
    part = falling_part(bends, first, last)
    if part is None or (part[1] - part[0]) / rate < SHORTEST_S:
        return None
    first, last = part
    seconds = np.arange(last - first + 1) / rate
    path = centre[first : last + 1]
    off = [
        path[:, k] - np.polynomial.Polynomial.fit(seconds, path[:, k], 2 if k == up else 1)(seconds)
        for k in range(3)
    ]
    if max(float(np.sqrt(np.mean(x**2))) for x in off) > most:
        return None
    return Flight(first, last, fall_of(path[:, up], rate))


def unit_by_gravity(clip: Clip) -> tuple[float, int] | None:
    """Metres a unit as the median of a clip's flights has it, and how many there are."""
    found = [f.falls for f in flights(clip)]
    return (GRAVITY / float(np.median(found)), len(found)) if found else None


def told_by_gravity(clip: Clip) -> list[str]:
    """What the flights say of the unit beside what is read, in words; nothing where there are
    none."""
    told = unit_by_gravity(clip)
    if told is None:
        return []
    metres, count = told
    jumps = "1 jump suggests" if count == 1 else f"{count} jumps suggest"
    own = 100.0 * clip.reading.metres_per_unit
    return [f"{jumps} {100.0 * metres:.3g} cm a unit, by gravity; it is read as {own:.3g} cm"]
