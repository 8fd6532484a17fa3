"""Feet in contact: sliding over the floor, sunk through it, or held above it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from leancurve.cleaning.contacts import speed
from leancurve.document.clip import Clip
from leancurve.document.ground import raised_under
from leancurve.document.kept import kept
from leancurve.figure.feet import foot_points
from leancurve.measures.findings.base import Finding, Motion, severity, spans
from leancurve.measures.findings.calibration import calibration_spans
from leancurve.measures.findings.jolts import thrown
from leancurve.numbers.arrays import Bools, Floats, Ints

SLIDE_MM = 8.0
SINK_MM = 6.0
FLOAT_MM = 12.0
"""What shows on a screen for a figure of 1.75 m (common practice: a centimetre is seen)."""
SETTLE_S = 0.06
"""How much of a contact's start and end is landing and leaving, not standing."""


@dataclass(frozen=True)
class _Stand:
    """One contact's inner frames: the foot's joint, and where its point is, millimetres."""

    joint: str
    frames: Ints
    level: Floats
    height: Floats


def inner_frames(motion: Motion) -> list[tuple[str, Ints]]:
    """Each foot contact's frames without landing and leaving, calibration, spikes and pops."""
    clip = motion.clip
    out: list[tuple[str, Ints]] = []
    points = foot_points(clip.skeleton, motion.body)
    settle = motion.frames_in(SETTLE_S)
    thrown_about = {joint: thrown(motion, joint) for joint in set(points.values())}
    for contact in motion.contacts:
        joint = points.get(contact.limb)
        if joint is None:
            continue
        # A clip's own border is no landing: the foot stands there already.
        first = contact.first + (settle if contact.first > 0 else 0)
        last = contact.last - (settle if contact.last < clip.frames - 1 else 0)
        frames = np.arange(max(first, 0), min(last, clip.frames - 1) + 1)
        for a, b in motion.once(calibration_spans):
            frames = frames[(frames < a) | (frames > b)]
        frames = frames[~thrown_about[joint][frames]]
        if len(frames) >= 3:
            out.append((contact.limb, frames))
    return out


def _stands(motion: Motion) -> Iterator[_Stand]:
    clip = motion.clip
    points = foot_points(clip.skeleton, motion.body)
    _, positions = motion.world
    flat = [a for a in range(3) if a != motion.up]
    for limb, frames in motion.once(inner_frames):
        foot = motion.body.find(f"{limb.split()[0]} foot")
        assert foot is not None  # its points are found from it
        track = positions[frames, points[limb]] * clip.millimetres
        rest = motion.support.rest_heights[limb] + raised(motion, limb)[frames]
        height = track[:, motion.up] - rest * clip.millimetres
        yield _Stand(motion.names[foot], frames, track[:, flat], height)


def raised(motion: Motion, limb: str) -> Floats:
    """How far above the floor the ground under a foot's point is: a prop's top, own unit."""
    point = foot_points(motion.clip.skeleton, motion.body)[limb]
    return raised_under(motion.clip, motion.world[1][:, point], motion.support.floor)


def detect_slides(motion: Motion) -> Iterator[Finding]:
    """The size is the farthest a foot gets from where it was set down, in mm.

    The span is the whole stand between its first and its last movement: what slides and comes
    back has slid.
    """
    least = SLIDE_MM * motion.size
    found: list[Finding] = []
    for stand in _stands(motion):
        placed = np.median(stand.level[: max(3, len(stand.level) // 20)], axis=0)
        away = np.linalg.norm(stand.level - placed, axis=1)
        size = float(away.max())
        if size > least:
            pace = speed(stand.level, motion.rate, 0.1)
            moving = np.flatnonzero(pace > 0.2 * pace.max())
            first, last = stand.frames[moving[0]], stand.frames[moving[-1]]
            rank = severity(size, least, 6 * least)
            found.append(
                Finding("slide", stand.joint, "", int(first), int(last), round(size, 2), "mm", rank)
            )
    yield from _merged(found)


def detect_sinks(motion: Motion) -> Iterator[Finding]:
    """How far a foot in contact is below the floor it stands on, in mm."""
    scale = motion.size
    found: list[Finding] = []
    for stand in _stands(motion):
        found += _parts(motion, "sink", stand, -stand.height, SINK_MM * scale)
    yield from _merged(found)


def detect_floats(motion: Motion) -> Iterator[Finding]:
    """How far a foot in contact stays above the floor, in mm."""
    scale = motion.size
    found: list[Finding] = []
    for stand in _stands(motion):
        if np.median(stand.height) > FLOAT_MM * scale:
            found += _parts(motion, "float", stand, stand.height, FLOAT_MM * scale)
    yield from _merged(found)


def _parts(
    motion: Motion, kind: str, stand: _Stand, size: Floats, threshold: float
) -> list[Finding]:
    over: Bools = size > 0.5 * threshold
    out = []
    for a, b in spans(over, motion.frames_in(0.05)):
        worst = float(size[a : b + 1].max())
        if worst > threshold:
            first, last = int(stand.frames[a]), int(stand.frames[b])
            rank = severity(worst, threshold, 6 * threshold)
            out.append(Finding(kind, stand.joint, "", first, last, round(worst, 2), "mm", rank))
    return out


def _merged(found: list[Finding]) -> Iterator[Finding]:
    """Heel and toe of one foot at one time are one finding: the greater."""
    left = sorted(found, key=lambda f: (f.joint, f.first))
    while left:
        first = left.pop(0)
        same = [f for f in left if f.joint == first.joint and f.first <= first.last + 1]
        if not same:
            yield first
            continue
        for f in same:
            left.remove(f)
        worst = max([first, *same], key=lambda f: f.size)
        last = max(f.last for f in [first, *same])
        merged = Finding(
            worst.kind, worst.joint, "", first.first, last, worst.size, "mm", worst.severity
        )
        left.insert(0, merged)


@kept
def standing_frames(clip: Clip) -> list[tuple[str, Ints]]:
    """:func:`inner_frames` of a clip."""
    return inner_frames(Motion(clip))


def largest_slide_mm(motion: Motion, standing: Sequence[tuple[str, Ints]] | None = None) -> float:
    """How far a foot gets at most from where it was set down, in mm."""
    return float(slides_mm(motion, standing).max(initial=0.0))


def slides_mm(motion: Motion, standing: Sequence[tuple[str, Ints]] | None = None) -> Floats:
    """How far the farther foot is from where it was set down, in mm, on each frame ``(F,)``; 0
    where none stands.

    ``standing`` are the frames on which feet stand, if not those of this motion itself: two states
    of one clip are measured over the same frames.
    """
    out = np.zeros(motion.clip.frames)
    scale = motion.clip.millimetres
    flat = [a for a in range(3) if a != motion.up]
    points = foot_points(motion.clip.skeleton, motion.body)
    for limb, frames in motion.once(inner_frames) if standing is None else standing:
        track = motion.world[1][frames][:, points[limb]][:, flat] * scale
        placed = np.median(track[: max(3, len(track) // 20)], axis=0)
        # Of several points of a foot the farthest counts.
        away = np.linalg.norm(track - placed, axis=-1).reshape(len(track), -1).max(axis=1)
        out[frames] = np.maximum(out[frames], away)
    return out
