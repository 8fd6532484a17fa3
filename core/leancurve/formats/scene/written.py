"""What writers of scenes have in common."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from leancurve.document.clip import Clip
from leancurve.errors import BadInput

CORNERS = np.array([(x, y, z) for x in (-0.5, 0.5) for y in (-0.5, 0.5) for z in (-0.5, 0.5)])
"""The corners of a box of size one about the origin, in the order of their bits."""


def first_of_one_skeleton(clips: Sequence[Clip]) -> Clip:
    """The first of clips that go into one file; :class:`BadInput` where that has none, or clips on
    several skeletons."""
    if not clips:
        raise BadInput("there is no clip to write")
    first = clips[0]
    for clip in clips[1:]:
        if clip.skeleton.names != first.skeleton.names:
            raise BadInput(f"{clip.name} is on another skeleton than {first.name}")
    return first
