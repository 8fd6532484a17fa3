"""Vectors that hold the browser's plants to the core's: written here, read by Vitest.

``LEAN_WRITE_VECTORS=1 ./lean test tests/core/test_planting_vectors.py`` writes them anew.
"""

from __future__ import annotations

import json
import os
from dataclasses import replace
from fractions import Fraction
from typing import Any

import numpy as np
from leancurve.curves.curve import SampledCurve
from leancurve.document.base import base_pose, times_of
from leancurve.document.clip import Clip, Reading
from leancurve.document.evaluation import evaluate
from leancurve.document.plant import Plant
from leancurve.document.planting.plan import plan_of
from leancurve.document.track import base_track
from leancurve.figure.limb import reach, usual_hinge
from leancurve.figure.skeleton import EndSite, Skeleton
from leancurve.numbers import rotation

from tests.conftest import PROJECT

FILE = PROJECT / "web/src/evaluation/planting.vectors.json"
NAMES = (
    "Hips", "LeftUpLeg", "LeftLeg", "LeftLegTwist", "LeftFoot", "LeftToeBase",
    "RightUpLeg", "RightLeg", "RightFoot", "RightToeBase",
)  # fmt: skip


def legs(frames: int = 61) -> Clip:
    """Hips with two legs that sway, a twist joint in line in the left shin: feet that slide by some
    centimetres."""
    offsets = [
        (0.0, 96.0, 0.0),
        *((9.0, -3.0, 0.0), (0, -43.0, 0.5), (0, -20.0, -0.5), (0, -22.0, -0.5), (0, -7.0, 13.0)),
        *((-9.0, -3.0, 0.0), (0, -43.0, 0.5), (0, -42.0, -1.0), (0, -7.0, 13.0)),
    ]
    parents = (-1, 0, 1, 2, 3, 4, 0, 6, 7, 8)
    ends = (EndSite(5, (0.0, 0.0, 7.0), 6), EndSite(9, (0.0, 0.0, 7.0), 10))
    skeleton = Skeleton(NAMES, parents, tuple(offsets), ends)
    t = np.arange(frames) / 60
    curves: Any = {}
    layout: list[tuple[str, ...]] = []
    for j, name in enumerate(NAMES):
        turns = ("rz", "rx", "ry")
        layout.append((("tx", "ty", "tz") if j == 0 else ()) + turns)
        sway = {"rx": 0.0, "ry": 3.0 * np.sin(3 * t + j), "rz": 2.0 * np.cos(2 * t + j)}
        if name.endswith("UpLeg"):
            sway["rx"] = -22.0 + 4.0 * np.sin(2.5 * t + j)
        if name.endswith("Leg") and not name.endswith("UpLeg"):
            sway["rx"] = 40.0 + 6.0 * np.sin(2.0 * t + j)
        if name.endswith("Foot"):
            sway["rx"] = -18.0 + 5.0 * np.sin(3.5 * t + j)
        for channel in turns:
            curves[base_track(j, channel)] = SampledCurve(np.zeros(frames) + sway[channel])
    for channel, values in (("tx", 2.0 * np.sin(2 * t)), ("ty", np.cos(3 * t)), ("tz", 9.0 * t)):
        curves[base_track(0, channel)] = SampledCurve(np.zeros(frames) + values)
    clip = Clip(skeleton, tuple(layout), curves, Fraction(60), frames, Reading(up_axis="y"))
    at = evaluate(clip).world(skeleton)[1]
    plants = []
    for side, first, last in (("left", 0, 24), ("right", 20, 44)):
        heel, toe = (clip.skeleton.index(f"{side.title()}{p}") for p in ("Foot", "ToeBase"))
        away = at[first, toe] - at[first, heel]
        place = at[first, heel]
        plants += [
            Plant(f"{side} heel", first, last, tuple(place.tolist()), ease_in=8, ease_out=10),
            Plant(f"{side} toe", first + 2, last + 5, tuple((place + away).tolist()),
                  ease_in=8, ease_out=10, strength=0.75 if side == "right" else 1.0),
        ]  # fmt: skip
    return replace(clip, plants=tuple(sorted(plants)))


def _solver() -> list[dict[str, Any]]:
    """Limbs of all kinds: bent, nearly and over straight, targets far, near and at the hip."""
    random = np.random.default_rng(11)
    out = []
    for k in range(120):
        bend = [random.uniform(5, 150), random.uniform(-3, 3), random.uniform(-40, -16)][k % 3]
        parent = rotation.normalise(random.normal(size=4))
        upper = rotation.multiply(parent, rotation.normalise(random.normal(size=4)))
        shin = rotation.multiply(upper, rotation.exp(np.array([bend, 0.2 * bend, 0.0])))
        hip = random.normal(0, 50, 3)
        knee = hip + rotation.rotate(upper, np.array([0.0, -43.0, 0.6]))
        ankle = knee + rotation.rotate(shin, np.array([0.0, -41.0, -0.4]))
        target = [ankle + random.normal(0, 6, 3), ankle + random.normal(0, 60, 3), hip][
            (k // 3) % 3 if k % 20 else 2
        ]
        hinge = rotation.rotate(rotation.exp(random.normal(0, 10, 3)), np.array([1.0, 0.0, 0.0]))
        turns = (upper[None], shin[None], shin[None])
        points = (hip[None], knee[None], ankle[None])
        locals_ = reach(turns, parent[None], points, target[None], hinge)
        first = rotation.multiply(parent, locals_[0][0])
        second = rotation.multiply(first, locals_[1][0])
        out.append(
            {
                "turns": [upper.tolist(), shin.tolist()],
                "points": [p[0].tolist() for p in points],
                "target": target.tolist(),
                "hinge": hinge.tolist(),
                "upper": first.tolist(),
                "middle": second.tolist(),
            }
        )
    return out


DRAGGED = (3.0, 2.5, -2.0)
"""How far the hips are dragged on a frame, own unit."""
FRAMES = (0, 5, 12, 22, 27, 40, 46)
"""Held by both points, by the toe alone, and free between eases."""


def _dragged() -> dict[str, Any]:
    """The hips dragged on one frame: what is held stays, what is led keeps its correction.

    On held frames it is what the core makes of curves that lie so on all frames.
    """
    clip = legs()
    plan = plan_of(clip)
    joints = sorted({*plan.joints, *(() if plan.carrier is None else (plan.carrier,))})
    below = base_pose(clip, times_of(clip, None), joints)
    moved = clip.with_curves(
        {
            base_track(0, c): SampledCurve(clip.curves[base_track(0, c)].values + by)  # type: ignore[union-attr]
            for c, by in zip(("tx", "ty", "tz"), DRAGGED, strict=True)
        }
    )
    frames = np.array(FRAMES, dtype=np.float64)
    solved, shown = evaluate(moved, frames), evaluate(clip)
    pick = list(FRAMES)
    return {
        "parents": list(clip.skeleton.parents),
        "offsets": [list(o) for o in clip.skeleton.offsets],
        "joints": joints,
        "frames": pick,
        "rotation": shown.rotation[pick].ravel().tolist(),
        "moving": [0],
        "translation": shown.translation[pick][:, [0]].ravel().tolist(),
        "below_rotation": below.rotation[pick].ravel().tolist(),
        "below_moving": [j for j in joints if j == 0],
        "below_translation": [
            x for k, j in enumerate(joints) if j == 0
            for x in below.translation[pick][:, k].ravel().tolist()
        ],
        "lowered": plan.lowered[pick].tolist(),
        "carrier": plan.carrier,
        "limbs": [
            {
                "name": x.limb.name,
                "joints": list(x.limb.joints),
                "ball": x.limb.ball,
                "sole": x.limb.sole,
                "hinge": x.hinge.tolist(),
                "shift": x.shift[pick].ravel().tolist(),
                "turn": x.turn[pick].ravel().tolist(),
                "share": x.share[pick].tolist(),
                "by": x.by[pick].tolist(),
                "with": x.carried_by[pick].tolist(),
            }
            for x in plan.limbs
        ],
        "hips": (base_pose(moved, frames, (0,)).translation[:, 0]).tolist(),
        "hips_turn": (base_pose(moved, frames, (0,)).rotation[:, 0]).tolist(),
        "held": [[bool(x.held[f]) for x in plan.limbs] for f in FRAMES],
        "solved": solved.rotation.ravel().tolist(),
    }  # fmt: skip


def vectors() -> dict[str, Any]:
    return {"solver": _solver(), "dragged": _dragged()}


def test_the_browsers_plants_are_the_cores() -> None:
    made = json.loads(json.dumps(vectors()))
    if os.environ.get("LEAN_WRITE_VECTORS"):
        FILE.write_text(json.dumps(made, indent=1) + "\n")
    kept = json.loads(FILE.read_text())
    assert len(kept["solver"]) == 120
    for a, b in zip(kept["solver"], made["solver"], strict=True):
        for name in ("upper", "middle"):
            assert np.abs(np.array(a[name]) - b[name]).max() < 1e-9
    for name in ("solved", "rotation", "below_rotation"):
        gap = np.array(kept["dragged"][name]) - made["dragged"][name]
        assert np.abs(gap).max() < 1e-9


def test_the_usual_hinge_of_the_vectors_bends_knees_forward() -> None:
    clip = legs()
    turns, points = evaluate(clip.below).world(clip.skeleton)
    hinge = usual_hinge(turns[:, 1], (points[:, 1], points[:, 2], points[:, 3]))
    assert hinge[0] > 0.9
