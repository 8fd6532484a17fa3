"""What a body weighs, by the roles of its joints, and where its weight is.

Shares of the body's mass, where along a segment its centre lies, and how far from there its mass
lies on average: P. de Leva, "Adjustments to Zatsiorsky-Seluyanov's segment inertia parameters",
Journal of Biomechanics 29 (1996), table 4, men.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property, lru_cache

import numpy as np

from leancurve.figure.body import SIDES, Body
from leancurve.figure.skeleton import Skeleton
from leancurve.numbers.arrays import Floats


@dataclass(frozen=True)
class Segment:
    """A part of the body: its share of the mass, from which role's joint to which one's it goes,
    at what share of the way its centre is, and its radius of gyration across that way, as a share
    of its length. Without the second joint it is at the first."""

    mass: float
    upper: str
    lower: str
    along: float
    gyration: float


@dataclass(frozen=True)
class Table:
    """The parts of a body. ``limbs`` are of each side: a hand's centre is told towards the
    knuckles, a foot's between ankle and ball. The trunk goes from the neck to the middle of the
    hips, and is ``across`` of its length wide, by its radius of gyration about that way."""

    limbs: tuple[Segment, ...]
    head: Segment
    trunk: Segment
    across: float


TABLE = Table(
    (
        Segment(0.0271, "upper arm", "forearm", 0.577, 0.277),
        Segment(0.0162, "forearm", "hand", 0.457, 0.271),
        Segment(0.0061, "hand", "middle", 0.790, 0.570),
        Segment(0.1416, "thigh", "shin", 0.410, 0.329),
        Segment(0.0433, "shin", "foot", 0.446, 0.252),
        Segment(0.0137, "foot", "toe", 0.5, 0.251),
    ),
    Segment(0.0694, "neck", "head", 1.0, 0.309),
    Segment(0.4346, "neck", "hips", 0.449, 0.317),
    0.169,
)
HEAD_HEIGHT = 0.117
"""From the crown to the corner of the jaw, as a share of the stature (the same table's figures)."""
NEEDED = ("upper arm", "forearm", "thigh", "shin", "foot")


@dataclass(frozen=True, eq=False)
class Weights:
    """Points that stand for a body: their shares of its mass ``(P,)``, 1 in all, and how each one's
    place is made of the joints' places ``(P, J)``."""

    shares: Floats
    made_of: Floats

    @cached_property
    def centre_of_joints(self) -> Floats:
        """How much each joint's place counts for the centre of mass ``(J,)``."""
        return np.asarray(self.shares @ self.made_of)

    def centre(self, positions: Floats) -> Floats:
        """The centre of mass ``(F, 3)``, of joints' places ``(F, J, 3)``."""
        return np.asarray(np.einsum("j,fjk->fk", self.centre_of_joints, positions))

    def points(self, positions: Floats) -> Floats:
        """The points' places ``(F, P, 3)``, of joints' places ``(F, J, 3)``."""
        return np.asarray(self.made_of @ positions)


@lru_cache(maxsize=64)
def weights_of(skeleton: Skeleton, body: Body) -> Weights | None:
    """The points of a skeleton's body; None where its joints are not understood well enough.

    Each segment is two points of half its mass, as far from its centre as its mass lies on average;
    the trunk has two more, across it. A joint without a role weighs nothing.
    """
    made = _Made(skeleton, body, TABLE)
    return made.weights() if made.understood else None


class _Made:
    """The points of a body as they are gathered: each a row of shares of joints."""

    def __init__(self, skeleton: Skeleton, body: Body, table: Table) -> None:
        self.skeleton, self.body, self.table = skeleton, body, table
        self.masses: list[float] = []
        self.rows: list[Floats] = []

    @property
    def top(self) -> int | None:
        """The joint that the trunk goes up to."""
        neck = self.body.find("neck")
        return self.body.find("head") if neck is None else neck

    @property
    def understood(self) -> bool:
        return self.top is not None and all(self.body.pair(part) for part in NEEDED)

    def weights(self) -> Weights:
        self._trunk()
        self._head()
        for side in SIDES:
            for part in self.table.limbs:
                upper, lower = (self.body.find(f"{side} {r}") for r in (part.upper, part.lower))
                if upper is not None:
                    self._segment(part, self._at(upper), None if lower is None else self._at(lower))
        shares = np.array(self.masses)
        return Weights(shares / shares.sum(), np.array(self.rows))

    def _at(self, *joints: int) -> Floats:
        """The middle of joints."""
        row = np.zeros(len(self.skeleton))
        row[list(joints)] = 1.0 / len(joints)
        return row

    def _length(self, way: Floats) -> float:
        """How long a way between joints is at rest."""
        return float(np.linalg.norm(way @ self.skeleton.rest_positions))

    def _two(self, mass: float, centre: Floats, away: Floats) -> None:
        self.masses += [0.5 * mass, 0.5 * mass]
        self.rows += [centre - away, centre + away]

    def _segment(self, part: Segment, upper: Floats, lower: Floats | None) -> None:
        way = np.zeros_like(upper) if lower is None else lower - upper
        self._two(part.mass, upper + part.along * way, part.gyration * way)

    def _trunk(self) -> None:
        trunk, top, hips = self.table.trunk, self.top, self.body.pair("thigh")
        arms = self.body.pair("upper arm")
        assert top is not None
        assert hips is not None
        assert arms is not None
        down = self._at(*hips) - self._at(top)
        centre = self._at(top) + trunk.along * down
        # Of four points each pair has half of the mass: it lies farther off by the root of two.
        self._two(0.5 * trunk.mass, centre, np.sqrt(2.0) * trunk.gyration * down)
        aside = self._at(arms[0]) - self._at(arms[1])
        wide = self.table.across * self._length(down) / max(self._length(aside), 1e-9)
        self._two(0.5 * trunk.mass, centre, np.sqrt(2.0) * wide * aside)

    def _head(self) -> None:
        head, top, part = self.body.find("head"), self.top, self.table.head
        assert top is not None
        at = self._at(top if head is None else head)
        up = at - self._at(top)
        tall = HEAD_HEIGHT * self.skeleton.rest_height / max(self._length(up), 1e-9)
        self._two(part.mass, at, part.gyration * tall * up)
