"""Balance: flights as gravity and momentum have them, as a layer over the rest."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from leancurve.curves.curve import SampledCurve
from leancurve.document.base import times_of
from leancurve.document.clip import Clip
from leancurve.document.evaluation import posed
from leancurve.document.placement import placed_pose, unplaced_moves, unplaced_turns
from leancurve.document.root_motion import leading_root
from leancurve.document.track import TrackId
from leancurve.errors import BadInput
from leancurve.measures.flights import Flown, arc_off, flights_of, limbs_off, turned_off
from leancurve.measures.gravity import centre_of
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Bools, Floats
from leancurve.operations.base import (
    Operation,
    Params,
    Patch,
    Progress,
    Scope,
    apply_patch,
    number,
    silent,
)
from leancurve.operations.identity import identity
from leancurve.operations.layers.lift import sampled_layer, worth

LAYER = "weight"
ROUNDS = 4
"""An edit hides where a flight begins to fall: what is mended shows it better."""
LEFT_MM, LEFT_DEG = 1.0, 0.1
"""What may be left of a flight that is mended."""


class BalanceParams(Params):
    path: float = number(
        100.0, "%", "how closely the centre of mass follows the path of a thrown body, from where "
        "each flight begins to where it ends", ge=0, le=100,
    )  # fmt: skip
    turning: float = number(
        100.0, "%", "how far the body turns as a whole for its angular momentum to be kept in "
        "flight; it lands as it landed", ge=0, le=100,
    )  # fmt: skip
    counter: float = number(
        0.0, "%", "how much of that the limbs do instead of the whole body", ge=0, le=100
    )
    limbs: Literal["arms", "legs", "arms and legs"] = Field(
        "arms", description="which limbs move against it"
    )
    gravity: float | None = number(
        None, "m/s²", "how fast what is thrown falls; empty: as on Earth, or as the clip's own "
        "flights agree where its unit is in doubt", gt=0, le=1000,
    )  # fmt: skip
    soft: float = number(
        0.15, "s", "over how long before take-off and after landing it fades in and out", ge=0, le=2
    )
    new_id: int | None = identity()


class Balance(Operation[BalanceParams]):
    """Let flights follow gravity and keep their momentum, by a layer that moves and turns the root:
    no limb changes, and the capture stays as it is.

    Each flight keeps where it begins and ends, and how it lands. On the ground the layer fades over
    a few frames; what is planted stays.
    """

    name = "balance"
    title = "Balance flights"
    step = "balance"
    ranged = True
    scoped = False
    Params: ClassVar[type[BalanceParams]] = BalanceParams

    def apply(
        self, clip: Clip, scope: Scope, params: BalanceParams, progress: Progress = silent
    ) -> Patch:
        inside = scope.mask(clip)
        root = leading_root(clip)
        limbs = _limbs(clip, params)
        found = _flights(clip, inside)
        report: dict[str, float] = {"flights": len(found), **_off(found, "before")}
        wanted = _Wanted(clip, params, root, limbs)
        now = clip
        for done in range(ROUNDS if found else 0):
            left = _flights(now, inside)
            if done and all(f.arc_mm < LEFT_MM and (f.spin_deg or 0.0) < LEFT_DEG for f in left):
                break
            wanted.add(now, left)
            now = apply_patch(clip, wanted.laid(1.0, 1.0))
            progress((done + 1) / (ROUNDS + 1))
        patch = wanted.laid(0.01 * params.path, 0.01 * params.turning)
        if patch.layers:
            report |= _off(_flights(apply_patch(clip, patch), inside), "after")
            report |= _most(clip, patch, root)
        return replace(patch, report=report)


def _off(found: Sequence[Flown], when: str) -> dict[str, float]:
    """The most by which flights are off, before or after."""
    return {
        f"off_its_path_{when}_mm": round(max((f.arc_mm for f in found), default=0.0), 3),
        f"spin_{when}_deg": round(max((f.spin_deg or 0.0 for f in found), default=0.0), 3),
    }


def _most(clip: Clip, patch: Patch, root: int) -> dict[str, float]:
    """How far the new layer moves and turns the root at most."""
    layer = (patch.layers or ())[-1]
    out = {}
    for name, letter, unit in (
        ("most_moved_mm", "t", clip.millimetres), ("most_turned_deg", "r", 1.0),
    ):  # fmt: skip
        curves = [patch.curves.get(TrackId(layer.owner, root, letter + axis)) for axis in "xyz"]
        values = [c.values for c in curves if isinstance(c, SampledCurve)]
        far = float(np.linalg.norm(values, axis=0).max(initial=0.0)) if values else 0.0
        out[name] = round(far * unit, 3)
    return out


def _limbs(clip: Clip, params: BalanceParams) -> list[int]:
    """The joints that limbs turn about which move against what the body lacks."""
    if not params.counter:
        return []
    parts = {"arms": ["upper arm"], "legs": ["thigh"]}.get(params.limbs, ["upper arm", "thigh"])
    return [j for part in parts for j in clip.body.pair(part) or () if len(clip.order(j)) == 3]


def _flights(clip: Clip, inside: Bools) -> list[Flown]:
    """Flights of whose frames the middle one is meant."""
    return [f for f in flights_of(clip) if inside[(f.first + f.last) // 2]]


def _require_channels(clip: Clip, root: int, turned: bool, moved: bool) -> None:
    """What a layer makes of the root is delivered in its channels: it needs them."""
    name = clip.skeleton.names[root]
    if turned and len(clip.order(root)) != 3:
        raise BadInput(f"balance: {name} has not three rotation channels to be turned")
    if moved and not {"tx", "ty", "tz"} <= set(clip.layout[root]):
        raise BadInput(f"balance: {name} has not three position channels to be moved")


class _Wanted:
    """How the whole body is moved and turned about its centre of mass, on every frame."""

    def __init__(self, clip: Clip, params: BalanceParams, root: int, limbs: list[int]) -> None:
        self.clip, self.params, self.root = clip, params, root
        self.limbs = {j: np.tile(rotation.IDENTITY, (clip.frames, 1)) for j in limbs}
        """Turns about joints' own axes, by joint."""
        self.untold = bool(limbs)
        self.moved = np.zeros((clip.frames, 3))
        """Moves in the world, own unit."""
        self.turned = np.tile(rotation.IDENTITY, (clip.frames, 1))
        """Turns in the world."""

    def add(self, now: Clip, found: Sequence[Flown]) -> None:
        """What flights lack of the clip as it is by now."""
        params = self.params
        fall = None
        if params.gravity is not None:
            fall = params.gravity / now.reading.metres_per_unit
        soft = round(params.soft * float(now.rate))
        vectors = np.zeros((now.frames, 3))
        edges = [0, *(x for f in found for x in (f.first, f.last)), now.frames - 1]
        for k, flight in enumerate(found):
            # Of the ground between two flights either has half.
            before = (edges[2 * k + 1] - edges[2 * k]) // (2 if k else 1)
            after = (edges[2 * k + 3] - edges[2 * k + 2]) // (2 if k + 1 < len(found) else 1)
            room = min(before, soft), min(after, soft)
            if params.path:
                _put(self.moved, flight, arc_off(now, flight.first, flight.last, fall), room)
            if not params.turning:
                continue
            if self.untold:
                self._turn_limbs(now, flight, room)
                continue
            turns = turned_off(now, flight.first, flight.last)
            if turns is not None:
                by = rotation.unrolled(rotation.log(turns)[:, None])[:, 0]
                _put(vectors, flight, by, room)
        self.turned = rotation.multiply(rotation.exp(vectors), self.turned)
        self.untold = False

    def _turn_limbs(self, now: Clip, flight: Flown, room: tuple[int, int]) -> None:
        """The limbs come first: the body as a whole takes what they leave."""
        turned = limbs_off(now, flight.first, flight.last, list(self.limbs))
        if turned is None:
            return
        faced = posed(now).world(now.skeleton)[0]
        for k, (joint, own) in enumerate(self.limbs.items()):
            vectors = np.zeros((now.frames, 3))
            _put(vectors, flight, 0.01 * self.params.counter * turned[:, k], room)
            inside = rotation.rotate(rotation.conjugate(faced[:, joint]), vectors)
            self.limbs[joint] = rotation.multiply(own, rotation.exp(inside))

    def laid(self, path: float, turning: float) -> Patch:
        """The layer, with shares of what is moved and of what is turned."""
        clip, root = self.clip, self.root
        vectors, moves = self._of_root(path * self.moved, turning * rotation.log(self.turned))
        turned, moved = worth(clip, [root], vectors[:, None], moves[:, None])
        for joint, turns in self.limbs.items():
            by = turning * rotation.log(turns)[:, None]
            turned |= worth(clip, [joint], by, np.zeros_like(by))[0]
        _require_channels(clip, root, root in turned, bool(moved))
        if not turned and not moved:
            return Patch()
        layer, curves = sampled_layer(clip, LAYER, turned, moved, self.params.new_id)
        return Patch(curves=curves, layers=(*clip.layers, layer))

    def _of_root(self, moved: Floats, turned: Floats) -> tuple[Floats, Floats]:
        """What a layer has to hold for it ``(F, 3)`` each: rotation vectors in degrees about the
        root's own axes, and moves in those that it hangs in."""
        clip = self.clip
        pose = placed_pose(clip, times_of(clip, None), [self.root])
        turns, places = pose.rotation[:, 0], pose.translation[:, 0]
        centre = centre_of(clip)
        if centre is None:
            return np.zeros_like(moved), np.zeros_like(moved)
        by = rotation.exp(turned)
        away = places - centre
        moves = moved + rotation.rotate(by, away) - away
        after = rotation.multiply(by, turns)
        if clip.placement is not None and clip.placement.counts:
            turns, after = (unplaced_turns(clip, clip.placement, q) for q in (turns, after))
        vectors = rotation.log(rotation.multiply(rotation.conjugate(turns), after))
        return vectors, unplaced_moves(clip, moves)


def _put(into: Floats, flight: Flown, values: Floats, room: tuple[int, int]) -> None:
    """Add a flight's values ``(n, 3)``, which are nothing at its ends, and on either side what
    leads their speed there to rest with the least bending, over some frames at most."""
    first, last = flight.first, flight.last
    into[first : last + 1] += values
    for at, count, way in ((first, room[0], -1), (last, room[1], 1)):
        if count < 2:
            continue
        share = np.arange(1, count) / count
        speed = values[1] - values[0] if way < 0 else values[-1] - values[-2]
        # A cubic from nothing with this speed to nothing at rest.
        shape = count * share * (1.0 - share) ** 2
        into[at + way * np.arange(1, count)] += way * shape[:, None] * speed
