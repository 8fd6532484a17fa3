"""A hand, a forearm or a foot inside the body: by the shapes that the figure is drawn with."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from leancurve.figure.radii import CAPSULES, LIMBS
from leancurve.measures.findings.base import Finding, Motion, severity, spans
from leancurve.measures.findings.calibration import calibration_spans
from leancurve.numbers.arrays import Floats
from leancurve.numbers.lines import along_and_away

DEEP_MM = 15.0
"""How deep the middle of a limb may be within firm flesh: what shows on a figure of 1.75 m (common
practice: a hand that lies on a thigh is not seen to go into it)."""
WORST_MM = 80.0
GOING_ON_S = 0.1
"""Shorter breaks between two spans are none."""
SIDES = ("left", "right")


@dataclass(frozen=True)
class _Solid:
    """A part of the body: a line ``(F, 2, 3)`` and a radius about it, in the skeleton's unit."""

    line: Floats
    radius: float

    def depth(self, points: Floats) -> Floats:
        """How deep points ``(F, 3)`` are in it; below 0 outside."""
        start, way = self.line[:, 0], self.line[:, 1] - self.line[:, 0]
        return np.asarray(self.radius - along_and_away(points - start, way)[1])


def detect(motion: Motion) -> Iterator[Finding]:
    """The size is how deep the middle of a hand, a forearm or a foot is inside, in mm."""
    clip = motion.clip
    scale = max(clip.skeleton.rest_height * clip.millimetres / 1750.0, 1e-6)
    least = DEEP_MM * scale
    outside = np.ones(clip.frames, dtype=np.bool_)
    for first, last in motion.once(calibration_spans):
        outside[first : last + 1] = False
    for joint, points, solids in _looked_at(motion):
        if not solids:
            continue
        depth = np.max([s.depth(p) for p in points for s in solids], axis=0) * clip.millimetres
        for first, last in spans((depth > 0.5 * least) & outside, motion.frames_in(GOING_ON_S)):
            worst = float(depth[first : last + 1].max())
            if worst > least:
                rank = severity(worst, least, WORST_MM * scale)
                name = motion.names[joint]
                yield Finding("through", name, "", first, last, round(worst, 1), "mm", rank)


def _looked_at(motion: Motion) -> Iterator[tuple[int, list[Floats], list[_Solid]]]:
    """Each limb's joint, the points of it that are looked at ``(F, 3)``, and what they may not be
    in: the trunk, the head, for a foot the other leg. Hands lie on thighs, which give way."""
    trunk, head = _trunk(motion), _head(motion)
    legs = {side: _leg(motion, side) for side in SIDES}
    places = motion.world[1]
    find = motion.body.find
    for side, other in zip(SIDES, reversed(SIDES), strict=True):
        hand, forearm, foot = (find(f"{side} {part}") for part in ("hand", "forearm", "foot"))
        if hand is not None:
            fingers = _beyond(motion, hand, f"{side} middle")
            points = [places[:, hand], *fingers]
            yield hand, points, [*trunk, *head]
            if forearm is not None:
                middle = 0.5 * (places[:, forearm] + places[:, hand])
                yield forearm, [middle], [*trunk, *head]
        if foot is not None:
            points = [places[:, foot], *_beyond(motion, foot, f"{side} toe")]
            yield foot, points, [*trunk, *head, *legs[other]]


def _beyond(motion: Motion, joint: int, role: str) -> list[Floats]:
    """What stands at the far end of a hand or a foot, where that is known."""
    end = motion.body.find(role)
    return [] if end is None or end == joint else [motion.world[1][:, end]]


def _line(motion: Motion, first: int, last: int) -> Floats:
    places = motion.world[1]
    return np.stack([places[:, first], places[:, last]], axis=1)


def _trunk(motion: Motion) -> list[_Solid]:
    """From the hips to the neck, as thick as a trunk is deep."""
    body, height = motion.body, motion.clip.skeleton.rest_height
    hips = body.find("hips")
    neck = next((j for role in ("neck", "head") if (j := body.find(role)) is not None), None)
    if hips is None or neck is None:
        return []
    places = motion.world[1]
    way = places[:, neck] - places[:, hips]
    # Its ends are round: they end where the neck and the hips do.
    radius = CAPSULES["chest"] * height
    length = np.maximum(np.linalg.norm(way, axis=1, keepdims=True), 1e-9)
    short = np.minimum(radius / length, 0.4)
    line = np.stack([places[:, hips] + 0.5 * short * way, places[:, neck] - short * way], axis=1)
    return [_Solid(line, radius)]


def _head(motion: Motion) -> list[_Solid]:
    """About the head's joint and what is above it."""
    head = motion.body.find("head")
    parent = -1 if head is None else motion.clip.skeleton.parents[head]
    if head is None or parent < 0:
        return []
    places = motion.world[1]
    up = places[:, head] - places[:, parent]
    size = np.maximum(np.linalg.norm(up, axis=1, keepdims=True), 1e-9)
    radius = CAPSULES["head"] * motion.clip.skeleton.rest_height
    middle = places[:, head] + radius * up / size
    return [_Solid(np.stack([middle, middle], axis=1), radius)]


def _leg(motion: Motion, side: str) -> list[_Solid]:
    joints = [motion.body.find(f"{side} {part}") for part in ("thigh", "shin", "foot")]
    if any(j is None for j in joints):
        return []
    thigh, shin, foot = (j for j in joints if j is not None)
    height = motion.clip.skeleton.rest_height
    return [
        _Solid(_line(motion, thigh, shin), CAPSULES["thigh"] * height),
        _Solid(_line(motion, shin, foot), LIMBS["shin"][1] * height),
    ]
