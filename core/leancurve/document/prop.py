"""Props: things that a figure holds or stands on, with a motion of their own and a plain shape."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final, Literal, TypeAlias

from leancurve.document.track import TrackId

PROP: Final = "prop"
"""The owner of props' channels; the track's number is the prop's id."""
ORDER: Final = "ZXY"
CHANNELS: Final = ("tx", "ty", "tz", "rz", "rx", "ry")
Shape: TypeAlias = Literal["box", "cylinder", "line", "point"]


@dataclass(frozen=True, order=True)
class Prop:
    """A thing in the scene. ``size (3,)`` is its extent along its own axes in the skeleton's unit:
    of a cylinder its width and its height along Y, of a line its length along Y. Its middle is
    where its position channels say, in the world; its turns are ``ZXY``, intrinsic."""

    id: int
    name: str
    shape: Shape = "box"
    size: tuple[float, float, float] = (30.0, 30.0, 30.0)

    @property
    def tracks(self) -> tuple[TrackId, ...]:
        return tuple(TrackId(PROP, self.id, name) for name in CHANNELS)


def prop_track(prop: int, name: str) -> TrackId:
    """A channel of a prop, by its id: ``prop_track(0, "ty")``."""
    return TrackId(PROP, prop, name)
