"""Clamp: a channel kept within bounds, or feet kept above the floor; soft at the edge."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, ClassVar

import numpy as np
from pydantic import Field

from leancurve.cleaning.contacts import find_support
from leancurve.curves.curve import Curve, Handle, KeyedCurve, KeyFlag, SampledCurve
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.document.track import TrackId
from leancurve.document.tracks import turning_tracks, written
from leancurve.errors import BadInput
from leancurve.figure.feet import foot_points
from leancurve.figure.limb import reach, said_under, usual_hinge
from leancurve.figure.skeleton import UP
from leancurve.measures.account import Kind
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats
from leancurve.operations.base import Operation, Params, Patch, Progress, Scope, number, silent
from leancurve.operations.shaping import Window, reshaped, windows_of


class ClampParams(Params):
    feet: bool = Field(False, description="keep feet from sinking below the floor they stand on")
    least: float | None = number(
        None, "", "no value below this, in the channel's own unit", when={"feet": [False]}
    )
    most: float | None = number(
        None, "", "no value above this, in the channel's own unit", when={"feet": [False]}
    )
    soft: float = number(
        0.0, "", "begin to give way this far before the bound: channel's unit, for feet mm", ge=0
    )


class Clamp(Operation[ClampParams]):
    """Keep values within bounds: ``(1, 5, 9)`` with most 6 → ``(1, 5, 6)``.

    With ``soft`` a value bends towards the bound from that far away and never reaches past it.
    With ``feet`` heels and toes that are below their floor are lifted to it by bending the leg;
    the foot keeps its orientation.
    """

    name = "clamp"
    title = "Clamp"
    step = "calm"
    ranged = True
    Params: ClassVar[type[ClampParams]] = ClampParams

    def counted_as(self, params: Mapping[str, Any]) -> Kind:
        """Feet that sink are mended; bounds are a matter of taste."""
        return "mend" if params.get("feet") else "calm"

    def apply(
        self, clip: Clip, scope: Scope, params: ClampParams, progress: Progress = silent
    ) -> Patch:
        if params.feet:
            return _feet_up(clip, scope, params.soft / clip.millimetres, progress)
        if params.least is None and params.most is None:
            raise BadInput("clamp: give the least or the most a value may be, or feet")
        if None not in (params.least, params.most) and params.least > params.most:  # type: ignore[operator]
            raise BadInput(f"clamp: least {params.least} is above most {params.most}")
        inside = scope.mask(clip)
        curves: dict[TrackId, Curve] = {}
        changed = 0
        for channel in scope.resolve(clip):
            curve = clip.curves[channel]
            if isinstance(curve, KeyedCurve):
                kept, count = _kept_within(curve, windows_of(clip, scope), params)
                if count:
                    curves[channel] = kept
            else:
                value = np.where(inside, bounded(curve.values, params), curve.values)
                count = int(np.count_nonzero(value != curve.values))
                if count:
                    curves[channel] = SampledCurve(value)
            changed += count
        return Patch(curves=curves, report={"channels": len(curves), "values": changed})

    def told(self, params: Any) -> str:
        if params.get("feet"):
            return "Keep feet above the floor"
        parts = [f"≥ {params['least']:g}"] if params.get("least") is not None else []
        parts += [f"≤ {params['most']:g}"] if params.get("most") is not None else []
        return f"Clamp {' and '.join(parts)}"


def bounded(values: Floats, params: ClampParams) -> Floats:
    """Values within the bounds; within ``soft`` of one they bend towards it (tanh)."""
    out = values.astype(np.float64)
    if params.most is not None:
        out = _below(out, params.most, params.soft)
    if params.least is not None:
        out = -_below(-out, -params.least, params.soft)
    return out


def _below(values: Floats, most: float, soft: float) -> Floats:
    if soft == 0:
        return np.minimum(values, most)
    start = most - soft
    over = np.maximum(values - start, 0.0)
    return np.asarray(np.where(values > start, start + soft * np.tanh(over / soft), values))


def _kept_within(
    curve: KeyedCurve, windows: list[Window], params: ClampParams
) -> tuple[KeyedCurve, int]:
    """A keyed curve within the bounds: keys where it meets them, flat along a hard one."""
    frames = np.concatenate([np.arange(w.first, w.last + 0.01, FINE) for w in windows])
    values = curve.at(frames)
    beyond = bounded(values, params) != values
    if not np.any(beyond):
        return curve, 0
    bounds = [b for b in (params.least, params.most) if b is not None]
    starts = [params.most - params.soft] if params.most is not None else []
    starts += [params.least + params.soft] if params.least is not None else []
    crossed = [t for at in {*bounds, *starts} for t in _crossings(curve, frames, values, at)]
    # Keys stand on frames: on the two about where it meets the bound.
    frames_about = sorted({f for t in crossed for f in (np.floor(t), np.ceil(t))})

    def goal(t: Floats, v: Floats, s: Floats) -> tuple[Floats, Floats]:
        if params.soft == 0:
            # On a bound the curve still comes in as it came: its other side is laid flat below.
            beyond = np.abs(bounded(v, params) - v) > 1e-6
            return bounded(v, params), np.where(beyond, 0.0, s)
        h = 1e-5
        rate = (bounded(v + h, params) - bounded(v - h, params)) / (2 * h)
        return bounded(v, params), s * rate

    out = reshaped(curve, windows, goal, more=frames_about)
    assert isinstance(out, KeyedCurve)
    if params.soft == 0:
        middle = (out.time[:-1] + out.time[1:]) / 2
        old = curve.at(middle)
        along = (bounded(old, params) != old) & (
            np.abs(bounded(old, params) - out.value[:-1]) < 1e-6
        )
        along &= np.abs(np.diff(out.value)) < 1e-6
        slope_in, slope_out = out.slope_in.copy(), out.slope_out.copy()
        slope_out[:-1][along] = slope_in[1:][along] = 0.0
        length_in, length_out = out.length_in.copy(), out.length_out.copy()
        # Into a bound and out of it the curve goes straight, within one frame.
        on = np.abs(out.value[:, None] - np.array(bounds)).min(axis=1) < 1e-9
        meets = np.isin(out.time[:-1], frames_about) & np.isin(out.time[1:], frames_about)
        into = meets & (on[:-1] != on[1:]) & (np.diff(out.time) <= 1.0)
        step = np.diff(out.value) / np.diff(out.time)
        slope_out[:-1][into] = slope_in[1:][into] = step[into]
        length_out[:-1][into] = length_in[1:][into] = 1.0 / 3.0
        bent = (slope_in != slope_out) & (out.handle != Handle.FREE)
        out = out.edited(
            slope_in=slope_in,
            slope_out=slope_out,
            length_in=length_in,
            length_out=length_out,
            handle=np.where(bent, np.uint8(Handle.FREE), out.handle),
            flags=np.where(slope_in != slope_out, out.flags | KeyFlag.BROKEN, out.flags),
        )
    return out, int(np.count_nonzero(beyond[:: round(1 / FINE)]))


FINE = 0.25
"""Frames between the samples on which crossings of a bound are looked for."""


def _crossings(curve: KeyedCurve, frames: Floats, values: Floats, bound: float) -> list[float]:
    """Times at which a curve crosses a value, by bisection between samples."""
    out = []
    above = values > bound
    for k in np.flatnonzero(above[1:] != above[:-1]).tolist():
        low, high = float(frames[k]), float(frames[k + 1])
        for _ in range(40):
            middle = (low + high) / 2
            if (float(curve.at(np.array([middle]))[0]) > bound) == above[k]:
                low = middle
            else:
                high = middle
        out.append(high)
    return out


def _feet_up(clip: Clip, scope: Scope, soft: float, progress: Progress) -> Patch:
    """Legs bent so that no heel or toe is below its own rest on the floor."""
    body = clip.body
    up = UP[clip.reading.up_axis]
    pose = evaluate(clip.below)
    rotations, positions = pose.world(clip.skeleton)
    support = find_support(clip, world=(rotations, positions))
    tracks = {t.joint: t for t in turning_tracks(clip, scope)}
    inside = scope.mask(clip)
    changed: dict[int, Floats] = {}
    lifted, deepest = 0, 0.0
    for side in ("left", "right"):
        joints = [body.find(f"{side} {part}") for part in ("thigh", "shin", "foot")]
        if any(j is None or j not in tracks for j in joints):
            continue
        thigh, shin, foot = (int(j) for j in joints if j is not None)
        below = np.zeros(clip.frames)
        for name, joint in foot_points(clip.skeleton, body).items():
            if name.startswith(side):
                depth = support.rest_heights[name] - positions[:, joint, up]
                below = np.maximum(below, depth)
        lift = np.where(inside, _soft_lift(below, soft), 0.0)
        moved = lift > 1e-9
        if not np.any(moved):
            continue
        lifted += int(np.count_nonzero(moved))
        deepest = max(deepest, float(below[moved].max()))
        target = positions[moved, foot].copy()
        target[:, up] += lift[moved]
        parent = clip.skeleton.parents[thigh]
        points = (positions[:, thigh], positions[:, shin], positions[:, foot])
        hinge = usual_hinge(rotations[:, thigh], points)
        solved = reach(
            (rotations[moved, thigh], rotations[moved, shin], rotations[moved, foot]),
            rotations[moved, parent],
            (points[0][moved], points[1][moved], points[2][moved]),
            target,
            hinge,
        )
        leg = (thigh, shin, foot)

        def turn(joint: int, stood: Floats = rotations[moved]) -> Floats:
            return np.asarray(stood[:, joint])

        said = said_under(solved, leg, clip.skeleton.parents, turn)
        for joint, local in zip(leg, said, strict=True):
            q = tracks[joint].rotations.copy()
            q[moved] = local
            changed[joint] = rotation.hemisphere(q)
        progress(0.5)
    curves = written([tracks[j] for j in changed], changed)
    return Patch(
        curves=curves,
        report={"frames": lifted, "deepest_mm": deepest * clip.millimetres},
    )


def _soft_lift(below: Floats, soft: float) -> Floats:
    """How far to lift a point that is ``below`` the floor: all of it, eased in over ``soft``."""
    if soft == 0:
        return np.maximum(below, 0.0)
    # A parabola joins standing above by ``soft`` to being below by as much.
    eased = (below + soft) ** 2 / (4.0 * soft)
    return np.asarray(np.where(below <= -soft, 0.0, np.where(below < soft, eased, below)))
