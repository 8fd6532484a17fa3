"""Flights that cannot be: off the parabola of a thrown body, or turning with nothing to turn on."""

from __future__ import annotations

from collections.abc import Iterator

from leancurve.measures.findings.base import Finding, Motion, severity
from leancurve.measures.flights import flights_of

ARC_MM = 12.0
"""For a figure of 1.75 m. Nine jumps of a capture are at most 9 mm off; a centimetre is seen on a
screen (common practice)."""
SPIN_DEG = 5.0
"""The same jumps would have to turn further by up to 1.4°."""
WORST = 8.0
"""Times the threshold at which nothing worse is told apart."""


def detect_arcs(motion: Motion) -> Iterator[Finding]:
    """The size is how far the centre of mass is off at most, in mm."""
    least = ARC_MM * motion.size
    for flight in flights_of(motion.clip):
        if flight.arc_mm > least:
            rank = severity(flight.arc_mm, least, WORST * least)
            size = round(flight.arc_mm, 2)
            yield Finding("arc", _hips(motion), "", flight.first, flight.last, size, "mm", rank)


def detect_spins(motion: Motion) -> Iterator[Finding]:
    """The size is by how much the body would have to turn further at most, in degrees."""
    for flight in flights_of(motion.clip):
        if flight.spin_deg is not None and flight.spin_deg > SPIN_DEG:
            rank = severity(flight.spin_deg, SPIN_DEG, WORST * SPIN_DEG)
            size = round(flight.spin_deg, 2)
            yield Finding("spin", _hips(motion), "", flight.first, flight.last, size, "°", rank)


def _hips(motion: Motion) -> str:
    hips = motion.body.find("hips")
    return motion.names[motion.clip.skeleton.root if hips is None else hips]
