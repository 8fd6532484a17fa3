"""Props by hand: things made, placed, keyed, led by the hands that hold them, and taken out."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import Field

from leancurve.curves.curve import Curve, KeyedCurve, SampledCurve, keyed
from leancurve.curves.insertion import insert_key
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.document.placement import placed_props, unplaced_prop
from leancurve.document.prop import CHANNELS, ORDER, Prop, Shape, prop_track
from leancurve.document.rotations import angles_afresh
from leancurve.document.track import TrackId
from leancurve.errors import BadInput
from leancurve.figure.skeleton import UP, Skeleton
from leancurve.joining.beside import Stand, pose_beside
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats
from leancurve.operations.base import (
    Input,
    Inputs,
    Operation,
    Params,
    Patch,
    Progress,
    Scope,
    clips_of,
    counted,
    number,
    silent,
    timed,
)
from leancurve.operations.lengths import WithLengths, length, of_own_unit
from leancurve.operations.thin.tracks import thinned_tracks

Three = tuple[float, float, float]


class PropEdit(Params):
    """One change of a prop. ``add`` makes one, ``set`` changes its name, shape or size, ``key``
    sets keys on its channels at a frame, ``follow`` leads it by a joint or by the middle of two on
    every frame, ``hand_over`` does so from a frame on, as it lies in the hand there, ``thin`` makes
    few keys of such a motion, ``remove`` takes it out. The joints may be those of another clip that
    is laid in this one's scene: a partner's hand that is held, or met half way."""

    do: Literal["add", "set", "key", "follow", "hand_over", "thin", "remove"]
    name: str = Field(min_length=1, max_length=60)
    new_name: str | None = Field(None, min_length=1, max_length=60)
    shape: Shape | None = None
    size: Three | None = Field(None, description="millimetres along its own axes")
    frame: int | None = timed(
        None, time="frame", description="where keys are set, or it is handed over", ge=0
    )
    place: Three | None = length(None, "where its middle is")
    turn: Three | None = Field(None, description="how it is turned: Z, X, Y in degrees, intrinsic")
    joints: tuple[str, ...] = Field((), description="one or two joints that lead it", max_length=2)
    other: int | None = Field(
        None, ge=0, description="which of the other clips given leads it; this one where absent"
    )
    later: int = number(0, "frames", "how much later the other clip plays here", time="length")
    moved: Three = length(
        (0.0, 0.0, 0.0), "how far the other clip is moved here, before the clip's placement"
    )
    turned: float = number(0.0, "degrees", "how far it is turned about the up axis before")
    half: str | None = Field(
        None, max_length=255,
        description="a joint of this clip, before its plants: half way to it from the other's",
    )  # fmt: skip
    within_mm: float = Field(1.0, gt=0, description="of thinning: how far a move may lie off")
    within_deg: float = Field(0.25, gt=0, description="of thinning: how far a turn may lie off")


class EditPropsParams(WithLengths):
    edits: tuple[PropEdit, ...] = Field(min_length=1)


class EditProps(Operation[EditPropsParams]):
    """Props by hand: ``{"do": "add", "name": "crate", "shape": "box", "size": [400, 300, 300],
    "joints": ["LeftHand", "RightHand"]}`` makes a crate between two hands that moves with them.
    """

    name = "edit_props"
    title = "Edit props"
    step = "plant"
    part = "props"
    version = 2
    scoped = False
    inputs: ClassVar[Mapping[str, Input]] = {
        "others": Input("clip", "choose the clip whose joints lead it", optional=True)
    }
    Params: ClassVar[type[EditPropsParams]] = EditPropsParams

    def needs(self, params: EditPropsParams) -> frozenset[str]:
        led = any(edit.other is not None for edit in params.edits)
        return frozenset({"others"} if led else ())

    def apply_with(
        self,
        clip: Clip,
        inputs: Inputs,
        scope: Scope,
        params: EditPropsParams,
        progress: Progress = silent,
    ) -> Patch:
        others = clips_of(inputs.get("others"))
        props = {p.name: p for p in clip.props}
        plants = list(clip.plants)
        curves: dict[TrackId, Curve] = {}
        unplaced: list[dict[str, Any]] = []
        for edit in params.edits:
            if edit.do == "add":
                if edit.name in props:
                    raise BadInput(f"a prop is named {edit.name!r} already")
                fresh = max((p.id for p in (*clip.props, *props.values())), default=-1) + 1
                props[edit.name] = _shaped(clip, Prop(fresh, edit.name), edit)
                curves |= _still(clip, props[edit.name], edit)
            elif edit.name not in props:
                unplaced.append({"name": edit.name, "frame": edit.frame or 0})
                continue
            prop = props[edit.name]
            if edit.do == "remove":
                del props[edit.name]
                # What was held with it would come to life with the next prop of that name.
                plants = [p for p in plants if p.with_prop != edit.name]
                curves = {t: c for t, c in curves.items() if t.joint != prop.id}
                continue
            if edit.do == "set":
                del props[edit.name]
                new = _shaped(clip, prop, edit)
                if new.name in props:
                    raise BadInput(f"a prop is named {new.name!r} already")
                props[new.name] = new
                plants = [
                    replace(p, with_prop=new.name) if p.with_prop == prop.name else p
                    for p in plants
                ]
            if edit.do == "hand_over":
                curves |= _handed_over(clip, prop, edit, others, curves)
            elif edit.joints:
                led = _led(clip, prop, edit, others)
                curves |= _on_curves(prop, *unplaced_prop(clip, *led))
            elif edit.do == "key":
                curves |= _keyed(clip, prop, edit, curves)
            elif edit.do == "thin":
                curves |= thinned_tracks(clip, prop.tracks, edit.within_deg, edit.within_mm, curves)
        ordered = tuple(sorted(props.values()))
        report: dict[str, Any] = {"edits": len(params.edits), "props": len(ordered)}
        if unplaced:
            report["unplaced"] = unplaced
        if len(plants) < len(clip.plants):
            report["plants_gone"] = len(clip.plants) - len(plants)
        held = tuple(sorted(plants))
        return Patch(
            curves=curves,
            props=ordered,
            plants=held if held != clip.plants else None,
            report=report,
        )

    def upgraded(self, version: int, params: Mapping[str, Any]) -> dict[str, Any]:
        """Lengths were in the skeleton's own unit once."""
        return of_own_unit(params) if version < 2 else dict(params)

    def told(self, params: Any) -> str:
        edits = params["edits"]
        if len(edits) > 1:
            return f"Edit {counted(len(edits), 'prop')}"
        verbs = {
            "add": "Make", "set": "Change", "key": "Key", "follow": "Lead", "thin": "Thin",
            "hand_over": "Hand over",
        }  # fmt: skip
        return f"{verbs.get(edits[0]['do'], 'Delete')} {edits[0]['name']}"


def _shaped(clip: Clip, prop: Prop, edit: PropEdit) -> Prop:
    size = prop.size
    if edit.size is not None:
        size = (
            edit.size[0] / clip.millimetres,
            edit.size[1] / clip.millimetres,
            edit.size[2] / clip.millimetres,
        )
    elif edit.do == "add":
        size = (300 / clip.millimetres, 300 / clip.millimetres, 300 / clip.millimetres)
    return replace(prop, name=edit.new_name or edit.name, shape=edit.shape or prop.shape, size=size)


def _still(clip: Clip, prop: Prop, edit: PropEdit) -> dict[TrackId, Curve]:
    """A prop that stands where it is made: a key a channel."""
    values = (*(edit.place or (0.0, 0.0, 0.0)), *(edit.turn or (0.0, 0.0, 0.0)))
    at = float(edit.frame or 0)
    return {
        prop_track(prop.id, name): keyed([at], [float(v)])
        for name, v in zip(CHANNELS, values, strict=True)
    }


def _leader(
    clip: Clip, prop: Prop, edit: PropEdit, others: Sequence[Clip]
) -> tuple[Skeleton, Floats, Floats]:
    """The skeleton whose joints lead a prop, how they are turned and where they are on the clip's
    frames: the clip's own, or that of another clip as it is laid in the clip's scene."""
    if edit.other is None:
        return clip.skeleton, *evaluate(clip).world(clip.skeleton)
    if edit.other >= len(others):
        raise BadInput(f"{prop.name}: there are {len(others)} other clips, and none {edit.other}")
    other = others[edit.other]
    stand = Stand(edit.later, edit.moved, edit.turned).placed(clip)
    return other.skeleton, *pose_beside(clip, other, stand).world(other.skeleton)


def _led(clip: Clip, prop: Prop, edit: PropEdit, others: Sequence[Clip]) -> tuple[Floats, Floats]:
    """How a prop is turned ``(F, 4)`` and where it is ``(F, 3)`` in the world on each frame, led by
    one joint, or by the middle of two and the line between them; or half way to a joint of the
    clip's own, and turned as that is."""
    skeleton, turns, points = _leader(clip, prop, edit, others)
    at = [_joint(skeleton, prop, joint) for joint in edit.joints]
    if len(at) == 1:
        turn, place = turns[:, at[0]], points[:, at[0]]
    else:
        place = 0.5 * (points[:, at[0]] + points[:, at[1]])
        up = np.eye(3)[UP[clip.reading.up_axis]]
        turn = _along(points[:, at[0]] - points[:, at[1]], turns[:, at[0]], turns[:, at[1]], up)
    if edit.half is None:
        return turn, place
    own = _joint(clip.skeleton, prop, edit.half)
    turns, points = evaluate(clip.unplanted).world(clip.skeleton)
    return turns[:, own], 0.5 * (place + points[:, own])


def _joint(skeleton: Skeleton, prop: Prop, name: str) -> int:
    if name not in skeleton.names:
        raise BadInput(f"{prop.name}: no joint is named {name!r}")
    return skeleton.index(name)


def _handed_over(
    clip: Clip,
    prop: Prop,
    edit: PropEdit,
    others: Sequence[Clip],
    made: Mapping[TrackId, Curve],
) -> dict[TrackId, Curve]:
    """A prop that goes with another holder from a frame on, as it lies to it there."""
    if not edit.joints or edit.frame is None:
        raise BadInput(f"{prop.name}: expected the joints that it is handed over to, and a frame")
    if edit.frame > max(clip.frames - 1, 0):
        raise BadInput(f"{prop.name}: expected a frame within 0 to {clip.frames - 1}")
    stands = replace(clip, props=(prop,), curves={**clip.curves, **made})
    turns, places = (values[:, 0].copy() for values in placed_props(stands))
    led, where = _led(clip, prop, edit, others)
    at = edit.frame
    on = rotation.multiply(led[at:], rotation.conjugate(led[at]))
    places[at:] = where[at:] + rotation.rotate(on, places[at] - where[at])
    turns[at:] = rotation.multiply(on, turns[at])
    return _on_curves(prop, *unplaced_prop(clip, turns, places))


def _on_curves(prop: Prop, turns: Floats, places: Floats) -> dict[TrackId, Curve]:
    columns = np.concatenate([places, angles_afresh(turns, ORDER)], axis=1)
    return {
        prop_track(prop.id, name): SampledCurve(np.ascontiguousarray(columns[:, k]))
        for k, name in enumerate(CHANNELS)
    }


def _along(line: Floats, one: Floats, other: Floats, up_axis: Floats) -> Floats:
    """Rotations ``(F, 4)`` whose X lies along a line; Y is up on the first frame and goes on as two
    joints turn."""
    across = line / np.maximum(np.linalg.norm(line, axis=1, keepdims=True), 1e-12)
    up = np.zeros_like(line)
    for q in (one, other):
        own = rotation.rotate(rotation.conjugate(q[0]), up_axis)
        up += rotation.rotate(q, np.broadcast_to(own, line.shape))
    up = up - np.sum(up * across, axis=1, keepdims=True) * across
    size = np.linalg.norm(up, axis=1, keepdims=True)
    # Where both cancel out any direction across will do.
    spare = np.cross(across, np.eye(3)[np.argmin(np.abs(across), axis=1)])
    up = np.where(size > 1e-6, up / np.maximum(size, 1e-12), spare)
    up = up / np.linalg.norm(up, axis=1, keepdims=True)
    return rotation.from_frame(across, up, np.cross(across, up))


def _keyed(
    clip: Clip, prop: Prop, edit: PropEdit, made: Mapping[TrackId, Curve]
) -> dict[TrackId, Curve]:
    """Keys on a prop's channels at a frame, at given values or at what stands there."""
    frame = edit.frame or 0
    if frame > max(clip.frames - 1, 0):
        raise BadInput(f"{prop.name}: expected a frame within 0 to {clip.frames - 1}")
    wanted = (*(edit.place or (None,) * 3), *(edit.turn or (None,) * 3))
    out: dict[TrackId, Curve] = {}
    for name, value in zip(CHANNELS, wanted, strict=True):
        track = prop_track(prop.id, name)
        curve = made.get(track, clip.curves.get(track))
        if not isinstance(curve, KeyedCurve):
            if value is None or curve is None:
                continue
            # On a dense channel the whole motion is moved: nothing jumps.
            assert isinstance(curve, SampledCurve)
            out[track] = SampledCurve(curve.values + (value - curve.values[frame]))
            continue
        if np.all(curve.time != frame):
            curve = insert_key(curve, float(frame), (0.0, max(clip.frames - 1.0, 0.0)))
        if value is not None:
            values = np.where(np.abs(curve.time - frame) < 1e-9, value, curve.value)
            curve = curve.edited(value=values)
        out[track] = curve
    return out


def steadiness(clip: Clip, prop: Prop) -> dict[str, float]:
    """How steady a prop's motion is: the RMS of its second differences, mm and degrees a frame²."""
    at = [p.id for p in clip.props].index(prop.id)
    turns, points = placed_props(clip)
    shake = np.diff(points[:, at], 2, axis=0) * clip.millimetres
    step = rotation.log(rotation.multiply(rotation.conjugate(turns[:-1, at]), turns[1:, at]))
    turning = np.diff(step, axis=0)

    def rms(x: Floats) -> float:
        return float(np.sqrt(np.mean(np.sum(x**2, axis=1)))) if len(x) else 0.0

    return {"shake_mm": round(rms(shake), 4), "shake_deg": round(rms(turning), 4)}
