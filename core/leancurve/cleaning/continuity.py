"""Continuity of rotations: flips, which no pose shows, and snaps, which it does."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from leancurve.curves.curve import frame_values
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate, sampled_on_frames
from leancurve.document.scope import Scope
from leancurve.document.track import TrackId, base_track
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Bools, Floats, Ints, runs
from leancurve.progress import Progress, silent

SNAP_DEG = 40.0
"""A turn between two frames this large, and standing out from its surroundings, is a snap
(common practice: an elbow at full speed turns about 1000° a second, 8° at 120 a second)."""
SNAP_RATIO = 3.0


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
    def channels(self) -> list[TrackId]:
        return [base_track(self.joint, f"r{a.lower()}") for a in self.order]


def _joints(clip: Clip, scope: Scope) -> list[_Joint]:
    """Joints whose rotation channels are all in scope and dense, so that frames are neighbours."""
    wanted: dict[int, list[TrackId]] = defaultdict(list)
    for channel in scope.resolve(clip):
        if channel.turns:
            wanted[channel.joint].append(channel)
    out = []
    for joint, channels in wanted.items():
        if len(channels) != len(clip.order(joint)):
            continue
        curves = [clip.curves[c] for c in channels]
        if clip.frames > 1 and all(sampled_on_frames(c, clip.frames) for c in curves):
            angles = np.stack([frame_values(c) for c in curves], axis=1)
            out.append(_Joint(joint, clip.order(joint), angles))
    return out


def continuous(angles: Floats, order: str) -> tuple[Floats, Bools, Ints]:
    """Continuous Euler angles of joints ``(J, F, n)`` of one order: also swaps and turns.

    ``swaps (J, F)`` says where the solution changed between frame f - 1 and f, ``turns
    (J, F, n)`` where a channel jumped by whole turns. Choosing between two equal solutions is
    a running exclusive-or along time, since both candidates keep the same distances.
    """
    from leancurve.numbers.kernels import motion  # numba loads late

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


def _in_range(angles: Floats, order: str, inside: Bools) -> tuple[Floats, Bools, Ints]:
    """:func:`continuous` within runs of frames ``inside (F,)``, each begun by the frame before."""
    if inside.all():
        return continuous(angles, order)
    out = angles.copy()
    swaps = np.zeros(angles.shape[:2], dtype=np.bool_)
    turns = np.zeros(angles.shape, dtype=np.int64)
    for first, last in runs(inside):
        end = last + 1
        start = max(0, first - 1)
        part, swapped, turned = continuous(np.ascontiguousarray(out[:, start:end]), order)
        out[:, first:end] = part[:, first - start :]
        swaps[:, first:end] = swapped[:, first - start :]
        turns[:, first:end] = turned[:, first - start :]
    return out, swaps, turns


def find_snaps(clip: Clip) -> list[tuple[int, int, float]]:
    """``(joint, frame, degrees)`` where a joint's rotation itself jumps between two frames.

    Told by the rotation alone, so also on keyed curves, and never confused with a flip.
    """
    return snaps_in(evaluate(clip).rotation)


def snaps_in(local: Floats) -> list[tuple[int, int, float]]:
    """:func:`find_snaps` of local rotations ``(F, J, 4)`` already evaluated."""
    if len(local) < 2:
        return []
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


def solve(clip: Clip, scope: Scope, progress: Progress) -> tuple[dict[int, Floats], Flips]:
    by_order: dict[str, list[_Joint]] = defaultdict(list)
    for item in _joints(clip, scope):
        by_order[item.order].append(item)
    result: dict[int, Floats] = {}
    wraps: list[tuple[int, str, int]] = []
    alternates: list[tuple[int, int]] = []
    done, total = 0, sum(map(len, by_order.values()))
    inside = scope.mask(clip)
    for order, items in by_order.items():
        given = np.stack([i.angles for i in items])
        out, swaps, turns = _in_range(given, order, inside)
        for k, item in enumerate(items):
            result[item.joint] = out[k]
            alternates += [(item.joint, f) for f in np.flatnonzero(swaps[k]).tolist()]
            for f, c in zip(*(a.tolist() for a in np.nonzero(turns[k])), strict=True):
                wraps.append((item.joint, f"r{order[c].lower()}", f))
            done += 1
            progress(done / total)
    return result, Flips(tuple(sorted(wraps)), tuple(sorted(alternates)), ())


def find_flips(clip: Clip, scope: Scope | None = None, progress: Progress = silent) -> Flips:
    """The flips and snaps that stand in a clip's dense rotation channels."""
    scope = scope or Scope()
    return with_snaps(solve(clip, scope, progress)[1], clip, scope)


def with_snaps(flips: Flips, clip: Clip, scope: Scope) -> Flips:
    inside = {c.joint for c in scope.resolve(clip)}
    return replace(flips, snaps=tuple(s for s in find_snaps(clip) if s[0] in inside))


def continuity_breaks(clip: Clip) -> Flips:
    """The flips alone, without looking for snaps: no pose is evaluated."""
    return solve(clip, Scope(), silent)[1]
