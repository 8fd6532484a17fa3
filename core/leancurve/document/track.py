"""What a channel is called by everywhere: its owner, its joint, and one of six names."""

from __future__ import annotations

from typing import Final, NamedTuple

CHANNELS = ("tx", "ty", "tz", "rx", "ry", "rz")
BASE: Final = "base"
"""The owner of the clip's own channels; props own theirs."""


class TrackId(NamedTuple):
    """A channel: whose it is, its joint's index, its name: ``TrackId("base", 3, "rx")``."""

    owner: str
    joint: int
    name: str

    @property
    def turns(self) -> bool:
        return self.name[0] == "r"

    def __str__(self) -> str:
        return f"{self.owner}/{self.joint}/{self.name}"


def base_track(joint: int, name: str) -> TrackId:
    """A channel of the clip itself: ``base_track(3, "rx")``."""
    return TrackId(BASE, joint, name)
