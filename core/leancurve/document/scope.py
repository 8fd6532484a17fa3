"""What an operation may touch, said so that it means something on another take."""

from __future__ import annotations

from typing import Annotated, Any, TypeAlias

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, field_validator

from leancurve.curves.curve import KeyedCurve
from leancurve.document.clip import Clip
from leancurve.document.layer import NOBODY
from leancurve.document.prop import PROP
from leancurve.document.track import BASE, TrackId
from leancurve.numbers.arrays import Bools

Owner: TypeAlias = Annotated[str, Field(pattern=r"^(base|prop|layer:\d{1,9})$")]
"""Whose channels are meant: the clip's own, its props', or a layer's by its id."""

NEAR = 0.5
"""Frames within which a key counts as the one that was seen there."""


def _found(curve: KeyedCurve, key: int, at: float | None) -> int | None:
    """The id of the key that was seen, None where it is not there."""
    here = np.flatnonzero(curve.id == key)
    if len(here) and (at is None or abs(curve.time[here[0]] - at) <= NEAR):
        return key
    if at is None:
        return None
    nearest = int(np.argmin(np.abs(curve.time - at)))
    return int(curve.id[nearest]) if abs(curve.time[nearest] - at) <= NEAR else None


class Scope(BaseModel):
    """What an operation may change: joints, channels and frames, resolved when applied.

    ``groups`` are parts of the body and ``limbs`` contact spans, so that they mean something on
    another take; what is given of joints and groups adds up, and so do frames and limbs.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    joints: tuple[str, ...] | None = Field(
        None, description="names of joints, or of props where they are the owners; all when absent"
    )
    groups: tuple[str, ...] | None = Field(
        None, description='groups of the body, such as "left leg"'
    )
    owner: Owner | None = Field(
        None, description="whose channels: the clip's own when absent, its props', or a layer's"
    )
    channels: tuple[str, ...] | None = Field(
        None, description="of tx ty tz rx ry rz; all when absent"
    )
    frames: tuple[int, int] | None = Field(
        None,
        description="first and last frame, both included; all when absent",
        json_schema_extra={"time": "span"},
    )
    limbs: tuple[str, ...] | None = Field(
        None, description='frames in which one of these limbs is held, such as "left foot"'
    )

    only: tuple[tuple[str, str], ...] | None = Field(
        None, description="single channels, each a joint's name and a channel"
    )
    keys: tuple[tuple[str, str, int, float | None], ...] | None = Field(
        None,
        description="single keys, each a joint's name, a channel, the key's id and the frame at "
        "which it was seen",
        json_schema_extra={"time": "keys"},
    )

    @field_validator("keys", mode="before")
    @classmethod
    def _with_frames(cls, value: Any) -> Any:
        """Keys were named without their frames once."""
        if not isinstance(value, list | tuple):
            return value
        return [(*k, None) if isinstance(k, list | tuple) and len(k) == 3 else k for k in value]

    def resolve(self, clip: Clip) -> tuple[TrackId, ...]:
        """The clip's channels in scope. A joint that this skeleton lacks selects nothing; one that
        it calls by another name is known by what it is."""
        inside = self._joints(clip)
        single = self._single(clip)
        owner = self.owner or BASE
        return tuple(
            c
            for c in clip.tracks
            if c.owner == owner
            and (c.joint != NOBODY or single is not None)
            and (inside is None or clip.whose(c) in inside)
            and (self.channels is None or c.name in self.channels)
            and (single is None or (clip.whose(c), c.name) in single)
        )

    def _single(self, clip: Clip) -> set[tuple[str, str]] | None:
        if self.keys is not None:
            return {(self._called(clip, joint), channel) for joint, channel, _, _ in self.keys}
        return None if self.only is None else {(self._called(clip, j), c) for j, c in self.only}

    def _called(self, clip: Clip, name: str) -> str:
        """What a joint of a name is called here; a prop, and one that is not here, is called so."""
        at = None if self.owner == PROP or not name else clip.joint_called(name)
        return name if at is None else clip.skeleton.names[at]

    def keys_of(self, clip: Clip, channel: TrackId) -> list[int] | None:
        """Ids of a channel's keys in scope; None where keys are not picked.

        A key is known by its id and the frame at which it was seen, within half a frame; one that
        was made anew since is known by the frame alone.
        """
        if self.keys is None:
            return None
        where = (clip.whose(channel), channel.name)
        curve = clip.curves[channel]
        picked = [
            (key, at)
            for joint, name, key, at in self.keys
            if (self._called(clip, joint), name) == where
        ]
        if not isinstance(curve, KeyedCurve):
            return [key for key, _ in picked]
        found = (_found(curve, key, at) for key, at in picked)
        return [key for key in found if key is not None]

    def unplaced(self, clip: Clip) -> list[dict[str, Any]]:
        """Joints and picked keys that the clip does not have."""
        known = {p.name for p in clip.props} if self.owner == PROP else set(clip.skeleton.names)
        out: list[dict[str, Any]] = [
            {"joint": name} for name in self.joints or () if self._called(clip, name) not in known
        ]
        for joint, name, key, at in self.keys or ():
            track = clip.track(self.owner or BASE, joint, name)
            curve = None if track is None else clip.curves.get(track)
            if isinstance(curve, KeyedCurve) and _found(curve, key, at) is None:
                where = {} if at is None else {"frame": at}
                out.append({"joint": joint, "channel": name, "id": key, **where})
        return out

    def _joints(self, clip: Clip) -> set[str] | None:
        if self.joints is None and self.groups is None:
            return None
        inside = {self._called(clip, name) for name in self.joints or ()}
        for name in self.groups or ():
            inside |= {clip.skeleton.names[j] for j in clip.body.groups.get(name, ())}
        return inside

    @property
    def whole_time(self) -> bool:
        return self.frames is None and self.limbs is None

    @property
    def whole_figure(self) -> bool:
        """Whether it means all joints and channels of its owner."""
        said = (self.joints, self.groups, self.channels, self.only, self.keys)
        return all(part is None for part in said)

    def mask(self, clip: Clip) -> Bools:
        """The clip's frames in scope, ``(F,)``."""
        if self.whole_time:
            return np.ones(clip.frames, dtype=np.bool_)
        inside = np.zeros(clip.frames, dtype=np.bool_)
        if self.frames is not None:
            inside[max(0, self.frames[0]) : max(0, self.frames[1] + 1)] = True
        meant = self._limbs_of(clip)
        for contact in clip.contacts or ():
            if contact.limb.startswith(meant):
                inside[contact.first : contact.last + 1] = True
        return inside

    def _limbs_of(self, clip: Clip) -> tuple[str, ...]:
        """The limbs that are meant as this clip's contacts call them: a foot with toes is held by
        its heel or its toe, one without them as a whole."""
        known = {c.limb for c in clip.contacts or ()}
        out = set(self.limbs or ())
        for limb in self.limbs or ():
            side, _, part = limb.partition(" ")
            if part == "foot":
                out |= {f"{side} heel", f"{side} toe"}
            elif part in ("heel", "toe") and limb not in known:
                out.add(f"{side} foot")
        return tuple(out)
