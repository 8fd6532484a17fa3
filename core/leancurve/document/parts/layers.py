"""Layers as a part of a clip: their limits, and their stored form by number and by name."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import asdict, fields
from typing import Any

from leancurve.document.clip import Clip
from leancurve.document.layer import Layer
from leancurve.document.limits import require_name
from leancurve.document.parts.base import Part, Values
from leancurve.document.track import CHANNELS
from leancurve.errors import BadInput, short


def _values(layer: Layer) -> Values:
    """A layer as plain JSON values; what is as it is for most is left out."""
    usual = {f.name: f.default for f in fields(Layer)}
    values = {f: getattr(layer, f) for f in usual if getattr(layer, f) != usual[f]}
    for name in ("layout", "mask"):
        if name in values:
            values[name] = [[j, list(x) if name == "layout" else x] for j, x in values[name]]
    return values


def _item(values: Mapping[str, Any]) -> Layer:
    return Layer(
        **{
            **values,
            "layout": tuple((j, tuple(names)) for j, names in values.get("layout", ())),
            "mask": tuple((j, float(share)) for j, share in values.get("mask", ())),
        }
    )


def _by_names(layer: Layer, names: Sequence[str]) -> Values:
    """A layer by the names of its joints; what is as it is for most is left out."""
    usual = Layer(layer.id, layer.name)
    given = {n: getattr(layer, n) for n in ("kind", "space", "muted", "locked")}
    out: dict[str, Any] = {"id": layer.id, "name": layer.name}
    out |= {n: v for n, v in given.items() if v != getattr(usual, n)}
    out["channels"] = {names[j]: list(channels) for j, channels in layer.layout}
    if layer.mask:
        out["mask"] = {names[j]: share for j, share in layer.mask}
    return out


def _of_names(values: Mapping[str, Any], names: Sequence[str]) -> Layer:
    unknown = [n for part in ("channels", "mask") for n in values.get(part, {}) if n not in names]
    if unknown:
        raise BadInput(f"the layer {short(values['name'])}: no joint is named {short(unknown[0])}")
    layout = sorted((names.index(n), tuple(c)) for n, c in values["channels"].items())
    mask = sorted((names.index(n), float(share)) for n, share in values.get("mask", {}).items())
    rest = {n: v for n, v in values.items() if n not in ("channels", "mask")}
    return Layer(**rest, layout=tuple(layout), mask=tuple(mask))


def _sound(clip: Clip) -> None:
    for what in ("id", "name"):
        if len({getattr(x, what) for x in clip.layers}) < len(clip.layers):
            raise BadInput(f"the clip: two layers have the same {what}")
    for layer in clip.layers:
        require_name(layer.name)
        named = f"the layer {short(layer.name)}"
        joints = [j for j, _ in layer.layout]
        if joints != sorted(set(joints)) or not all(0 <= j < len(clip.skeleton) for j in joints):
            raise BadInput(f"{named}: its joints must be the skeleton's, each once")
        for _, names in layer.layout:
            if not names or len(set(names)) < len(names) or not set(names) <= set(CHANNELS):
                raise BadInput(f"{named}: expected channels of {', '.join(CHANNELS)}, each once")
        for joint, share in layer.mask:
            if not 0 <= joint < len(clip.skeleton) or not 0.0 <= share <= 1.0:
                raise BadInput(f"{named}: expected shares from 0 to 1 of the skeleton's joints")
        if any(t not in clip.curves for t in layer.tracks):
            raise BadInput(f"{named}: a layer has a curve for its weight and each of its channels")


def _public(layer: Layer) -> Values:
    return {**asdict(layer), "channels": dict(layer.layout), "mask": dict(layer.mask)}


LAYERS = Part(
    "layers", "layers",
    values=_values,
    item=_item,
    by_names=_by_names,
    of_names=_of_names,
    public=_public,
    key=lambda layer: layer.id,
    most=200,
    ordered=True, of_figure=True,
    sound=_sound,
)  # fmt: skip
"""Their curves are the clip's, and move with its time; a placement stands over them."""
