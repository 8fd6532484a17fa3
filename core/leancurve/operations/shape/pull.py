"""An end of a limb led elsewhere over a span: the hand that misses the lamp reaches it."""

from __future__ import annotations

from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import Field

from leancurve.cleaning.turned import turned_curves
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.document.planting.parts import limb_of
from leancurve.errors import BadInput
from leancurve.figure.chain import follow
from leancurve.figure.feet import Chain, Limb
from leancurve.figure.limb import reach, said_under, usual_hinge
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats
from leancurve.operations.base import Operation, Patch, Progress, Scope, number, silent
from leancurve.operations.shaping import RampParams, change_report, windows_of


class PullParams(RampParams):
    part: str = Field(
        "right hand", description="the end that is led: a hand, a foot, or any joint's name"
    )
    x: float = number(0.0, "mm", "how far it is led", ge=-5000, le=5000)
    y: float = number(0.0, "mm", "how far it is led", ge=-5000, le=5000)
    z: float = number(0.0, "mm", "how far it is led", ge=-5000, le=5000)
    space: Literal["world", "figure"] = Field(
        "world", description="whose axes these are: the world's, or the hips'"
    )
    ramp_in: int = number(12, "frames", "over how many frames it comes", ge=0, le=100000)
    ramp_out: int = number(12, "frames", "over how many frames it goes", ge=0, le=100000)
    tolerance_deg: float = number(
        0.1, "deg", "how far keyed turns may be from the way it is led", gt=0, le=20
    )


class Pull(Operation[PullParams]):
    """Lead the end of a limb elsewhere over the range, softly at its ends; the limb follows.

    ``y 40`` with the range set raises the hand by 4 cm there, whatever joints are chosen. How the
    end is turned stays, dense channels stay dense, and keyed ones keep their key times.
    """

    name = "pull"
    title = "Pull an end"
    step = "shape"
    part = "pose"
    ranged = True
    Params: ClassVar[type[PullParams]] = PullParams

    def apply(
        self, clip: Clip, scope: Scope, params: PullParams, progress: Progress = silent
    ) -> Patch:
        limb = limb_of(clip, params.part)
        weight = np.zeros(clip.frames)
        frames = np.arange(clip.frames, dtype=np.float64)
        for window in windows_of(clip, scope, params):
            weight += window.at(frames)
        away = np.array((params.x, params.y, params.z)) / clip.millimetres
        moved = (weight > 0.0) & bool(np.any(away))
        if not np.any(moved):
            return Patch(report={"frames": 0, "missed_mm": 0.0})
        turns, points = evaluate(clip.below).world(clip.skeleton)
        progress(0.3)
        by = np.broadcast_to(away, (clip.frames, 3))
        seen = evaluate(clip.unplanted).world(clip.skeleton)[0]
        if params.space == "figure":
            hips = clip.body.find("hips")
            if hips is None:
                raise BadInput("pull: the hips are not known here, so there are no axes of theirs")
            by = rotation.rotate(seen[:, hips], by)
        # Layers and placement turn what the limb hangs on: by as much the pull is turned back.
        above = clip.skeleton.parents[limb.joints[0]]
        if above >= 0:
            back = rotation.multiply(turns[:, above], rotation.conjugate(seen[:, above]))
            by = rotation.rotate(back, by)
        target = points[:, limb.end] + weight[:, None] * by
        solved = _solved(clip, limb, turns[moved], points[moved], target[moved])
        rotations = dict(zip(limb.joints, solved, strict=True))
        curves = turned_curves(clip, rotations, moved, params.tolerance_deg)
        progress(0.8)
        reached = evaluate(clip.below.with_curves(curves)).world(clip.skeleton)[1][:, limb.end]
        missed = np.linalg.norm(reached - target, axis=1)[moved]
        return Patch(
            curves=curves,
            report={
                "frames": int(np.count_nonzero(moved)),
                "missed_mm": round(float(missed.max()) * clip.millimetres, 3),
                **change_report(clip, curves),
            },
        )

    def told(self, params: Any) -> str:
        size = float(np.hypot(np.hypot(params.get("x", 0), params.get("y", 0)), params.get("z", 0)))
        return f"Pull the {params.get('part', 'right hand')} by {size:g} mm"


def _solved(
    clip: Clip, limb: Limb | Chain, turns: Floats, points: Floats, target: Floats
) -> list[Floats]:
    """Local rotations of a limb's or a chain's joints that bring its end to ``target (F, 3)``,
    given all joints' world rotations and positions. How the end is turned stays."""
    if isinstance(limb, Limb):
        one, two, three = (points[:, j] for j in limb.joints)
        first, second, third = (turns[:, j] for j in limb.joints)
        hinge = usual_hinge(first, (one, two, three))
        parent = turns[:, clip.skeleton.parents[limb.upper]]
        solved = reach((first, second, third), parent, (one, two, three), target, hinge)
        parents = clip.skeleton.parents
        return list(said_under(solved, limb.joints, parents, lambda j: turns[:, j]))
    led = follow(turns[:, list(limb.above)], points[:, list(limb.joints)], target)
    own = [*(led[:, k] for k in range(len(limb.above))), turns[:, limb.end]]
    above = [turns[:, clip.skeleton.parents[limb.above[0]]], *own[:-1]]
    return [rotation.multiply(rotation.conjugate(up), q) for up, q in zip(above, own, strict=True)]
