"""Continuity of rotations: flips, which no pose shows, and snaps, which it does."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from leancurve.curves.curve import Curve, KeyedCurve, SampledCurve
from leancurve.curves.solutions import in_solution
from leancurve.document.clip import Clip
from leancurve.document.evaluation import effective, evaluate
from leancurve.document.layer import Layer
from leancurve.document.rotations import quaternions
from leancurve.document.scope import Scope
from leancurve.document.track import TrackId
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats
from leancurve.numbers.continuity import EulerSolution, continuous_within
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

    @property
    def joints(self) -> set[int]:
        """Joints that hold a flip."""
        return {w[0] for w in self.wraps} | {a[0] for a in self.alternates}

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


def whole_turns(clip: Clip, scope: Scope) -> dict[int, Floats]:
    """Effective angles ``(F, n)`` of the joints whose rotation channels are all in scope."""
    wanted: dict[int, int] = Counter(c.joint for c in scope.resolve(clip) if c.turns)
    return angles_of(clip, [j for j, count in wanted.items() if count == len(clip.order(j))])


def angles_of(clip: Clip, joints: Iterable[int]) -> dict[int, Floats]:
    """Effective angles ``(F, n)`` of joints; none of a clip of one frame, which has no steps."""
    joints = [j for j in joints if clip.order(j)]
    if clip.frames < 2 or not joints:
        return {}
    values = effective(clip, channels=[t for j in joints for t in clip.turns_of(j)])
    return {j: np.stack([values[t] for t in clip.turns_of(j)], axis=1) for j in joints}


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


def solve(
    clip: Clip, angles: Mapping[int, Floats], scope: Scope, progress: Progress = silent
) -> tuple[dict[int, Floats], Flips]:
    """Continuous angles of joints given theirs, within the scope's frames, and the flips."""
    by_order: dict[str, list[int]] = defaultdict(list)
    for joint in angles:
        by_order[clip.order(joint)].append(joint)
    result: dict[int, Floats] = {}
    wraps: list[tuple[int, str, int]] = []
    alternates: list[tuple[int, int]] = []
    inside = scope.mask(clip)
    for order, joints in by_order.items():
        given = np.stack([angles[j] for j in joints])
        out, swaps, turns = continuous_within(given, order, inside)
        for k, joint in enumerate(joints):
            result[joint] = out[k]
            alternates += [(joint, f) for f in np.flatnonzero(swaps[k]).tolist()]
            for f, c in zip(*(a.tolist() for a in np.nonzero(turns[k])), strict=True):
                wraps.append((joint, f"r{order[c].lower()}", f))
            progress(len(result) / len(angles))
    return result, Flips(tuple(sorted(wraps)), tuple(sorted(alternates)), ())


def said_as(clip: Clip, joint: int, given: Floats, angles: Floats) -> dict[TrackId, Curve]:
    """Curves of a joint that stands at the angles ``given (F, n)``, to say the equal ``angles``.

    Keyed curves keep their keys at their times (:func:`in_solution`). Channels that stay are left
    out.
    """
    solution = EulerSolution.between(given, angles)
    out: dict[TrackId, Curve] = {}
    for k, track in enumerate(clip.turns_of(joint)):
        if np.array_equal(given[:, k], angles[:, k]):
            continue
        curve = clip.curves[track]
        if isinstance(curve, KeyedCurve):
            out[track] = in_solution(curve, solution.sign[:, k], solution.shift[:, k])
        else:
            out[track] = SampledCurve(np.ascontiguousarray(angles[:, k]))
    return out


def kept_continuous(before: Clip, after: Clip, joints: Iterable[int]) -> dict[TrackId, Curve]:
    """Curves of ``after`` that say flips anew which ``before`` did not have, every pose as it is.

    Joints that held a flip already are left: what stood flipped is Unflip's to mend.
    """
    before, after = before.below, after.below
    angles = angles_of(after, joints)
    said, found = solve(after, angles, Scope())
    fresh = found.joints - solve(before, angles_of(before, found.joints), Scope())[1].joints
    out: dict[TrackId, Curve] = {}
    for joint in sorted(fresh):
        out |= said_as(after, joint, angles[joint], said[joint])
    return out


NEAR_DEG = 60.0
"""Two rotations of one frame farther apart are two motions: their angles tell no solution."""


def layers_resolved(before: Clip, after: Clip, joints: Iterable[int]) -> dict[TrackId, Curve]:
    """Curves of layers whose numbers mean angles, where joints below them are said otherwise.

    What a layer adds to a middle angle, or leads one to, means another turn in the other Euler
    solution: where ``after`` says a joint in the other one than ``before``, the layer does too.
    """
    out: dict[TrackId, Curve] = {}
    for joint in joints:
        layers = [x for x in after.layers if _in_angles(x, joint)]
        order = after.order(joint)
        if not layers or len(order) != 3 or before.order(joint) != order:
            continue
        sign, shift = _other_solution(_own(before, joint), _own(after, joint), order)
        if np.all(sign[:, 1] == 1.0):
            continue
        for layer in layers:
            for k, axis in enumerate(order):
                track = TrackId(layer.owner, joint, f"r{axis.lower()}")
                if track not in after.curves:
                    continue
                off = shift[:, k] if layer.kind == "override" else np.zeros(after.frames)
                out[track] = _told(after.curves[track], sign[:, k], off)
    return out


def _own(clip: Clip, joint: int) -> Floats:
    """The angles ``(F, n)`` of a joint's own curves."""
    frames = np.arange(clip.frames, dtype=np.float64)
    return np.stack([clip.curves[t].at(frames) for t in clip.turns_of(joint)], axis=1)


def _told(curve: Curve, sign: Floats, shift: Floats) -> Curve:
    if isinstance(curve, KeyedCurve):
        return in_solution(curve, sign, shift)
    return SampledCurve(sign * curve.at(np.arange(len(sign), dtype=np.float64)) + shift)


def _in_angles(layer: Layer, joint: int) -> bool:
    """Whether what a layer makes of a joint hangs on how its angles are said: of three own angles
    that take the place of all it does not."""
    turns = sum(c[0] == "r" for c in layer.channels.get(joint, ()))
    return (layer.kind == "channels" and turns > 0) or (layer.kind == "override" and 0 < turns < 3)


def _other_solution(given: Floats, angles: Floats, order: str) -> tuple[Floats, Floats]:
    """Sign and shift ``(F, 3)`` of frames on which ``angles`` are the other solution of about the
    same rotations as ``given``; 1 and 0 on all others."""

    def gap(a: Floats) -> Floats:
        away = angles - a
        return np.asarray(np.sum((away - 360.0 * np.round(away / 360.0)) ** 2, axis=1))

    other = rotation.alternate(given, order)
    turned = rotation.geodesic_deg(quaternions(given, order), quaternions(angles, order))
    swapped = (turned < NEAR_DEG) & (gap(other) < gap(given))
    sign = np.ones_like(given)
    sign[swapped, 1] = -1.0
    whole = 360.0 * np.round((angles - other) / 360.0)
    shift = np.where(swapped[:, None], other - sign * given + whole, 0.0)
    return sign, shift


def find_flips(clip: Clip, scope: Scope | None = None, progress: Progress = silent) -> Flips:
    """The flips and snaps that stand in a clip's rotation channels."""
    scope = scope or Scope()
    return with_snaps(solve(clip, whole_turns(clip, scope), scope, progress)[1], clip, scope)


def with_snaps(flips: Flips, clip: Clip, scope: Scope) -> Flips:
    inside = {c.joint for c in scope.resolve(clip)}
    return replace(flips, snaps=tuple(s for s in find_snaps(clip) if s[0] in inside))


def continuity_breaks(clip: Clip) -> Flips:
    """The flips alone, without looking for snaps: no pose is evaluated."""
    return solve(clip, whole_turns(clip, Scope()), Scope())[1]
