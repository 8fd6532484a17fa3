"""What a document may hold: one check, where documents are made.

A few bytes can ask for more than a machine has (a file's frame count, an operation that repeats),
and numbers that are no motion break whatever measures them. Both are refused here, by name: sizes
before anything is made of them, values where a clip is read and after every operation.
"""

from __future__ import annotations

from fractions import Fraction

import numpy as np

from leancurve.curves.curve import Curve, KeyedCurve, SampledCurve
from leancurve.document.clip import Clip, Placement
from leancurve.document.track import CHANNELS
from leancurve.errors import BadInput, short
from leancurve.numbers.arrays import Floats

MOST_FRAMES = 500_000
"""Over an hour at 120 a second."""
MOST_JOINTS = 5_000
MOST_POSES = 12_000_000
"""Joints times frames: 65 joints for 25 minutes at 120 a second."""
MOST_VALUES = 40_000_000
"""Channels times frames, and keys in all."""
MOST_PLANTS = 5_000
MOST_PROPS = 50
MOST_LAYERS = 200
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


def require_rate(rate: Fraction) -> None:
    """Raise :class:`BadInput` for a rate that no clip has: below 0.01 or above 100,000 a second."""
    if not RATES[0] <= rate <= RATES[1] or max(rate.numerator, rate.denominator) >= 2**31:
        raise BadInput(
            "rate: expected 0.01 to 100,000 frames a second, numerator and denominator below 2^31"
        )


def require_sound(clip: Clip, before: Clip | None = None) -> None:
    """Raise :class:`BadInput` where a clip holds what no motion is.

    Curves, skeleton and rate that are those of the clip ``before`` are known to be sound.
    """
    require_room(len(clip.skeleton), len(clip.curves), clip.frames)
    if before is None or clip.rate != before.rate:
        require_rate(clip.rate)
    if before is None or clip.skeleton is not before.skeleton:
        _require_sound_skeleton(clip)
    if before is None or clip.reading != before.reading:
        _require_sound_reading(clip)
    keys = 0
    for track, curve in clip.curves.items():
        keys += curve.key_count
        if before is None or before.curves.get(track) is not curve:
            named = short(clip.named(track))
            require_sound_curve(curve, named)
    if keys > MOST_VALUES:
        raise BadInput(f"the clip: {keys:,} keys; at most {MOST_VALUES:,}")
    if clip.props and (before is None or clip.props is not before.props):
        _require_sound_props(clip)
    if clip.placement is not None and (before is None or clip.placement != before.placement):
        _require_sound_placement(clip.placement)
    if clip.layers and (before is None or clip.layers is not before.layers):
        _require_sound_layers(clip)
    if clip.plants and (before is None or clip.plants is not before.plants):
        _require_sound_plants(clip)


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
        raise BadInput(f"the name {short(name, 24)!r} holds characters that no text has")


def _require_sound_skeleton(clip: Clip) -> None:
    skeleton = clip.skeleton
    for name in (*skeleton.names, clip.name):
        require_name(name)
    offsets = [*skeleton.offsets, *(end.offset for end in skeleton.ends)]
    require_within(np.array(offsets, dtype=np.float64).ravel(), LARGEST, "offsets")
    for end in skeleton.ends:
        if not 0 <= end.parent < len(skeleton):
            raise BadInput("an end site hangs on a joint that does not exist")


def _require_sound_reading(clip: Clip) -> None:
    reading = clip.reading
    if not UNITS[0] <= reading.metres_per_unit <= UNITS[1]:
        raise BadInput(f"the clip: expected {UNITS[0]:g} to {UNITS[1]:g} metres a unit")
    if reading.floor is not None:
        require_within(np.array([reading.floor]), LARGEST, "the floor's height")
    unknown = set(reading.ends) - set(clip.skeleton.names)
    if unknown:
        raise BadInput(f"ends: no joint is named {short(min(unknown))!r}")


def _require_sound_plants(clip: Clip) -> None:
    if len(clip.plants) > MOST_PLANTS:
        raise BadInput(f"the clip: {len(clip.plants):,} plants; at most {MOST_PLANTS:,}")
    for plant in clip.plants:
        named = f"the plant of {short(plant.part)}"
        require_name(plant.part)
        if not 0 <= plant.first <= plant.last < max(clip.frames, 1):
            raise BadInput(
                f"{named}: frames {plant.first} to {plant.last} are not within the clip's"
            )
        if not 0 <= min(plant.ease_in, plant.ease_out) <= max(plant.ease_in, plant.ease_out) < 1e6:
            raise BadInput(f"{named}: expected eases of 0 or more frames")
        if not (0.0 <= plant.strength <= 1.0 and 0.0 <= plant.hips <= 1.0):
            raise BadInput(f"{named}: expected shares from 0 to 1")
        require_within(np.array(plant.place, dtype=np.float64), LARGEST, f"{named}: its place")
        if plant.turn is not None:
            size = float(np.linalg.norm(np.array(plant.turn, dtype=np.float64)))
            if not abs(size - 1.0) < 1e-6:
                raise BadInput(f"{named}: its turn must have length 1")


def _require_sound_props(clip: Clip) -> None:
    if len(clip.props) > MOST_PROPS:
        raise BadInput(f"the clip: {len(clip.props):,} props; at most {MOST_PROPS:,}")
    for what in ("id", "name"):
        if len({getattr(p, what) for p in clip.props}) < len(clip.props):
            raise BadInput(f"the clip: two props have the same {what}")
    for prop in clip.props:
        require_name(prop.name)
        require_within(np.array(prop.size, dtype=np.float64), LARGEST, f"{short(prop.name)}: size")
        if min(prop.size) < 0:
            raise BadInput(f"{short(prop.name)}: its size must be 0 or more")
        if any(t not in clip.curves for t in prop.tracks):
            raise BadInput(f"{short(prop.name)}: a prop has a curve for each of its six channels")


def _require_sound_placement(placement: Placement) -> None:
    numbers = (*placement.move, *placement.about, placement.turn, placement.scale)
    require_within(np.array(numbers, dtype=np.float64), LARGEST, "the placement: its numbers")
    if not placement.scale > 0.0:
        raise BadInput("the placement: its scale must be above 0")


def _require_sound_layers(clip: Clip) -> None:
    if len(clip.layers) > MOST_LAYERS:
        raise BadInput(f"the clip: {len(clip.layers):,} layers; at most {MOST_LAYERS:,}")
    for what in ("id", "name"):
        if len({getattr(x, what) for x in clip.layers}) < len(clip.layers):
            raise BadInput(f"the clip: two layers have the same {what}")
    for layer in clip.layers:
        require_name(layer.name)
        named = f"the layer {short(layer.name)}"
        joints = [j for j, _ in layer.layout]
        if joints != sorted(set(joints)) or not all(0 <= j < len(clip.skeleton) for j in joints):
            raise BadInput(f"{named}: its joints must be the skeleton's, each once")
        for _, names in layer.layout:
            if not names or len(set(names)) < len(names) or not set(names) <= set(CHANNELS):
                raise BadInput(f"{named}: expected channels of {', '.join(CHANNELS)}, each once")
        for joint, share in layer.mask:
            if not 0 <= joint < len(clip.skeleton) or not 0.0 <= share <= 1.0:
                raise BadInput(f"{named}: expected shares from 0 to 1 of the skeleton's joints")
        if any(t not in clip.curves for t in layer.tracks):
            raise BadInput(f"{named}: a layer has a curve for its weight and each of its channels")
