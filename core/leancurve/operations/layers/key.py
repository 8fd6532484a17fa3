"""Keys on a layer: a joint posed at a frame, the rest of the motion as it was."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from typing import Any, ClassVar

import numpy as np
from pydantic import Field

from leancurve.curves.curve import Curve, Handle, KeyedCurve, SampledCurve, keyed
from leancurve.curves.handles import beside, settled, with_handle
from leancurve.curves.insertion import insert_key
from leancurve.document.clip import Clip
from leancurve.document.correcting import MOVE, TURN, layer_values
from leancurve.document.layer import Layer
from leancurve.document.track import TrackId
from leancurve.errors import BadInput
from leancurve.numbers.arrays import Floats
from leancurve.operations.base import (
    Operation,
    Patch,
    Progress,
    Scope,
    counted,
    silent,
    timed,
)
from leancurve.operations.identity import meant
from leancurve.operations.layers.edit import layer_meant
from leancurve.operations.lengths import WithLengths, length, of_own_unit

Three = tuple[float, float, float]
BY_JOINT = ("turns", "moves", "turned", "moved")


class KeyLayerParams(WithLengths):
    layer: str = Field(min_length=1, max_length=60, description="the layer's name")
    layer_id: int | None = meant()
    frame: int = timed(time="frame", ge=0, description="where keys are set")
    turns: dict[str, Three] = Field(
        default_factory=dict,
        description="by joint what the layer's turn X, Y, Z shall be there, degrees",
    )
    moves: dict[str, Three] = length({}, "by joint what its move X, Y, Z shall be there")
    turned: dict[str, Three] = Field(
        default_factory=dict,
        description="by joint how much further it shall turn there than it does, of all layers "
        "together: a rotation vector about its own axes, degrees",
    )
    moved: dict[str, Three] = length(
        {}, "by joint how much further it shall be there, in the axes of the joint above it"
    )
    ramp_in: int | None = timed(
        None, time="length", ge=0, le=100000,
        description="over how many frames before the correction comes in from what stands there",
    )  # fmt: skip
    hold: int = timed(
        0, time="length", ge=0, le=100000, description="for how many frames more it is held"
    )
    ramp_out: int | None = timed(
        None, time="length", ge=0, le=100000,
        description="over how many frames after it goes back to what stands there",
    )  # fmt: skip


class KeyLayer(Operation[KeyLayerParams]):
    """Key joints on a layer at a frame: ``{"layer": "head", "turns": {"Head": [0, 12, 0]}}``.

    ``turns`` and ``moves`` say what its curves shall be; ``turned`` and ``moved`` how joints shall
    stand otherwise than they do, whatever else lies over or under the layer. Keys are flat. A joint
    that the layer does not touch yet gets its curves by this. With a ramp the correction comes in
    from what the layer does there already, and goes back to it. A locked or muted layer takes no
    keys.
    """

    name = "key_layer"
    title = "Key on a layer"
    step = "shape"
    part = "layers"
    grows = True
    meant = True
    version = 2
    scoped = False
    Params: ClassVar[type[KeyLayerParams]] = KeyLayerParams

    def apply(
        self, clip: Clip, scope: Scope, params: KeyLayerParams, progress: Progress = silent
    ) -> Patch:
        layer = takes_keys(clip, params.layer, params.layer_id)
        end = max(clip.frames - 1, 0)
        if params.frame > end:
            raise BadInput(f"frame: expected one within 0 to {end}")
        wanted: dict[int, dict[str, float]] = {}
        gone = {n for part in BY_JOINT for n in getattr(params, part)
                if clip.joint_called(n) is None}  # fmt: skip
        for names, given in ((TURN, params.turns), (MOVE, params.moves)):
            for index, values in _by_index(clip, given).items():
                own = wanted.setdefault(index, {})
                own |= dict(zip(names, map(float, values), strict=True))
        by = [_by_index(clip, given) for given in (params.turned, params.moved)]
        _require_turning(clip, by[0])
        for index, found in layer_values(clip, layer, params.frame, *by).items():
            wanted.setdefault(index, {}).update(found)
        if not wanted:
            raise BadInput(
                f"key_layer: no joint is named {min(gone)!r}"
                if gone
                else "key_layer: name a joint to turn or to move"
            )
        _require_turning(clip, [j for j, own in wanted.items() if set(own) & set(TURN)])
        ramp = _ramp(params, end)
        stays = _as_it_stands(clip, layer, wanted, ramp)
        layer = with_channels(layer, {j: tuple(own) for j, own in wanted.items()})
        curves: dict[TrackId, Curve] = {}
        for index, channels in wanted.items():
            for channel, value in channels.items():
                track = TrackId(layer.owner, index, channel)
                curves[track] = _keyed(clip.curves.get(track), ramp, value, stays[track], clip)
        layers = tuple(layer if x.id == layer.id else x for x in clip.layers)
        return Patch(
            curves=curves,
            layers=layers if layers != clip.layers else None,
            report={
                "joints": len(wanted),
                "keys": len(ramp.times) * len(curves),
                **({"unplaced": [{"joint": n} for n in sorted(gone)]} if gone else {}),
            },
        )

    def upgraded(self, version: int, params: Mapping[str, Any]) -> dict[str, Any]:
        """Lengths were in the skeleton's own unit once."""
        return of_own_unit(params) if version < 2 else dict(params)

    def told(self, params: Mapping[str, Any]) -> str:
        joints = {j for what in BY_JOINT for j in params.get(what, {})}
        return f"Key {counted(len(joints), 'joint')} on {params['layer']}"


def takes_keys(clip: Clip, name: str, of_id: int | None = None) -> Layer:
    """The layer of an id or a name, if it takes keys; :class:`BadInput` says why where it does
    not."""
    layer = layer_meant(clip, name, of_id)
    name = layer.name
    if layer.locked:
        raise BadInput(f"the layer {name} is locked: unlock it to key on it")
    if layer.muted:
        raise BadInput(f"the layer {name} is muted: what is keyed on it would not be seen")
    return layer


def _by_index(clip: Clip, given: Mapping[str, Three]) -> dict[int, Floats]:
    """By joint, those that the clip has: by name, or by what a name says."""
    return {
        at: np.array(values)
        for joint, values in given.items()
        if (at := clip.joint_called(joint)) is not None
    }


def _require_turning(clip: Clip, joints: Iterable[int]) -> None:
    """What a layer turns is told in the clip's own channels: a joint needs three to turn by."""
    for joint in joints:
        if len(clip.order(joint)) != 3:
            name = clip.skeleton.names[joint]
            raise BadInput(f"{name} has not three rotation channels that could be added to")


def with_channels(layer: Layer, more: Mapping[int, tuple[str, ...]]) -> Layer:
    """A layer that has curves on these channels as well."""
    whole = {j: list(names) for j, names in layer.layout}
    for joint, names in more.items():
        own = whole.setdefault(joint, [])
        own += [n for n in (*MOVE, *TURN) if n in names and n not in own]
    return replace(layer, layout=tuple((j, tuple(whole[j])) for j in sorted(whole)))


@dataclass(frozen=True)
class Ramp:
    """Where a correction is there in full, ``first`` to ``last``, and where it has not begun yet
    and is gone again; None where it stays until the next key."""

    first: float
    last: float
    begins: float | None
    ends: float | None

    @property
    def times(self) -> list[float]:
        """Frames that are keyed."""
        found = {self.first, self.last, self.begins, self.ends}
        return sorted(t for t in found if t is not None)

    @property
    def away(self) -> list[float]:
        """Frames at which everything is as it was."""
        return [t for t in (self.begins, self.ends) if t is not None]

    def at(self, frames: Floats) -> Floats:
        """How much of it there is at frames, 0 to 1: flat at both ends of a ramp."""
        u = np.ones(len(frames))
        if self.begins is not None:
            u = np.minimum(u, (frames - self.begins) / (self.first - self.begins))
        if self.ends is not None:
            u = np.minimum(u, (self.ends - frames) / (self.ends - self.last))
        u = np.maximum(u, 0.0)
        return np.asarray(u * u * (3.0 - 2.0 * u))


def _ramp(params: KeyLayerParams, end: int) -> Ramp:
    first, last = float(params.frame), float(min(params.frame + params.hold, end))
    begins = ends = None
    if params.ramp_in is not None and first > 0:
        begins = max(first - max(params.ramp_in, 1), 0.0)
    if params.ramp_out is not None and last < end:
        ends = min(last + max(params.ramp_out, 1), float(end))
    return Ramp(first, last, begins, ends)


def _as_it_stands(
    clip: Clip, layer: Layer, wanted: Mapping[int, Mapping[str, float]], ramp: Ramp
) -> dict[TrackId, dict[float, float]]:
    """What the layer's channels have to be where a ramp begins and ends, so that joints stand there
    as they did: what they are, or what changes nothing where they are new."""
    out: dict[TrackId, dict[float, float]] = {
        TrackId(layer.owner, j, c): {} for j, channels in wanted.items() for c in channels
    }
    new = {t.joint for t in out if t not in clip.curves and layer.kind == "override"}
    still = [{j: np.zeros(3) for j in new if set(wanted[j]) & set(c)} for c in (TURN, MOVE)]
    for time in ramp.away:
        fresh = layer_values(clip, layer, time, *still) if new else {}
        for track, values in out.items():
            curve = clip.curves.get(track)
            if curve is None:
                values[time] = fresh.get(track.joint, {}).get(track.name, 0.0)
            else:
                values[time] = float(curve.at(np.array([time]))[0])
    return out


def _keyed(
    curve: Curve | None, ramp: Ramp, value: float, stays: Mapping[float, float], clip: Clip
) -> Curve:
    """A curve with flat keys: at the value while the correction is there, and as it stands where
    that begins and ends. Keys between are led over."""
    if isinstance(curve, SampledCurve):
        # On a dense layer the whole correction is moved there: nothing jumps.
        by = value - float(curve.values[int(ramp.first)])
        return SampledCurve(curve.values + by * ramp.at(np.arange(clip.frames, dtype=np.float64)))
    wanted = {ramp.first: value, ramp.last: value, **stays}
    if curve is None:
        ordered = sorted(wanted)
        made = keyed(ordered, [wanted[t] for t in ordered])
        return with_handle(made, np.ones(made.key_count, dtype=np.bool_), Handle.FLAT)
    assert isinstance(curve, KeyedCurve)
    extent = (0.0, float(max(clip.frames - 1, 0)))
    for time in wanted:
        if np.all(np.abs(curve.time - time) > 1e-9):
            curve = insert_key(curve, time, extent)
    times = ramp.times
    near = np.abs(curve.time[:, None] - np.array(times)[None, :]).min(axis=1) <= 1e-9
    between = (curve.time > times[0]) & (curve.time < times[-1]) & ~near
    if np.any(between):
        curve = curve.only(~between)
    for time, goal in wanted.items():
        at_it = np.abs(curve.time - time) <= 1e-9
        curve = curve.edited(value=np.where(at_it, goal, curve.value))
        curve = settled(with_handle(curve, at_it, Handle.FLAT), beside(at_it))
    return curve
