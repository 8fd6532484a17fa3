"""Correction layers: what is laid over a performance, to be weighed, muted, kept or taken out."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any, Final, Literal, TypeAlias

from leancurve.document.track import TrackId

LAYER: Final = "layer"
WEIGHT: Final = "w"
"""The channel of a layer's weight, whose joint is :data:`NOBODY`."""
NOBODY: Final = -1

LayerKind: TypeAlias = Literal["additive", "channels", "override"]
"""``additive`` turns further by a rotation vector, ``channels`` adds numbers to channels,
``override`` leads to poses of its own."""
LayerSpace: TypeAlias = Literal["parent", "figure"]
"""Of an added turn: about the joint's own axes as its parent carries them, or about the figure's,
so that the joint keeps its direction whatever those above it do."""


def layer_owner(layer: int) -> str:
    """The owner of a layer's tracks, by its id: ``"layer:3"``."""
    return f"{LAYER}:{layer}"


def layer_of(owner: str) -> int | None:
    """The id of the layer that an owner is; None where it is none."""
    head, _, tail = owner.partition(":")
    return int(tail) if head == LAYER and tail.isdecimal() else None


@dataclass(frozen=True)
class Layer:
    """A correction over all below it. Its id is its own for good: no other layer gets it.

    ``layout`` are the joints that it has curves on, ascending, with their channels: ``rx ry rz`` of
    an added turn are a rotation vector in degrees about the joint's own axes (or the figure's), of
    other kinds angles as the clip says its own; ``tx ty tz`` are moves in the skeleton's unit.
    ``mask`` are shares of joints, 1 where none is given. Its weight is a curve of its own.
    """

    id: int
    name: str
    kind: LayerKind = "additive"
    space: LayerSpace = "parent"
    layout: tuple[tuple[int, tuple[str, ...]], ...] = ()
    mask: tuple[tuple[int, float], ...] = ()
    muted: bool = False
    locked: bool = False

    @property
    def owner(self) -> str:
        return layer_owner(self.id)

    @property
    def weight(self) -> TrackId:
        return TrackId(self.owner, NOBODY, WEIGHT)

    @cached_property
    def channels(self) -> Mapping[int, tuple[str, ...]]:
        return dict(self.layout)

    @cached_property
    def shares(self) -> Mapping[int, float]:
        """The share of each joint that it has curves on, where that is not 0."""
        given = dict(self.mask)
        found = {j: given.get(j, 1.0) for j, _ in self.layout}
        return {j: share for j, share in found.items() if share != 0.0}

    @property
    def tracks(self) -> tuple[TrackId, ...]:
        own = (TrackId(self.owner, j, c) for j, names in self.layout for c in names)
        return (self.weight, *own)


KINDS_ONCE: Final = {"add": "additive", "replace": "override"}
"""What older documents and lines call kinds that have other words now."""


def of_older_versions(layers: Sequence[Mapping[str, Any]]) -> list[dict[str, Any]]:
    """Layers as plain values that had other words for their kinds once, and could be solo: of those
    that were not beside one that was, the document says that they are muted, so that the motion is
    what it was."""
    alone = any(x.get("solo") for x in layers)
    out = []
    for layer in layers:
        values = {k: v for k, v in layer.items() if k != "solo"}
        if "kind" in values:
            values["kind"] = KINDS_ONCE.get(values["kind"], values["kind"])
        if alone and not layer.get("solo"):
            values["muted"] = True
        out.append(values)
    return out
