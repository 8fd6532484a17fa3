"""Layers brought from another clip, on whichever skeleton it is."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from fractions import Fraction
from typing import Any, ClassVar

import numpy as np
from pydantic import Field

from leancurve.curves.curve import Curve, KeyedCurve, SampledCurve, keyed, negated
from leancurve.document.clip import Clip
from leancurve.document.layer import Layer
from leancurve.document.track import TrackId
from leancurve.errors import BadInput
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats
from leancurve.operations.base import (
    Input,
    Inputs,
    Operation,
    Params,
    Patch,
    Progress,
    Scope,
    silent,
)
from leancurve.operations.identity import identity
from leancurve.operations.layers.edit import free_layer_name, fresh_id
from leancurve.operations.layers.writing import KeyedParams, key_times, written
from leancurve.retarget.rest import RestFigure


class BringLayersParams(Params):
    layers: tuple[str, ...] = Field((), description="which of its layers; all where none is named")
    ids: tuple[int, ...] | None = Field(
        None, description="which of its layers by their ids, before any name"
    )
    new_id: int | None = identity()


class BringLayers(Operation[BringLayersParams]):
    """Lay another clip's layers over this one, on top: joints by name, frames by the second, in
    this clip's unit and about its axes.

    Joints that this clip has not, and those whose numbers would mean another turn here, are left
    out and told.
    """

    name = "bring_layers"
    title = "Bring layers over"
    step = "shape"
    part = "layers"
    inputs: ClassVar[Mapping[str, Input]] = {
        "source": Input("clip", "choose the clip whose layers are wanted")
    }
    scoped = False
    Params: ClassVar[type[BringLayersParams]] = BringLayersParams

    def apply_with(
        self,
        clip: Clip,
        inputs: Inputs,
        scope: Scope,
        params: BringLayersParams,
        progress: Progress = silent,
    ) -> Patch:
        source = inputs["source"]
        assert isinstance(source, Clip)
        ids = set(params.ids or ())
        if params.ids is None:
            unknown = [n for n in params.layers if source.layer_named(n) is None]
            if unknown:
                raise BadInput(f"{source.name} has no layer named {unknown[0]!r}")
            ids = {x.id for x in source.layers if not params.layers or x.name in params.layers}
        wanted = [x for x in source.layers if x.id in ids]
        if not wanted:
            raise BadInput(f"{source.name} has no layers")
        curves: dict[TrackId, Curve] = {}
        layers = list(clip.layers)
        there = _Brought(source, clip)
        unplaced: list[dict[str, Any]] = []
        for k, layer in enumerate(wanted):
            new_id = None if params.new_id is None else params.new_id + k
            given, missed = there.here(layer)
            unplaced += [{"layer": layer.name, "joint": n} for n in missed]
            made = replace(
                given,
                id=fresh_id(clip, layers, new_id),
                name=free_layer_name(clip, layer.name, layers),
            )
            curves[made.weight] = there.on_time(source.curves[layer.weight])
            for joint, channels in made.layout:
                for name, curve in there.curves_of(layer, joint, channels).items():
                    curves[TrackId(made.owner, joint, name)] = curve
            layers.append(made)
        report: dict[str, Any] = {"layers": len(wanted), "channels": len(curves)}
        if unplaced:
            report["unplaced"] = unplaced
        return Patch(curves=curves, layers=tuple(layers), report=report)

    def told(self, params: Mapping[str, Any]) -> str:
        names = params.get("layers") or ()
        return f"Bring {', '.join(names)} over" if names else "Bring layers over"


class _Brought:
    """Layers of another clip as they are over this one: on its joints by name, in its units, about
    its axes, at its rate."""

    def __init__(self, source: Clip, clip: Clip) -> None:
        self.source, self.clip = source, clip
        self.ours, self.theirs = (RestFigure.of(c.skeleton, c.reading) for c in (source, clip))
        self.unit = source.reading.metres_per_unit / clip.reading.metres_per_unit

    def here(self, layer: Layer) -> tuple[Layer, list[str]]:
        """A layer on this clip's joints, and the names of joints that are left out: those that it
        has not, and those whose numbers would mean another turn here."""
        layout, missed = [], []
        for joint, channels in layer.layout:
            name = self.source.skeleton.names[joint]
            at = self._at(joint)
            turns = any(c[0] == "r" for c in channels)
            if at is None or (turns and len(self.clip.order(at)) != 3):
                missed.append(name)
                continue
            if layer.kind == "additive":
                layout.append((at, self._whole(layer, joint, channels)))
            elif self.clip.order(at) == self.source.order(joint) and self._alike(joint):
                layout.append((at, channels))
            else:
                missed.append(name)
        mask = [(at, share) for j, share in layer.mask if (at := self._at(j)) is not None]
        return replace(layer, layout=tuple(sorted(layout)), mask=tuple(sorted(mask))), missed

    def _at(self, joint: int) -> int | None:
        name = self.source.skeleton.names[joint]
        return self.clip.skeleton.index(name) if name in self.clip.skeleton.names else None

    def _alike(self, joint: int) -> bool:
        """Whether a joint's axes, and those that it hangs in, are the same here."""
        return all(_straight(self._axes(None, joint, letter)) for letter in "rt")

    def _axes(self, layer: Layer | None, joint: int, letter: str) -> Floats:
        """What turns the axes in which a joint is turned or moved there into those here ``(4,)``:
        a turn is about its own axes, or the figure's, a move in those of the joint above it."""
        at = self._at(joint)
        assert at is not None  # it is one of those that are here
        above, over = self.source.skeleton.parents[joint], self.clip.skeleton.parents[at]
        world = rotation.multiply(rotation.conjugate(self.theirs.to_figure), self.ours.to_figure)
        if letter == "r" and layer is not None and layer.space == "figure":
            if above < 0 or over < 0:
                return world
            root, other = self.source.skeleton.chain(joint)[-1], self.clip.skeleton.chain(at)[-1]
            return self._between(root, other)
        if letter == "r":
            return self._between(joint, at)
        return world if above < 0 or over < 0 else self._between(above, over)

    def _between(self, joint: int, at: int) -> Floats:
        return np.asarray(
            rotation.multiply(rotation.conjugate(self.theirs.turns[at]), self.ours.turns[joint])
        )

    def _whole(self, layer: Layer, joint: int, channels: tuple[str, ...]) -> tuple[str, ...]:
        """The channels that a joint has here: all three where axes are others."""
        out: list[str] = []
        for letter in "tr":
            own = [c for c in channels if c[0] == letter]
            turned = own and not _straight(self._axes(layer, joint, letter))
            out += [f"{letter}{a}" for a in "xyz"] if turned else own
        return tuple(out)

    def curves_of(self, layer: Layer, at: int, channels: tuple[str, ...]) -> dict[str, Curve]:
        """A joint's curves of a layer on this clip's joint, by channel."""
        joint = self.source.skeleton.index(self.clip.skeleton.names[at])
        out: dict[str, Curve] = {}
        for letter in "tr":
            names = [c for c in channels if c[0] == letter]
            if not names:
                continue
            size = 1.0 if letter == "r" else self.unit
            own = {
                c: self.on_time(curve, size)
                for c in (f"{letter}{a}" for a in "xyz")
                if (curve := self.source.curves.get(TrackId(layer.owner, joint, c))) is not None
            }
            axes = self._axes(layer, joint, letter)
            if _straight(axes):
                out |= {c: own[c] for c in names}
            else:
                out |= _turned(own, letter, axes, self.clip)
        return out

    def on_time(self, curve: Curve, size: float = 1.0) -> Curve:
        """A curve at this clip's rate, its values times a size; one with a value on every frame is
        as long as the clip is."""
        scale = float(Fraction(self.clip.rate) / Fraction(self.source.rate))
        if isinstance(curve, SampledCurve):
            times = np.minimum(np.arange(self.clip.frames) / scale, max(self.source.frames - 1, 0))
            return SampledCurve(size * curve.at(times))
        assert isinstance(curve, KeyedCurve)
        return curve.edited(
            time=curve.time * scale,
            value=size * curve.value,
            slope_in=size * curve.slope_in / scale,
            slope_out=size * curve.slope_out / scale,
        )


def _straight(q: Floats) -> bool:
    return bool(rotation.geodesic_deg(q, rotation.IDENTITY) < 1e-6)


TURNED = KeyedParams(tolerance_deg=0.01, tolerance_mm=0.05)


def _turned(own: Mapping[str, Curve], letter: str, axes: Floats, clip: Clip) -> dict[str, Curve]:
    """Three curves of a vector in other axes. Where these are the same but for their names and
    signs so are the curves; else they are written anew, keyed ones on their key times."""
    matrix = rotation.rotate(np.broadcast_to(axes, (3, 4)), np.eye(3)).T
    names = [f"{letter}{a}" for a in "xyz"]
    out: dict[str, Curve] = {}
    frames = np.arange(clip.frames, dtype=np.float64)
    times = key_times(own.values(), clip.frames)
    for row, name in zip(matrix, names, strict=True):
        one = int(np.argmax(np.abs(row)))
        if abs(abs(row[one]) - 1.0) < 1e-9:
            given = own.get(names[one], keyed([0.0], [0.0]))
            out[name] = given if row[one] > 0.0 else negated(given)
            continue
        values = sum(
            (r * own[n].at(frames) for r, n in zip(row, names, strict=True) if n in own),
            np.zeros(clip.frames),
        )
        out[name] = written(clip, TrackId("", 0, name), values, times, TURNED)
    return out
