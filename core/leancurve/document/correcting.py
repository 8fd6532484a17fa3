"""From how joints shall stand to what has to lie there: the layers read backwards."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from leancurve.document.base import base_pose, curve_values, times_of
from leancurve.document.clip import Clip
from leancurve.document.layer import Layer
from leancurve.document.layering import laid_over, live_layers
from leancurve.document.placement import unplaced_moves
from leancurve.document.rotations import angles_near
from leancurve.document.track import TrackId
from leancurve.errors import BadInput
from leancurve.figure.pose import Pose
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats

TURN, MOVE = ("rx", "ry", "rz"), ("tx", "ty", "tz")
MOST_TURN = 179.9
"""A layer that leads to poses takes the shorter way: to half a turn, degrees."""
FAINT = 1e-3
"""A weight below it would have to be made up for by a thousand times as much."""


def layer_values(
    clip: Clip,
    layer: Layer,
    frame: float,
    turned: Mapping[int, Floats],
    moved: Mapping[int, Floats],
) -> dict[int, dict[str, float]]:
    """What a layer's channels have to be at a frame, by joint, so that joints stand otherwise.

    ``turned`` are rotation vectors ``(3,)`` in degrees: how much further a joint turns about its
    own axes, of all layers together. ``moved`` are moves ``(3,)`` in its parent's axes, in the
    skeleton's unit. Of equal values the ones nearest to the layer's own there are meant. Raises
    :class:`BadInput` where nothing that is keyed there would be seen.
    """
    live = live_layers(clip)
    at = next((k for k, x in enumerate(live) if x.id == layer.id), None)
    if at is None:
        # It touches nothing yet.
        order = [x.id for x in clip.layers]
        at = sum(order.index(x.id) < order.index(layer.id) for x in live)
        above = live[at:]
    else:
        above = live[at + 1 :]
    times = np.array([frame])
    joints = range(len(clip.skeleton.names))
    below = laid_over(base_pose(clip, times, joints), clip, times, joints, live[:at])
    weight = float(curve_values(clip, times, [layer.weight])[layer.weight][0])
    shares = dict(layer.mask)
    goal = laid_over(below, clip, times, joints, [layer] if layer.shares else [])
    for joint in {*turned, *moved}:
        _require_seen(clip, layer, joint, weight * shares.get(joint, 1.0), frame)
        _require_open(clip, above, joint)
    for joint, vector in turned.items():
        over = _turned_by(clip, above, joint, times)
        inside = rotation.multiply(
            rotation.multiply(over, rotation.exp(vector[None])), rotation.conjugate(over)
        )
        goal.rotation[:, joint] = rotation.multiply(goal.rotation[:, joint], inside)
    for joint, vector in moved.items():
        root = clip.skeleton.parents[joint] < 0
        goal.translation[:, joint] += unplaced_moves(clip, vector) if root else vector
    out: dict[int, dict[str, float]] = {}
    for joint in turned:
        w = weight * shares.get(joint, 1.0)
        numbers = _turns(clip, layer, joint, below, goal, weight, w, times)
        out.setdefault(joint, {}).update(zip(TURN, map(float, numbers), strict=True))
    for joint in moved:
        w = weight * shares.get(joint, 1.0)
        wanted = (goal.translation[0, joint] - below.translation[0, joint]) / w
        if layer.kind == "override":
            offset = clip.skeleton.offset_array[joint] if clip.adds_offset(joint) else 0.0
            wanted = below.translation[0, joint] + wanted - offset
        out.setdefault(joint, {}).update(zip(MOVE, map(float, wanted), strict=True))
    return out


def under_layers(clip: Clip, joint: int, turns: Floats, places: Floats) -> tuple[Floats, Floats]:
    """What a root's own rotations ``(F, 4)`` and places ``(F, 3)`` have to be for it to stand so
    with the clip's layers over it, before it is placed; :class:`BadInput` where a layer leads it
    elsewhere, whatever lies below."""
    turns, places = turns.copy(), places.copy()
    times = times_of(clip, None)
    for layer in reversed(live_layers(clip)):
        share = layer.shares.get(joint, 0.0)
        if not share:
            continue
        _require_added(clip, layer, joint)
        tracks = {n: TrackId(layer.owner, joint, n) for n in layer.channels[joint]}
        values = curve_values(clip, times, [layer.weight, *tracks.values()])
        weight = share * values[layer.weight]
        vectors = np.zeros((len(times), 3))
        for k, (turn, move) in enumerate(zip(TURN, MOVE, strict=True)):
            if turn in tracks:
                vectors[:, k] = values[tracks[turn]]
            if move in tracks:
                places[:, k] -= weight * values[tracks[move]]
        back = rotation.exp(-weight[:, None] * vectors)
        inside = layer.space == "parent"
        turns = rotation.multiply(turns, back) if inside else rotation.multiply(back, turns)
    return turns, places


def _require_added(clip: Clip, layer: Layer, joint: int) -> None:
    turned = any(n in TURN for n in layer.channels[joint])
    if layer.kind == "override" or (layer.kind == "channels" and turned):
        name = clip.skeleton.names[joint]
        raise BadInput(f"{layer.name} leads {name} by its own numbers: flatten it first")


def _require_seen(clip: Clip, layer: Layer, joint: int, weight: float, frame: float) -> None:
    if abs(weight) < FAINT:
        name = clip.skeleton.names[joint]
        raise BadInput(
            f"{layer.name} has no weight on {name} at frame {frame:g}: what is keyed there "
            "would not be seen"
        )


def _require_open(clip: Clip, above: tuple[Layer, ...], joint: int) -> None:
    """Above, a joint may only be turned further: what leads elsewhere would hide what is keyed."""
    for layer in above:
        share = layer.shares.get(joint, 0.0)
        if share and (layer.kind != "additive" or (layer.space == "figure" and share != 1.0)):
            name = clip.skeleton.names[joint]
            raise BadInput(f"{layer.name} lies above and leads {name}: key on it, or put it lower")


def _turned_by(clip: Clip, above: tuple[Layer, ...], joint: int, times: Floats) -> Floats:
    """What layers above turn a joint further about its own axes ``(1, 4)``; those in the figure's
    space turn it from outside, and change nothing here."""
    out = rotation.IDENTITY[None].copy()
    for layer in above:
        if layer.space == "parent" and layer.shares.get(joint):
            by = layer.shares[joint] * curve_values(clip, times, [layer.weight])[layer.weight]
            vector = _own(clip, layer, joint, times)
            out = rotation.multiply(out, rotation.exp(by[:, None] * vector[None]))
    return out


def _own(clip: Clip, layer: Layer, joint: int, times: Floats) -> Floats:
    """A layer's turn X, Y, Z of a joint at a time ``(3,)``; 0 where it has none."""
    names = [c for c in TURN if c in layer.channels.get(joint, ())]
    values = curve_values(clip, times, [TrackId(layer.owner, joint, c) for c in names])
    of = {t.name: float(v[0]) for t, v in values.items()}
    return np.array([of.get(c, 0.0) for c in TURN])


def _turns(
    clip: Clip, layer: Layer, joint: int, below: Pose, goal: Pose, weight: float, w: float,
    times: Floats,
) -> Floats:  # fmt: skip
    """The layer's turn X, Y, Z ``(3,)`` that lead a joint from what is below to a goal."""
    own = _own(clip, layer, joint, times)
    start, end = below.rotation[:, joint], goal.rotation[:, joint]
    if layer.kind == "additive":
        if layer.space == "figure":
            share = dict(layer.mask).get(joint, 1.0)
            whole = _whole_way(start, end, share)
            parent = clip.skeleton.parents[joint]
            was = start if parent < 0 else _in_figure(clip, joint, below)
            there = rotation.multiply(_in_figure(clip, parent, goal), whole)
            by = rotation.multiply(there, rotation.conjugate(was))
            return _nearest(by, weight * own) / weight
        return _nearest(rotation.multiply(rotation.conjugate(start), end), w * own) / w
    order = clip.order(joint)
    tracks = clip.turns_of(joint)
    base = curve_values(clip, times, tracks)
    near = np.stack([base[t] for t in tracks], axis=-1)
    angles = angles_near(start, order, near)
    axes = [c.lower() for c in order]
    held = np.array([own["xyz".index(axis)] for axis in axes])[None]
    if layer.kind == "channels":
        seen = angles_near(end, order, angles + w * held)
        given = (seen - angles) / w
    else:
        led = _whole_way(start, end, w)
        touched = any(c in layer.channels.get(joint, ()) for c in TURN)
        given = angles_near(led, order, held if touched else angles)
    out = np.empty(3)
    for k, axis in enumerate(axes):
        out["xyz".index(axis)] = given[0, k]
    return out


def _whole_way(start: Floats, part: Floats, share: float) -> Floats:
    """Where a way leads of which a share is done: rotations ``(1, 4)``. :class:`BadInput` where
    that is more than half a turn, since the shorter way round would be taken to it."""
    by = rotation.log(rotation.multiply(rotation.conjugate(start), part))
    far = float(np.linalg.norm(by))
    if far > 1e-9 and far / share > MOST_TURN:
        raise BadInput(
            f"at {100 * share:.0f} % of its weight the layer leads it {MOST_TURN * share:.0f}° at "
            f"most, and {far:.0f}° are wanted: give the layer more weight there"
        )
    return np.asarray(rotation.multiply(start, rotation.exp(by / share)))


def _in_figure(clip: Clip, joint: int, pose: Pose) -> Floats:
    """A joint's orientation relative to the root ``(1, 4)``; of the root, and of nobody, none."""
    out = rotation.IDENTITY[None].copy()
    while joint >= 0 and clip.skeleton.parents[joint] >= 0:
        out = rotation.multiply(pose.rotation[:, joint], out)
        joint = clip.skeleton.parents[joint]
    return out


def _nearest(turn: Floats, near: Floats) -> Floats:
    """Of the rotation vectors ``(3,)`` of a turn ``(1, 4)``, in degrees, the nearest one."""
    return np.asarray(rotation.unrolled(np.stack([near, rotation.log(turn)[0]]))[1])
