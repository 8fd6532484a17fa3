"""Layers by hand: made, named, weighed, muted, masked, put in another order, taken out."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any, ClassVar, Literal

from pydantic import Field

from leancurve.curves.curve import Curve, keyed
from leancurve.document.clip import Clip
from leancurve.document.layer import KINDS_ONCE, Layer, LayerKind, LayerSpace
from leancurve.document.names import free_name
from leancurve.document.track import TrackId
from leancurve.errors import BadInput
from leancurve.operations.base import (
    Operation,
    Params,
    Patch,
    Progress,
    Scope,
    counted,
    silent,
)
from leancurve.operations.identity import identity, meant

HEAVIEST = 2.0
"""A weight may exaggerate up to so many times."""


class LayerEdit(Params):
    """One change of a layer, which is known by its id, or by its name where none is given. ``add``
    makes one on top, ``set`` changes what is given of it, ``move`` puts it at a place from the
    bottom, ``copy`` makes another one of it above, ``remove`` takes it out."""

    do: Literal["add", "set", "move", "copy", "remove"]
    name: str = Field(min_length=1, max_length=60)
    id: int | None = meant()
    new_id: int | None = identity({"do": ["add", "copy"]})
    new_name: str | None = Field(None, min_length=1, max_length=60)
    kind: LayerKind | None = Field(None, description="what it does; said when it is made")
    space: LayerSpace | None = None
    muted: bool | None = None
    locked: bool | None = Field(None, description="whether it refuses keys")
    weight: float | None = Field(
        None, ge=0, le=HEAVIEST, description="how much it counts, all the time"
    )
    mask: dict[str, float] | None = Field(
        None, description="shares of joints by name, 0 to 1; 1 where none is given"
    )
    to: int | None = Field(None, ge=0, description="of moving: its place, 0 at the bottom")


class EditLayersParams(Params):
    edits: tuple[LayerEdit, ...] = Field(min_length=1)


class EditLayers(Operation[EditLayersParams]):
    """Layers by hand: ``{"do": "add", "name": "head to the left"}`` lays one on top of all.

    Layers lie bottom to top over the clip's own curves, which stay as they are: a layer that is
    muted or taken out leaves what was below it exactly.
    """

    name = "edit_layers"
    title = "Edit layers"
    step = "shape"
    part = "layers"
    version = 2
    scoped = False
    Params: ClassVar[type[EditLayersParams]] = EditLayersParams

    def apply(
        self, clip: Clip, scope: Scope, params: EditLayersParams, progress: Progress = silent
    ) -> Patch:
        layers = list(clip.layers)
        curves: dict[TrackId, Curve] = {}
        unplaced: list[dict[str, Any]] = []
        for edit in params.edits:
            at = _place(layers, edit)
            if edit.do == "add":
                if any(x.name == edit.name for x in layers):
                    raise BadInput(f"a layer is named {edit.name!r} already")
                made = Layer(
                    fresh_id(clip, layers, edit.new_id), edit.name, edit.kind or "additive"
                )
                layers.append(made)
                at = len(layers) - 1
                curves[made.weight] = keyed([0.0], [1.0])
            elif at is None:
                unplaced.append({"name": edit.name})
                continue
            elif edit.do == "remove":
                gone = layers.pop(at)
                curves = {t: c for t, c in curves.items() if t.owner != gone.owner}
                continue
            elif edit.do == "copy":
                name = edit.new_name or free_layer_name(clip, f"{layers[at].name}, copy", layers)
                made = replace(layers[at], id=fresh_id(clip, layers, edit.new_id), name=name)
                old = layers[at]
                for theirs, own in zip(old.tracks, made.tracks, strict=True):
                    curves[own] = curves.get(theirs) or clip.curves[theirs]
                layers.insert(at + 1, made)
                continue
            if edit.do == "move" and edit.to is not None:
                layers.insert(min(edit.to, len(layers) - 1), layers.pop(at))
                continue
            layers[at] = _set(clip, layers, at, edit)
            if edit.weight is not None:
                curves[layers[at].weight] = keyed([0.0], [edit.weight])
        report: dict[str, Any] = {"edits": len(params.edits), "layers": len(layers)}
        if unplaced:
            report["unplaced"] = unplaced
        return Patch(curves=curves, layers=tuple(layers), report=report)

    def upgraded(self, version: int, params: Mapping[str, Any]) -> dict[str, Any]:
        """Layers were solo in the document once, and their kinds had other words."""
        if version > 1:
            return dict(params)
        edits = []
        for edit in params["edits"]:
            kept = {k: v for k, v in edit.items() if k != "solo"}
            if kept.get("kind") is not None:
                kept["kind"] = KINDS_ONCE.get(kept["kind"], kept["kind"])
            edits.append(kept)
        return {**params, "edits": edits}

    def told(self, params: Any) -> str:
        edits = params["edits"]
        if len(edits) > 1:
            return f"Edit {counted(len(edits), 'layer')}"
        edit = edits[0]
        verbs = {"add": "New layer", "move": "Move layer", "copy": "Copy layer"}
        verbs["remove"] = "Delete layer"
        told = verbs.get(edit["do"])
        if told is None:
            given = {k: v for k, v in edit.items() if k not in ("do", "name", "id", "new_id")}
            told = _told(given)
        return f"{told} {edit['name']}"


def _told(given: Mapping[str, Any]) -> str:
    if len(given) != 1:
        return "Change layer"
    ((name, value),) = given.items()
    words = {
        "muted": "Mute layer" if value else "Unmute layer",
        "locked": "Lock layer" if value else "Unlock layer",
        "weight": f"Weight {value} of layer",
        "new_name": "Rename layer",
        "mask": "Mask layer",
    }
    return words.get(name, "Change layer")


def layer_meant(clip: Clip, name: str, of_id: int | None = None) -> Layer:
    """The layer of an id, or of a name where none is given; :class:`BadInput` if there is none."""
    found = clip.layer_named(name, of_id)
    if found is None:
        raise BadInput(f"no layer is named {name!r}")
    return found


def _place(layers: Sequence[Layer], edit: LayerEdit) -> int | None:
    """Which layer an edit means, from the bottom; None where it is not there."""
    if edit.id is not None:
        return next((k for k, x in enumerate(layers) if x.id == edit.id), None)
    return next((k for k, x in enumerate(layers) if x.name == edit.name), None)


def fresh_id(clip: Clip, layers: Sequence[Layer] = (), wanted: int | None = None) -> int:
    """The id of a layer that is made: the one its line names, or one past all that are there."""
    taken = {x.id for x in (*clip.layers, *layers)}
    if wanted is None:
        return max(taken, default=-1) + 1
    if wanted in taken:
        raise BadInput(f"a layer has the id {wanted} already")
    return wanted


def free_layer_name(clip: Clip, name: str, layers: Sequence[Layer] | None = None) -> str:
    """The name, or with a number behind it, so that no layer has it."""
    return free_name(name, {x.name for x in (clip.layers if layers is None else layers)})


def _set(clip: Clip, layers: list[Layer], at: int, edit: LayerEdit) -> Layer:
    layer = layers[at]
    if edit.new_name is not None and edit.new_name != layer.name:
        if any(x.name == edit.new_name for x in layers):
            raise BadInput(f"a layer is named {edit.new_name!r} already")
        layer = replace(layer, name=edit.new_name)
    if edit.do == "set" and edit.kind is not None and edit.kind != layer.kind:
        raise BadInput(
            "a layer's kind is set when it is made: with another, its curves would mean something "
            "else"
        )
    given = {n: getattr(edit, n) for n in ("space", "muted", "locked")}
    layer = replace(layer, **{n: v for n, v in given.items() if v is not None})
    if edit.mask is not None:
        layer = replace(layer, mask=_mask(clip, edit.mask))
    return layer


def _mask(clip: Clip, shares: Mapping[str, float]) -> tuple[tuple[int, float], ...]:
    for name, share in shares.items():
        if clip.joint_called(name) is None:
            raise BadInput(f"mask: no joint is named {name!r}")
        if not 0.0 <= share <= 1.0:
            raise BadInput(f"mask: expected shares from 0 to 1, got {share:g} for {name}")
    found = ((clip.joint_called(n), float(s)) for n, s in shares.items() if s != 1.0)
    return tuple(sorted((j, s) for j, s in found if j is not None))
