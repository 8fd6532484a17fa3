"""What plants did, in numbers: slides, sinks and floats before and after, hips, misses, knees."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from leancurve.cleaning.contacts import contacts_of
from leancurve.document.clip import Clip
from leancurve.document.evaluation import posed
from leancurve.document.plant import Plant
from leancurve.document.planting.parts import holding
from leancurve.document.planting.plan import Plan, plan_of
from leancurve.figure.feet import foot_points, limbs_of
from leancurve.measures.findings.base import Motion
from leancurve.measures.findings.floor import inner_frames, largest_slide_mm, raised
from leancurve.numbers.arrays import Floats
from leancurve.operations.plant.places import Stood, standing

AROUND_S = 0.15
"""Knees are looked at within this of a span's ends."""


def plant_figures(clip: Clip) -> dict[str, Any]:
    """Figures of a clip with its plants, against the same without: mm, degrees, frames.

    ``missed_mm`` is by how much an end falls short of its place at most, ``hips_changed_mm`` by how
    much hips were lowered, ``knee_before_deg_s2`` and ``_after_`` the largest accelerations of the
    knee or the elbow that gained most about an end of a span.
    """
    if clip.contacts is None:
        clip = replace(clip, contacts=contacts_of(clip))
    plan = plan_of(clip)
    before, after = Motion(clip.unplanted), Motion(clip)
    mm = clip.millimetres
    sunk, floated = floor_gaps(before), floor_gaps(after)
    missed, missed_at = _worst_miss(plan)
    hips = float(plan.lowered.max(initial=0.0)) * mm
    return {
        "plants": len(clip.plants),
        "foot_slide_before_mm": round(largest_slide_mm(before), 3),
        "foot_slide_after_mm": round(largest_slide_mm(after, before.once(inner_frames)), 3),
        "sink_before_mm": round(sunk[0], 3),
        "sink_after_mm": round(floated[0], 3),
        "float_before_mm": round(sunk[1], 3),
        "float_after_mm": round(floated[1], 3),
        "hips_changed_mm": round(hips, 3),
        "hips_changed_at": int(np.argmax(plan.lowered)) if hips > 0 else None,
        "missed_mm": round(missed * mm, 3),
        "missed_at": missed_at,
        "limb_length_error_mm": round(length_error(before, after) * mm, 9),
        **_knees(clip, before, after),
    }


def floor_gaps(motion: Motion) -> tuple[float, float]:
    """By how much feet in contact are at most below, and above, where they rest, mm."""
    points = foot_points(motion.clip.skeleton, motion.body)
    sunk = floated = 0.0
    for limb, frames in motion.once(inner_frames):
        rest = motion.support.rest_heights[limb] + raised(motion, limb)[frames]
        heights = motion.world[1][frames, points[limb], motion.up] - rest
        sunk = max(sunk, float(-heights.min()))
        floated = max(floated, float(np.median(heights)))
    return sunk * motion.clip.millimetres, floated * motion.clip.millimetres


def _worst_miss(plan: Plan) -> tuple[float, int | None]:
    worst, at = 0.0, None
    for limb in plan.limbs:
        missed = np.where(limb.held, limb.missed, 0.0)
        if len(missed) and missed.max() > worst:
            worst, at = float(missed.max()), int(np.argmax(missed))
    return worst, at


def length_error(before: Motion, after: Motion) -> float:
    """The largest change of a bone's length, own unit."""
    worst = 0.0
    for limb in limbs_of(before.clip.skeleton, before.body):
        for a, b in ((limb.upper, limb.middle), (limb.middle, limb.end)):
            was, now = (
                np.linalg.norm(m.world[1][:, b] - m.world[1][:, a], axis=1) for m in (before, after)
            )
            worst = max(worst, float(np.abs(now - was).max(initial=0.0)))
    return worst


def bends(motion: Motion, joints: tuple[int, int, int]) -> Floats:
    """The bend ``(F,)`` of a limb in degrees: 0 where it is straight."""
    upper, middle, end = (motion.world[1][:, j] for j in joints)
    u, v = middle - upper, end - middle
    cross = np.linalg.norm(np.cross(u, v), axis=1)
    return np.asarray(np.degrees(np.arctan2(cross, np.sum(u * v, axis=1))))


def knee_peaks(
    clip: Clip, plants: tuple[Plant, ...], before: Motion, after: Motion
) -> list[tuple[float, float]]:
    """For each end of each span, the largest acceleration of its limb's bend before and after,
    degrees a second squared; before, at least what is usual for the limb."""
    rate = float(clip.rate)
    around = max(2, round(AROUND_S * rate))
    out: list[tuple[float, float]] = []
    for limb in limbs_of(clip.skeleton, clip.body):
        was, now = (np.abs(np.diff(bends(m, limb.joints), 2)) for m in (before, after))
        usual = float(np.percentile(was, 50)) if len(was) else 0.0
        for plant in plants:
            if plant.part not in limb.parts:
                continue
            for edge in (plant.first, plant.last):
                if not 2 <= edge <= clip.frames - 3:
                    continue
                near = slice(max(0, edge - around), edge + around)
                least = max(float(was[near].max(initial=0.0)), usual)
                out.append((least * rate**2, float(now[near].max(initial=0.0)) * rate**2))
    return out


def _knees(clip: Clip, before: Motion, after: Motion) -> dict[str, float]:
    peaks = knee_peaks(clip, clip.plants, before, after)
    if not peaks:
        return {}
    was, now = max(peaks, key=lambda peak: peak[1] - peak[0])
    return {"knee_before_deg_s2": round(was, 1), "knee_after_deg_s2": round(now, 1)}


@dataclass(frozen=True)
class PlantFigures:
    """What one plant does: how far its part strays from its place without and with it, how far the
    limb falls short, and how far hips go down meanwhile, mm."""

    part: str
    first: int
    last: int
    slide_before_mm: float
    off_after_mm: float
    missed_mm: float
    hips_mm: float


def each_plants_figures(clip: Clip) -> list[PlantFigures]:
    """The figures of each of the clip's plants, in their order."""
    if not clip.plants:
        return []
    plan, mm = plan_of(clip), clip.millimetres
    before, after = (Stood(c, *posed(c).world(c.skeleton), {}) for c in (clip.unplanted, clip))
    missed = {x.limb: x.missed for x in plan.limbs}
    out: list[PlantFigures] = []
    for plant in clip.plants:
        limb = holding(clip, plant)
        span = slice(plant.first, plant.last + 1)
        before_mm, after_mm = (_off(s, plant) * mm if limb else 0.0 for s in (before, after))
        short = float(missed[limb][span].max()) * mm if limb in missed else 0.0
        legs = limb is not None and limb.is_leg
        hips = float(plan.lowered[span].max(initial=0.0)) * mm if legs else 0.0
        told = [round(x, 3) for x in (before_mm, after_mm, short, hips)]
        out.append(PlantFigures(plant.part, plant.first, plant.last, *told))
    return out


def _off(stood: Stood, plant: Plant) -> float:
    """How far a part is from its plant's place at most while it holds, own unit."""
    points, _ = stood.carried(plant.with_joint, plant.with_prop, *stood.track(plant.part))
    away = points[plant.first : plant.last + 1] - np.array(plant.place)
    return float(np.linalg.norm(away, axis=1).max(initial=0.0))


@dataclass(frozen=True)
class FootPath:
    """A part's way over frames: level ``(n, 2)`` seen from above and height ``(n,)`` over where it
    rests, mm; with plants and without."""

    frames: tuple[int, ...]
    level: Floats
    level_before: Floats
    height: Floats
    height_before: Floats


MOST_POINTS = 240


def foot_path(clip: Clip, part: str, first: int, last: int) -> FootPath:
    """A part's way from ``first`` to ``last``, of at most so many points as a picture shows."""
    stood = standing(clip)
    with_plants = Stood(clip, *posed(clip).world(clip.skeleton), stood.rest_heights)
    last = min(max(last, 0), max(clip.frames - 1, 0))
    first = min(max(first, 0), last)
    step = max(1, -(-(last - first + 1) // MOST_POINTS))
    frames = np.unique(np.append(np.arange(first, last + 1, step), last))
    flat = [a for a in range(3) if a != stood.up]
    rest = stood.rest_heights.get(part, 0.0)
    ways = [s.track(part)[0][frames] * clip.millimetres for s in (with_plants, stood)]
    level = [w[:, flat] for w in ways]
    height = [w[:, stood.up] - rest * clip.millimetres for w in ways]
    return FootPath(tuple(frames.tolist()), *level, *height)
