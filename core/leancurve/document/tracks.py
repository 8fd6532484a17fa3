"""Dense motion as filters see it: a joint's rotations, or the numbers of single channels.

Rotations are worked on as rotations: a filter gives quaternions, and their angles are written
as the solution that goes on from the frame before, so that channels stay continuous.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from leancurve.curves.curve import Curve, SampledCurve, frame_values
from leancurve.document.base import sampled_on_frames
from leancurve.document.clip import Clip
from leancurve.document.rotations import quaternions
from leancurve.document.scope import Scope
from leancurve.document.track import TrackId, base_track
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats
from leancurve.numbers.continuity import rewritten
from leancurve.numbers.cubic import hermite


@dataclass(frozen=True)
class TurningTrack:
    """A joint with three dense rotation channels: angles ``(F, 3)``, quaternions ``(F, 4)``."""

    joint: int
    order: str
    angles: Floats
    rotations: Floats


@dataclass(frozen=True)
class ValueTrack:
    """Dense channels filtered as plain numbers ``(F, n)``: positions, or lone angles."""

    channels: tuple[TrackId, ...]
    values: Floats

    @property
    def turns(self) -> bool:
        return self.channels[0].turns


def _dense(clip: Clip, scope: Scope) -> dict[int, list[TrackId]]:
    out: dict[int, list[TrackId]] = defaultdict(list)
    for channel in scope.resolve(clip):
        if sampled_on_frames(clip.curves[channel], clip.frames):
            out[channel.joint].append(channel)
    return out


def _whole_turn(clip: Clip, joint: int, channels: list[TrackId]) -> bool:
    return len(clip.order(joint)) == 3 and sum(c.turns for c in channels) == 3


def turning_tracks(clip: Clip, scope: Scope) -> list[TurningTrack]:
    """Joints in scope whose three rotation channels are dense and in scope."""
    out = []
    for joint, channels in _dense(clip, scope).items():
        if not _whole_turn(clip, joint, channels):
            continue
        order = clip.order(joint)
        angles = np.stack(
            [frame_values(clip.curves[base_track(joint, f"r{a.lower()}")]) for a in order], axis=1
        )
        quats = rotation.hemisphere(quaternions(angles, order))
        out.append(TurningTrack(joint, order, angles, quats))
    return out


def value_tracks(clip: Clip, scope: Scope) -> list[ValueTrack]:
    """Positions of a joint together; rotation channels that do not make a whole turn, alone."""
    out = []
    for joint, channels in _dense(clip, scope).items():
        moves = tuple(c for c in channels if not c.turns)
        groups = [moves] if moves else []
        if not _whole_turn(clip, joint, channels):
            groups += [(c,) for c in channels if c.turns]
        for group in groups:
            values = np.stack([frame_values(clip.curves[c]) for c in group], axis=1)
            out.append(ValueTrack(group, values))
    return out


def skipped(clip: Clip, scope: Scope) -> int:
    """Channels in scope that are keyed, not dense: filters leave them alone."""
    return sum(not sampled_on_frames(clip.curves[c], clip.frames) for c in scope.resolve(clip))


def written(
    tracks: Sequence[TurningTrack], rotations: Mapping[int, Floats]
) -> dict[TrackId, Curve]:
    """Curves of joints given new rotations ``(F, 4)``, continuous in time; frames that did not
    turn stay."""
    out: dict[TrackId, Curve] = {}
    for track in tracks:
        q = rotations[track.joint]
        moved = np.any(q != track.rotations, axis=1)
        if not np.any(moved):
            continue
        angles = rewritten(track.angles, q, moved, track.order)
        for k, axis in enumerate(track.order):
            out[base_track(track.joint, f"r{axis.lower()}")] = SampledCurve(
                np.ascontiguousarray(angles[:, k])
            )
    return out


def written_values(track: ValueTrack, values: Floats) -> dict[TrackId, Curve]:
    """Curves of channels given new numbers ``(F, n)``; those that stayed are left out."""
    return {
        c: SampledCurve(np.ascontiguousarray(values[:, k]))
        for k, c in enumerate(track.channels)
        if not np.array_equal(values[:, k], track.values[:, k])
    }


def curves_near(clip: Clip, other: Clip, joints: Iterable[int]) -> dict[TrackId, Curve]:
    """Another clip's curves of joints, said as this clip says its own.

    Rotations are given in this clip's order, as the solution nearest to what stands: so they lie
    over it without flips. Both clips have one skeleton and as many frames.
    """
    out: dict[TrackId, Curve] = {}
    for joint in joints:
        names = clip.layout[joint]
        order = clip.order(joint)
        turns = [f"r{axis.lower()}" for axis in order]
        theirs = [f"r{axis.lower()}" for axis in other.order(joint)]
        for name in names:
            if name in other.layout[joint]:
                out[base_track(joint, name)] = other.curves[base_track(joint, name)]
        if len(order) != 3 or len(theirs) != 3 or clip.frames != other.frames:
            continue
        frames = np.arange(clip.frames, dtype=np.float64)
        here = np.stack([clip.curves[base_track(joint, c)].at(frames) for c in turns], axis=1)
        there = np.stack([other.curves[base_track(joint, c)].at(frames) for c in theirs], axis=1)
        rotations = quaternions(there, other.order(joint))
        near = rewritten(here, rotations, np.ones(clip.frames, dtype=np.bool_), order)
        for k, name in enumerate(turns):
            out[base_track(joint, name)] = SampledCurve(np.ascontiguousarray(near[:, k]))
    return out


def refilled(q: Floats, first: int, last: int) -> Floats:
    """Rotations ``(F, 4)`` with frames first to last replaced from the good samples around.

    A cubic Hermite in the rotation vector relative to the frame before, with the speeds of both
    sides; at the clip's border the near side is held.
    """
    out = q.copy()
    before, after = first - 1, last + 1
    if before < 0 and after >= len(q):
        return out
    if before < 0 or after >= len(q):
        out[first : last + 1] = q[after if before < 0 else before]
        return out
    span = float(after - before)
    base = q[before]
    end = rotation.log(rotation.multiply(rotation.conjugate(base), q[after]))
    start_speed = _speed(q, before, -1, base)
    end_speed = _speed(q, after, 1, base)
    u = (np.arange(first, last + 1) - before)[:, None] / span
    path = hermite(u, np.zeros(3), span * start_speed, end, span * end_speed)
    out[first : last + 1] = rotation.multiply(base, rotation.exp(path))
    return rotation.hemisphere(out)


def bridged(q: Floats, first: int, last: int) -> Floats:
    """Rotations ``(F, 4)`` with frames first to last, not at an end, led straight across."""
    out = q.copy()
    share = np.linspace(0.0, 1.0, last - first + 3)[1:-1]
    out[first : last + 1] = rotation.slerp(q[first - 1], q[last + 1], share)
    return rotation.hemisphere(out)


def _speed(q: Floats, frame: int, side: int, base: Floats) -> Floats:
    """Change of the rotation vector a frame at a frame, from two to three frames on its side."""
    reach = min(3, frame if side < 0 else len(q) - 1 - frame)
    if reach == 0:
        return np.zeros(3)
    here = rotation.log(rotation.multiply(rotation.conjugate(base), q[frame]))
    there = rotation.log(rotation.multiply(rotation.conjugate(base), q[frame + side * reach]))
    return np.asarray((there - here) * side / reach)
