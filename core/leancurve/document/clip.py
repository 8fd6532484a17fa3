"""The document: a clip's skeleton, channels, curves, and how its take is read.

Angles are degrees in the joint's rotation order, lengths the skeleton's unit, time frames.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from fractions import Fraction
from functools import cached_property
from typing import Literal, TypeAlias

import numpy as np

from leancurve.curves.curve import Curve
from leancurve.document.layer import NOBODY, Layer, layer_of
from leancurve.document.partner import Partner
from leancurve.document.plant import Plant
from leancurve.document.prop import PROP, Prop, prop_track
from leancurve.document.track import TrackId, base_track
from leancurve.figure.body import Body, body_of
from leancurve.figure.body_names import role_called
from leancurve.figure.skeleton import Skeleton
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats, Ints

Positions: TypeAlias = Literal["add", "replace"]


@dataclass(frozen=True)
class Reading:
    """How a take is read: unit, up axis, and what position channels mean.

    ``root_positions`` and ``joint_positions`` say whether position channels of roots and of
    other joints replace the rest offset or add to it. ``roles`` are ``(joint, role)`` as set by
    hand, where :mod:`leancurve.figure.body` would have read them otherwise. ``floor`` is the
    floor's height in the skeleton's unit, estimated where absent. ``originals`` are ``(joint,
    name)`` of joints that had another name in the file they came in, or none: "".
    """

    metres_per_unit: float = 0.01
    up_axis: Literal["x", "y", "z"] = "y"
    root_positions: Positions = "add"
    joint_positions: Positions = "replace"
    ends: tuple[str, ...] = ()
    roles: tuple[tuple[str, str], ...] = ()
    floor: float | None = None
    originals: tuple[tuple[str, str], ...] = ()


@dataclass(frozen=True, order=True)
class Contact:
    """A span of frames, both included, in which a limb is held: ``Contact("left toe", 0, 40)``.

    The limb ``airborne`` is the whole figure, held by nothing.
    """

    limb: str
    first: int
    last: int


@dataclass(frozen=True, order=True)
class Accepted:
    """A finding that is meant: its kind, joint, channel ("" for the joint) and frames."""

    kind: str
    joint: str
    channel: str
    first: int
    last: int


@dataclass(frozen=True, order=True)
class Mark:
    """A named point or span in time, frames both included: ``Mark(12, 12, "lifts off")``."""

    first: int
    last: int
    name: str


@dataclass(frozen=True)
class Placement:
    """Where a whole clip stands: ``move (3,)`` in the skeleton's unit, ``turn`` degrees about the
    up axis, ``scale`` of its path over the floor, both about the point ``about (3,)``."""

    move: tuple[float, float, float] = (0.0, 0.0, 0.0)
    turn: float = 0.0
    scale: float = 1.0
    about: tuple[float, float, float] = (0.0, 0.0, 0.0)
    muted: bool = False

    @property
    def counts(self) -> bool:
        """Whether it puts anything elsewhere."""
        still = self.move == (0.0, 0.0, 0.0) and self.turn == 0.0 and self.scale == 1.0
        return not self.muted and not still


@dataclass(frozen=True, eq=False)
class Clip:
    """An immutable state of a clip. ``layout`` is each joint's channels in file order.

    ``contacts`` is None until they are looked for or set by hand.
    """

    skeleton: Skeleton
    layout: tuple[tuple[str, ...], ...]
    curves: Mapping[TrackId, Curve]
    rate: Fraction
    frames: int
    reading: Reading = field(default_factory=Reading)
    name: str = "clip"
    contacts: tuple[Contact, ...] | None = None
    accepted: tuple[Accepted, ...] = ()
    marks: tuple[Mark, ...] = ()
    plants: tuple[Plant, ...] = ()
    props: tuple[Prop, ...] = ()
    partners: tuple[Partner, ...] = ()
    layers: tuple[Layer, ...] = ()
    placement: Placement | None = None

    @property
    def channels(self) -> tuple[TrackId, ...]:
        return tuple(base_track(j, c) for j, names in enumerate(self.layout) for c in names)

    @property
    def tracks(self) -> tuple[TrackId, ...]:
        """All that has a curve: the clip's own channels, its props' and its layers'."""
        props = (t for prop in self.props for t in prop.tracks)
        return (*self.channels, *props, *(t for layer in self.layers for t in layer.tracks))

    def prop_at(self, name: str) -> int | None:
        """Which of its props has a name."""
        return next((k for k, prop in enumerate(self.props) if prop.name == name), None)

    def layer(self, owner: str) -> Layer | None:
        """The layer that owns tracks, None where no layer does."""
        return next((x for x in self.layers if x.owner == owner), None)

    def layer_named(self, name: str, layer: int | None = None) -> Layer | None:
        """The layer of an id; where none is given, that of a name."""
        if layer is not None:
            return next((x for x in self.layers if x.id == layer), None)
        return next((x for x in self.layers if x.name == name), None)

    def whose(self, track: TrackId) -> str:
        """The name of a track's joint, or of its prop; none of a layer's weight."""
        if track.owner == PROP:
            return next((p.name for p in self.props if p.id == track.joint), "a prop")
        return "" if track.joint == NOBODY else self.skeleton.names[track.joint]

    def named(self, track: TrackId) -> str:
        """A track in words: its joint or its prop, and its channel; whose layer it is of."""
        layer = self.layer(track.owner)
        if track.joint == NOBODY:
            return f"the weight of {layer.name if layer else 'a layer'}"
        told = f"{self.whose(track)} {track.name}"
        return told if layer is None else f"{told} of {layer.name}"

    def track(self, owner: str, name: str, channel: str) -> TrackId | None:
        """A track by its owner and the name of its joint or prop (none of a layer's weight), None
        where the clip has none such."""
        if owner == PROP:
            at = self.prop_at(name)
            return None if at is None else prop_track(self.props[at].id, channel)
        if layer_of(owner) is not None and not name:
            return TrackId(owner, NOBODY, channel)
        known = name in self.skeleton.names or layer_of(owner) is not None
        at = self.joint_called(name) if known else None
        return None if at is None else TrackId(owner, at, channel)

    def joint_called(self, name: str) -> int | None:
        """The joint of a name; on a skeleton of other names the one that is what the name says,
        where there is just one: ``LeftForearm`` is the left forearm, whatever it is called here."""
        if name in self.skeleton.names:
            return self.skeleton.index(name)
        role = role_called(name)
        found = self.body.all(role) if role is not None else ()
        return found[0] if len(found) == 1 else None

    @property
    def duration_s(self) -> float:
        """A clip of N frames lasts (N - 1) / rate seconds."""
        return float(max(self.frames - 1, 0) / self.rate)

    @property
    def key_count(self) -> int:
        return sum(c.key_count for c in self.curves.values())

    @property
    def millimetres(self) -> float:
        """Factor from the skeleton's unit to millimetres."""
        return self.reading.metres_per_unit * 1000.0

    def order(self, joint: int) -> str:
        """The joint's rotation order, ``"ZYX"``; shorter where it has fewer channels."""
        return "".join(c[1].upper() for c in self.layout[joint] if c[0] == "r")

    def turns_of(self, joint: int) -> list[TrackId]:
        """The joint's rotation channels in their order."""
        return [base_track(joint, c) for c in self.layout[joint] if c[0] == "r"]

    @cached_property
    def below(self) -> Clip:
        """This clip as its own curves have it, without what stands over them."""
        over = self.plants or self.layers or self.placement
        return replace(self, plants=(), layers=(), placement=None) if over else self

    @cached_property
    def unplanted(self) -> Clip:
        """This clip as its curves, its layers and its placement have it, without its plants."""
        return replace(self, plants=()) if self.plants else self

    @cached_property
    def body(self) -> Body:
        """What the joints are, with what was set by hand."""
        return body_of(self.skeleton, self.reading.up_axis, self.reading.roles)

    @cached_property
    def orders(self) -> tuple[str, ...]:
        return tuple(self.order(j) for j in range(len(self.skeleton)))

    @cached_property
    def rotation_axes(self) -> Ints:
        """Per joint the axes of its rotation channels ``(J, 3)``: 0 X, 1 Y, 2 Z, -1 none."""
        axes = np.full((len(self.skeleton), 3), -1, dtype=np.int64)
        for j, order in enumerate(self.orders):
            for k, axis in enumerate(order):
                axes[j, k] = rotation.AXES.index(axis)
        return axes

    def with_curves(self, curves: Mapping[TrackId, Curve]) -> Clip:
        """This clip with some of its curves replaced."""
        return replace(self, curves={**self.curves, **curves})

    def with_only(self, curves: Mapping[TrackId, Curve]) -> Clip:
        """This clip with no other channels than these."""
        layout = tuple(
            tuple(c for c in names if base_track(j, c) in curves)
            for j, names in enumerate(self.layout)
        )
        curves = dict(curves)
        return replace(self, layout=layout, curves=curves, layers=(), placement=None)

    def adds_offset(self, joint: int) -> bool:
        """Whether a joint's position channels add to its rest offset, rather than replace it."""
        is_root = self.skeleton.parents[joint] < 0
        mode = self.reading.root_positions if is_root else self.reading.joint_positions
        return mode == "add"

    def joint_translations(self, values: Mapping[str, Floats], joint: int, count: int) -> Floats:
        """Local translations ``(F, 3)`` of a joint from its position channels' values."""
        offset = self.skeleton.offset_array[joint]
        add = self.adds_offset(joint)
        out = np.tile(offset, (count, 1))
        for axis, name in enumerate(("tx", "ty", "tz")):
            if name in values:
                out[:, axis] = values[name] + (offset[axis] if add else 0.0)
        return out

    def translation_values(self, joint: int, moved: Floats) -> dict[TrackId, Floats]:
        """Values of a joint's position channels for local translations ``(F, 3)``."""
        offset = self.skeleton.offset_array[joint]
        add = self.adds_offset(joint)
        return {
            base_track(joint, name): moved[:, axis] - (offset[axis] if add else 0.0)
            for axis, name in enumerate(("tx", "ty", "tz"))
            if name in self.layout[joint]
        }
