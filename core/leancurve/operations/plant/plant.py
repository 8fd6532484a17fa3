"""Feet and hands planted from their contacts."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import replace
from typing import Any, ClassVar

from pydantic import Field

from leancurve.cleaning.contacts import contacts_of
from leancurve.document.clip import Clip, Contact
from leancurve.document.plant import Ease, Plant
from leancurve.document.planting.parts import limb_of
from leancurve.errors import BadInput
from leancurve.figure.feet import limbs_of
from leancurve.numbers.spans import meet
from leancurve.operations.base import (
    Operation,
    Params,
    Patch,
    Progress,
    Scope,
    number,
    silent,
)
from leancurve.operations.plant.figures import plant_figures
from leancurve.operations.plant.places import (
    EASE_S,
    Rule,
    Stood,
    fitted_feet,
    held_span,
    on_floor,
    on_top,
    place_of,
    standing,
    turn_of,
)


class PlantParams(Params):
    parts: tuple[str, ...] = Field(
        (), description="heels, toes, feet or hands; every foot where none is named", max_length=40
    )
    place: Rule = Field("stance", description="what of the stand says where it is")
    height: float | None = number(
        None, "mm", "the floor's height for these; where each part rests when absent",
        ge=-100000, le=100000,
    )  # fmt: skip
    floor: str = Field("", description="the prop whose top they stand on", max_length=200)
    ease: float = number(EASE_S, "s", "how long a plant comes and goes", ge=0, le=5)
    curve: Ease = Field("settle", description="how it comes and goes")
    strength: float = number(1.0, "share", "how much it holds", ge=0, le=1)
    hips: float = number(
        1.0, "share", "how much hips go down where a place is out of reach", ge=0, le=1
    )
    with_joint: str = Field("", description="the joint that it is held with", max_length=200)
    with_prop: str = Field("", description="the prop that it is held with", max_length=200)
    hold_turn: bool = Field(False, description="hold how it is turned as well")


class PlantFeet(Operation[PlantParams]):
    """Plant feet where they stand: a plant for each contact, over whatever the curves say.

    Contacts are as they stand in the clip. What begins within the scope's frames is planted anew;
    other plants stay. Curves are left as they are: muting or freeing a plant brings them back.
    """

    name = "plant"
    title = "Plant the feet"
    step = "plant"
    ranged = True
    Params: ClassVar[type[PlantParams]] = PlantParams

    def apply(
        self, clip: Clip, scope: Scope, params: PlantParams, progress: Progress = silent
    ) -> Patch:
        plants, made = planted_feet(clip, scope, params)
        progress(0.6)
        after = replace(clip, plants=plants, contacts=contacts_of(clip))
        by_part = Counter(p.part for p in made)
        return Patch(
            plants=plants,
            contacts=after.contacts,
            report={"made": len(made), "by_part": dict(by_part), **plant_figures(after)},
        )

    def told(self, params: Mapping[str, Any]) -> str:
        parts = params.get("parts") or ()
        return f"Plant {', '.join(parts)}" if parts else "Plant the feet"


def planted_feet(
    clip: Clip, scope: Scope, params: PlantParams
) -> tuple[tuple[Plant, ...], list[Plant]]:
    """The clip's plants with one for each contact within the scope, and the new ones."""
    wanted = _wanted(clip, scope, params)
    inside = scope.mask(clip)
    stood = standing(clip)
    made: list[Plant] = []
    for contact in contacts_of(clip):
        span = held_span(clip, contact)
        if span is None or not inside[contact.first : contact.last + 1].any():
            continue
        for part in _points(clip, contact):
            if part in wanted:
                made.append(_made(stood, part, span, params))
    made = fitted_feet(stood, made)
    kept = [p for p in clip.plants if not any(_meets(p, m) for m in made)]
    return tuple(sorted([*kept, *made])), made


def _wanted(clip: Clip, scope: Scope, params: PlantParams) -> set[str]:
    """The parts to plant: those named, or all of the feet that the scope reaches."""
    if params.parts:
        for part in params.parts:
            limb_of(clip, part)
        return {p for part in params.parts for p in _finer(clip, part)}
    joints = {t.joint for t in scope.resolve(clip)}
    legs = [x for x in limbs_of(clip.skeleton, clip.body) if x.is_leg]
    if not legs:
        raise BadInput("plant: no legs of two bones are known here; name the parts")
    return {
        part for x in legs if {*x.joints, x.ball} & joints for part in _finer(clip, x.parts[-1])
    }


def _finer(clip: Clip, part: str) -> tuple[str, ...]:
    """A foot that rolls is planted by its heel and its toe."""
    parts = limb_of(clip, part).parts
    return parts[:2] if len(parts) > 1 and part == parts[2] else (part,)


def _points(clip: Clip, contact: Contact) -> tuple[str, ...]:
    """What a contact holds: itself, or heel and toe of a foot that it does not tell apart."""
    for limb in limbs_of(clip.skeleton, clip.body):
        if contact.limb in limb.parts:
            return _finer(clip, contact.limb)
    return ()


def _made(stood: Stood, part: str, span: tuple[int, int], params: PlantParams) -> Plant:
    clip = stood.clip
    carried = (params.with_joint, params.with_prop)
    place = place_of(stood, part, *span, params.place, *carried)
    if not any(carried) and not part.endswith("hand"):
        height = None if params.height is None else params.height / clip.millimetres
        place = (
            on_top(stood, part, place, params.floor, (span[0] + span[1]) // 2)
            if params.floor
            else on_floor(stood, part, place, height)
        )
    ease = round(params.ease * float(clip.rate))
    turn = turn_of(stood, part, *span, *carried) if params.hold_turn else None
    return Plant(
        part,
        *span,
        place,
        turn,
        *carried,
        ease if span[0] > 0 else 0,
        ease if span[1] < clip.frames - 1 else 0,
        params.curve,
        params.strength,
        params.hips,
    )


def _meets(a: Plant, b: Plant) -> bool:
    return a.part == b.part and meet(a, b)
