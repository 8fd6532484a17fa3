"""Smooth: noise down, contacts still sharp."""

from __future__ import annotations

from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import Field

from leancurve.cleaning.contacts import AIRBORNE, contacts_of
from leancurve.curves.curve import Curve
from leancurve.document.clip import Clip
from leancurve.document.track import TrackId
from leancurve.document.tracks import (
    TurningTrack,
    skipped,
    turning_tracks,
    value_tracks,
    written,
    written_values,
)
from leancurve.measures.findings.base import spans
from leancurve.measures.findings.jitter import noise_of
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Bools, Floats
from leancurve.numbers.filters import (
    adaptive,
    butterworth,
    gaussian,
    savitzky_golay,
    suggested_cutoff,
)
from leancurve.operations.base import Operation, Params, Patch, Progress, Scope, number, silent

NOISE_WINDOW_S = 0.6
HELD_S = 0.15
HELD_WINDOW_S = 0.05
STILL_SIGMAS = 3.0
REACH_S = 0.08
"""How far beside a hold a fixed filter is kept off, and over how long it comes in again."""
LEAST_NOISE = 1e-5
"""Degrees: below this there is nothing to calm."""


class SmoothParams(Params):
    method: Literal["adaptive", "butterworth", "savitzky-golay", "gaussian"] = Field(
        "adaptive", description="adaptive follows the motion; the others are fixed filters"
    )
    strength: float = number(
        1.0, "", "how much of the filtered motion is mixed in; 0 changes nothing", ge=0, le=1
    )
    noise: float = number(
        1.0, "×", "how much noise there is, times what is measured",
        when={"method": ["adaptive"]}, gt=0, le=10,
    )  # fmt: skip
    cutoff_hz: float | None = number(
        None, "Hz", "cut-off; suggested for each joint when absent",
        when={"method": ["butterworth"]}, gt=0, le=500,
    )  # fmt: skip
    window_s: float = number(
        0.07, "s", "length of the window", when={"method": ["savitzky-golay"]}, gt=0, le=2
    )
    degree: int = number(
        2, "", "degree of the polynomial", when={"method": ["savitzky-golay"]}, ge=1, le=5
    )
    sigma_s: float = number(
        0.02, "s", "standard deviation of the weights", when={"method": ["gaussian"]}, gt=0, le=1
    )
    protect: bool = Field(
        True,
        description="limbs stay as they are where a contact begins or ends, and holds at rest",
        json_schema_extra={"when": {"method": ["butterworth", "savitzky-golay", "gaussian"]}},
    )
    feather_s: float = number(
        0.06, "s", "how far protection and the ends of a range fade out", ge=0, le=2
    )


class Smooth(Operation[SmoothParams]):
    """Take noise out of dense channels; rotations are filtered as rotations.

    The adaptive filter chooses its window at each frame, one- or two-sided, so that what is
    sharp stays sharp. Ends do not shrink. Keyed channels are left alone.
    """

    name = "smooth"
    title = "Smooth"
    step = "calm"
    ranged = True
    Params: ClassVar[type[SmoothParams]] = SmoothParams

    def apply(
        self, clip: Clip, scope: Scope, params: SmoothParams, progress: Progress = silent
    ) -> Patch:
        if params.strength == 0 or clip.frames < 8:
            return Patch(report=_report([], [], [], clip, scope))
        rate = float(clip.rate)
        window = max(24, round(NOISE_WINDOW_S * rate))
        weights = _Weights(clip, scope, params)
        turning, moving = turning_tracks(clip, scope), value_tracks(clip, scope)
        total = max(1, len(turning) + len(moving))
        results: dict[int, Floats] = {}
        before: list[float] = []
        after: list[float] = []
        lost: list[float] = []
        for done, track in enumerate(turning, start=1):
            level = noise_of(track.rotations[:, None], window)[:, 0]
            if np.median(level) < LEAST_NOISE and params.method == "adaptive":
                continue
            # A quaternion's components carry half the angle, in radians.
            sigma = np.radians(level) / 2.0
            filtered = rotation.normalise(_filtered(track.rotations, rate, sigma, params))
            weight = weights.of(track.joint)
            mixed = rotation.hemisphere(rotation.slerp(track.rotations, filtered, weight))
            results[track.joint] = np.where(weight[:, None] > 0, mixed, track.rotations)
            before.append(float(np.median(level)))
            after.append(float(np.median(noise_of(results[track.joint][:, None], window))))
            lost += _peak_loss(track, results[track.joint])
            progress(done / total)
        curves: dict[TrackId, Curve] = written([t for t in turning if t.joint in results], results)
        for done, values in enumerate(moving, start=len(turning) + 1):
            level = _noise_of_values(values.values, window)
            if np.median(level) < 1e-9 and params.method == "adaptive":
                continue
            filtered = _filtered(values.values, rate, level, params)
            mix = weights.of(values.channels[0].joint)[:, None]
            curves |= written_values(values, values.values + mix * (filtered - values.values))
            progress(done / total)
        return Patch(curves=curves, report=_report(before, after, lost, clip, scope))

    def told(self, params: Any) -> str:
        method = params.get("method", "adaptive")
        strength = params.get("strength", 1.0)
        share = "" if strength == 1 else f", {strength:.0%}"
        return f"Smooth, {method}{share}"


def _filtered(x: Floats, rate: float, sigma: Floats, params: SmoothParams) -> Floats:
    sigma = np.maximum(sigma, 1e-12)
    if params.method == "adaptive":
        return adaptive(x, rate, sigma * params.noise)
    out = _fixed(x, rate, params)
    resting = at_rest(x, sigma, rate) if params.protect else np.zeros(len(x), dtype=np.bool_)
    if not resting.any():
        return out
    # A fixed window draws motion into a hold, and the hold into the motion beside it: there,
    # and as far as a window reaches, the filter whose windows are one-sided takes over.
    weight = 1.0 - _faded(~_widened(resting, round(REACH_S * rate)), round(REACH_S * rate))
    return np.asarray(out + weight[:, None] * (adaptive(x, rate, sigma) - out))


def at_rest(x: Floats, sigma: Floats, rate: float) -> Bools:
    """Frames ``(F,)`` in which ``x (F, n)``, of noise ``sigma (F,)`` a component, is held.

    A hold lasts 0.15 s or longer; over its windows of 50 ms the mean moves by no more than noise.
    """
    half = max(2, round(HELD_WINDOW_S * rate))
    if len(x) < 2 * half + 1:
        return np.zeros(len(x), dtype=np.bool_)
    total = np.concatenate([np.zeros((1, x.shape[1])), np.cumsum(x, axis=0)])
    mean = (total[half:] - total[:-half]) / half
    moved = np.full(len(x), np.inf)
    # Between the means of the windows before a frame and from it on.
    moved[half : len(x) - half + 1] = np.linalg.norm(mean[half:] - mean[:-half], axis=1)
    quiet = moved < STILL_SIGMAS * sigma * np.sqrt(2.0 * x.shape[1] / half)
    out = np.zeros(len(x), dtype=np.bool_)
    for first, last in spans(quiet, shortest=max(3, round(HELD_S * rate) - 2 * half)):
        # The windows of the outermost quiet frames lie within the hold.
        out[max(0, first - half) : last + half] = True
    return out


def _widened(mask: Bools, by: int) -> Bools:
    return np.asarray(np.convolve(mask, np.ones(2 * by + 1), mode="same") > 0.5)


def _fixed(x: Floats, rate: float, params: SmoothParams) -> Floats:
    if params.method == "butterworth":
        cutoff = params.cutoff_hz or suggested_cutoff(x, rate)
        return butterworth(x, rate, cutoff)
    if params.method == "savitzky-golay":
        return savitzky_golay(x, rate, params.window_s, params.degree)
    return gaussian(x, rate, params.sigma_s)


def _noise_of_values(values: Floats, window: int) -> Floats:
    """Noise per component ``(F,)`` of plain numbers ``(F, n)``."""
    # noise_of gives degrees of a rotation whose quaternion it is handed.
    padded = np.zeros((len(values), 1, 4))
    padded[:, 0, : min(3, values.shape[1])] = values[:, :3]
    shape = np.sqrt(3.0 / values.shape[1])
    return np.asarray(shape * np.radians(noise_of(padded, window)[:, 0]) / 2.0)


class _Weights:
    """How much of the filtered motion each joint takes on each frame ``(F,)``."""

    def __init__(self, clip: Clip, scope: Scope, params: SmoothParams) -> None:
        self.feather = max(0, round(params.feather_s * float(clip.rate)))
        self.whole = params.strength * _faded(scope.mask(clip), self.feather)
        self.guarded: dict[int, Floats] = {}
        if params.protect and params.method != "adaptive":
            self._guard(clip)

    def _guard(self, clip: Clip) -> None:
        """Frames about which a limb is taken hold of or let go are left to that limb."""
        events: dict[str, set[int]] = {}
        for contact in contacts_of(clip):
            if contact.limb == AIRBORNE:
                continue
            side, part = contact.limb.split()[:2]
            group = f"{side} arm" if part == "hand" else f"{side} leg"
            edges = {contact.first, contact.last} - {0, clip.frames - 1}
            events.setdefault(group, set()).update(edges)
        for group, frames in events.items():
            open_to = np.ones(clip.frames, dtype=np.bool_)
            for f in frames:
                open_to[max(0, f - self.feather) : f + self.feather + 1] = False
            for joint in clip.body.groups.get(group, ()):
                self.guarded[joint] = self.whole * _faded(open_to, self.feather)

    def of(self, joint: int) -> Floats:
        return self.guarded.get(joint, self.whole)


def _faded(inside: Any, feather: int) -> Floats:
    """1 inside, 0 outside, rising smoothly over ``feather`` frames within."""
    weight = inside.astype(np.float64)
    if feather == 0 or inside.all() or not inside.any():
        return np.asarray(weight)
    from scipy.ndimage import distance_transform_edt  # scipy loads late

    depth = np.minimum(distance_transform_edt(inside) / (feather + 1), 1.0)
    return np.asarray(depth * depth * (3.0 - 2.0 * depth))


def _peak_loss(track: TurningTrack, after: Floats) -> list[float]:
    """How much of its range of turn a joint lost, as a share; for joints that turn at all."""
    away = rotation.geodesic_deg(track.rotations, track.rotations[0])
    reach = float(np.ptp(away))
    if reach < 5.0:
        return []
    left = float(np.ptp(rotation.geodesic_deg(after, track.rotations[0])))
    return [abs(reach - left) / reach]


def _report(
    before: list[float], after: list[float], lost: list[float], clip: Clip, scope: Scope
) -> dict[str, Any]:
    return {
        "joints": len(before),
        "jitter_before_deg": float(np.mean(before)) if before else 0.0,
        "jitter_after_deg": float(np.mean(after)) if after else 0.0,
        "peak_loss_percent": 100.0 * float(np.mean(lost)) if lost else 0.0,
        "keyed_skipped": skipped(clip, scope),
    }
