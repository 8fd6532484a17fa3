"""What a body weighs, by the roles of its joints, and where its weight is.

Shares of the body's mass and where along a segment its centre lies: P. de Leva, "Adjustments to
Zatsiorsky-Seluyanov's segment inertia parameters", Journal of Biomechanics 29 (1996), table 4, men.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from leancurve.figure.body import SIDES, Body
from leancurve.numbers.arrays import Floats


@dataclass(frozen=True)
class Segment:
    """A part of the body: its share of the mass, from which role's joint to which one's it goes,
    and at what share of the way its centre is. Without the second it is at the first."""

    mass: float
    upper: str
    lower: str
    along: float


LIMBS = (
    Segment(0.0271, "upper arm", "forearm", 0.577),
    Segment(0.0162, "forearm", "hand", 0.457),
    Segment(0.0061, "hand", "middle", 0.79),
    Segment(0.1416, "thigh", "shin", 0.410),
    Segment(0.0433, "shin", "foot", 0.446),
    Segment(0.0137, "foot", "toe", 0.5),
)
"""Of each side. A hand's centre is told towards the knuckles, a foot's between ankle and ball."""
HEAD = Segment(0.0694, "neck", "head", 1.0)
TRUNK_MASS, TRUNK_ALONG = 0.4346, 0.449
"""The whole trunk's centre, on the way from the neck to the middle of the hips."""
NEEDED = ("upper arm", "forearm", "thigh", "shin", "foot")


def centre_of_mass(body: Body, positions: Floats) -> Floats | None:
    """Where the weight of a body is ``(F, 3)``, of joints' places ``(F, J, 3)``; None where its
    joints are not understood well enough to tell."""
    pairs = {part: body.pair(part) for part in NEEDED}
    top = body.find("neck") if body.find("neck") is not None else body.find("head")
    if top is None or not all(pairs.values()):
        return None

    def at(joint: int) -> Floats:
        return np.asarray(positions[:, joint])

    thighs = pairs["thigh"]
    assert thighs is not None
    middle = 0.5 * (at(thighs[0]) + at(thighs[1]))
    out = TRUNK_MASS * (at(top) + TRUNK_ALONG * (middle - at(top)))
    mass = TRUNK_MASS
    head = body.find("head")
    out += HEAD.mass * at(top if head is None else head)
    mass += HEAD.mass
    for side in SIDES:
        for part in LIMBS:
            upper, lower = (body.find(f"{side} {role}") for role in (part.upper, part.lower))
            if upper is None:
                continue
            place = at(upper)
            if lower is not None:
                place = place + part.along * (at(lower) - place)
            out += part.mass * place
            mass += part.mass
    return np.asarray(out / mass)
