"""The centre of mass, and the unit that jumps tell."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction

import numpy as np
import pytest
from leancurve.curves.curve import Curve, SampledCurve
from leancurve.demo.suit import deckhand
from leancurve.document.clip import Clip, Contact, Reading
from leancurve.document.track import TrackId, base_track
from leancurve.figure.body import body_of
from leancurve.figure.masses import TABLE, weights_of
from leancurve.measures.gravity import GRAVITY, flights, told_by_gravity, unit_by_gravity


def test_shares_are_a_whole_body() -> None:
    """de Leva 1996, table 4: the parts add up to all of it."""
    whole = TABLE.trunk.mass + TABLE.head.mass + 2 * sum(p.mass for p in TABLE.limbs)
    assert whole == pytest.approx(1.0, abs=0.002)


def test_a_standing_body_weighs_about_its_hips() -> None:
    """A person's centre of mass stands at 55 to 57 % of the stature (common textbook value)."""
    skeleton = deckhand()
    places = skeleton.rest_positions[None]
    weights = weights_of(skeleton, body_of(skeleton))
    assert weights is not None
    centre = weights.centre(places)
    share = (centre[0, 1] - places[0, :, 1].min()) / skeleton.rest_height
    assert 0.5 < share < 0.62
    assert abs(centre[0, 0]) < 0.01 * skeleton.rest_height


def thrown(falls: float, sideways: float = 0.0) -> Clip:
    """The suit thrown up for half a second, stiff as a board; falling so many centimetres a second
    squared, and pushed about in the air by so many centimetres."""
    skeleton = deckhand()
    seconds = np.clip((np.arange(90) - 30) / 60, 0.0, 0.5)
    up = 0.5 * falls * seconds * (0.5 - seconds)
    layout = tuple(("tx", "ty", "tz") if p < 0 else () for p in skeleton.parents)
    root = layout.index(("tx", "ty", "tz"))
    curves: dict[TrackId, Curve] = {
        base_track(root, "tx"): SampledCurve(sideways * np.sin(8 * np.pi * seconds)),
        base_track(root, "ty"): SampledCurve(up),
        base_track(root, "tz"): SampledCurve(120.0 * seconds),
    }
    clip = Clip(skeleton, layout, curves, Fraction(60), 90, Reading(), "thrown")
    return replace(clip, contacts=(Contact("airborne", 28, 62),))


def test_what_is_thrown_falls_as_it_was_thrown() -> None:
    (flight,) = flights(thrown(980.665))
    assert flight.falls == pytest.approx(980.665, rel=1e-3)
    # It is in the air on frames 30 to 60; what is fitted reaches over the edges.
    assert 30 <= flight.first <= 36
    assert 54 <= flight.last <= 60
    assert unit_by_gravity(thrown(980.665)) == (pytest.approx(0.01, rel=1e-3), 1)
    assert unit_by_gravity(thrown(386.09)) == (pytest.approx(0.0254, rel=1e-3), 1)
    assert told_by_gravity(thrown(980.665)) == [
        "1 jump suggests 1 cm a unit, by gravity; it is read as 1 cm"
    ]


def test_what_is_carried_through_the_air_tells_nothing() -> None:
    assert flights(thrown(980.665, sideways=12.0)) == []
    assert flights(thrown(0.0)) == []
    assert told_by_gravity(replace(thrown(980.665), contacts=())) == []


KNOWN_M = 0.0564
"""What one unit of the open capture is: its laboratory's scale, from its description."""


def test_jumps_of_a_capture_tell_its_unit(open_capture: Clip) -> None:
    """Ten jumps are labelled in it; but for one with a jolt they fall at 9.6 to 10.2 m/s²."""
    found = flights(open_capture)
    assert len(found) == 10
    falls = sorted(f.falls * KNOWN_M for f in found)
    assert 9.5 < falls[0] < falls[-2] < 10.3
    told = unit_by_gravity(open_capture)
    assert told == (pytest.approx(KNOWN_M, rel=0.02), 10)
    assert GRAVITY / np.median([f.falls for f in found]) == pytest.approx(told[0])
    # Its height alone tells less: the figure ends at the head's joint.
    assert told_by_gravity(open_capture) == [
        "10 jumps suggest 5.68 cm a unit, by gravity; it is read as 6.52 cm"
    ]
