"""Retarget: a clip's performance on another skeleton. All that follows it in a recipe is the
target's."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import asdict, replace
from typing import Any, ClassVar, Literal

from pydantic import Field

from leancurve.cleaning.contacts import support_of
from leancurve.document.clip import Clip, Placement
from leancurve.document.parts.registry import without_figure
from leancurve.errors import BadInput
from leancurve.operations.base import (
    Input,
    Inputs,
    Operation,
    Params,
    Patch,
    Progress,
    Scope,
    apply_patch,
    number,
    silent,
)
from leancurve.operations.plant.plant import PlantFeet
from leancurve.progress import part_of
from leancurve.retarget.figures import end_errors, foot_slide, largest
from leancurve.retarget.keys import keyed_as
from leancurve.retarget.matching import ChainPair
from leancurve.retarget.retargeting import Retargeted, Wishes, retargeted
from leancurve.retarget.spaces import require_spaces

Turn = tuple[float, float, float]


class ChainParams(Params):
    """A chain of the target's and the one of the source's that it follows: first and last joint."""

    source: tuple[str, str]
    target: tuple[str, str]


class RetargetParams(Params):
    joints: dict[str, str] = Field(
        default_factory=dict,
        description="target joints with the source joint that gives them theirs; empty for none",
    )
    chains: tuple[ChainParams, ...] = Field(
        (), description="chains that are set by hand to follow others along their lengths"
    )
    rest: dict[str, Turn] = Field(
        default_factory=dict,
        description="target joints turned by hand at rest, degrees about left, up and forward",
    )
    travel: Literal["by stride", "as it was", "by a factor"] = Field(
        "by stride", description="how far the figure goes over the floor"
    )
    factor: float = number(
        1.0, "times", "the travel over the floor", {"travel": ["by a factor"]}, ge=0, le=100
    )
    feet: float = number(1.0, "share", "how far feet are brought to where they were", ge=0, le=1)
    hands: float = number(
        1.0, "share", "how far hands are brought to what they hold and touch", ge=0, le=1
    )
    thing: float = number(
        1.0, "times", "how large the target's things are to what the source held", ge=0.05, le=20
    )
    spaces: dict[str, str] = Field(
        default_factory=dict,
        description="relative to what a hand is told, where it is not as retargeted: the world, "
        "the chest, the head, the hips, or a prop by its name",
    )
    clavicles: float = number(1.0, "share", "how much collar bones turn", ge=0, le=1)
    rest_frame: int | None = Field(
        None, ge=0, description="a frame of the source to take for its rest, if its own is no pose"
    )
    keys: Literal["as the source has them", "on every frame"] = Field(
        "as the source has them",
        description="where the source is keyed, and what is retargeted is too",
    )
    tolerance_deg: float = number(
        0.5, "°", "how far keyed turns may lie off", {"keys": ["as the source has them"]},
        gt=0, le=45,
    )  # fmt: skip
    tolerance_mm: float = number(
        2.0, "mm", "how far keyed moves may lie off", {"keys": ["as the source has them"]},
        gt=0, le=1000,
    )  # fmt: skip
    plant: bool = Field(False, description="hold feet where they stand, by plants")


class Retarget(Operation[RetargetParams]):
    """Retarget the performance onto another skeleton: limbs point where they pointed, feet stand
    where they stood in proportion, hands hold what they held.

    The target is a clip, of which the skeleton, the channels and their orders, the unit and the up
    axis are taken. Where a joint of it has fewer than three rotation channels it gets three.
    """

    name = "retarget"
    title = "Retarget onto a skeleton"
    step = "retarget"
    continuous = True
    retargets = True
    inputs: ClassVar[Mapping[str, Input]] = {
        "target": Input("clip", "choose a skeleton to retarget onto")
    }
    scoped = False
    Params: ClassVar[type[RetargetParams]] = RetargetParams

    def apply_with(
        self,
        clip: Clip,
        inputs: Inputs,
        scope: Scope,
        params: RetargetParams,
        progress: Progress = silent,
    ) -> Patch:
        target = inputs["target"]
        assert isinstance(target, Clip)
        require_joints(clip, target, params.joints, params.rest)
        require_spaces(clip, params.spaces)
        done = retargeted(clip, target, wishes_of(params), part_of(progress, 0.0, 0.7))
        made = done.clip
        curves = dict(made.curves)
        keys: dict[str, int] = {}
        if params.keys == "as the source has them":
            kept = keyed_as(clip, done, params.tolerance_deg, params.tolerance_mm)
            curves |= kept.curves
            keys = {"keys_kept": kept.kept, "keys_added": kept.added}
        patch = Patch(
            curves=curves, skeleton=made.skeleton, layout=made.layout, reading=made.reading,
            contacts=made.contacts, props=made.props,
            placement=None if clip.placement is None else Placement(),
            **without_figure(),
        )  # fmt: skip
        planted: dict[str, int] = {}
        if params.plant:
            after = apply_patch(clip, patch)
            held = PlantFeet().run(after, progress=part_of(progress, 0.7, 0.3))
            made = apply_patch(after, held)
            planted = {"plants": len(made.plants)}
            patch = replace(patch, plants=made.plants)
        patch = replace(patch, report={**report_of(clip, done, made), **keys, **planted})
        progress(1.0)
        return patch

    def told(self, params: Mapping[str, Any]) -> str:
        return "Retarget onto another skeleton"


def wishes_of(params: RetargetParams) -> Wishes:
    """The parameters as the retargeting takes them."""
    travel = {"by stride": None, "as it was": 1.0, "by a factor": params.factor}[params.travel]
    return Wishes(
        params.joints, pairs_of(params.chains), params.rest, travel, params.feet, params.hands,
        params.thing, params.spaces, params.clavicles, params.rest_frame,
    )  # fmt: skip


def pairs_of(chains: Iterable[ChainParams]) -> tuple[ChainPair, ...]:
    return tuple(ChainPair(c.source, c.target) for c in chains)


def require_joints(
    source: Clip, target: Clip, joints: Mapping[str, str], rest: Mapping[str, Turn]
) -> None:
    """:class:`BadInput` where joints are named, or turned at rest, that are not there."""
    for name, giving in joints.items():
        if name not in target.skeleton.names:
            raise BadInput(f"joints: the target has no joint named {name!r}")
        if giving and giving not in source.skeleton.names:
            raise BadInput(f"joints: the clip has no joint named {giving!r}")
    for name in rest:
        if name not in target.skeleton.names:
            raise BadInput(f"rest: the target has no joint named {name!r}")


def report_of(source: Clip, done: Retargeted, made: Clip) -> dict[str, Any]:
    """What came out, in numbers: mm, and ends in shares of their limbs. ``made`` is the clip as it
    stands in the end, with its plants."""
    ends = end_errors(source, done, support_of(source).floor)
    links = done.links.links
    names = done.target.skeleton.names
    return {
        "mapped": sum(x.mapped for x in links),
        "unmapped": [names[x.target] for x in links if x.how == "follows"],
        "reordered": sum(
            made.order(x.target) != source.order(x.sources[0]) for x in links if len(x.sources) == 1
        ),
        "doubtful": [names[x.target] for x in links if x.word == "doubtful"],
        "rest_is_pose": done.source.is_pose,
        "ends": [asdict(e) for e in ends],
        "end_error": max((e.largest for e in ends), default=0.0),
        "end_error_mm": max((e.largest_mm for e in ends), default=0.0),
        "foot_slide_before_mm": foot_slide(source, source),
        "foot_slide_mm": foot_slide(source, made),
        "hips_lowered_mm": round(done.lowered_mm, 2),
        "hips_lowered_frame": done.lowered_frame,
        "missed_mm": largest(done.missed_mm),
        "touches": [
            {"hand": t.hand, "part": t.part, "first": t.first, "last": t.last} for t in done.touches
        ],
    }
