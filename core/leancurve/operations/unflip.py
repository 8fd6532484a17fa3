"""Unflip: rotation channels made continuous, every pose as it was."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass
from typing import Any, ClassVar

import numpy as np

from leancurve import rotation
from leancurve.arrays import Bools, Floats, Ints
from leancurve.clip import ChannelId, Clip, evaluate, sampled_on_frames
from leancurve.curve import Curve, KeyedCurve, SampledCurve
from leancurve.operations.base import Operation, Params, Patch, Progress, Scope, silent

SNAP_DEG = 40.0
"""A turn between two frames this large, and standing out from its surroundings, is a snap
(common practice: an elbow at full speed turns about 1000° a second, 8° at 120 a second)."""
SNAP_RATIO = 3.0


class UnflipParams(Params):
    """Nothing to choose: the result is the one continuous reading of the poses."""


@dataclass(frozen=True)
class Flips:
    """What stands in a clip: ``(joint, channel or "", frame)`` each, frame being the later one.

    ``snaps`` are jumps of the true orientation, ``(joint, frame, degrees)``: never flips.
    """

    wraps: tuple[tuple[int, str, int], ...]
    alternates: tuple[tuple[int, int], ...]
    snaps: tuple[tuple[int, int, float], ...]

    def report(self, clip: Clip, most: int = 500) -> dict[str, Any]:
        """Counts, and where, by joint name, for people and programs."""
        names = clip.skeleton.names
        return {
            "wraps": len(self.wraps),
            "alternates": len(self.alternates),
            "snaps": len(self.snaps),
            "wraps_at": [
                {"joint": names[j], "channel": c, "frame": f} for j, c, f in self.wraps[:most]
            ],
            "alternates_at": [{"joint": names[j], "frame": f} for j, f in self.alternates[:most]],
            "snaps_at": [
                {"joint": names[j], "frame": f, "degrees": round(d, 3)}
                for j, f, d in self.snaps[:most]
            ],
        }


@dataclass(frozen=True)
class _Joint:
    """A joint's dense rotation channels, ``angles`` (F, n)."""

    joint: int
    order: str
    angles: Floats

    @property
    def channels(self) -> list[ChannelId]:
        return [ChannelId(self.joint, f"r{a.lower()}") for a in self.order]


def _values(curve: Curve) -> Floats:
    return curve.values if isinstance(curve, SampledCurve) else curve.value


def _joints(clip: Clip, scope: Scope) -> list[_Joint]:
    """Joints whose rotation channels are all in scope and dense, so that frames are neighbours."""
    wanted: dict[int, list[ChannelId]] = defaultdict(list)
    for channel in scope.resolve(clip):
        if channel.turns:
            wanted[channel.joint].append(channel)
    out = []
    for joint, channels in wanted.items():
        if len(channels) != len(clip.order(joint)):
            continue
        curves = [clip.curves[c] for c in channels]
        if clip.frames > 1 and all(sampled_on_frames(c, clip.frames) for c in curves):
            angles = np.stack([_values(c) for c in curves], axis=1)
            out.append(_Joint(joint, clip.order(joint), angles))
    return out


def continuous(angles: Floats, order: str) -> tuple[Floats, Bools, Ints]:
    """Continuous Euler angles of joints ``(J, F, n)`` of one order: also swaps and turns.

    ``swaps (J, F)`` says where the solution changed between frame f - 1 and f, ``turns
    (J, F, n)`` where a channel jumped by whole turns. Choosing between two equal solutions is
    a running exclusive-or along time, since both candidates keep the same distances.
    """
    from leancurve.kernels import motion

    if len(order) == 3:
        out = np.empty_like(angles)
        swaps = np.zeros(angles.shape[:2], dtype=np.bool_)
        turns = np.zeros(angles.shape, dtype=np.int64)
        base = 0.0 if order[0] == order[2] else 180.0
        motion.continuous_joints(
            np.ascontiguousarray(angles), np.full(len(angles), base), out, swaps, turns
        )
        return out, swaps, turns
    step = np.diff(angles, axis=1)
    turns = np.zeros(angles.shape, dtype=np.int64)
    # A step of just 180° has no nearer reading: it stays.
    turns[:, 1:] = np.where(np.abs(step) <= 180.0, 0, -np.floor(step / 360.0 + 0.5))
    return (
        angles + 360.0 * np.cumsum(turns, axis=1),
        np.zeros(angles.shape[:2], dtype=np.bool_),
        turns,
    )


def find_snaps(clip: Clip) -> list[tuple[int, int, float]]:
    """``(joint, frame, degrees)`` where a joint's rotation itself jumps between two frames.

    Told by the rotation alone, so also on keyed curves, and never confused with a flip.
    """
    if clip.frames < 2:
        return []
    local = evaluate(clip).rotation
    # Half the angle's cosine: one product tells the few frames that are worth a closer look.
    cosine = np.abs(np.einsum("fjk,fjk->fj", local[1:], local[:-1]))
    frames, joints = np.nonzero(cosine <= np.cos(np.radians(SNAP_DEG / 2)))
    out: list[tuple[int, int, float]] = []
    for f, j in zip(frames.tolist(), joints.tolist(), strict=True):
        low, high = max(0, f - 3), min(len(cosine), f + 4)
        steps = rotation.geodesic_deg(local[low + 1 : high + 1, j], local[low:high, j])
        around = np.delete(steps, f - low)
        # A fast turn has fast neighbours; a snap stands alone (a spike is two snaps).
        if len(around) == 0 or steps[f - low] >= SNAP_RATIO * float(np.median(around)):
            out.append((j, f + 1, float(steps[f - low])))
    return sorted(out)


def _solve(clip: Clip, scope: Scope, progress: Progress) -> tuple[dict[int, Floats], Flips]:
    by_order: dict[str, list[_Joint]] = defaultdict(list)
    for item in _joints(clip, scope):
        by_order[item.order].append(item)
    result: dict[int, Floats] = {}
    wraps: list[tuple[int, str, int]] = []
    alternates: list[tuple[int, int]] = []
    done, total = 0, sum(map(len, by_order.values()))
    for order, items in by_order.items():
        out, swaps, turns = continuous(np.stack([i.angles for i in items]), order)
        for k, item in enumerate(items):
            result[item.joint] = out[k]
            alternates += [(item.joint, f) for f in np.flatnonzero(swaps[k]).tolist()]
            for f, c in zip(*(a.tolist() for a in np.nonzero(turns[k])), strict=True):
                wraps.append((item.joint, f"r{order[c].lower()}", f))
            done += 1
            progress(done / total)
    inside = {c.joint for c in scope.resolve(clip)}
    snaps = [s for s in find_snaps(clip) if s[0] in inside]
    return result, Flips(tuple(sorted(wraps)), tuple(sorted(alternates)), tuple(snaps))


def find_flips(clip: Clip, scope: Scope | None = None, progress: Progress = silent) -> Flips:
    """The flips and snaps that stand in a clip's dense rotation channels."""
    return _solve(clip, scope or Scope(), progress)[1]


class Unflip(Operation[UnflipParams]):
    """Remove jumps of ±360° and swaps between the two equal Euler solutions.

    One channel ``(170, 179, -172)`` → ``(170, 179, 188)``. No pose changes. Turns that are true
    in the data, fast or at once, are not flips: they stay and are reported as snaps. Keyed
    curves that are not dense are left alone: their values between keys are meant.
    """

    name = "unflip"
    title = "Unflip"
    step = "unflip"
    Params: ClassVar[type[UnflipParams]] = UnflipParams

    def apply(
        self, clip: Clip, scope: Scope, params: UnflipParams, progress: Progress = silent
    ) -> Patch:
        result, flips = _solve(clip, scope, progress)
        curves: dict[ChannelId, Curve] = {}
        for joint, angles in result.items():
            for k, axis in enumerate(clip.order(joint)):
                channel = ChannelId(joint, f"r{axis.lower()}")
                old = clip.curves[channel]
                if np.array_equal(_values(old), angles[:, k]):
                    continue
                values = np.ascontiguousarray(angles[:, k])
                if isinstance(old, KeyedCurve):
                    sign = np.where(np.diff(values) * np.diff(old.value) < 0, -1.0, 1.0)
                    first = np.concatenate([sign[:1], sign])
                    curves[channel] = old.edited(
                        value=values,
                        slope_in=old.slope_in * first,
                        slope_out=old.slope_out * np.concatenate([sign, sign[-1:]]),
                    )
                else:
                    curves[channel] = SampledCurve(values)
        return Patch(curves=curves, report=flips.report(clip))
