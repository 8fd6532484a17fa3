"""Travel: a figure kept in place, or led over the floor otherwise than it goes."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any, ClassVar, Literal, TypeAlias, TypeVar

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from leancurve.curves.easing import EASINGS
from leancurve.document.carrying import carried, under_placement
from leancurve.document.clip import Clip, Placement
from leancurve.document.moves import point_of
from leancurve.document.placement import placed_pose
from leancurve.document.posing import ahead
from leancurve.document.root_motion import RootMotion, leading_root
from leancurve.errors import BadInput
from leancurve.figure.skeleton import UP
from leancurve.measures.account import Kind
from leancurve.measures.travel import (
    Facing,
    Places,
    Travel,
    flat,
    leading,
    moved_by_feet,
    travel_of,
)
from leancurve.numbers.arrays import Floats, runs
from leancurve.operations.base import (
    Input,
    Inputs,
    Operation,
    Patch,
    Progress,
    Scope,
    number,
    silent,
)
from leancurve.operations.lengths import WithLengths

Way: TypeAlias = Literal[
    "in place", "as captured", "straight", "at a speed", "by the feet", "evenly turned"
]
Number = TypeVar("Number", np.float64, np.complex128)
AXES = "xyz"
TOLD: Mapping[str, str] = {
    "in place": "Keep in place",
    "as captured": "Travel as captured",
    "straight": "Travel straight",
    "at a speed": "Travel at a speed",
    "by the feet": "Travel by the feet",
    "evenly turned": "Turn evenly",
}


class TravelParams(WithLengths):
    way: Way = Field(
        "in place",
        description="how it goes over the floor: not at all, as in the take, straight from where "
        "the frames begin to where they end, at a speed, as its held feet imply, or as it does "
        "but turned by so much in all",
    )
    axes: tuple[Literal["x", "y", "z", "heading"], ...] = Field(
        (), description="what is led: along axes of the floor, and the heading; empty: all of it"
    )
    facing: Facing = Field("hips", description="what says where it faces: hips, chest, or its path")
    smooth: float = number(0.0, "s", "what sways faster than this stays in the hips", ge=0, le=10)
    ease: int = number(
        12, "frames", "over how many frames it comes in and goes out within a clip", ge=0, le=10000
    )
    stands: Literal["in the curves", "in the placement"] = Field(
        "in the curves",
        description="what holds where it begins and which way it faces there: the curves, or the "
        "placement, over curves that begin in the middle of the floor",
        json_schema_extra={"when": {"way": ["in place"]}},
    )
    speed: float = Field(
        1400.0,
        ge=0,
        le=100_000,
        description="how fast it goes",
        json_schema_extra={"unit": "mm/s", "length": True, "when": {"way": ["at a speed"]}},
    )
    aside: float = number(
        0.0, "degrees", "where it goes: 0 is ahead, 90 to its left", {"way": ["at a speed"]},
        ge=-180, le=180,
    )  # fmt: skip
    turn: float = number(
        0.0, "degrees", "how far it turns over the frames in all", {"way": ["evenly turned"]},
        ge=-36000, le=36000,
    )  # fmt: skip


class SetTravel(Operation[TravelParams]):
    """Keep the figure in place, or lead it over the floor otherwise: along some axes or all, for
    the clip or for spans of it.

    Before a span nothing changes; after it the same motion goes on from where the span ended. All
    that is in the scene is carried along, so hands keep what they hold; plants in the world are
    held by a prop, the ground, that moves under the figure.
    """

    name = "travel"
    title = "Travel"
    step = "shape"
    part = "loops"
    ranged = True
    scoped = False
    over_all = True
    inputs: ClassVar[Mapping[str, Input]] = {
        "take": Input("take", "the take is not at hand", optional=True)
    }
    Params: ClassVar[type[TravelParams]] = TravelParams

    def needs(self, params: TravelParams) -> frozenset[str]:
        return frozenset({"take"} if params.way == "as captured" else ())

    def apply_with(
        self,
        clip: Clip,
        inputs: Inputs,
        scope: Scope,
        params: TravelParams,
        progress: Progress = silent,
    ) -> Patch:
        spans = [(a, b) for a, b in runs(scope.mask(clip)) if b > a]
        if not spans:
            return Patch(report=_report(clip, np.zeros(0, np.complex128), np.zeros(0), 1.0))
        up = UP[clip.reading.up_axis]
        own = travel_of(clip, params.facing, params.smooth)
        take = inputs.get("take") if params.way == "as captured" else None
        wanted = _Wanted(clip, own, params, spans)
        progress(0.3)
        if take is not None:
            assert isinstance(take, Clip)
            wanted.given = travel_of(take, params.facing, params.smooth)
        led = wanted.led()
        by = _held(leading(own, led, up), spans, clip.frames)
        progress(0.6)
        made = carried(clip, by)
        curves, placement = made.curves, None
        if params.stands == "in the placement" and params.way == "in place":
            seen = replace(clip.with_curves(curves), props=made.props, plants=made.plants)
            placement = _start(seen)
            there = under_placement(seen, placement).curves
            curves = curves | {t: c for t, c in there.items() if c is not seen.curves[t]}
        return Patch(
            curves=curves,
            placement=placement,
            props=made.props if made.props != clip.props else None,
            plants=made.plants if made.plants != clip.plants else None,
            report=_report(clip, led.path - own.path, led.angle - own.angle, wanted.held),
        )

    def told(self, params: Mapping[str, Any]) -> str:
        return TOLD[params.get("way", "in place")]

    def counted_as(self, params: Mapping[str, Any]) -> Kind:
        return "place"


def _start(clip: Clip) -> Placement:
    """Where a clip begins as it is seen, and which way it faces there."""
    lead, up = leading_root(clip), UP[clip.reading.up_axis]
    pose = placed_pose(clip, np.zeros(1), [lead])
    rest = clip.skeleton.rest_world[0][lead]
    stands = RootMotion.of(pose.rotation[:, 0], pose.translation[:, 0], up, rest)
    turn = float(np.degrees(2.0 * np.arctan2(stands.heading[0, up], stands.heading[0, 3])))
    return Placement(point_of(stands.path[0]), turn)


def _report(clip: Clip, moved: Places, turned: Floats, held: float) -> dict[str, Any]:
    return {
        "most_moved_mm": float(np.abs(moved).max(initial=0.0)) * clip.millimetres,
        "most_turned_deg": float(np.degrees(np.abs(turned).max(initial=0.0))),
        "feet_held_percent": round(100.0 * held, 1),
    }


@dataclass
class _Wanted:
    """How a figure shall go over the floor."""

    clip: Clip
    own: Travel
    params: TravelParams
    spans: list[tuple[int, int]]
    given: Travel | None = None
    held: float = 1.0

    def led(self) -> Travel:
        """Where it is on each frame: the steps that it makes, added up."""
        own = self.own
        share = self._share()
        over_first, over_second, turns = self._axes()
        # What is not led stays to the bit: only what differs is added up.
        turned = turns * share * (self._turns() - np.diff(own.angle))
        angle = own.angle + _added_up(turned)
        goes = np.diff(own.path)
        kept = goes * np.exp(1j * (angle - own.angle)[:-1])
        off = self._moves(angle, kept) - kept
        moved = kept - goes + share * (over_first * off.real + 1j * over_second * off.imag)
        path = own.path + _added_up(moved)
        return Travel(path, angle)

    def _axes(self) -> tuple[bool, bool, bool]:
        """What is led: along the floor's two axes, and the heading."""
        up = UP[self.clip.reading.up_axis]
        axes = set(self.params.axes)
        level = [AXES[(up + 1) % 3], AXES[(up + 2) % 3]]
        if AXES[up] in axes:
            floor = " and ".join(sorted(level))
            raise BadInput(f"axes: {AXES[up]} is up: along the floor there are {floor}")
        if not axes:
            return True, True, self.params.way not in ("at a speed", "by the feet")
        return level[0] in axes, level[1] in axes, "heading" in axes

    def _share(self) -> Floats:
        """How far each step ``(F - 1,)`` is led."""
        out = np.zeros(max(self.clip.frames - 1, 0))
        easing = EASINGS["ease-in-out"]
        for first, last in self.spans:
            at = np.arange(first, last) + 0.5
            ease = max(1e-9, min(self.params.ease, (last - first) / 2))
            weight = np.ones(len(at))
            if first > 0:
                weight = weight * easing.at(np.clip((at - first) / ease, 0.0, 1.0))
            if last < self.clip.frames - 1:
                weight = weight * easing.at(np.clip((last - at) / ease, 0.0, 1.0))
            out[first:last] = weight
        return out

    def _turns(self) -> Floats:
        """By how much it shall turn from each frame to the next ``(F - 1,)``, radians."""
        angle, way = self.own.angle, self.params.way
        out = np.diff(angle)
        if way == "as captured":
            assert self.given is not None
            return np.diff(self.given.angle)
        for first, last in self.spans:
            if way in ("in place", "straight"):
                # Straight ahead: as it faces where the frames begin.
                out[first:last] = 0.0
            elif way == "evenly turned":
                off = np.radians(self.params.turn) - (angle[last] - angle[first])
                out[first:last] += off / (last - first)
        return out

    def _moves(self, angle: Floats, kept: Places) -> Places:
        """How it shall go from each frame to the next ``(F - 1,)``, facing ``angle (F,)``; as it
        goes by itself, so turned, it is ``kept (F - 1,)``."""
        way, params, own = self.params.way, self.params, self.own
        if way == "as captured":
            assert self.given is not None
            theirs = np.diff(self.given.path)
            return np.asarray(theirs * np.exp(1j * (angle - self.given.angle)[:-1]))
        if way == "by the feet":
            moved, self.held = moved_by_feet(self.clip, angle - own.angle)
            return moved
        out = kept.copy()
        for first, last in self.spans:
            steps = slice(first, last)
            if way == "in place":
                out[steps] = 0.0
            elif way == "straight":
                whole = own.path[last] - own.path[first]
                out[steps] = whole * np.exp(1j * (angle - own.angle)[first]) / (last - first)
            elif way == "at a speed":
                faced = flat(ahead(self.clip), UP[self.clip.reading.up_axis])
                aim = faced * np.exp(1j * (angle[steps] + np.radians(params.aside)))
                out[steps] = aim * params.speed / float(self.clip.rate)
        return out


def _added_up(steps: NDArray[Number]) -> NDArray[Number]:
    """Where steps ``(F - 1,)`` lead, from 0 on ``(F,)``."""
    return np.concatenate([np.zeros(1, steps.dtype), np.cumsum(steps)])


def _held(by: RootMotion, spans: list[tuple[int, int]], frames: int) -> RootMotion:
    """A motion that is none before the spans and stays as it is between and after them, to the
    bit."""
    at = np.arange(frames)
    path, heading = by.path.copy(), by.heading.copy()
    path[: spans[0][0] + 1], heading[: spans[0][0] + 1] = 0.0, (0.0, 0.0, 0.0, 1.0)
    for (_, last), after in zip(spans, [*(a for a, _ in spans[1:]), frames - 1], strict=True):
        stays = (at > last) & (at <= after)
        path[stays], heading[stays] = path[last], heading[last]
    return RootMotion(path, heading)
