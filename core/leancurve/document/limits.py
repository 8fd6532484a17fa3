"""What a document may hold.

A few bytes can ask for more than a machine has (a file's frame count, an operation that repeats),
and numbers that are no motion break whatever measures them. Both are refused here, by name: sizes
before anything is made of them, values where a clip is read and after every operation.
"""

from __future__ import annotations

from fractions import Fraction

import numpy as np

from leancurve.curves.curve import Curve, KeyedCurve, SampledCurve
from leancurve.errors import BadInput, short
from leancurve.numbers.arrays import Floats

MOST_FRAMES = 500_000
"""Over an hour at 120 a second."""
MOST_JOINTS = 5_000
MOST_POSES = 12_000_000
"""Joints times frames: 65 joints for 25 minutes at 120 a second."""
MOST_PAIRS = 60_000_000
"""Frames of one clip times those of another: a minute of either at 120 a second."""
MOST_VALUES = 40_000_000
"""Channels times frames, and keys in all."""
LONGEST_NAME = 200
LARGEST = 1e9
"""Degrees, or the skeleton's unit."""
STEEPEST = 1e12
UNITS = (1e-6, 1e6)
"""Metres a unit, from a thousandth of a millimetre to a thousand kilometres."""
RATES = (Fraction(1, 100), Fraction(100_000))


def require_room(joints: int, channels: int, frames: int, what: str = "the clip") -> None:
    """Raise :class:`BadInput` where a clip of this size would be too large."""
    if joints > MOST_JOINTS:
        raise BadInput(f"{what}: {joints:,} joints; at most {MOST_JOINTS:,}")
    if frames > MOST_FRAMES:
        raise BadInput(f"{what}: {frames:,} frames; at most {MOST_FRAMES:,}")
    if joints * frames > MOST_POSES:
        raise BadInput(
            f"{what}: {frames:,} frames of {joints:,} joints are too many; "
            f"at most {MOST_POSES // max(joints, 1):,} frames of so many joints"
        )
    if channels * frames > MOST_VALUES:
        raise BadInput(
            f"{what}: {frames:,} frames of {channels:,} channels are too many; "
            f"at most {MOST_VALUES // max(channels, 1):,} frames of so many channels"
        )


def require_pairs(first: int, second: int) -> None:
    """Raise :class:`BadInput` where two clips have too many pairs of frames to look at them all."""
    if first * second > MOST_PAIRS:
        raise BadInput(
            f"join: {first:,} times {second:,} frames are too many pairs; at most {MOST_PAIRS:,}: "
            "trim the clips first, or say at which frames they meet"
        )


def require_rate(rate: Fraction) -> None:
    """Raise :class:`BadInput` for a rate that no clip has: below 0.01 or above 100,000 a second."""
    if not RATES[0] <= rate <= RATES[1] or max(rate.numerator, rate.denominator) >= 2**31:
        raise BadInput(
            "rate: expected 0.01 to 100,000 frames a second, numerator and denominator below 2^31"
        )


def require_sound_curve(curve: Curve, named: str) -> None:
    """Raise :class:`BadInput` where a curve holds what is no number or beyond the limits."""
    if isinstance(curve, SampledCurve):
        require_within(curve.values, LARGEST, f"{named}: values")
        return
    assert isinstance(curve, KeyedCurve)
    require_within(curve.value, LARGEST, f"{named}: values")
    require_within(curve.time, LARGEST, f"{named}: times")
    require_within(curve.slope_in, STEEPEST, f"{named}: slopes")
    require_within(curve.slope_out, STEEPEST, f"{named}: slopes")


def require_count(count: int, most: int, what: str) -> None:
    """Raise :class:`BadInput` for more of anything than a clip holds."""
    if count > most:
        raise BadInput(f"the clip: {count:,} {what}; at most {most:,}")


def require_within(column: Floats, most: float, what: str) -> None:
    """Raise :class:`BadInput` unless every number lies within ±``most``."""
    # Written so that what is no number is refused as well.
    if len(column) and not float(np.abs(column).max()) <= most:
        raise BadInput(f"{what} must be finite numbers within ±{most:g}")


def require_name(name: str) -> None:
    """Raise :class:`BadInput` for a name that is too long or holds what no text does."""
    if len(name) > LONGEST_NAME:
        raise BadInput(
            f"the name {short(name, 24)!r} has {len(name):,} characters; at most {LONGEST_NAME}"
        )
    if any((ord(c) < 32 and c != "\t") or "\ud800" <= c <= "\udfff" for c in name):
        raise BadInput(f"the name {short(name, 24)!r} contains characters not allowed in text")
