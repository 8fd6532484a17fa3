"""A joint's rotations, read from its channels and said in them again, however many it has.

Between a document's angles and the quaternions that everything is worked on as there is one door.
A joint may have three rotation channels in any order, two, one or none. What fewer than three
cannot say is left out: they take the angles that come nearest.
"""

from __future__ import annotations

import numpy as np

from leancurve.curves.curve import Curve, SampledCurve
from leancurve.document.base import base_pose, times_of
from leancurve.document.clip import Clip
from leancurve.document.track import TrackId
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Bools, Floats
from leancurve.numbers.continuity import rewritten


def read(clip: Clip, joint: int, frames: Floats | None = None) -> Floats:
    """A joint's own rotations ``(F, 4)`` at times in frames, by default on each of the clip's:
    neighbours on one side of the sphere. Layers, placement and plants do not count."""
    return rotation.hemisphere(base_pose(clip, times_of(clip, frames), [joint]).rotation[:, 0])


def said(own: Floats, rotations: Floats, order: str, moved: Bools | None = None) -> Floats:
    """Angles ``(F, n)`` that say ``rotations (F, 4)`` on successive frames, without a flip that
    the angles ``own`` of the same frames did not have.

    Frames that did not move (``moved (F,)``; all have, where it is absent) keep their numbers
    unless the way to them winds otherwise.
    """
    if moved is None:
        moved = np.ones(len(own), dtype=np.bool_)
    return rewritten(own, rotations, moved, order)


def written(clip: Clip, joint: int, angles: Floats) -> dict[TrackId, Curve]:
    """A joint's angles ``(F, n)`` as curves with a value on every frame."""
    return {
        track: SampledCurve(np.ascontiguousarray(angles[:, k]))
        for k, track in enumerate(clip.turns_of(joint))
    }
