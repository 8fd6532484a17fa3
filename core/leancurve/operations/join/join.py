"""Join: other clips after this one, each blended in where it fits."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from math import ceil
from typing import Any, ClassVar

import numpy as np
from pydantic import Field

from leancurve.cleaning.contacts import contacts_of
from leancurve.curves.easing import EasingName
from leancurve.document.clip import Clip
from leancurve.document.limits import require_room
from leancurve.document.moves import Move, point_of, turn_of
from leancurve.document.plant import Point
from leancurve.errors import BadInput
from leancurve.figure.feet import limbs_of
from leancurve.figure.skeleton import UP
from leancurve.joining.blending import BLEND_S, Blend, Joined, joined
from leancurve.joining.seams import Seam, best_seams, laid_by, seam_at
from leancurve.measures.findings.base import Motion
from leancurve.measures.findings.floor import inner_frames, largest_slide_mm
from leancurve.numbers import rotation
from leancurve.operations.base import (
    ClipTime,
    Input,
    Inputs,
    Operation,
    Params,
    Patch,
    Progress,
    Scope,
    apply_patch,
    clips_of,
    number,
    patch_to,
    silent,
)
from leancurve.operations.calm.change_rate import ChangeRate
from leancurve.operations.identity import drawn
from leancurve.operations.join.in_step import InStep, in_step
from leancurve.operations.lengths import WithLengths, length
from leancurve.operations.plant.plant import PlantParams, planted_feet
from leancurve.operations.shape.mirror import MirrorSides
from leancurve.operations.shape.retime import ScaleSpan
from leancurve.operations.shape.reverse import Reverse
from leancurve.progress import part_of
from leancurve.retarget.retargeting import Wishes, retargeted

OWN = "of its frames"
MOST_LOOKED_AT = 7_000
"""Frames before an end, and after a beginning, among which a seam is looked for."""


class PartParams(Params):
    """A clip that comes after what is there: where it is come to and left, how it is played, how it
    blends, and where it is laid."""

    name: str = Field("", max_length=255, description="what it is called")
    enter: int | None = number(
        None, OWN, "its frame, as it is played, that comes to the seam; the best where absent",
        time="length", ge=0,
    )  # fmt: skip
    leave: int | None = number(
        None, OWN, "its frame, as it is played, at which the next one comes; the best where absent",
        time="length", ge=0,
    )  # fmt: skip
    before: int | None = number(
        None, "frames", "how long before the seam it comes in; 0.3 s where absent", ge=0, le=10_000
    )
    past: int | None = number(
        None, "frames", "how long after the seam it comes in; 0.3 s where absent", ge=0, le=10_000
    )
    ease_before: EasingName = Field("ease-in-out", description="how it comes in before the seam")
    ease_past: EasingName = Field("ease-in-out", description="how it comes in after the seam")
    arms_later: int = number(
        0, "frames", "how much later than the rest its arms come in", ge=-10_000, le=10_000
    )
    head_later: int = number(
        0, "frames", "how much later than the rest its head comes in", ge=-10_000, le=10_000
    )
    match_steps: bool = Field(
        False, description="let steps fall together within the blend: for long ones"
    )
    longer: int = number(
        0, "frames", "by how many frames that makes it longer: found out", time="length"
    )
    speed: float = number(1.0, "times", "how fast it is played", ge=0.1, le=10)
    reversed: bool = Field(False, description="played backwards")
    mirrored: bool = Field(False, description="its left and its right exchanged")
    move: Point | None = length(
        None, "how far it is moved from where it was, along X, Y, Z; as it fits where absent"
    )
    turn: float | None = number(
        None, "degrees", "how far it is turned about the up axis before; as it fits where absent",
        ge=-36000, le=36000,
    )  # fmt: skip
    laid_by: str = Field(
        "", max_length=255,
        description="a joint that stands at the seam where it stood before it, as one of a foot "
        "that is held; the body as a whole where absent",
    )  # fmt: skip
    count: int | None = number(
        None, OWN, "how many frames it has as it is played: found out", time="length", ge=1
    )


class JoinParams(WithLengths):
    leave: int | None = number(
        None, "frame", "the frame at which the first one comes; the best where absent",
        time="hint", ge=0,
    )  # fmt: skip
    parts: tuple[PartParams, ...] = Field(
        (), max_length=50, description="the clips that come after this one, in their order"
    )
    plant: bool = Field(True, description="hold feet where they stand through the blends")


class Join(Operation[JoinParams]):
    """Let other clips come after this one: each is laid where it fits, and blended in.

    Keyed curves stay keyed outside of the blends; layers come along with weights that ramp at the
    seams, and so do plants, contacts, marks and props. A clip on another skeleton is retargeted to
    this one's first.
    """

    name = "join"
    title = "Join clips after this one"
    step = "join"
    scoped = False
    over_all = True
    inputs: ClassVar[Mapping[str, Input]] = {"parts": Input("clip", "choose the clips to join")}
    Params: ClassVar[type[JoinParams]] = JoinParams

    def apply_with(
        self,
        clip: Clip,
        inputs: Inputs,
        scope: Scope,
        params: JoinParams,
        progress: Progress = silent,
    ) -> Patch:
        sequence, told = _begun(clip, inputs, params)
        for k, (part, other) in enumerate(told):
            sequence.add(part, other, part_of(progress, k / len(told), 1 / len(told)))
        whole, seams = sequence.whole, sequence.seams
        _tell_slides(whole, seams)
        return replace(
            patch_to(clip, whole),
            report={
                "frames_before": clip.frames,
                "frames_after": whole.frames,
                "largest_distance_mm": max((s["distance_mm"] for s in seams), default=0.0),
                "largest_slide_mm": max((s["slide_mm"] for s in seams), default=0.0),
                "seams": seams,
            },
        )

    def as_done(self, params: Mapping[str, Any], report: Mapping[str, Any]) -> dict[str, Any]:
        """With the seams that were found, so that the same is joined in the same way."""
        seams = list(report.get("seams", ()))
        told = [dict(p) for p in params.get("parts") or [{"name": s["name"]} for s in seams]]
        for k, (part, seam) in enumerate(zip(told, seams, strict=False)):
            part |= {n: seam[n] for n in ("enter", "count", "longer")}
            if k + 1 < len(seams):
                part["leave"] = seams[k + 1]["leave"]
        return {**params, "leave": seams[0]["leave"] if seams else None, "parts": told}

    def time_after(self, time: ClipTime, params: JoinParams) -> ClipTime:
        """As far as the parameters say: seams and lengths are found out when it is done."""
        leave, frames, start = params.leave, time.frames, 0
        for part in params.parts:
            if leave is None or part.enter is None or part.count is None:
                return time
            start += leave - part.enter + part.longer
            frames, leave = start + part.count, part.leave
        first, gone = params.leave, float(frames)
        if first is None:
            return time
        return time.then(frames, lambda f: f if f <= first else gone + f)

    def told(self, params: Mapping[str, Any]) -> str:
        names = [p.get("name", "") for p in params.get("parts") or ()]
        plain = [n for n in names if n]
        if not plain:
            return "Join clips"
        more = f" and {len(plain) - 1} more" if len(plain) > 1 else ""
        return f"Join {plain[0]}{more}"


def meeting(
    clip: Clip, inputs: Inputs, params: JoinParams, at: int, progress: Progress = silent
) -> Meeting:
    """The clips on both sides of a seam of a join, the first seam being 0."""
    Join().require_inputs(inputs, params)
    sequence, told = _begun(clip, inputs, params)
    if not 0 <= at < len(told):
        raise BadInput(f"join: there is no seam {at + 1}: {len(told)} clips are joined")
    for part, other in told[:at]:
        sequence.add(part, other, progress)
    part, other = told[at]
    return Meeting(sequence.whole, sequence.start, _played(clip, other, part))


def _begun(
    clip: Clip, inputs: Inputs, params: JoinParams
) -> tuple[_Sequence, list[tuple[PartParams, Clip]]]:
    """A sequence of the first clip alone, and the others with what is told of them."""
    others = clips_of(inputs["parts"])
    told = params.parts or tuple(PartParams(name=o.name) for o in others)
    if len(told) != len(others):
        raise BadInput(f"parts: {len(told)} are told and {len(others)} given")
    longest = sum(_longest(clip, o, p) for p, o in zip(told, others, strict=True))
    require_room(len(clip.skeleton), len(clip.curves), clip.frames + longest, Join.name)
    return _Sequence(clip, clip, params.leave, params.plant), list(zip(told, others, strict=True))


@dataclass(frozen=True, eq=False)
class Meeting:
    """Two clips where they meet: what there is up to a seam, whose last part begins at ``start``,
    and the next part as it is played."""

    whole: Clip
    start: int
    played: Clip


@dataclass(eq=False)
class _Sequence:
    """What has been joined so far, and where its last part begins and is left."""

    clip: Clip
    whole: Clip
    leave: int | None
    plant: bool
    start: int = 0
    seams: list[dict[str, Any]] = field(default_factory=list)

    def add(self, part: PartParams, other: Clip, progress: Progress) -> None:
        """Let a clip come next."""
        whole, start = self.whole, self.start
        played = _played(self.clip, other, part)
        progress(0.3)
        blend = _blend(self.clip, part)
        seam = _seam(whole, played, start, self.leave, part.enter, blend)
        if part.move is not None:
            seam = _laid(self.clip, seam, part.move, part.turn or 0.0)
        elif part.laid_by:
            seam = laid_by(whole, played, seam, part.laid_by)
        step = (
            in_step(whole, played, seam, blend)
            if part.match_steps
            else InStep(whole, played, seam, blend)
        )
        ids = _ids(whole, played, len(self.seams))
        made = joined(step.a, step.b, step.seam, step.blend, ids)
        whole = _planted(made.clip, made) if self.plant else made.clip
        self.seams.append(
            {
                "name": part.name or other.name, "leave": seam.frame_a - start,
                "enter": seam.frame_b, "count": played.frames, "at": step.seam.frame_a,
                "longer": step.longer, "matched": step.matched,
                "first": made.first, "last": made.last,
                "distance_mm": round(seam.fit.distance_mm, 2),
                "turned_deg": round(seam.fit.turned_deg, 3),
                "moved_mm": [round(v, 2) for v in seam.fit.move.by], "good": seam.good,
                "unlike": list(seam.unlike),
            }
        )  # fmt: skip
        self.whole, self.start, self.leave = whole, made.shift + step.longer, part.leave
        progress(1.0)


def _longest(clip: Clip, other: Clip, part: PartParams) -> int:
    """How many frames a part has at most, as it is played."""
    return ceil(other.frames * float(clip.rate / other.rate) / part.speed)


def _played(clip: Clip, other: Clip, part: PartParams) -> Clip:
    """Another clip on this one's skeleton and frames, as it is played."""
    if other.rate != clip.rate:
        other = apply_patch(other, ChangeRate().run(other, {"rate": str(clip.rate)}))
    if other.skeleton != clip.skeleton or other.layout != clip.layout:
        other = retargeted(other, clip, Wishes()).clip
    if part.mirrored:
        other = apply_patch(other, MirrorSides().run(other))
    if part.reversed:
        other = apply_patch(other, Reverse().run(other))
    if part.speed != 1.0:
        whole = {"first": 0, "last": other.frames - 1, "factor": 1.0 / part.speed}
        other = apply_patch(other, ScaleSpan().run(other, whole))
    return other


def _blend(clip: Clip, part: PartParams) -> Blend:
    usual = round(BLEND_S * float(clip.rate))
    return Blend(
        usual if part.before is None else part.before,
        usual if part.past is None else part.past,
        part.ease_before,
        part.ease_past,
        part.arms_later,
        part.head_later,
    )


def _seam(a: Clip, b: Clip, start: int, leave: int | None, enter: int | None, blend: Blend) -> Seam:
    """Where the second clip comes: as it is told, else where both fit best, late in what is there
    since ``start`` and early in the other, so that more of both is kept."""
    at = None if leave is None else start + leave
    if at is not None and enter is not None:
        return seam_at(a, b, at, enter)
    end = a.frames - 1 - blend.after
    late = max(start + (a.frames - start) // 2, blend.before, end - MOST_LOOKED_AT), end
    early = blend.before, max(min((b.frames - 1) // 2, MOST_LOOKED_AT), blend.before)
    found = best_seams(
        a, b, late if at is None else (at, at), early if enter is None else (enter, enter), 1
    )
    if not found:
        raise BadInput("join: no frames of them are alike")
    return found[0]


def _laid(clip: Clip, seam: Seam, move: Point, turn: float) -> Seam:
    """A seam whose second clip is laid by hand."""
    turned = rotation.from_axis("XYZ"[UP[clip.reading.up_axis]], np.array(turn))
    by = np.array(move) * clip.millimetres
    fit = replace(seam.fit, turned_deg=turn, move=Move(point_of(by), turn_of(turned)))
    return replace(seam, fit=fit)


def _ids(a: Clip, b: Clip, part: int) -> dict[int, int]:
    """Ids of its own for each layer of a part, the same ones whenever it is joined."""
    taken = {x.id for x in a.layers}
    return {x.id: drawn(taken, f"{part} {x.id}".encode())() for x in b.layers}


def _planted(clip: Clip, made: Joined) -> Clip:
    """Feet held where they stand through a blend, where there are some."""
    if not any(x.is_leg for x in limbs_of(clip.skeleton, clip.body)):
        return clip
    window = Scope(frames=(made.first, made.last))
    plants, _ = planted_feet(clip, window, PlantParams())
    return replace(clip, plants=plants, contacts=contacts_of(clip))


def _tell_slides(clip: Clip, seams: Sequence[dict[str, Any]]) -> None:
    """Add to each seam the largest slide of a foot that stands within its blend, mm."""
    clip = replace(clip, contacts=contacts_of(clip))
    held = Motion(clip.unplanted).once(inner_frames)
    after = Motion(clip)
    for seam in seams:
        first, last = seam["first"], seam["last"]
        near = [(limb, f) for limb, f in held if len(f) and f[0] <= last and f[-1] >= first]
        seam["slide_mm"] = round(largest_slide_mm(after, near), 3)
