"""What an operation may touch, said so that it means something on another take."""

from __future__ import annotations

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from leancurve.document.clip import ChannelId, Clip
from leancurve.numbers.arrays import Bools


class Scope(BaseModel):
    """What an operation may change: joints, channels and frames, resolved when applied.

    ``groups`` are parts of the body and ``limbs`` contact spans, so that they mean something on
    another take; what is given of joints and groups adds up, and so do frames and limbs.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    joints: tuple[str, ...] | None = Field(None, description="joint names; all when absent")
    groups: tuple[str, ...] | None = Field(
        None, description='groups of the body, such as "left leg"'
    )
    channels: tuple[str, ...] | None = Field(
        None, description="of tx ty tz rx ry rz; all when absent"
    )
    frames: tuple[int, int] | None = Field(
        None, description="first and last frame, both included; all when absent"
    )
    limbs: tuple[str, ...] | None = Field(
        None, description='frames in which one of these limbs is held, such as "left foot"'
    )

    only: tuple[tuple[str, str], ...] | None = Field(
        None, description="single channels, each a joint's name and a channel"
    )
    keys: tuple[tuple[str, str, int], ...] | None = Field(
        None, description="single keys, each a joint's name, a channel and the key's id"
    )

    def resolve(self, clip: Clip) -> tuple[ChannelId, ...]:
        """The clip's channels in scope. A joint that this skeleton lacks selects nothing."""
        inside = self._joints(clip)
        single = self._single
        names = clip.skeleton.names
        return tuple(
            c
            for c in clip.channels
            if (inside is None or c.joint in inside)
            and (self.channels is None or c.name in self.channels)
            and (single is None or (names[c.joint], c.name) in single)
        )

    @property
    def _single(self) -> set[tuple[str, str]] | None:
        if self.keys is not None:
            return {(joint, channel) for joint, channel, _ in self.keys}
        return None if self.only is None else set(self.only)

    def keys_of(self, clip: Clip, channel: ChannelId) -> list[int] | None:
        """Ids of a channel's keys in scope; None where keys are not picked by id."""
        if self.keys is None:
            return None
        where = (clip.skeleton.names[channel.joint], channel.name)
        return [key for joint, name, key in self.keys if (joint, name) == where]

    def _joints(self, clip: Clip) -> set[int] | None:
        if self.joints is None and self.groups is None:
            return None
        inside = {j for j, n in enumerate(clip.skeleton.names) if n in (self.joints or ())}
        if self.groups:
            for name in self.groups:
                inside |= set(clip.body.groups.get(name, ()))
        return inside

    @property
    def whole_time(self) -> bool:
        return self.frames is None and self.limbs is None

    def mask(self, clip: Clip) -> Bools:
        """The clip's frames in scope, ``(F,)``."""
        if self.whole_time:
            return np.ones(clip.frames, dtype=np.bool_)
        inside = np.zeros(clip.frames, dtype=np.bool_)
        if self.frames is not None:
            inside[max(0, self.frames[0]) : max(0, self.frames[1] + 1)] = True
        for contact in clip.contacts or ():
            if self.limbs and contact.limb.startswith(self.limbs):
                inside[contact.first : contact.last + 1] = True
        return inside
