"""The points of a body that hold on to something: heels, toes, hands, and the limbs they end."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from leancurve.figure.body import Body
from leancurve.figure.skeleton import Skeleton

SIDES = ("left", "right")


def foot_points(skeleton: Skeleton, body: Body) -> dict[str, int]:
    """The joint that each point of a foot is judged by: ``"left heel"``, ``"left toe"`` …"""
    out: dict[str, int] = {}
    for side in SIDES:
        ankle, toe = body.find(f"{side} foot"), body.find(f"{side} toe")
        if ankle is None:
            continue
        if toe is None:
            out[f"{side} foot"] = ankle
        else:
            out[f"{side} heel"], out[f"{side} toe"] = ankle, toe
    return out


@dataclass(frozen=True)
class Limb:
    """Two bones and what they end in: joints by index. ``ball`` is a foot's second point, as a
    joint below the end; ``sole`` the end site that stands for it where a foot has no toe. Twist
    joints may lie in line between the three: they ride along as they are turned."""

    name: str
    upper: int
    middle: int
    end: int
    ball: int | None = None
    sole: tuple[float, float, float] | None = None

    @property
    def joints(self) -> tuple[int, int, int]:
        return self.upper, self.middle, self.end

    @property
    def is_leg(self) -> bool:
        return self.name.endswith("leg")

    @property
    def parts(self) -> tuple[str, ...]:
        """What a plant can hold of it."""
        side = self.name.split()[0]
        if not self.is_leg:
            return (f"{side} hand",)
        rolls = self.ball is not None or self.sole is not None
        return (f"{side} heel", f"{side} toe", f"{side} foot") if rolls else (f"{side} foot",)


@dataclass(frozen=True)
class Chain:
    """Joints from the top down that lead to an end, any joint that no limb of two bones ends in."""

    name: str
    above: tuple[int, ...]
    end: int
    ball: None = None
    sole: None = None
    is_leg: bool = False

    @property
    def joints(self) -> tuple[int, ...]:
        return (*self.above, self.end)

    @property
    def parts(self) -> tuple[str, ...]:
        return (self.name,)


LONGEST_CHAIN = 8


def chain_to(skeleton: Skeleton, body: Body, turning: Sequence[bool], joint: int) -> Chain | None:
    """The chain that leads to a joint: those above it that turn freely, up to the hips; None where
    there is none. ``turning (J,)`` says which joints turn about three axes."""
    hips = body.find("hips")
    above: list[int] = []
    for j in skeleton.chain(joint)[1:]:
        if j == hips or skeleton.parents[j] < 0 or not turning[j] or len(above) == LONGEST_CHAIN:
            break
        above.insert(0, j)
    return Chain(skeleton.names[joint], tuple(above), joint) if above else None


def _leads(skeleton: Skeleton, body: Body, top: int, low: int) -> bool:
    """Whether a joint hangs on another, with nothing but twist joints between."""
    at = skeleton.parents[low]
    while at >= 0 and at != top and body.joints[at].role.endswith("twist"):
        at = skeleton.parents[at]
    return at == top


@lru_cache(maxsize=64)
def limbs_of(skeleton: Skeleton, body: Body) -> tuple[Limb, ...]:
    """The legs and arms of a body that have two bones, legs first."""
    out: list[Limb] = []
    for kind, roles in (
        ("leg", ("thigh", "shin", "foot")),
        ("arm", ("upper arm", "forearm", "hand")),
    ):
        for side in SIDES:
            found = [body.find(f"{side} {role}") for role in roles]
            if any(j is None for j in found):
                continue
            upper, middle, end = (int(j) for j in found if j is not None)
            if not (_leads(skeleton, body, upper, middle) and _leads(skeleton, body, middle, end)):
                continue
            if skeleton.parents[upper] < 0:
                continue
            ball = body.find(f"{side} toe") if kind == "leg" else None
            if ball is not None and skeleton.parents[ball] != end:
                ball = None
            sole = None
            if kind == "leg" and ball is None:
                sole = next(
                    (e.offset for e in skeleton.ends if e.parent == end and np.any(e.offset)), None
                )
            out.append(Limb(f"{side} {kind}", upper, middle, end, ball, sole))
    return tuple(out)
