"""Layers whose numbers are angles, told in another rotation order: the motion as it is.

What is added to a joint's angles, and angles of a layer's own, mean something in the order in which
the joint is told. Where that is another one they are told anew, as they are weighed on each frame.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from typing import TypeAlias

import numpy as np

from leancurve.curves.curve import Curve
from leancurve.document.base import base_pose, curve_values
from leancurve.document.clip import Clip
from leancurve.document.layer import Layer
from leancurve.document.layering import angles_over, laid_over, live_layers
from leancurve.document.rotations import angles_near, said
from leancurve.document.track import TrackId
from leancurve.numbers.arrays import Floats

FAINT = 1e-3
"""Where a layer weighs less its numbers are told as if it weighed in full."""

Fit: TypeAlias = Callable[[Floats, Sequence[Curve]], Curve]
"""Values ``(F,)`` as a curve in the place of some others."""


def layers_reordered(
    before: Clip, after: Clip, joints: Sequence[int], fit: Fit
) -> tuple[tuple[Layer, ...], dict[TrackId, Curve]]:
    """The layers of a clip in which joints have another order than before, and their curves."""
    reached = {
        x.id: [j for j in joints if _turns(x, j) and x.kind != "additive"] for x in before.layers
    }
    if not any(reached.values()):
        return before.layers, {}
    frames = np.arange(before.frames, dtype=np.float64)
    every = range(len(before.skeleton))
    base = base_pose(before, frames, every)
    live = {x.id for x in live_layers(before)}
    under: list[Layer] = []
    layers, curves = [], {}
    for layer in before.layers:
        told = layer
        if reached[layer.id]:
            pose = laid_over(base, before, frames, every, under)
            for joint in reached[layer.id]:
                angles = _told(before, after, layer, joint, pose.rotation[:, joint], frames)
                old = [before.curves[TrackId(layer.owner, joint, c)] for c in _turns(layer, joint)]
                names = [f"r{axis.lower()}" for axis in after.order(joint)]
                for k, name in enumerate(names):
                    values = np.ascontiguousarray(angles[:, k])
                    curves[TrackId(layer.owner, joint, name)] = fit(values, old)
                told = _with(told, joint, names)
        layers.append(told)
        if layer.id in live:
            under.append(layer)
    return tuple(layers), curves


def _turns(layer: Layer, joint: int) -> list[str]:
    return [c for c in layer.channels.get(joint, ()) if c[0] == "r"]


def _with(layer: Layer, joint: int, names: Sequence[str]) -> Layer:
    kept = tuple(c for c in layer.channels[joint] if c[0] != "r")
    layout = {**layer.channels, joint: (*kept, *names)}
    return replace(layer, layout=tuple(sorted(layout.items())))


def _told(
    before: Clip, after: Clip, layer: Layer, joint: int, below: Floats, frames: Floats
) -> Floats:
    """A layer's numbers ``(F, 3)`` for a joint in its new order, over rotations ``(F, 4)``."""
    tracks = [TrackId(layer.owner, joint, c) for c in _turns(layer, joint)]
    values = curve_values(before, frames, [*tracks, layer.weight])
    share = dict(layer.mask).get(joint, 1.0)
    weight = share * values[layer.weight]
    weight = np.where(np.abs(weight) < FAINT, 1.0, weight)
    own: Mapping[str, Floats] = {t.name: values[t] for t in tracks}
    turned = angles_over(before, layer, frames, joint, own, weight, below)
    order, turns = after.order(joint), after.turns_of(joint)
    mine = curve_values(after, frames, turns)
    near = np.stack([mine[t] for t in turns], axis=-1)
    read = angles_near(below, order, near)
    goal = said(read, turned, order)
    return goal if layer.kind == "override" else np.asarray((goal - read) / weight[:, None])
