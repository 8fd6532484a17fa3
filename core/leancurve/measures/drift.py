"""What a change did to the motion, in numbers: drift in degrees and millimetres."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.figure.body import body_of
from leancurve.figure.pose import Pose
from leancurve.figure.skeleton import Skeleton
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats


@dataclass(frozen=True)
class Drift:
    """How far a motion is from its baseline: geodesic degrees a joint, millimetres at the ends."""

    max_deg: float
    rms_deg: float
    max_joint: str
    max_frame: int
    max_mm: float
    rms_mm: float
    max_end: str
    max_end_frame: int
    joint_max_deg: dict[str, float]
    end_max_mm: dict[str, float]


def find_ends(skeleton: Skeleton) -> tuple[str, ...]:
    """Names of the joints where drift is felt: hands, feet and head, else the leaves.

    If fewer than two of them are known for what they are, all leaf joints are ends.
    """
    body = body_of(skeleton)
    roles = ("head", *(f"{side} {part}" for side in ("left", "right") for part in ("hand", "foot")))
    found = sorted(j for role in roles if (j := body.find(role)) is not None)
    if len(found) < 2:
        found = [j for j in range(len(skeleton)) if not skeleton.children[j]]
    return tuple(skeleton.names[j] for j in found)


def end_points(clip: Clip, pose: Pose) -> tuple[tuple[str, ...], Floats]:
    """World positions ``(F, E, 3)`` of the clip's ends; a joint with an end site gives its tip."""
    names = clip.reading.ends or find_ends(clip.skeleton)
    joints = [clip.skeleton.index(n) for n in names if n in clip.skeleton.names]
    rotations, positions = pose.world(clip.skeleton)
    points = positions[:, joints].copy()
    tips = {e.parent: np.array(e.offset) for e in clip.skeleton.ends}
    for k, joint in enumerate(joints):
        if joint in tips:
            points[:, k] += rotation.rotate(rotations[:, joint], tips[joint])
    return tuple(clip.skeleton.names[j] for j in joints), points


def drift(clip: Clip, baseline: Clip) -> Drift:
    """Drift of ``clip`` from ``baseline`` on the frames both have.

    Both need the same joints in the same order; millimetres use each clip's own unit.
    """
    if clip.skeleton.names != baseline.skeleton.names:
        raise ValueError("drift needs two clips of one skeleton: their joint names differ")
    frames = np.arange(min(clip.frames, baseline.frames), dtype=np.float64)
    return pose_drift(clip, evaluate(clip, frames), baseline, evaluate(baseline, frames))


def pose_drift(clip: Clip, ours: Pose, baseline: Clip, theirs: Pose) -> Drift:
    """:func:`drift` of poses already evaluated, ``(F, J, …)`` each."""
    names = clip.skeleton.names
    if len(ours.rotation) == 0:
        nothing = dict.fromkeys(names, 0.0)
        return Drift(0, 0, names[0], 0, 0, 0, names[0], 0, nothing, {})
    degrees = rotation.geodesic_deg(ours.rotation, theirs.rotation)
    frame, joint = np.unravel_index(int(np.argmax(degrees)), degrees.shape)
    ends, a = end_points(clip, ours)
    _, b = end_points(baseline_with_ends(baseline, ends), theirs)
    gap = np.linalg.norm(a * clip.millimetres - b * baseline.millimetres, axis=-1)
    end_frame, end = np.unravel_index(int(np.argmax(gap)), gap.shape)
    return Drift(
        max_deg=float(degrees[frame, joint]),
        rms_deg=float(np.sqrt(np.mean(degrees**2))),
        max_joint=names[int(joint)],
        max_frame=int(frame),
        max_mm=float(gap[end_frame, end]),
        rms_mm=float(np.sqrt(np.mean(gap**2))),
        max_end=ends[int(end)],
        max_end_frame=int(end_frame),
        joint_max_deg={n: float(v) for n, v in zip(names, degrees.max(axis=0), strict=True)},
        end_max_mm={n: float(v) for n, v in zip(ends, gap.max(axis=0), strict=True)},
    )


def baseline_with_ends(baseline: Clip, ends: tuple[str, ...]) -> Clip:
    """The baseline measured at the same ends as the clip it is compared with."""
    return replace(baseline, reading=replace(baseline.reading, ends=ends))


def world_track(clip: Clip, joint: int) -> dict[str, Floats]:
    """A joint in the world on each frame: position in cm, speed in m/s, acceleration in m/s².

    By central differences, one-sided at the ends.
    """
    positions = evaluate(clip).world(clip.skeleton)[1][:, joint] * clip.reading.metres_per_unit
    rate = float(clip.rate)
    if clip.frames < 3:
        velocity = np.zeros_like(positions)
        acceleration = np.zeros_like(positions)
    else:
        velocity = np.gradient(positions, axis=0) * rate
        acceleration = np.zeros_like(positions)
        acceleration[1:-1] = np.diff(positions, 2, axis=0) * rate**2
        acceleration[[0, -1]] = acceleration[[1, -2]]
    return {
        **{f"p{axis}": 100.0 * positions[:, k] for k, axis in enumerate("xyz")},
        "vs": np.linalg.norm(velocity, axis=1),
        "aa": np.linalg.norm(acceleration, axis=1),
    }
