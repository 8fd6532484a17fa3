"""A joint's rotations, read from its channels and said in them again, however many it has.

Between a document's angles and the quaternions that everything is worked on as there is one door.
A joint may have three rotation channels in any order, two, one or none. What fewer than three
cannot say is left out: they take the angles that come nearest. Nobody else converts angles of
joints; a test holds to that.
"""

from __future__ import annotations

import numpy as np

from leancurve.curves.curve import Curve, SampledCurve
from leancurve.document.base import base_pose, times_of
from leancurve.document.clip import Clip
from leancurve.document.track import TrackId
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Bools, Floats
from leancurve.numbers.continuity import continuous, rewritten


def read(clip: Clip, joint: int, frames: Floats | None = None) -> Floats:
    """A joint's own rotations ``(F, 4)`` at times in frames, by default on each of the clip's:
    neighbours on one side of the sphere. Layers, placement and plants do not count."""
    return rotation.hemisphere(base_pose(clip, times_of(clip, frames), [joint]).rotation[:, 0])


def quaternions(angles: Floats, order: str) -> Floats:
    """Rotations ``(..., 4)`` of angles ``(..., n)`` in degrees, intrinsic in their order."""
    return rotation.from_euler(angles, order)


def angles_near(rotations: Floats, order: str, near: Floats) -> Floats:
    """Angles ``(..., n)`` of rotations, of all solutions the ones nearest to ``near (..., n)``."""
    return rotation.angles_near(rotations, order, near)


def angles_afresh(rotations: Floats, order: str) -> Floats:
    """Angles ``(..., F, 3)`` of rotations ``(..., F, 4)`` on successive frames that nothing is said
    of yet: without a jump."""
    angles = rotation.to_euler_compiled(rotations, order)
    joints = angles.reshape(-1, *angles.shape[-2:])
    return np.asarray(continuous(joints, order)[0].reshape(angles.shape))


def middle_angles(rotations: Floats, order: str) -> Floats:
    """The middle angles ``(...)`` of rotations ``(..., 4)``, -90 to 90: at these ends is the lock
    of the order."""
    return np.asarray(rotation.to_euler(rotations, order)[..., 1])


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
