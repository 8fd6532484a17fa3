"""Plants: all frames at once against frame by frame with SciPy's rotations and its optimiser."""

from __future__ import annotations

import time
from dataclasses import replace

import numpy as np
from leancurve.demo import TAKES, captured
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.document.planting.plan import plan_of
from leancurve.figure.feet import Limb
from leancurve.operations import OPERATIONS, apply_patch
from leancurve.recipe import ALL_OF_IT, run_recipe
from scipy.optimize import brentq
from scipy.spatial.transform import Rotation

from tests.bench.tables import Table, best, ms

HANDS = (300, 900, 1500, 2300)
"""Frames from which both hands hold for 200 frames."""


def run() -> list[Table]:
    names = [line["operation"] for line in ALL_OF_IT]
    cleaned = run_recipe(captured(TAKES[0]).clip, ALL_OF_IT[: names.index("drop_idle")]).clip
    clip = apply_patch(cleaned, OPERATIONS["plant"].run(cleaned))
    edits = [
        {"do": "add", "part": f"{side} hand", "first": first, "last": first + 200}
        for side in ("left", "right")
        for first in HANDS
    ]
    clip = apply_patch(clip, OPERATIONS["edit_plants"].run(clip, {"edits": edits}))
    table = Table(
        f"Plants of both feet and two hands: {len(clip.skeleton)} joints × {clip.frames} frames",
        ("way", "time", "ratio to ours", "goal"),
    )
    ours = best(lambda: plan_of(replace(clip, name="again")))
    table.add("planned and solved, all frames", ms(ours), "1", "≤ 50 ms")
    whole = best(lambda: evaluate(replace(clip, name="again")))
    table.add("the same and poses of all joints", ms(whole), f"{whole / ours:.1f}", "")
    plain = frame_by_frame(clip)
    table.add("limbs alone, frame by frame with SciPy", ms(plain), f"{plain / ours:.0f}", "")
    table.note = "Frame by frame: measured on 60 frames of the four limbs and scaled."
    return [table]


def frame_by_frame(clip: Clip, count: int = 60) -> float:
    """Seconds that all frames would take where each limb is bent by a root finder on its end's
    distance and swung by SciPy's shortest rotation, one frame after another."""
    turns, points = evaluate(clip.below).world(clip.skeleton)
    plan = plan_of(clip)
    target = evaluate(clip).world(clip.skeleton)[1]
    frames = np.linspace(0, clip.frames - 1, count).astype(int)
    began = time.perf_counter()
    for limb in (x.limb for x in plan.limbs):
        assert isinstance(limb, Limb)
        for f in frames:
            solved(limb.joints, turns[f], points[f], target[f, limb.end])
    return (time.perf_counter() - began) / count * clip.frames


def solved(
    joints: tuple[int, ...], turns: np.ndarray, points: np.ndarray, target: np.ndarray
) -> Rotation:
    """Where the upper of a limb's three joints has to turn for its end to be at a target."""
    hip, knee, foot = (points[j] for j in joints)
    axis = np.cross(knee - hip, foot - knee)
    axis /= max(np.linalg.norm(axis), 1e-12)
    wanted = np.linalg.norm(target - hip)

    def far(angle: float) -> float:
        bent = knee + Rotation.from_rotvec(axis * angle).apply(foot - knee)
        return float(np.linalg.norm(bent - hip) - wanted)

    low, high = -1.0, 1.0
    angle = brentq(far, low, high) if far(low) * far(high) < 0 else 0.0
    bent = knee + Rotation.from_rotvec(axis * angle).apply(foot - knee)
    swing, _ = Rotation.align_vectors([target - hip], [bent - hip])
    return swing * Rotation.from_quat(turns[joints[0]])
