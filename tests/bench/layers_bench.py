"""Layers laid and flattened, against the plain way: frame by frame, joint by joint, with SciPy."""

from __future__ import annotations

import time
from dataclasses import replace

import numpy as np
from leancurve.curves.curve import Curve, SampledCurve, keyed
from leancurve.demo import TAKES
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.document.layer import Layer
from leancurve.document.track import TrackId
from leancurve.operations import OPERATIONS, apply_patch
from scipy.spatial.transform import Rotation

from tests.bench.tables import Table, best, ms

TURN = ("rx", "ry", "rz")


def layered(frames: int, count: int) -> Clip:
    """A take of so many frames with layers on all joints, keyed every second, and keyed weights."""
    take = TAKES[0].clean()
    random = np.random.default_rng(3)
    curves: dict[TrackId, Curve] = {
        t: SampledCurve(c.values[:frames])
        for t, c in take.curves.items()
        if isinstance(c, SampledCurve)
    }
    clip = replace(take, frames=frames, curves=curves)
    joints = [j for j in range(len(clip.skeleton)) if len(clip.order(j)) == 3]
    layers = tuple(
        Layer(k, f"layer {k}", layout=tuple((j, TURN) for j in joints)) for k in range(count)
    )
    times = np.arange(0.0, frames, float(clip.rate)).tolist()
    for layer in layers:
        for track in layer.tracks:
            values = random.uniform(-8.0, 8.0, len(times))
            if track == layer.weight:
                values = random.uniform(0.2, 1.0, len(times))
            curves[track] = keyed(times, values.tolist())
    return replace(clip, curves=curves, layers=layers)


def run() -> list[Table]:
    table = Table("Layers on all joints, keyed, weighed", ("way", "time", "ratio to ours", "goal"))
    for count, frames in ((10, 1084), (3, 3500)):
        clip = layered(frames, count)
        joints = len(clip.skeleton)
        named = f"{count} layers × {frames:,} frames × {joints} joints"
        ours = best(lambda c=clip: evaluate(replace(c)))  # type: ignore[misc]
        table.add(f"{named}: poses", ms(ours), "1", "")
        base = best(lambda c=clip: evaluate(replace(c, layers=())))  # type: ignore[misc]
        table.add("the same without its layers", ms(base), f"{base / ours:.2f}", "")
        muted = replace(clip, layers=tuple(replace(x, muted=True) for x in clip.layers))
        off = best(lambda c=muted: evaluate(replace(c)))  # type: ignore[misc]
        table.add("the same with all of them muted", ms(off), f"{off / ours:.2f}", "as without")
        flat = best(lambda c=clip: flattened(replace(c)))  # type: ignore[misc]
        table.add("flattened", ms(flat), f"{flat / ours:.1f}", "≤ 0.3 s")
        plain = joint_by_joint(clip)
        table.add(
            "joint by joint with SciPy", ms(plain), f"{plain / flat:.0f} × flatten", "≥ 100 ×"
        )
    table.note = "Joint by joint: measured on 40 frames and scaled."
    return [table]


def flattened(clip: Clip) -> Clip:
    return apply_patch(clip, OPERATIONS["flatten"].run(clip))


def joint_by_joint(clip: Clip, count: int = 40) -> float:
    """Seconds that all frames would take where each joint's rotation is made by itself."""
    frames = np.linspace(0, clip.frames - 1, count).astype(int)
    began = time.perf_counter()
    for f in frames:
        at = np.array([float(f)])
        for joint in range(len(clip.skeleton)):
            order = clip.order(joint)
            if len(order) != 3:
                continue
            angles = [clip.curves[t].at(at)[0] for t in clip.turns_of(joint)]
            turn = Rotation.from_euler(order.upper(), angles, degrees=True)
            for layer in clip.layers:
                weight = clip.curves[layer.weight].at(at)[0]
                vector = [clip.curves[TrackId(layer.owner, joint, c)].at(at)[0] for c in TURN]
                turn = turn * Rotation.from_rotvec(weight * np.array(vector), degrees=True)
            turn.as_euler(order.upper(), degrees=True)
    return (time.perf_counter() - began) / count * clip.frames
