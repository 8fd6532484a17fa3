"""Limbs repaired: knees and elbows solved again from the paths of feet and hands."""

from __future__ import annotations

from typing import Any, ClassVar

import numpy as np
from scipy.ndimage import gaussian_filter1d

from leancurve.cleaning.turned import turned_curves
from leancurve.curves.curve import Curve
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.document.track import TrackId
from leancurve.errors import BadInput
from leancurve.figure.feet import Limb, limbs_of
from leancurve.figure.limb import said_under, usual_hinge
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Bools, Floats
from leancurve.operations.base import Operation, Params, Patch, Progress, Scope, number, silent
from leancurve.operations.shaping import RampParams, windows_of

STRAIGHT = np.sin(np.radians(3.0))
"""Below this bend a limb does not tell on which side it bends."""


class MendLimbsParams(Params):
    over: float = number(0.15, "s", "over how long the plane of the bend is smoothed", ge=0, le=3)
    ramp: int = number(6, "frames", "over how many frames it comes and goes", ge=0, le=10000)
    tolerance_deg: float = number(
        0.1, "deg", "how far keyed turns may be from the mended ones", gt=0, le=20
    )


class MendLimbs(Operation[MendLimbsParams]):
    """Solve knees and elbows again from the paths of their feet and hands.

    Where they bend the wrong way or wobble, the plane of the bend is made smooth, on the side on
    which the limb bends as a rule. Feet and hands stay where and how they are, bones keep lengths.
    """

    name = "mend_limbs"
    title = "Mend limbs"
    step = "plant"
    ranged = True
    Params: ClassVar[type[MendLimbsParams]] = MendLimbsParams

    def apply(
        self, clip: Clip, scope: Scope, params: MendLimbsParams, progress: Progress = silent
    ) -> Patch:
        inside = {t.joint for t in scope.resolve(clip)}
        limbs = [
            x
            for x in limbs_of(clip.skeleton, clip.body)
            if x.middle in inside or x.end in inside or x.upper in inside
        ]
        limbs = [x for x in limbs if all(len(clip.order(j)) == 3 for j in x.joints)]
        if not limbs:
            raise BadInput("mend_limbs: no limb of two bones is in the scope")
        weight = np.zeros(clip.frames)
        ramp = RampParams(ramp_in=params.ramp, ramp_out=params.ramp)
        if scope.whole_time:
            weight[:] = 1.0
        else:
            for window in windows_of(clip, scope, ramp):
                weight += window.at(np.arange(clip.frames, dtype=np.float64))
        turns, points = evaluate(clip.below).world(clip.skeleton)
        sigma = params.over * float(clip.rate)
        curves: dict[TrackId, Curve] = {}
        wrong, worst = 0, 0.0
        for done, limb in enumerate(limbs, start=1):
            solved, sides, turned = _mended(clip, limb, turns, points, weight, sigma)
            moved = (weight > 0.0) & (turned > 1e-9)
            wrong += int(np.count_nonzero(sides & (weight > 0.0)))
            worst = max(worst, float(turned[weight > 0.0].max(initial=0.0)))
            if np.any(moved):
                rotations = {j: local[moved] for j, local in zip(limb.joints, solved, strict=True)}
                curves |= turned_curves(clip, rotations, moved, params.tolerance_deg)
            progress(done / len(limbs))
        return Patch(
            curves=curves,
            report={"limbs": len(limbs), "wrong_side_frames": wrong, "turned_deg": worst},
        )

    def told(self, params: Any) -> str:
        return "Mend limbs"

    def counted_as(self, params: Any) -> Any:
        return "mend"


def _unit(a: Floats) -> Floats:
    return np.asarray(a / np.maximum(np.linalg.norm(a, axis=-1, keepdims=True), 1e-12))


def _dot(a: Floats, b: Floats) -> Floats:
    return np.asarray(np.sum(a * b, axis=-1, keepdims=True))


def _mended(
    clip: Clip, limb: Limb, turns: Floats, points: Floats, weight: Floats, sigma: float
) -> tuple[tuple[Floats, Floats, Floats], Bools, Floats]:
    """New local rotations of a limb's joints, where it bent the wrong way, and by how many degrees
    its upper joint turns ``(F,)``."""
    h, k, a = (points[:, j] for j in limb.joints)
    above = clip.skeleton.parents[limb.upper]
    hinge = usual_hinge(turns[:, limb.upper], (h, k, a))
    u, v = _unit(k - h), _unit(a - k)
    along = _unit(a - h)
    normal = np.cross(u, v)
    bend = np.linalg.norm(normal, axis=1)
    usual = rotation.rotate(turns[:, limb.upper], np.broadcast_to(hinge, u.shape))
    side = np.where(_dot(normal, usual) < 0, -1.0, 1.0)
    wrong = np.asarray((side[:, 0] < 0) & (bend > STRAIGHT))
    # The plane's normal as the parent carries it: where it is known, on its usual side.
    back = rotation.conjugate(turns[:, above])
    shown = rotation.rotate(back, _unit(normal))
    sure = np.where(wrong, 0.0, np.clip(bend / np.sin(np.radians(20.0)), 0.0, 1.0) ** 2)
    resting = _unit(np.sum(sure[:, None] * shown, axis=0))
    if sigma > 0:
        soft = gaussian_filter1d(sure[:, None] * shown, sigma, axis=0, mode="nearest")
        soft = soft + 1e-3 * resting
    else:
        soft = np.where((sure > 0)[:, None], shown, resting)
    plane = rotation.rotate(turns[:, above], _unit(soft))
    plane = _unit(plane - _dot(plane, along) * along)
    was = _unit(np.where(bend[:, None] > STRAIGHT, side * _unit(normal), usual))
    was = _unit(was - _dot(was, along) * along)
    # Only as far as it counts: turned about the line from hip to foot.
    angle = np.arctan2(_dot(np.cross(was, plane), along), _dot(was, plane))[:, 0] * weight
    # On its wrong side the knee is turned over whole.
    over = wrong & (weight > 0.5)
    swing = rotation.exp(along * np.degrees(angle)[:, None])
    new_normal = rotation.rotate(swing, was)
    pole = np.cross(along, new_normal)
    long, low = np.linalg.norm(k - h, axis=1), np.linalg.norm(a - k, axis=1)
    far = np.maximum(np.linalg.norm(a - h, axis=1), 1e-12)
    on = (long**2 - low**2 + far**2) / (2.0 * far)
    off = np.sqrt(np.maximum(long**2 - on**2, 0.0))
    knee = h + on[:, None] * along + off[:, None] * pole
    stays = wrong & ~over
    knee = np.where(stays[:, None], k, knee)
    new_normal = np.where(stays[:, None], was, new_normal)
    u2, v2 = _unit(knee - h), _unit(a - knee)
    first = rotation.multiply(_between(u, was, u2, new_normal), turns[:, limb.upper])
    second = rotation.multiply(_between(v, was, v2, new_normal), turns[:, limb.middle])
    turned = rotation.geodesic_deg(first, turns[:, limb.upper])
    solved = (
        rotation.multiply(back, first),
        rotation.multiply(rotation.conjugate(first), second),
        rotation.multiply(rotation.conjugate(second), turns[:, limb.end]),
    )
    said = said_under(solved, limb.joints, clip.skeleton.parents, lambda j: turns[:, j])
    return said, wrong, turned


def _between(u: Floats, n: Floats, u2: Floats, n2: Floats) -> Floats:
    """The rotation that brings a bone and the normal of its bend to others."""

    def frame(bone: Floats, normal: Floats) -> Floats:
        across = _unit(normal - _dot(normal, bone) * bone)
        return rotation.from_frame(bone, across, np.cross(bone, across))

    return rotation.multiply(frame(u2, n2), rotation.conjugate(frame(u, n)))
