"""Two figures in one scene: another clip as it is laid beside this one."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.document.partner import Partner
from leancurve.document.placement import placed_points, unplaced_points
from leancurve.errors import BadInput, short
from leancurve.figure.pose import Pose
from leancurve.figure.skeleton import UP, turn_between
from leancurve.numbers import rotation


@dataclass(frozen=True)
class Stand:
    """Where another clip is laid in a clip's scene: its first frame is the clip's frame ``later``;
    it is turned by ``turned`` degrees about the up axis, then moved by ``moved (3,)`` in the
    clip's unit."""

    later: int = 0
    moved: tuple[float, float, float] = (0.0, 0.0, 0.0)
    turned: float = 0.0

    @classmethod
    def of(cls, clip: Clip, partner: Partner) -> Stand:
        """That of a partner in the clip's scene, before the clip's placement."""
        x, y, z = (v / clip.millimetres for v in partner.moved)
        return cls(partner.later, (x, y, z), partner.turned)

    def placed(self, clip: Clip) -> Stand:
        """The same where the clip's placement puts it: its way keeps its length."""
        placement = clip.placement
        if placement is None or not placement.counts:
            return self
        x, y, z = (float(v) for v in placed_points(clip, placement, np.array(self.moved)))
        return Stand(self.later, (x, y, z), self.turned + placement.turn)

    def unplaced(self, clip: Clip) -> Stand:
        """What the clip's placement puts here."""
        placement = clip.placement
        if placement is None or not placement.counts:
            return self
        x, y, z = (float(v) for v in unplaced_points(clip, placement, np.array(self.moved)))
        return Stand(self.later, (x, y, z), self.turned - placement.turn)


def pose_beside(clip: Clip, other: Clip, stand: Stand) -> Pose:
    """The other clip's pose on each of the clip's frames, in the clip's axes and unit: before and
    after its own frames it stands still. :class:`BadInput` where it has no frames."""
    if not other.frames:
        raise BadInput(f"{short(other.name)} has no frames")
    pace = float(other.rate / clip.rate)
    frames = np.clip((np.arange(clip.frames) - stand.later) * pace, 0.0, other.frames - 1.0)
    pose = evaluate(other, frames)
    axis = clip.reading.up_axis
    upright = turn_between(other.reading.up_axis, axis)
    laid = rotation.multiply(rotation.from_axis("XYZ"[UP[axis]], np.array(stand.turned)), upright)
    turns, places = pose.rotation.copy(), pose.translation * (other.millimetres / clip.millimetres)
    for root in other.skeleton.roots:
        turns[:, root] = rotation.multiply(laid, turns[:, root])
        places[:, root] = rotation.rotate(laid, places[:, root]) + np.array(stand.moved)
    return Pose(turns, places)


def stand_between(clip: Clip, other: Clip, stand: Stand) -> Stand:
    """Where this clip stands in the other one's scene, if the other stands so in this one's: both
    before the placement of the clip whose scene it is."""
    stand = stand.placed(clip)
    to_clip = turn_between(other.reading.up_axis, clip.reading.up_axis)
    axis = clip.reading.up_axis
    back = rotation.conjugate(rotation.from_axis("XYZ"[UP[axis]], np.array(stand.turned)))
    by = rotation.rotate(rotation.conjugate(to_clip), rotation.rotate(back, -np.array(stand.moved)))
    x, y, z = (float(v) * clip.millimetres / other.millimetres for v in by)
    later = round(-stand.later * float(other.rate / clip.rate))
    return Stand(later, (x, y, z), -stand.turned).unplaced(other)
