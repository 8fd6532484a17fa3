"""What a file does not say, told by its numbers: rate, unit, up axis, meaning of positions."""

from __future__ import annotations

import re
from collections.abc import Mapping
from fractions import Fraction
from typing import TypeAlias

import numpy as np

from leancurve.document.clip import Positions
from leancurve.document.track import TrackId, base_track
from leancurve.figure.skeleton import Skeleton
from leancurve.numbers.arrays import Floats

Layout: TypeAlias = tuple[tuple[str, ...], ...]

KNOWN_RATES = (
    *(Fraction(n) for n in (12, 15, 24, 25, 30, 48, 50, 60, 72, 75, 90, 100, 120, 144, 150, 200)),
    *(Fraction(n) for n in (240, 250, 300, 360, 480, 500, 1000)),
    *(Fraction(n * 1000, 1001) for n in (24, 30, 48, 60, 120)),
)
FOOT = re.compile(r"foot|ankle", re.I)
HEAD = re.compile(r"head", re.I)
UNITS = {"m": 1.0, "cm": 0.01, "mm": 0.001, "in": 0.0254}


def rate_of(frame_time: float) -> Fraction:
    """Frames per second as a rational: a known rate where the text's rounding allows it."""
    for rate in KNOWN_RATES:
        if abs(frame_time - float(1 / rate)) <= 6e-7:
            # 29.97 and 30 differ by 33 µs, 119.88 and 120 by 8 µs: no two share a rounding.
            return rate
    return Fraction(1 / frame_time).limit_denominator(100_000)


def guess_unit(height: float) -> tuple[float, str]:
    """Metres a unit from the figure's height, and how it was found, for a person to read."""
    for unit, metres in UNITS.items():
        if 1.35 <= height * metres <= 2.15:
            return metres, f"unit {unit}: the figure stands {height * metres:.2f} m tall"
    if height <= 0:
        return 0.01, "unit cm: the figure has no height to tell it by"
    factor = 1.7 / height
    return factor, (
        f"unit {factor * 100:.3g} cm: taken so that the figure stands 1.70 m; it is not one of "
        "m, cm, mm, inch"
    )


def guess_up(skeleton: Skeleton) -> str:
    """The axis along which the head stands above the feet at rest."""
    rest = skeleton.rest_positions
    heads = [j for j, n in enumerate(skeleton.names) if HEAD.search(n)]
    feet = [j for j, n in enumerate(skeleton.names) if FOOT.search(n)]
    if not heads or not feet:
        return "y"
    return "xyz"[int(np.argmax(rest[heads].mean(axis=0) - rest[feet].mean(axis=0)))]


def position_meaning(
    skeleton: Skeleton, layout: Layout, columns: Mapping[TrackId, Floats], *, roots: bool
) -> tuple[Positions | None, int]:
    """Whether position channels replace the offset or add to it, by where their values lie.

    Looks at roots or at the other joints; also says how many of them have position channels.
    ``None`` where nothing tells the two apart.
    """
    to_offset = to_zero = 0.0
    joints = 0
    for j, names in enumerate(layout):
        moves = [c for c in names if c[0] == "t"]
        if (skeleton.parents[j] < 0) != roots or not moves:
            continue
        joints += 1
        for c in moves:
            offset = skeleton.offsets[j]["xyz".index(c[1])]
            values = columns[base_track(j, c)]
            if len(values):
                to_offset += float(np.median(np.abs(values - offset)))
                to_zero += float(np.median(np.abs(values)))
    if joints == 0 or abs(to_offset - to_zero) < 1e-9:
        return None, joints
    return ("replace" if to_offset < to_zero else "add"), joints
