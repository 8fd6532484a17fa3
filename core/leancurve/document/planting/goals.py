"""The first stage of planting: goals, where each limb's end shall be on each frame.

A foot has one correction on each frame: a shift of its ball and a turn about it, so that heel and
toe are held together, or one of them while the other moves as captured. It is known where a plant
holds, and led smoothly over the frames around (:mod:`leancurve.numbers.fill`).
"""

from __future__ import annotations

from collections.abc import Sequence
from itertools import pairwise

import numpy as np

from leancurve.curves.easing import easing_of
from leancurve.document.clip import Clip
from leancurve.document.placement import placed_props
from leancurve.document.plant import Ease, Plant
from leancurve.document.planting.world import World
from leancurve.figure.feet import Chain, Limb
from leancurve.figure.limb import arc
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Bools, Floats, runs
from leancurve.numbers.fill import fill

HEEL, TOE, TURN = 1, 2, 4
"""What of a part is held, as flags."""
SOFTNESS = 5.0
"""A correction dies away over about five times its stiffness."""


class Goals:
    """What plants ask of one limb on each frame: where its end shall be, and how it is turned."""

    def __init__(
        self, clip: Clip, world: World, limb: Limb | Chain, plants: Sequence[Plant]
    ) -> None:
        count = clip.frames
        self.clip, self.world, self.plants = clip, world, tuple(plants)
        end, turns = world.point(limb.end), world.turn(limb.end)
        if limb.ball is not None:
            ball = world.point(limb.ball)
        elif limb.sole is not None:
            ball = end + rotation.rotate(turns, np.array(limb.sole))
        else:
            ball = end
        side = limb.name.split()[0]
        self.window = np.zeros(count, dtype=np.bool_)
        self.share = np.zeros(count)
        stiffness = np.zeros(count)
        self.carried_by = np.full(count, -1, dtype=np.int64)
        heel, toe, goal = (np.full((count, n), np.nan) for n in (3, 3, 4))
        heel_share, toe_share = np.zeros(count), np.zeros(count)
        for plant in self.plants:
            first, last = max(plant.first, 0), min(plant.last, count - 1)
            begin, until = max(first - plant.ease_in, 0), min(last + plant.ease_out, count - 1)
            self.window[begin : until + 1] = True
            coming, going = slice(max(begin - 1, 0), first + 1), slice(last, until + 2)
            stiffness[coming] = np.maximum(stiffness[coming], plant.ease_in / SOFTNESS)
            stiffness[going] = np.maximum(stiffness[going], plant.ease_out / SOFTNESS)
            self.share[begin : until + 1] = np.maximum(self.share[begin : until + 1], plant.hips)
            held = slice(first, last + 1)
            place, turn = self._goal(plant, held)
            at_toe = plant.part == f"{side} toe" and limb.is_leg
            (toe if at_toe else heel)[held] = place
            shares = toe_share if at_toe else heel_share
            shares[held] = np.maximum(shares[held], plant.strength)
            if turn is not None:
                goal[held] = turn
            if plant.with_joint:
                self.carried_by[held] = clip.skeleton.index(plant.with_joint)
        on_heel, on_toe, on_turn = (~np.isnan(x[:, 0]) for x in (heel, toe, goal))
        self.held = on_heel | on_toe
        self.by = HEEL * on_heel + TOE * on_toe + TURN * on_turn
        self.holds = np.where(on_toe, toe_share, heel_share)
        arm = ball - end
        # How it turns about its ball.
        turned = np.zeros((count, 3))
        both = on_heel & on_toe
        if np.any(both):
            share = np.minimum(heel_share, toe_share)[both, None]
            away = (toe - ball)[both] - (heel - end)[both]
            # The other way round it would go about any axis across: about its own first one.
            across = rotation.rotate(turns[both], np.array((1.0, 0.0, 0.0)))
            turned[both] = share * rotation.log(arc(arm[both], arm[both] + away, across))
        if np.any(on_turn):
            share = np.maximum(heel_share, toe_share)[on_turn, None]
            turned[on_turn] = share * rotation.log(
                rotation.multiply(goal[on_turn], rotation.conjugate(turns[on_turn]))
            )
        self.turn = self._led(turned, both | on_turn, stiffness)
        swung = rotation.rotate(rotation.exp(self.turn), arm)
        # Where its ball goes.
        shift = np.zeros((count, 3))
        led = end + heel_share[:, None] * (heel - end)
        shift[on_heel] = (led + swung - ball)[on_heel]
        shift[on_toe] = (toe_share[:, None] * (toe - ball))[on_toe]
        self.shift = self._led(shift, self.held, stiffness)
        self.target = ball + self.shift - swung
        self.turns = rotation.multiply(rotation.exp(self.turn), turns)

    def _goal(self, plant: Plant, held: slice) -> tuple[Floats, Floats | None]:
        place = np.array(plant.place)
        turn = None if plant.turn is None else np.array(plant.turn)
        if plant.with_prop:
            which = self.clip.prop_at(plant.with_prop)
            turns, points = (x[held, which] for x in placed_props(self.clip))
            goal = None if turn is None else rotation.multiply(turns, turn)
            return points + rotation.rotate(turns, np.broadcast_to(place, points.shape)), goal
        if not plant.with_joint:
            return place, turn
        joint = self.clip.skeleton.index(plant.with_joint)
        carrying = self.world.turn(joint)[held]
        at = self.world.point(joint)[held] + rotation.rotate(carrying, place)
        return at, None if turn is None else rotation.multiply(carrying, turn)

    def _ease(self, values: Floats, known: Bools, a: int, b: int) -> None:
        """What is known at frames ``a`` and ``b`` led away from them by their plants' eases, in
        place; both together where there is no room for one after the other."""
        room = b - a
        going = [(p.ease_out, p.ease) for p in self.plants if p.last == a and p.ease_out > 1]
        coming = [(p.ease_in, p.ease) for p in self.plants if p.first == b and p.ease_in > 1]
        sides: list[tuple[int, Ease, int]] = []
        for edge, eases in ((a, going), (b, coming)):
            if eases:
                over, ease = max(eases, key=lambda found: found[0])
                sides.append((edge, ease, min(over, room)))
        if all(name == "settle" for _, name, _ in sides):
            return
        close = len(sides) == 2 and sum(over for _, _, over in sides) > room
        at = np.arange(max(a + 1, 0), min(b, len(values)))
        led, reached = np.zeros((len(at), values.shape[1])), np.zeros(len(at), dtype=np.bool_)
        for edge, name, over in sides:
            if name == "settle" and not close:
                continue
            left = np.clip(1.0 - np.abs(at - edge) / over, 0.0, 1.0)
            easing = easing_of("ease-in-out" if name == "settle" else name)
            led += values[edge] * np.where(left > 0.0, easing.at(left), 0.0)[:, None]
            reached |= (left > 0.0) | close
        values[at[reached]] = led[reached]
        known[at[reached]] = True

    def _led(self, values: Floats, known: Bools, stiffness: Floats) -> Floats:
        """Known values led over the frames between, and out to nothing at the eases' ends."""
        values, known = values.copy(), known.copy()
        held = runs(known)
        edges = [(-1, held[0][0]), *((a[1], b[0]) for a, b in pairwise(held)),
                 (held[-1][1], len(known))] if held else []  # fmt: skip
        for a, b in edges:
            self._ease(values, known, a, b)
        return fill(values, known | ~self.window, stiffness)
