"""Stored poses and motions: cut out of a clip, and said on whichever skeleton wants them."""

from __future__ import annotations

import numpy as np

from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.document.parts.registry import bare
from leancurve.document.posing import mirrored
from leancurve.document.root_motion import heading
from leancurve.document.rotations import angles_afresh, quaternions
from leancurve.errors import BadInput
from leancurve.figure.skeleton import UP
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats
from leancurve.retarget.retargeting import Wishes, retargeted
from leancurve.time.resample import resampled


def excerpt(clip: Clip, first: int, last: int) -> Clip:
    """The frames from ``first`` to ``last``, both included, as they are seen, with layers,
    placement and plants in the curves; of one frame it is a pose."""
    return bare(resampled(clip, first=first, last=last, planted=True))


def pose_on(clip: Clip, source: Clip, at: int, frame: int, mirror: bool) -> dict[int, Floats]:
    """Local rotations ``(4,)`` by joint with which a clip stands as a source does on its frame
    ``at``; ``mirror`` puts it on the other side of the body.

    The source may be on any skeleton. A root keeps the heading that it has on the clip's ``frame``,
    and nothing is said of where it stands: a pose is taken on the spot.
    """
    if not 0 <= at < source.frames:
        raise BadInput(f"frame: expected one within 0 to {source.frames - 1}")
    turns = _turns_on(clip, source, at)
    if mirror:
        turns = _mirrored(clip, turns, frame)
    now = evaluate(clip, np.array([float(frame)])).rotation[0]
    for joint, parent in enumerate(clip.skeleton.parents):
        if parent < 0 and joint in turns:
            turns[joint] = _headed(clip, turns[joint], now[joint])
    return turns


def _turns_on(clip: Clip, source: Clip, at: int) -> dict[int, Floats]:
    free = [j for j in range(len(clip.skeleton)) if len(clip.order(j)) == 3]
    if source.skeleton == clip.skeleton:
        turns = evaluate(source, np.array([float(at)])).rotation[0]
        return {j: turns[j] for j in free}
    done = retargeted(excerpt(source, at, at), clip, Wishes(feet=0.0, hands=0.0))
    turns = evaluate(done.clip, np.zeros(1)).rotation[0]
    return {j: turns[j] for j in free if done.gives(j)}


def _mirrored(clip: Clip, turns: dict[int, Floats], frame: int) -> dict[int, Floats]:
    """Local rotations as they are on the other side of the body."""
    values = {}
    for joint, turn in turns.items():
        order = clip.order(joint)
        angles = angles_afresh(turn[None], order)[0]
        values[joint] = {f"r{a.lower()}": float(v) for a, v in zip(order, angles, strict=True)}
    out = {}
    for joint, given in mirrored(clip, values, float(frame)).items():
        order = clip.order(joint)
        if len(order) == 3:
            angles = np.array([given[f"r{a.lower()}"] for a in order])
            out[joint] = quaternions(angles, order)
    return out


def _headed(clip: Clip, turn: Floats, now: Floats) -> Floats:
    """A root's rotation with another one's heading, about the up axis."""
    up = UP[clip.reading.up_axis]
    back = rotation.conjugate(heading(turn, up))
    return np.asarray(rotation.multiply(rotation.multiply(heading(now, up), back), turn))
