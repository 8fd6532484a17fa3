"""The one order of evaluation, from curves to poses.

*Stored curves* are what is edited: ``clip.curves``. *Effective channels* are what comes out:
:func:`effective`. Poses are made in stages, each from the one before:

1. base: what the clip's own curves give, a local rotation and translation a joint;
2. correction layers (:mod:`leancurve.document.layering`), bottom to top;
3. placement (:mod:`leancurve.document.placement`);
4. the root corrected (:mod:`leancurve.document.planting.root`): a sum of named contributions;
5. limbs (:mod:`leancurve.document.planting.limbs`), which hold what is planted.

Each stage asks those below it for the joints that it needs, and gives a pose of its own. World
poses are the last stage's, through the hierarchy: :meth:`Pose.world`. What reads a motion and does
not edit its curves reads it here; what edits curves works on ``clip.below``.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from functools import partial
from typing import TypeAlias

import numpy as np

from leancurve.document import layering
from leancurve.document.base import (
    Below,
    base_pose,
    between_frames,
    channel_values,
    curve_values,
    times_of,
)
from leancurve.document.clip import Clip
from leancurve.document.kept import recent
from leancurve.document.layer import NOBODY
from leancurve.document.placement import placed, placed_joints, placed_props
from leancurve.document.planting.plan import planted, planted_joints, rooted
from leancurve.document.prop import ORDER, PROP, prop_track
from leancurve.document.rotations import angles_near, said
from leancurve.document.track import BASE, TrackId
from leancurve.figure.pose import Pose
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats

VERSION = 5
"""Rises when the same document gives other poses or channels: what was kept of them is old then."""

Stage: TypeAlias = Callable[[Clip, Floats, Sequence[int], Below], Pose]

STAGES: tuple[Stage, ...] = (layering.layered, placed, rooted, planted)
"""What follows the base, in order: each makes a pose ``(F, J)`` at times ``(F,)`` in frames of what
the stages below it give, so that some frames are exactly all frames chosen from."""


def evaluate(clip: Clip, frames: Floats | None = None, joints: Sequence[int] | None = None) -> Pose:
    """Poses of a clip at times ``(F,)`` in frames, by default on each of its frames; of all its
    joints, or of some.

    ``evaluate(F) == evaluate(all)[F]`` on frames.
    """
    at = times_of(clip, frames)
    wanted = range(len(clip.skeleton)) if joints is None else joints
    pose: Below = partial(base_pose, clip, at)
    for stage in STAGES:
        pose = _upon(stage, clip, at, pose)
    return pose(wanted)


def _upon(stage: Stage, clip: Clip, at: Floats, below: Below) -> Below:
    return lambda joints: stage(clip, at, joints, below)


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
    """Joints that layers, placement or plants put elsewhere."""
    return layering.touched(clip) | placed_joints(clip) | planted_joints(clip)


SAME_DEG = 1e-9
"""A joint that is turned by no more stands as its own curves have it."""


@recent(32 * 2**20, _bytes)
def _turned_angles(clip: Clip) -> dict[int, Floats]:
    """Angles ``(F, n)`` on all frames of joints that something over the curves turns, without a
    jump in time. Where they stand as their own curves have them they are the curves' own."""
    joints = [j for j in sorted(_over(clip)) if clip.order(j)]
    if not joints or not clip.frames:
        return {}
    pose = evaluate(clip, joints=joints)
    below = base_pose(clip, times_of(clip, None), joints)
    moved = rotation.geodesic_deg(pose.rotation, below.rotation) > SAME_DEG
    own = channel_values(clip, channels=[t for j in joints for t in clip.turns_of(j)])
    out: dict[int, Floats] = {}
    for k, joint in enumerate(joints):
        near = np.stack([own[t] for t in clip.turns_of(joint)], axis=-1)
        out[joint] = said(near, pose.rotation[:, k], clip.order(joint), moved[:, k])
    return out


def _on_frames(clip: Clip, at: Floats) -> bool:
    return bool(np.all((at == np.floor(at)) & (at >= 0) & (at < clip.frames)))


def _placed_values(clip: Clip, at: Floats) -> dict[TrackId, Floats]:
    """Channels of props at times ``(F,)`` where the clip's placement puts them, their angles
    without a jump; none where it puts them nowhere else."""
    if clip.placement is None or not clip.placement.counts or not clip.props:
        return {}
    whole = at if _on_frames(clip, at) else np.union1d(at, np.arange(clip.frames))
    here = np.searchsorted(whole, at)
    turns, points = placed_props(clip, whole)
    own = curve_values(clip, whole, [t for prop in clip.props for t in prop.tracks])
    out: dict[TrackId, Floats] = {}
    for k, prop in enumerate(clip.props):
        tracks = [prop_track(prop.id, f"r{axis.lower()}") for axis in ORDER]
        angles = said(np.stack([own[t] for t in tracks], axis=-1), turns[:, k], ORDER)
        out |= {t: angles[here, n] for n, t in enumerate(tracks)}
        for n, name in enumerate(("tx", "ty", "tz")):
            out[prop_track(prop.id, name)] = points[here, k, n]
    return out


def effective(
    clip: Clip, frames: Floats | None = None, channels: Iterable[TrackId] | None = None
) -> dict[TrackId, Floats]:
    """Effective channels at times ``(F,)`` in frames, by default on each of the clip's frames;
    all channels unless some are named.

    Where nothing stands over them they are :func:`channel_values`. Angles of joints that something
    over their curves turns begin as these do, and go on from frame to frame without a jump; a
    joint of one or two rotation channels comes as near as these can say.
    """
    at = times_of(clip, frames)
    values = channel_values(clip, at, channels)
    if any(t.owner == PROP for t in values):
        values |= {t: v for t, v in _placed_values(clip, at).items() if t in values}
    over = sorted({t.joint for t in values if t.owner == BASE} & _over(clip))
    if not over:
        return values
    known = _turned_angles(clip)
    on_frames = _on_frames(clip, at)
    moves = [j for j in over if any(c[0] == "t" for c in clip.layout[j])]
    asked = moves if on_frames else over
    pose = evaluate(clip, at, asked)
    for joint in over:
        here: dict[TrackId, Floats] = {}
        if joint in known:
            if on_frames:
                angles = known[joint][at.astype(np.int64)]
            else:
                low, high, share = between_frames(at, clip.frames)
                before, after = known[joint][low], known[joint][high]
                near = before + share[:, None] * (after - before)
                turned = pose.rotation[:, asked.index(joint)]
                angles = angles_near(turned, clip.order(joint), near)
            here = {t: angles[:, n] for n, t in enumerate(clip.turns_of(joint))}
        if joint in moves:
            here |= clip.translation_values(joint, pose.translation[:, asked.index(joint)])
        values |= {track: given for track, given in here.items() if track in values}
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
    held = planted_joints(clip)
    if before is not None:
        held |= planted_joints(before)
        if before.layers != clip.layers:
            joints |= layering.touched(before) | layering.touched(clip)
        if before.placement != clip.placement:
            joints |= placed_joints(before) | placed_joints(clip)
    over = (clip.plants, clip.layers, clip.placement)
    others = before is not None and (before.plants, before.layers, before.placement) != over
    if changed or others:
        joints |= held
    return tuple(sorted(joints))
