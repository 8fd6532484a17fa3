"""The second stage of planting: the root corrected, as a sum of named contributions.

Plants ask the hips to go down where a leg would not reach, softly in time. Whatever else moves the
figure as a whole adds a contribution of its own.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from scipy.ndimage import maximum_filter1d

from leancurve.document.clip import Clip
from leancurve.document.plant import Plant
from leancurve.document.planting.goals import Goals
from leancurve.document.planting.world import World
from leancurve.figure.feet import Chain, Limb
from leancurve.figure.skeleton import UP
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats

LONGEST = 0.995
"""Share of its length to which a leg is led without asking the hips."""
SLACK_MM = 2.0
"""What a leg that was straighter than that may still be led by."""
LOWERING_S = 0.3
"""How long before and after hips go down and come up."""
PLANTS = "plants"


@dataclass(frozen=True, eq=False)
class RootCorrection:
    """Moves ``(F, 3)`` of the figure as a whole by the name of what asks for them: in the world,
    own unit. ``carrier`` is the joint whose positions say them, None where none can."""

    carrier: int | None
    contributions: Mapping[str, Floats]

    @property
    def moved(self) -> Floats | None:
        """All of it ``(F, 3)``, None where nothing is moved."""
        if self.carrier is None:
            return None
        asked = [m for m in self.contributions.values() if np.any(m)]
        return np.sum(asked, axis=0) if asked else None


def root_correction(
    clip: Clip, world: World, goals: Mapping[Limb | Chain, Goals], carrier: int | None
) -> RootCorrection:
    """What is asked of the root so that what limbs shall reach is within their reach."""
    asked = {}
    if carrier is not None:
        down = np.zeros((clip.frames, 3))
        down[:, UP[clip.reading.up_axis]] = -lowered_for(clip, world, goals)
        asked[PLANTS] = down
    return RootCorrection(carrier, asked)


def put_on(world: World, correction: RootCorrection) -> Floats:
    """Move a figure's world by a root correction: how far its carrier's own translations are moved
    by that ``(F, 3)``."""
    moved = correction.moved
    if moved is None or correction.carrier is None:
        return np.zeros((world.clip.frames, 3))
    carrier = correction.carrier
    own = np.asarray(rotation.rotate(rotation.conjugate(world.above(carrier)), moved))
    world.pose.translation[:, world.at[carrier]] += own
    world.forward()
    return own


def carrier_of(clip: Clip) -> int | None:
    """The joint by which the hips are moved: the nearest from the hips up with three positions."""
    hips = clip.body.find("hips")
    if hips is None:
        return None
    for joint in clip.skeleton.chain(hips):
        if {"tx", "ty", "tz"} <= set(clip.layout[joint]):
            return joint
    return None


def lowered_for(clip: Clip, world: World, legs: Mapping[Limb | Chain, Goals]) -> Floats:
    """By how much the hips go down on each frame ``(F,)`` so that legs reach, own unit."""
    up = UP[clip.reading.up_axis]
    slack = SLACK_MM / clip.millimetres
    rate = float(clip.rate)
    needed, window = np.zeros(clip.frames), np.zeros(clip.frames)
    for limb, leg in legs.items():
        assert isinstance(limb, Limb)  # legs are
        hip, knee, ankle = (world.point(j) for j in limb.joints)
        length = np.linalg.norm(knee - hip, axis=1) + np.linalg.norm(ankle - knee, axis=1)
        was = np.linalg.norm(ankle - hip, axis=1)
        most = np.maximum(LONGEST * length, was + slack)
        away = leg.target - hip
        aside = np.sum(away**2, axis=1) - away[:, up] ** 2
        down = -away[:, up] - np.sqrt(np.maximum(most**2 - aside, 0.0))
        short = (np.sum(away**2, axis=1) > most**2) & leg.window
        needed = np.maximum(needed, np.where(short, np.maximum(down, 0.0) * leg.share, 0.0))
        for plant in leg.plants:
            window = np.maximum(window, _soft_window(plant, clip.frames))
    if not np.any(needed):
        return needed
    span = max(1, round(LOWERING_S * rate)) | 1
    widest = maximum_filter1d(needed, span, mode="nearest")
    hann = np.hanning(span + 2)[1:-1]
    soft = np.convolve(np.pad(widest, span // 2, mode="edge"), hann / hann.sum(), mode="valid")
    return np.asarray(soft * window)


def _soft_window(plant: Plant, count: int) -> Floats:
    """1 where a plant holds, and softly to 0 over its eases, ``(F,)``."""
    at = np.arange(count)
    before = (plant.first - at) / max(plant.ease_in, 1)
    after = (at - plant.last) / max(plant.ease_out, 1)
    x = 1.0 - np.clip(np.maximum(np.maximum(before, after), 0.0), 0.0, 1.0)
    return np.asarray(x * x * (3.0 - 2.0 * x))
