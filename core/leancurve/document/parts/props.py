"""Props as a part of a clip: their limits and their stored form."""

from __future__ import annotations

from dataclasses import asdict

import numpy as np

from leancurve.document.clip import Clip
from leancurve.document.limits import LARGEST, require_name, require_within
from leancurve.document.moves import point_of
from leancurve.document.parts.base import Part
from leancurve.document.prop import Prop
from leancurve.errors import BadInput, short


def _sound(clip: Clip) -> None:
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


PROPS = Part(
    "props", "props",
    values=lambda prop: {**asdict(prop), "size": list(prop.size)},
    item=lambda values: Prop(**{**values, "size": point_of(values["size"])}),
    key=lambda prop: prop.id,
    most=50,
    sound=_sound,
)  # fmt: skip
"""Their curves are the clip's; a placement takes them along."""
