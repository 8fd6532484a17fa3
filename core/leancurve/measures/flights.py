"""Flights: what gravity and momentum say of them, and how far a figure is from that.

In the air the centre of mass follows a parabola, and the angular momentum about it stays what it
was. Both follow from where a flight begins and ends: nothing else has to be known.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from leancurve.cleaning.contacts import AIRBORNE, contacts_of
from leancurve.document.clip import Clip
from leancurve.document.evaluation import posed
from leancurve.document.kept import kept
from leancurve.figure.masses import Weights, weights_of
from leancurve.figure.momentum import Spin, spin_of
from leancurve.figure.skeleton import UP
from leancurve.measures.gravity import (
    GRAVITY,
    SHORTEST_S,
    acceleration,
    centre_of,
    fall_of,
    falling_part,
)
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats

PLAUSIBLE = 0.25, 4.0
"""A span in the air that falls at other multiples of gravity is no flight: something is held that
is not in the scene."""
PUSHING_S = 0.08
"""For so long a foot that is off its rest still pushes, or already bears: where an edit hides when
a flight begins to fall, it is taken to."""
AGREE = 0.05
"""Three or more flights that agree this closely, and not with gravity, tell that the unit is not
what it is read as."""


@dataclass(frozen=True)
class Flown:
    """A flight over frames ``first`` to ``last``, both included: how fast it falls in m/s², how far
    its centre of mass is from the parabola that gravity sets between its ends at most, and by how
    much the body would have to turn further at most for its momentum to be kept; None where that
    cannot be told."""

    first: int
    last: int
    gravity: float
    arc_mm: float
    spin_deg: float | None


@kept
def flights_of(clip: Clip) -> tuple[Flown, ...]:
    """The flights of a clip as it plays; none where the body's joints are not understood."""
    found = _falling(clip)
    if not found:
        return ()
    falls = standard_fall(clip) * clip.reading.metres_per_unit
    low, high = PLAUSIBLE
    return tuple(
        Flown(
            first,
            last,
            fall * clip.reading.metres_per_unit,
            float(np.linalg.norm(arc_off(clip, first, last), axis=1).max()) * clip.millimetres,
            _spin_deg(clip, first, last),
        )
        for first, last, fall in found
        if low * falls < fall * clip.reading.metres_per_unit < high * falls
    )


@kept
def _falling(clip: Clip) -> list[tuple[int, int, float]]:
    """Spans of free fall, frames both included, and how fast each falls, own unit."""
    spans = [c for c in contacts_of(clip) if c.limb == AIRBORNE]
    centre = centre_of(clip) if spans else None
    if centre is None:
        return []
    up, rate = UP[clip.reading.up_axis], float(clip.rate)
    bends = acceleration(centre[:, up], rate)
    out = []
    for span in spans:
        edge = round(PUSHING_S * rate)
        parts = falling_part(bends, span.first, span.last), (span.first + edge, span.last - edge)
        long = (p for p in parts if p is not None and (p[1] - p[0]) / rate >= SHORTEST_S)
        part = next(long, None)
        if part is None:
            continue
        out.append((*part, fall_of(centre[part[0] : part[1] + 1, up], rate)))
    return out


@kept
def standard_fall(clip: Clip) -> float:
    """How fast what falls freely falls in a clip, own unit: as its unit says, unless its flights
    agree on another. Then the unit is in doubt, and not the motion."""
    told = GRAVITY / clip.reading.metres_per_unit
    falls = np.array([fall for _, _, fall in _falling(clip)])
    if len(falls) < 3:
        return told
    middle = float(np.median(falls))
    agree = np.abs(falls / middle - 1.0) < AGREE
    doubted = abs(middle / told - 1.0) > AGREE and 3 * agree.sum() >= 2 * len(falls)
    return middle if doubted and middle > 0.0 else told


def arc_off(clip: Clip, first: int, last: int, fall: float | None = None) -> Floats:
    """What the centre of mass is off its parabola ``(last - first + 1, 3)``, own unit: what has to
    be added for it to go from where it is on the first frame to where it is on the last as gravity
    wills."""
    centre = centre_of(clip)
    assert centre is not None  # there is a flight
    path = centre[first : last + 1]
    share = np.linspace(0.0, 1.0, len(path))[:, None]
    seconds = (last - first) / float(clip.rate)
    wanted = path[0] + share * (path[-1] - path[0])
    fall = standard_fall(clip) if fall is None else fall
    lift = 0.5 * fall * seconds**2 * share[:, 0] * (1.0 - share[:, 0])
    wanted[:, UP[clip.reading.up_axis]] += lift
    return np.asarray(wanted - path)


def turned_off(clip: Clip, first: int, last: int) -> Floats | None:
    """How the whole body has to turn further about its centre of mass ``(last - first + 1, 4)`` for
    its angular momentum to be kept, in the world's axes; None where that cannot be told. On both
    ends it stands as it stood."""
    spin = _spin(clip, first, last)
    return None if spin is None else spin.kept()


def limbs_off(clip: Clip, first: int, last: int, joints: Sequence[int]) -> Floats | None:
    """How the limbs that hang on joints have to turn further about these ``(last - first + 1, K,
    3)``, rotation vectors in the world in degrees, instead of the whole body; None where that
    cannot be told. On both ends they stand as they stood."""
    spin, weights = _spin(clip, first, last), _weights(clip)
    if spin is None:
        return None
    used = np.abs(weights.made_of) > 1e-12
    parts = []
    for joint in joints:
        below = [joint in clip.skeleton.chain(j) for j in range(len(clip.skeleton))]
        parts.append(~used[:, ~np.array(below)].any(axis=1))
    origins = posed(clip).world(clip.skeleton)[1][first : last + 1, list(joints)]
    return spin.limbs_turned(origins, np.array(parts))


def _weights(clip: Clip) -> Weights:
    """A clip's masses: there is a flight, so the body is understood."""
    weights = weights_of(clip.skeleton, clip.body)
    assert weights is not None
    return weights


def _spin(clip: Clip, first: int, last: int) -> Spin | None:
    weights = _weights(clip)
    places = posed(clip).world(clip.skeleton)[1][first : last + 1]
    return spin_of(weights.points(places), weights.shares, float(clip.rate))


def _spin_deg(clip: Clip, first: int, last: int) -> float | None:
    turned = turned_off(clip, first, last)
    if turned is None:
        return None
    return float(rotation.geodesic_deg(turned, rotation.IDENTITY).max())
