"""Retargeting to another skeleton: all frames at once against SciPy, frame by frame."""

from __future__ import annotations

import time
from dataclasses import replace

import numpy as np
from leancurve.demo import TAKES
from leancurve.demo.characters import heron_file, wren_file
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate, posed
from leancurve.operations import OPERATIONS, apply_patch
from leancurve.retarget.alignment import common_turns
from leancurve.retarget.retargeting import Retargeted, Wishes, retargeted
from scipy.spatial.transform import Rotation

from tests.bench.plants_bench import solved
from tests.bench.tables import Table, best, ms


def run() -> list[Table]:
    source = TAKES[0].clean()
    table = Table(
        f"Retargeted to another skeleton: {len(source.skeleton)} joints × {source.frames} frames",
        ("way", "time", "ratio to ours", "goal"),
    )
    for name, target in (("Heron", heron_file()), ("Wren", wren_file())):
        ours = best(lambda aim=target: retargeted(replace(source, name="again"), aim))  # type: ignore[misc]
        table.add(f"to {name}: joints, root, feet, hands, channels", ms(ours), "1", "≤ 0.3 s")
        held = best(lambda aim=target: planted(source, aim), runs=3)  # type: ignore[misc]
        table.add("the same, feet planted, poses of all joints", ms(held), f"{held / ours:.1f}", "")
        plain = frame_by_frame(source, retargeted(source, target, Wishes(feet=0.0, hands=0.0)))
        table.add("frame by frame with SciPy", ms(plain), f"{plain / ours:.0f}", "≥ 50")
    table.note = (
        "Frame by frame: measured on 60 frames, turns of all joints and both legs, and scaled."
    )
    return [table]


def planted(source: Clip, target: Clip) -> None:
    done = retargeted(replace(source, name="again"), target).clip
    evaluate(apply_patch(done, OPERATIONS["plant"].run(done)))


def frame_by_frame(source: Clip, done: Retargeted, count: int = 60) -> float:
    """Seconds that all frames would take where each joint is turned by itself, one frame after
    another, and each leg bent by a root finder."""
    ours, theirs = done.source, done.target
    turns, _ = posed(source).world(source.skeleton)
    made, points = posed(done.clip).world(done.clip.skeleton)
    back = [
        Rotation.from_quat(r).inv() * Rotation.from_quat(a).inv()
        for r, a in zip(ours.turns, common_turns(ours), strict=True)
    ]
    ahead = [
        Rotation.from_quat(a) * Rotation.from_quat(r)
        for r, a in zip(theirs.turns, common_turns(theirs), strict=True)
    ]
    legs = [
        tuple(theirs.find(f"{side} {part}") for part in ("thigh", "shin", "foot"))
        for side in ("left", "right")
    ]
    frames = np.linspace(0, source.frames - 1, count).astype(int)
    began = time.perf_counter()
    for f in frames:
        world: list[Rotation] = []
        for joint, link in enumerate(done.links.links):
            given = [Rotation.from_quat(turns[f, j]) * back[j] for j in link.sources]
            mean = given[0] if len(given) == 1 else _mean(given, link.weights)
            world.append(mean * ahead[joint])
            parent = theirs.skeleton.parents[joint]
            local = world[-1] if parent < 0 else world[parent].inv() * world[-1]
            local.as_euler("ZXY", degrees=True)
        for leg in legs:
            joints = tuple(j for j in leg if j is not None)
            solved(joints, made[f], points[f], points[f, joints[2]] + 0.01)
    return (time.perf_counter() - began) / count * source.frames


def _mean(turns: list[Rotation], weights: tuple[float, ...]) -> Rotation:
    first = turns[int(np.argmax(weights))]
    away = sum(w * (first.inv() * q).as_rotvec() for q, w in zip(turns, weights, strict=True))
    return first * Rotation.from_rotvec(np.asarray(away))
