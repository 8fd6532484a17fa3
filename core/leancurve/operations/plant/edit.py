"""Plants made, moved, changed and taken out by hand."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any, ClassVar, Literal

from pydantic import Field

from leancurve.cleaning.contacts import contacts_of
from leancurve.document.clip import Clip
from leancurve.document.plant import Ease, Plant, Point
from leancurve.document.planting.parts import limb_of
from leancurve.errors import BadInput
from leancurve.numbers.spans import meet, most_shared
from leancurve.operations.base import (
    Operation,
    Params,
    Patch,
    Progress,
    Scope,
    counted,
    number,
    silent,
    timed,
)
from leancurve.operations.lengths import WithLengths, length, of_own_unit
from leancurve.operations.plant.figures import plant_figures
from leancurve.operations.plant.places import (
    EASE_S,
    Rule,
    Stood,
    on_floor,
    on_top,
    place_of,
    standing,
    turn_of,
)


class PlantEdit(Params):
    """One plant by hand. ``set`` and ``remove`` mean the plant of that part that overlaps ``first``
    to ``last`` most; what is not given stays. A new plant's place is chosen by ``rule`` where none
    is given, and a changed one's where a rule is."""

    do: Literal["add", "set", "remove"]
    part: str = Field(min_length=1, max_length=200)
    first: int = timed(time="begins", ge=0)
    last: int = timed(time="ends", ge=0)
    new_first: int | None = timed(None, time="begins", description="where it begins now", ge=0)
    new_last: int | None = timed(None, time="ends", description="where it ends now", ge=0)
    rule: Rule | None = Field(None, description="what of the stand says where it is")
    place: Point | None = length(None, "where it is")
    move: Point | None = length(None, "how far its place is moved")
    hold_turn: bool | None = Field(None, description="hold how it is turned as well")
    with_joint: str | None = Field(None, description="the joint it is held with", max_length=200)
    with_prop: str | None = Field(None, description="the prop it is held with", max_length=200)
    on_floor: bool = Field(False, description="put it at the height at which it rests")
    stand_on: str = Field("", description="the prop on whose top it is put", max_length=200)
    ease_in: int | None = number(None, "frames", "how long it comes", ge=0, le=100000)
    ease_out: int | None = number(None, "frames", "how long it goes", ge=0, le=100000)
    ease: Ease | None = None
    strength: float | None = number(None, "share", "how much it holds", ge=0, le=1)
    hips: float | None = number(None, "share", "how much hips go down for it", ge=0, le=1)
    muted: bool | None = None


class EditPlantsParams(WithLengths):
    edits: tuple[PlantEdit, ...] = Field(min_length=1)


class EditPlants(Operation[EditPlantsParams]):
    """Plants by hand: ``{"do": "add", "part": "left hand", "first": 40, "last": 90}`` holds a hand
    where it is. A part is held once at a time: two plants of one part that overlap are refused.
    """

    name = "edit_plants"
    title = "Edit plants"
    step = "plant"
    version = 2
    scoped = False
    Params: ClassVar[type[EditPlantsParams]] = EditPlantsParams

    def apply(
        self, clip: Clip, scope: Scope, params: EditPlantsParams, progress: Progress = silent
    ) -> Patch:
        plants = list(clip.plants)
        unplaced: list[dict[str, Any]] = []
        stood: Stood | None = None
        for edit in params.edits:
            if edit.last < edit.first:
                raise BadInput(f"{edit.part}: the last frame {edit.last} is before {edit.first}")
            found = None if edit.do == "add" else _nearest(plants, edit)
            if edit.do != "add" and found is None:
                unplaced.append({"part": edit.part, "first": edit.first, "last": edit.last})
                continue
            if found is not None:
                plants.remove(found)
            if edit.do == "remove":
                continue
            if found is None or _asks_motion(edit):
                stood = stood or standing(clip)
            _put(plants, _changed(clip, stood, found, edit))
        after = tuple(sorted(plants))
        # What was planted is planned: contacts stay what they were when feet no longer say so.
        contacts = contacts_of(clip) if after else clip.contacts
        report: dict[str, Any] = {
            "edits": len(params.edits),
            **plant_figures(replace(clip, plants=after, contacts=contacts)),
        }
        if unplaced:
            report["unplaced"] = unplaced
        return Patch(plants=after, contacts=contacts, report=report)

    def upgraded(self, version: int, params: Mapping[str, Any]) -> dict[str, Any]:
        """Lengths were in the skeleton's own unit once."""
        return of_own_unit(params) if version < 2 else dict(params)

    def told(self, params: Any) -> str:
        edits = params["edits"]
        if len(edits) == 1:
            verb = {"add": "Plant", "set": "Change the plant of", "remove": "Free"}[edits[0]["do"]]
            return f"{verb} {edits[0]['part']}"
        return f"Edit {counted(len(edits), 'plant')}"


def _asks_motion(edit: PlantEdit) -> bool:
    return (
        edit.rule is not None
        or edit.on_floor
        or bool(edit.stand_on)
        or bool(edit.hold_turn)
        or edit.with_joint is not None
        or edit.with_prop is not None
    )


def _changed(clip: Clip, stood: Stood | None, was: Plant | None, edit: PlantEdit) -> Plant:
    """A plant as an edit makes it."""
    limb_of(clip, edit.part)
    end = max(clip.frames - 1, 0)
    first = edit.first if was is None else was.first
    last = edit.last if was is None else was.last
    first = min(first if edit.new_first is None else edit.new_first, end)
    last = min(last if edit.new_last is None else edit.new_last, end)
    if last < first:
        raise BadInput(f"{edit.part}: the last frame {last} is before {first}")
    if was is None:
        ease = round(EASE_S * float(clip.rate))
        was = Plant(
            edit.part, first, last, (0.0, 0.0, 0.0),
            ease_in=ease if first > 0 else 0, ease_out=ease if last < end else 0,
        )  # fmt: skip
        fresh = True
    else:
        fresh = False
    joint = was.with_joint if edit.with_joint is None else edit.with_joint
    prop = was.with_prop if edit.with_prop is None else edit.with_prop
    if edit.with_joint:
        prop = ""
    elif edit.with_prop:
        joint = ""
    carried = (joint, prop)
    if joint and joint not in clip.skeleton.names:
        raise BadInput(f"{edit.part}: no joint is named {joint!r}")
    if prop and clip.prop_at(prop) is None:
        raise BadInput(f"{edit.part}: no prop is named {prop!r}")
    elsewhere = carried != (was.with_joint, was.with_prop)
    place, turn = was.place, was.turn
    if stood is not None and (fresh or edit.rule or elsewhere):
        place = place_of(stood, edit.part, first, last, edit.rule or "stance", *carried)
    if edit.place is not None:
        place = edit.place
    if edit.move is not None:
        place = tuple(a + b for a, b in zip(place, edit.move, strict=True))  # type: ignore[assignment]
    if edit.on_floor and not any(carried) and stood is not None:
        place = on_floor(stood, edit.part, place)
    if edit.stand_on and stood is not None:
        if clip.prop_at(edit.stand_on) is None:
            raise BadInput(f"{edit.part}: no prop is named {edit.stand_on!r}")
        if any(carried):
            raise BadInput(
                f"{edit.part}: it is held with {joint or prop}: hold it in the world first"
            )
        place = on_top(stood, edit.part, place, edit.stand_on, (first + last) // 2)
    if edit.hold_turn is False:
        turn = None
    elif stood is not None and (edit.hold_turn or (turn is not None and elsewhere)):
        turn = turn_of(stood, edit.part, first, last, *carried)
    given = {
        name: value
        for name in ("ease_in", "ease_out", "ease", "strength", "hips", "muted")
        if (value := getattr(edit, name)) is not None
    }
    return replace(
        was,
        first=first,
        last=last,
        place=place,
        turn=turn,
        with_joint=joint,
        with_prop=prop,
        **given,
    )


def _put(plants: list[Plant], new: Plant) -> None:
    met = [p for p in plants if p.part == new.part and meet(p, new)]
    if met:
        raise BadInput(
            f"{new.part} is planted already from {met[0].first} to {met[0].last}: "
            "a part has one plant at a time"
        )
    plants.append(new)


def _nearest(plants: list[Plant], edit: PlantEdit) -> Plant | None:
    """The part's plant that overlaps an edit's most, None if none does."""
    return most_shared((p for p in plants if p.part == edit.part), edit)
