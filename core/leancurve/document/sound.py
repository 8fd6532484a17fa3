"""Whether a clip is a motion: one check, where documents are made."""

from __future__ import annotations

import numpy as np

from leancurve.document.clip import Clip
from leancurve.document.limits import (
    LARGEST,
    MOST_VALUES,
    UNITS,
    require_count,
    require_name,
    require_rate,
    require_room,
    require_sound_curve,
    require_within,
)
from leancurve.document.parts.registry import require_sound_parts
from leancurve.errors import BadInput, short


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
    require_count(keys, MOST_VALUES, "keys")
    require_sound_parts(clip, before)


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
