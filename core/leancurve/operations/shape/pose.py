"""Pose by pose: lean towards a neighbour, level what should be a hold, let motion flow."""

from __future__ import annotations

from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import Field

from leancurve.curves.curve import SAME_TIME, Curve, Handle, KeyedCurve
from leancurve.curves.handles import beside, settled, with_handle
from leancurve.curves.insertion import insert_key
from leancurve.document.clip import Clip
from leancurve.document.track import TrackId
from leancurve.errors import BadInput
from leancurve.measures.findings.stuck import stuck_keys
from leancurve.numbers.arrays import Bools
from leancurve.operations.base import Operation, Params, Patch, Progress, Scope, number, silent
from leancurve.operations.shaping import change_report, key_mask, keys_inside


class LeanParams(Params):
    frame: float | None = number(
        None, "frame", "the pose's frame; not needed where keys are picked", ge=0
    )
    towards: Literal["neighbours", "line", "rest"] = Field(
        "neighbours",
        description="from the pose before to the one after, towards the line between them, or "
        "towards the rest pose",
    )
    amount: float = number(
        0.5,
        "",
        "neighbours: 0 is the pose before, 1 the one after; else how much of the way. Beyond is "
        "allowed",
    )


class Lean(Operation[LeanParams]):
    """Lean the pose at now, or picked keys, from the one before (0) to the one after (1), or past.

    ``amount 0.3`` puts each key at three tenths of the way from the key before to the key after.
    Towards the line or the rest pose, 0 leaves it and 1 goes all the way.
    """

    name = "lean"
    title = "Lean"
    step = "shape"
    part = "pose"
    keyed = True
    Params: ClassVar[type[LeanParams]] = LeanParams

    def apply(
        self, clip: Clip, scope: Scope, params: LeanParams, progress: Progress = silent
    ) -> Patch:
        if params.frame is None and scope.keys is None:
            raise BadInput("lean: give the frame of the pose, or pick keys")
        curves: dict[TrackId, Curve] = {}
        dense = 0
        for channel in scope.resolve(clip):
            curve = clip.curves[channel]
            if not isinstance(curve, KeyedCurve):
                dense += 1
                continue
            at = key_mask(clip, scope, channel)
            if at is None:
                assert params.frame is not None
                curve = insert_key(curve, params.frame, (0.0, clip.frames - 1.0))
                at = np.abs(curve.time - params.frame) < SAME_TIME
            if curve.key_count > 1 and np.any(at):
                curves[channel] = _leaning(clip, channel, curve, at, params)
        report = change_report(clip, curves)
        return Patch(curves=curves, report={**report, "dense_skipped": dense})

    def told(self, params: Any) -> str:
        goal = params.get("towards", "neighbours")
        amount = params.get("amount", 0.5)
        return f"Lean to {amount:g}" if goal == "neighbours" else f"Lean {amount:g} to the {goal}"


def _leaning(
    clip: Clip, channel: TrackId, curve: KeyedCurve, at: Bools, params: LeanParams
) -> KeyedCurve:
    """The keys of a mask leaning; a run of them leans between the keys on its two sides."""
    value = curve.value.copy()
    still = np.flatnonzero(~at & curve.live)
    if params.towards == "rest":
        value[at] += params.amount * (_rest(clip, channel) - value[at])
    elif len(still):
        for k in np.flatnonzero(at).tolist():
            left, right = still[still < k], still[still > k]
            a = int(left[-1]) if len(left) else int(right[0])
            b = int(right[0]) if len(right) else a
            if params.towards == "neighbours":
                value[k] = curve.value[a] + params.amount * (curve.value[b] - curve.value[a])
            else:
                share = (curve.time[k] - curve.time[a]) / max(curve.time[b] - curve.time[a], 1e-9)
                line = curve.value[a] + share * (curve.value[b] - curve.value[a])
                value[k] += params.amount * (line - value[k])
    changed = curve.edited(
        value=value, handle=np.where(at & _swayed(curve), np.uint8(Handle.EASED), curve.handle)
    )
    return settled(changed, beside(at))


def _swayed(curve: KeyedCurve) -> Bools:
    """Keys whose free, joined handle was fitted to where they stood: it eases from now on."""
    return np.asarray((curve.handle == Handle.FREE) & (curve.slope_in == curve.slope_out))


def _rest(clip: Clip, channel: TrackId) -> float:
    """The channel's value in the rest pose."""
    if channel.turns or clip.adds_offset(channel.joint):
        return 0.0
    return float(clip.skeleton.offset_array[channel.joint]["xyz".index(channel.name[1])])


class LevelParams(Params):
    tolerance_deg: float = number(1.0, "°", "turns that differ by less are meant to be held", gt=0)
    tolerance_mm: float = number(5.0, "mm", "moves that differ by less are meant to be held", gt=0)


class Level(Operation[LevelParams]):
    """Make near-equal neighbours a true hold: one value, flat between.

    ``(5, 5.3, 5.1)`` within 1° becomes ``(5.13, 5.13, 5.13)``.
    """

    name = "level"
    title = "Level holds"
    step = "shape"
    part = "pose"
    ranged = True
    keyed = True
    Params: ClassVar[type[LevelParams]] = LevelParams

    def apply(
        self, clip: Clip, scope: Scope, params: LevelParams, progress: Progress = silent
    ) -> Patch:
        curves: dict[TrackId, Curve] = {}
        holds = dense = 0
        for channel in scope.resolve(clip):
            curve = clip.curves[channel]
            if not isinstance(curve, KeyedCurve):
                dense += 1
                continue
            tolerance = (
                params.tolerance_deg if channel.turns else params.tolerance_mm / clip.millimetres
            )
            levelled, count = _levelled(curve, keys_inside(clip, scope, channel), tolerance)
            if count:
                curves[channel] = levelled
                holds += count
        report = change_report(clip, curves)
        return Patch(curves=curves, report={**report, "holds": holds, "dense_skipped": dense})


def _levelled(curve: KeyedCurve, inside: Bools, tolerance: float) -> tuple[KeyedCurve, int]:
    value = curve.value.copy()
    flat = np.zeros(curve.key_count, dtype=np.bool_)
    holds, k = 0, 0
    while k < curve.key_count:
        end = k
        while (
            end + 1 < curve.key_count
            and inside[k]
            and inside[end + 1]
            and np.ptp(curve.value[k : end + 2]) <= tolerance
        ):
            end += 1
        if end > k:
            run = slice(k, end + 1)
            still = np.ptp(value[run]) == 0 and not np.any(curve.slope_out[k:end])
            value[run] = value[run].mean()
            flat[run] = True
            holds += not still
        k = end + 1
    if not holds:
        return curve, 0
    levelled = with_handle(curve.edited(value=value), flat, Handle.FLAT)
    return settled(levelled, beside(flat)), holds


class FlowParams(Params):
    stops: bool = Field(
        True, description="flatten free handles where a motion turns back, so that it stops there"
    )


class Flow(Operation[FlowParams]):
    """Let flat keys inside one continuous motion flow; where the motion turns, make them flat.

    A flat key half way up stops the motion there for a moment: it sticks.
    """

    name = "flow"
    title = "Let it flow"
    step = "shape"
    part = "pose"
    ranged = True
    keyed = True
    Params: ClassVar[type[FlowParams]] = FlowParams

    def apply(
        self, clip: Clip, scope: Scope, params: FlowParams, progress: Progress = silent
    ) -> Patch:
        curves: dict[TrackId, Curve] = {}
        loosened = stopped = 0
        for channel in scope.resolve(clip):
            curve = clip.curves[channel]
            if not isinstance(curve, KeyedCurve):
                continue
            inside = keys_inside(clip, scope, channel)
            stuck = stuck_keys(clip, channel) & inside
            turns = _turning(curve) & inside if params.stops else np.zeros_like(stuck)
            if np.any(stuck) or np.any(turns):
                curve = with_handle(curve, stuck, Handle.EASED)
                curves[channel] = settled(with_handle(curve, turns, Handle.FLAT), beside(stuck))
                loosened += int(np.count_nonzero(stuck))
                stopped += int(np.count_nonzero(turns))
        report = change_report(clip, curves)
        return Patch(
            curves=curves, report={**report, "keys_loosened": loosened, "keys_flattened": stopped}
        )


def _turning(curve: KeyedCurve) -> Bools:
    """Keys at which the values turn back though their handles carry on."""
    out = np.zeros(curve.key_count, dtype=np.bool_)
    if curve.key_count > 2:
        step = np.diff(curve.value)
        out[1:-1] = step[:-1] * step[1:] < 0
    carries = (curve.slope_in != 0) & (curve.slope_in == curve.slope_out)
    return np.asarray(out & carries)
