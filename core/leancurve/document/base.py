"""The first stage of evaluation: what a clip's own curves give, and the poses they make."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import TypeAlias

import numpy as np

from leancurve.curves.curve import Curve, KeyedCurve, SampledCurve, evaluate_keyed
from leancurve.document.clip import Clip
from leancurve.document.kept import recent
from leancurve.document.prop import ORDER
from leancurve.document.track import BASE, TrackId, base_track
from leancurve.figure.pose import Pose
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats, Ints


def sampled_on_frames(curve: Curve, frames: int) -> bool:
    """Whether a curve is dense: sampled, or keyed on every frame and nowhere else."""
    if isinstance(curve, SampledCurve):
        return True
    return curve.key_count == frames and bool(np.all(curve.time == np.arange(frames)))


def curve_values(clip: Clip, frames: Floats, wanted: Iterable[TrackId]) -> dict[TrackId, Floats]:
    """Each curve by itself at times ``(F,)`` in frames: between frames sampled ones go straight."""
    whole = len(frames) == clip.frames and bool(np.all(frames == np.arange(clip.frames)))
    out: dict[TrackId, Floats] = {}
    keyed: dict[TrackId, KeyedCurve] = {}
    for channel in wanted:
        curve = clip.curves[channel]
        if isinstance(curve, KeyedCurve):
            keyed[channel] = curve
        else:
            out[channel] = curve.values if whole else curve.at(frames)
    if whole and 2 * len(keyed) > len(clip.curves):
        values = _keyed_values(clip)
        return out | {channel: values[channel] for channel in keyed}
    return out | _evaluated(keyed, frames)


def _evaluated(curves: Mapping[TrackId, KeyedCurve], frames: Floats) -> dict[TrackId, Floats]:
    if not curves:
        return {}
    return dict(zip(curves, evaluate_keyed(list(curves.values()), frames), strict=True))


def _weight(values: dict[TrackId, Floats]) -> int:
    return sum(v.nbytes for v in values.values())


@recent(32 * 2**20, _weight)
def _keyed_values(clip: Clip) -> dict[TrackId, Floats]:
    """All keyed curves on each of the clip's frames."""
    keyed = {t: c for t, c in clip.curves.items() if isinstance(c, KeyedCurve)}
    return _evaluated(keyed, np.arange(clip.frames, dtype=np.float64))


def _values_at(
    clip: Clip, frames: Floats, joints: Sequence[int]
) -> tuple[dict[TrackId, Floats], dict[int, Floats]]:
    """Values of all channels of some joints, and rotations between frames of the sampled ones.

    A joint all of whose turns are sampled turns by slerp between frames; where some are keyed,
    those follow their curves and the sampled ones go straight, the short way round.
    """
    values = curve_values(clip, frames, [base_track(j, c) for j in joints for c in clip.layout[j]])
    between = np.flatnonzero(frames != np.floor(frames))
    slerped: dict[int, Floats] = {}
    if not len(between):
        return values, slerped
    sampled = {
        j: [t for t in clip.turns_of(j) if isinstance(clip.curves[t], SampledCurve)] for j in joints
    }
    sampled = {j: found for j, found in sampled.items() if found}
    if not sampled:
        return values, slerped
    low, high, share = between_frames(frames[between], clip.frames)
    tracks = [t for found in sampled.values() for t in found]
    before, after = (curve_values(clip, at.astype(np.float64), tracks) for at in (low, high))
    for joint, found in sampled.items():
        order = clip.order(joint)
        if len(found) < len(order):
            for track in found:
                step = after[track] - before[track]
                step -= 360.0 * np.round(step / 360.0)
                values[track] = values[track].copy()
                values[track][between] = before[track] + share * step
        else:
            a, b = (
                rotations_of(np.stack([side[t] for t in found], axis=-1), clip, [joint])
                for side in (before, after)
            )
            slerped[joint] = rotation.slerp(a, b, share)
    return values, slerped


def rotations_of(angles: Floats, clip: Clip, joints: Sequence[int]) -> Floats:
    """Rotations ``(F, 4)`` of a joint's angles ``(F, n)``, or ``(F, J, 4)`` of ``(F, J, 3)``."""
    from leancurve.numbers.kernels import motion  # numba loads late

    one = angles.ndim == 2
    if one:
        padded = np.zeros((len(angles), 1, 3))
        padded[:, 0, : angles.shape[1]] = angles
        angles = padded
    out = np.empty((*angles.shape[:2], 4))
    motion.euler_to_quat(angles, clip.rotation_axes[list(joints)], out)
    return out[:, 0] if one else out


def channel_values(
    clip: Clip, frames: Floats | None = None, channels: Iterable[TrackId] | None = None
) -> dict[TrackId, Floats]:
    """What the clip's own curves give at times ``(F,)`` in frames, by default on each of the clip's
    frames; all channels unless some are named. Nothing that stands over them counts.

    On frames they are the curves' values. Between frames the angles of sampled joints are the
    solution, nearest to their neighbours, of the rotation half way.
    """
    wanted = list(clip.channels if channels is None else channels)
    at = times_of(clip, frames)
    if bool(np.all(at == np.floor(at))):
        return curve_values(clip, at, wanted)
    values, slerped = _values_at(clip, at, sorted({t.joint for t in wanted if t.owner == BASE}))
    values |= curve_values(clip, at, [t for t in wanted if t.owner != BASE])
    between = np.flatnonzero(at != np.floor(at))
    for joint, turned in slerped.items():
        order, tracks = clip.order(joint), clip.turns_of(joint)
        if len(order) != 3:
            continue
        # Nearest to the straight line between the neighbours' angles: continuous with both.
        straight = np.stack([values[t][between] for t in tracks], axis=-1)
        best = rotation.angles_near(turned, order, straight)
        for k, track in enumerate(tracks):
            values[track] = values[track].copy()
            values[track][between] = best[:, k]
    return {t: values[t] for t in wanted}


def times_of(clip: Clip, frames: Floats | None) -> Floats:
    """Times ``(F,)`` in frames; None is each of the clip's frames."""
    if frames is None:
        return np.arange(clip.frames, dtype=np.float64)
    return np.asarray(frames, dtype=np.float64)


def between_frames(times: Floats, count: int) -> tuple[Ints, Ints, Floats]:
    """The frames on either side of times ``(n,)``, of ``count``, and how far between them."""
    off = np.clip(times, 0, max(count - 1, 0))
    low = np.floor(off).astype(np.int64)
    return low, np.minimum(low + 1, count - 1), off - low


Below: TypeAlias = Callable[[Sequence[int]], Pose]
"""What the stages below one give at its times, of the joints that it asks for."""


def base_pose(clip: Clip, frames: Floats, joints: Sequence[int]) -> Pose:
    """The first stage: the clip's own curves at times ``(F,)``, of some joints."""
    values, slerped = _values_at(clip, frames, joints)
    count = len(frames)
    angles = np.zeros((count, len(joints), 3))
    offsets = clip.skeleton.offset_array[list(joints)]
    translation = np.broadcast_to(offsets, (count, len(joints), 3)).copy()
    still: list[int] = []
    for at, j in enumerate(joints):
        names = clip.layout[j]
        turns = [c for c in names if c[0] == "r"]
        if not turns:
            still.append(at)
        for k, name in enumerate(turns):
            angles[:, at, k] = values[base_track(j, name)]
        if len(turns) < len(names):
            moves = {c: values[base_track(j, c)] for c in names if c[0] == "t"}
            translation[:, at] = clip.joint_translations(moves, j, count)
    rotations = rotations_of(angles, clip, joints)
    rotations[:, still] = clip.skeleton.rest_rotations[[joints[at] for at in still]]
    between = np.flatnonzero(frames != np.floor(frames))
    for at, j in enumerate(joints):
        if j in slerped:
            rotations[between, at] = slerped[j]
    return Pose(rotations, translation)


def prop_pose(clip: Clip, frames: Floats | None = None) -> tuple[Floats, Floats]:
    """World rotations ``(F, P, 4)`` and positions ``(F, P, 3)`` of the clip's props, own unit."""
    at = times_of(clip, frames)
    values = curve_values(clip, at, [t for prop in clip.props for t in prop.tracks])
    turns = np.empty((len(at), len(clip.props), 4))
    points = np.empty((len(at), len(clip.props), 3))
    for k, prop in enumerate(clip.props):
        own = {t.name: values[t] for t in prop.tracks}
        angles = np.stack([own[f"r{axis.lower()}"] for axis in ORDER], axis=-1)
        turns[:, k] = rotation.from_euler(angles, ORDER)
        points[:, k] = np.stack([own["tx"], own["ty"], own["tz"]], axis=-1)
    return turns, points
