"""The one order of evaluation: from curves to poses."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

import numpy as np

from leancurve.curves.curve import Curve, KeyedCurve, SampledCurve, evaluate_keyed
from leancurve.document.clip import ChannelId, Clip
from leancurve.figure.pose import Pose
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Bools, Floats


def sampled_on_frames(curve: Curve, frames: int) -> bool:
    """Whether a curve is dense: sampled, or keyed on every frame and nowhere else."""
    if isinstance(curve, SampledCurve):
        return True
    return curve.key_count == frames and bool(np.all(curve.time == np.arange(frames)))


def channel_values(
    clip: Clip, frames: Floats, channels: Iterable[ChannelId] | None = None
) -> dict[ChannelId, Floats]:
    """Values of channels at times ``(F,)`` in frames; all channels unless some are named."""
    wanted = list(clip.channels if channels is None else channels)
    frames = np.asarray(frames, dtype=np.float64)
    whole = len(frames) == clip.frames and bool(np.all(frames == np.arange(clip.frames)))
    out: dict[ChannelId, Floats] = {}
    keyed_ids: list[ChannelId] = []
    keyed_curves: list[KeyedCurve] = []
    for channel in wanted:
        curve = clip.curves[channel]
        if isinstance(curve, KeyedCurve):
            keyed_ids.append(channel)
            keyed_curves.append(curve)
        else:
            out[channel] = curve.values if whole else curve.at(frames)
    if keyed_curves:
        out.update(zip(keyed_ids, evaluate_keyed(keyed_curves, frames), strict=True))
    return out


def _poses_from(
    clip: Clip, values: Mapping[ChannelId, Floats], count: int, joints: Sequence[int]
) -> Pose:
    from leancurve.numbers.kernels import motion  # numba loads late

    angles = np.zeros((count, len(joints), 3))
    offsets = clip.skeleton.offset_array[list(joints)]
    translation = np.broadcast_to(offsets, (count, len(joints), 3)).copy()
    for at, j in enumerate(joints):
        names = clip.layout[j]
        turns = [c for c in names if c[0] == "r"]
        for k, name in enumerate(turns):
            angles[:, at, k] = values[ChannelId(j, name)]
        if len(turns) < len(names):
            moves = {c: values[ChannelId(j, c)] for c in names if c[0] == "t"}
            translation[:, at] = clip.joint_translations(moves, j, count)
    quats = np.empty((count, len(joints), 4))
    motion.euler_to_quat(angles, clip.rotation_axes[list(joints)], quats)
    return Pose(quats, translation)


def evaluate(clip: Clip, frames: Floats | None = None, joints: Sequence[int] | None = None) -> Pose:
    """Poses of a clip at times ``(F,)`` in frames, by default on each of its frames; of all its
    joints, or of some: a local pose needs no other's.

    Between frames, sampled rotations turn by slerp and sampled positions go straight;
    keyed channels follow their curves. ``evaluate(F) == evaluate(all)[F]`` on frames.
    """
    every = np.arange(clip.frames, dtype=np.float64)
    at = every if frames is None else np.asarray(frames, dtype=np.float64)
    wanted = range(len(clip.skeleton)) if joints is None else joints
    channels = [ChannelId(j, c) for j in wanted for c in clip.layout[j]]
    pose = _poses_from(clip, channel_values(clip, at, channels), len(at), wanted)
    between: Bools = at != np.floor(at)
    dense = [
        k
        for k, j in enumerate(wanted)
        if any(
            c[0] == "r" and isinstance(clip.curves[ChannelId(j, c)], SampledCurve)
            for c in clip.layout[j]
        )
    ]
    if np.any(between) and dense:
        off = np.clip(at[between], 0, max(clip.frames - 1, 0))
        low = np.floor(off)
        high = np.minimum(low + 1, clip.frames - 1)
        a, b = (
            _poses_from(clip, channel_values(clip, t, channels), len(t), wanted).rotation[:, dense]
            for t in (low, high)
        )
        mixed = rotation.slerp(a, b, (off - low)[:, None])
        where = np.flatnonzero(between)
        pose.rotation[where[:, None], np.array(dense)] = mixed
    return pose
