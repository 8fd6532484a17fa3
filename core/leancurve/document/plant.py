"""Plants: parts of a figure held for a time, over whatever the curves say."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal, TypeAlias

Point: TypeAlias = tuple[float, float, float]
Turn: TypeAlias = tuple[float, float, float, float]
Ease: TypeAlias = Literal["settle", "linear", "ease", "ease-in", "ease-out", "ease-in-out"]
"""``settle`` takes the smoothest way between what is held and what is free; the others are the CSS
easings, which a correction follows as it comes and goes."""


@dataclass(frozen=True, order=True)
class Plant:
    """A part held from ``first`` to ``last``, both included, at a place.

    ``part`` is a point of the body (``left heel``, ``left toe``, ``left foot``, ``left hand``) or
    a joint's name. ``place (3,)`` is in the world, or, where it is held ``with_joint`` or
    ``with_prop``, in that joint's or prop's axes; ``turn (4,)`` is the part's rotation in the same,
    None where only its position is held. A plant comes over ``ease_in`` frames before it holds and
    goes over ``ease_out`` after. ``strength`` is the share to which it holds, ``hips`` the share to
    which hips are lowered where a foot's place is out of reach.
    """

    part: str
    first: int
    last: int
    place: Point
    turn: Turn | None = None
    with_joint: str = ""
    with_prop: str = ""
    ease_in: int = 0
    ease_out: int = 0
    ease: Ease = "settle"
    strength: float = 1.0
    hips: float = 1.0
    muted: bool = False

    @property
    def in_world(self) -> bool:
        """Whether its place is one in the world, not carried by anything."""
        return not self.with_joint and not self.with_prop

    @property
    def live(self) -> bool:
        return not self.muted and self.strength > 0.0
