"""Rigid moves: where a whole scene is put, and what undoes it."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from leancurve.document.plant import Point, Turn
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats

NOWHERE: Point = (0.0, 0.0, 0.0)
UNTURNED: Turn = (0.0, 0.0, 0.0, 1.0)


@dataclass(frozen=True)
class Move:
    """A rigid move: a point ``p`` comes to ``turn · p + by``, in the skeleton's unit."""

    by: Point = NOWHERE
    turn: Turn = UNTURNED

    @classmethod
    def between(cls, here: Floats, there: Floats, turn: Floats = np.array(UNTURNED)) -> Move:
        """The move that turns about the point ``here (3,)`` and takes it to ``there (3,)``."""
        return cls(point_of(there - rotation.rotate(turn, here)), turn_of(turn))

    @property
    def inverse(self) -> Move:
        back = rotation.conjugate(np.array(self.turn))
        return Move(point_of(-rotation.rotate(back, np.array(self.by))), turn_of(back))

    def then(self, other: Move) -> Move:
        """This move and another one after it."""
        turn = rotation.multiply(np.array(other.turn), np.array(self.turn))
        return Move(point_of(other.points(np.array(self.by))), turn_of(turn))

    def points(self, points: Floats) -> Floats:
        """Points ``(..., 3)`` where the move takes them."""
        return np.asarray(rotation.rotate(np.array(self.turn), points) + np.array(self.by))

    def turns(self, turns: Floats) -> Floats:
        """Rotations ``(..., 4)`` in the world as the move leaves them."""
        return np.asarray(rotation.multiply(np.array(self.turn), turns))


def point_of(values: Iterable[float]) -> Point:
    """Three numbers as plain ones."""
    x, y, z = (float(v) for v in values)
    return (x, y, z)


def turn_of(values: Iterable[float]) -> Turn:
    """The four numbers of a rotation as plain ones."""
    x, y, z, w = (float(v) for v in values)
    return (x, y, z, w)
