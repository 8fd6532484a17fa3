"""The one order of evaluation, from curves to poses.

*Stored curves* are what is edited: ``clip.curves``. *Effective channels* are what comes out:
:func:`effective`. Poses are made in stages, each from the one before:

1. base: what the clip's own curves give, a local rotation and translation a joint;
2. correction layers (:mod:`leancurve.document.layering`), bottom to top;
3. placement (:mod:`leancurve.document.placement`);
4. plants (:mod:`leancurve.document.planting`).

Each stage takes the pose of the one before and the frames, and gives one of the same shape. World
poses are the last stage's, through the hierarchy: :meth:`Pose.world`. What reads a motion and does
not edit its curves reads it here; what edits curves works on ``clip.below``.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import TypeAlias

import numpy as np

from leancurve.document import layering, planting
from leancurve.document.base import between_frames, channel_values, times_of
from leancurve.document.clip import Clip
from leancurve.document.kept import recent
from leancurve.document.layer import NOBODY
from leancurve.document.placement import placed_joints, placed_pose
from leancurve.document.track import BASE, TrackId
from leancurve.figure.pose import Pose
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats
from leancurve.numbers.continuity import rewritten

VERSION = 4
"""Rises when the same document gives other poses or channels: what was kept of them is old then."""

Stage: TypeAlias = Callable[[Clip, Floats, Sequence[int], Pose], Pose]

STAGES: tuple[Stage, ...] = (planting.planted,)
"""What follows the base, in order: each makes of the pose ``(F, J)`` of the stage before, at times
``(F,)`` in frames, another one, so that some frames are exactly all frames chosen from."""


def evaluate(clip: Clip, frames: Floats | None = None, joints: Sequence[int] | None = None) -> Pose:
    """Poses of a clip at times ``(F,)`` in frames, by default on each of its frames; of all its
    joints, or of some.

    ``evaluate(F) == evaluate(all)[F]`` on frames.
    """
    at = times_of(clip, frames)
    wanted = range(len(clip.skeleton)) if joints is None else joints
    pose = placed_pose(clip, at, wanted)
    for stage in STAGES:
        pose = stage(clip, at, wanted, pose)
    return pose


def _weight(pose: Pose) -> int:
    """What a pose takes with its world, bytes."""
    return 2 * (pose.rotation.nbytes + pose.translation.nbytes)


@recent(64 * 2**20, _weight)
def posed(clip: Clip) -> Pose:
    """:func:`evaluate` of all joints on each frame, remembered for the last few clips: whoever
    reads it changes nothing in it."""
    return evaluate(clip)


def _bytes(found: dict[int, Floats]) -> int:
    return sum(v.nbytes for v in found.values())


def _over(clip: Clip) -> frozenset[int]:
    """Joints that layers or placement put elsewhere."""
    return layering.touched(clip) | placed_joints(clip)


@recent(32 * 2**20, _bytes)
def _layered_angles(clip: Clip) -> dict[int, Floats]:
    """Angles ``(F, 3)`` on all frames of joints that layers or placement turn, without a jump in
    time."""
    joints = [j for j in sorted(_over(clip)) if len(clip.order(j)) == 3]
    if not joints or not clip.frames:
        return {}
    pose = evaluate(clip, joints=joints)
    own = channel_values(clip, channels=[t for j in joints for t in clip.turns_of(j)])
    out: dict[int, Floats] = {}
    whole = np.ones(clip.frames, dtype=np.bool_)
    for k, joint in enumerate(joints):
        order = clip.order(joint)
        near = np.stack([own[t] for t in clip.turns_of(joint)], axis=-1)
        out[joint] = rewritten(near, pose.rotation[:, k], whole, order)
    return out


def effective(
    clip: Clip, frames: Floats | None = None, channels: Iterable[TrackId] | None = None
) -> dict[TrackId, Floats]:
    """Effective channels at times ``(F,)`` in frames, by default on each of the clip's frames;
    all channels unless some are named.

    Where nothing stands over them they are :func:`channel_values`. Angles of joints that plants
    turn are the reading nearest to what the joint's own curves say there; those of joints that
    layers or placement turn begin nearest to them, and go on from frame to frame.
    """
    at = times_of(clip, frames)
    values = channel_values(clip, at, channels)
    turned = planting.touched(clip) | _over(clip)
    over = sorted({t.joint for t in values if t.owner == BASE} & turned)
    if not over:
        return values
    layered = _layered_angles(clip)
    on_frames = bool(np.all((at == np.floor(at)) & (at >= 0) & (at < clip.frames)))
    known = set(layered) if on_frames else set()
    moves = {j for j in over if any(c[0] == "t" for c in clip.layout[j])}
    asked = [j for j in over if j in moves or j not in known]
    pose = evaluate(clip, at, asked)
    own = channel_values(clip, at, [t for j in asked for t in clip.turns_of(j)])
    for joint in over:
        turns = clip.turns_of(joint)
        here: dict[TrackId, Floats] = {}
        k = asked.index(joint) if joint in asked else -1
        if joint in known:
            angles = layered[joint][at.astype(np.int64)]
            here = {t: angles[:, n] for n, t in enumerate(turns)}
        elif len(turns) == 3:
            near = np.stack([own[t] for t in turns], axis=-1)
            if joint in layered:
                low, high, share = between_frames(at, clip.frames)
                before, after = layered[joint][low], layered[joint][high]
                near = before + share[:, None] * (after - before)
            angles = rotation.angles_near(pose.rotation[:, k], clip.order(joint), near)
            here = {t: angles[:, n] for n, t in enumerate(turns)}
        moved = clip.translation_values(joint, pose.translation[:, k]) if joint in moves else {}
        for track, given in {**here, **moved}.items():
            if track in values:
                values[track] = given
    return values


def affected(clip: Clip, changed: Iterable[TrackId], before: Clip | None = None) -> tuple[int, ...]:
    """Joints whose local poses are others where these channels are, or where plants are others
    than in the clip ``before``: what must be sent anew."""
    changed = list(changed)
    joints = {t.joint for t in changed if t.owner == BASE}
    for one in (clip, before) if before is not None else (clip,):
        for layer in one.layers:
            reached = set(layer.shares)
            own = {t.joint for t in changed if t.owner == layer.owner}
            # A weight counts for all of its joints; in the figure's space all above one do.
            whole = NOBODY in own or (layer.space == "figure" and (joints or own))
            joints |= reached if whole else own & reached
    held = planting.touched(clip)
    if before is not None:
        held |= planting.touched(before)
        if before.layers != clip.layers:
            joints |= layering.touched(before) | layering.touched(clip)
        if before.placement != clip.placement:
            joints |= placed_joints(before) | placed_joints(clip)
    over = (clip.plants, clip.layers, clip.placement)
    others = before is not None and (before.plants, before.layers, before.placement) != over
    if changed or others:
        joints |= held
    return tuple(sorted(joints))
