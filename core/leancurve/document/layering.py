"""Correction layers laid over a clip's own curves, bottom to top: the second stage.

An added turn is ``below · exp(w · v)`` about the joint's own axes, or, in the figure's space,
``exp(w · v) · B`` with ``B`` the joint's orientation in the figure of the stack below: joints of
the layer keep their directions there, all others ride along as they did. A layer that is muted, of
no weight or masked off is not looked at.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from functools import partial

import numpy as np

from leancurve.curves.curve import KeyedCurve
from leancurve.document.base import Below, base_pose, curve_values, rotations_of
from leancurve.document.clip import Clip
from leancurve.document.layer import Layer
from leancurve.document.rotations import angles_near
from leancurve.document.track import TrackId
from leancurve.figure.pose import Pose
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats

AXES = ("x", "y", "z")


def live_layers(clip: Clip) -> tuple[Layer, ...]:
    """The layers that count, bottom to top: without the muted and those of no weight."""
    return tuple(
        layer
        for layer in clip.layers
        if layer.shares and not layer.muted and not _without_weight(clip, layer)
    )


def _without_weight(clip: Clip, layer: Layer) -> bool:
    curve = clip.curves[layer.weight]
    if isinstance(curve, KeyedCurve):
        flat = not np.any(curve.slope_in) and not np.any(curve.slope_out)
        return flat and not np.any(curve.value)
    return not np.any(curve.at(np.arange(clip.frames, dtype=np.float64)))


def touched(clip: Clip) -> frozenset[int]:
    """Joints that stand otherwise than the clip's own curves say, by its layers."""
    return frozenset(j for layer in live_layers(clip) for j in layer.shares)


def layered(clip: Clip, frames: Floats, joints: Sequence[int], below: Below) -> Pose:
    """The second stage: what is below with the clip's layers laid over it."""
    every = live_layers(clip)
    among = set(joints)
    layers = tuple(x for x in every if among & set(x.shares))
    if not layers:
        return below(joints)
    # In the figure's space a joint depends on all above it, and these on their own layers.
    more = set(among)
    for layer in layers:
        if layer.space == "figure" and layer.kind == "additive":
            more |= {k for j in among & set(layer.shares) for k in clip.skeleton.chain(j)}
    if more == among:
        return laid_over(below(joints), clip, frames, joints, layers)
    whole = sorted(more)
    pose = laid_over(below(whole), clip, frames, whole, every)
    at = {j: k for k, j in enumerate(whole)}
    return pose.of([at[j] for j in joints])


def layered_pose(clip: Clip, frames: Floats, joints: Sequence[int]) -> Pose:
    """What a clip's own curves and its layers give at times ``(F,)``, of some joints."""
    return layered(clip, frames, joints, partial(base_pose, clip, frames))


def laid_over(
    below: Pose, clip: Clip, frames: Floats, joints: Sequence[int], layers: Sequence[Layer]
) -> Pose:
    """Layers laid over a pose of some joints at times ``(F,)``, whether they count or not; in the
    figure's space of joints that hold all they hang on."""
    pose = Pose(below.rotation.copy(), below.translation.copy())
    for layer in layers:
        _lay(clip, layer, frames, joints, pose)
    return pose


def _lay(clip: Clip, layer: Layer, frames: Floats, joints: Sequence[int], pose: Pose) -> None:
    """A layer laid over a pose, in place."""
    at = {j: k for k, j in enumerate(joints)}
    inside = [j for j in layer.shares if j in at]
    if not inside:
        return
    tracks = [
        layer.weight,
        *(TrackId(layer.owner, j, c) for j in inside for c in layer.channels[j]),
    ]
    values = curve_values(clip, frames, tracks)
    weight = values[layer.weight]
    if not np.any(weight):
        return
    turning = [j for j in inside if any(c[0] == "r" for c in layer.channels[j])]
    if layer.kind == "additive" and turning:
        vectors = np.zeros((len(frames), len(turning), 3))
        for n, j in enumerate(turning):
            for k, axis in enumerate(AXES):
                if f"r{axis}" in layer.channels[j]:
                    vectors[:, n, k] = values[TrackId(layer.owner, j, f"r{axis}")]
        if layer.space == "figure":
            _turned_in_figure(clip, layer, joints, turning, weight[:, None, None] * vectors, pose)
        else:
            from leancurve.numbers.kernels import motion  # numba loads late

            where = np.array([at[j] for j in turning], dtype=np.int64)
            shares = np.array([layer.shares[j] for j in turning])
            motion.turn_further(pose.rotation, where, vectors, weight, shares)
    elif turning:
        for j in turning:
            w = layer.shares[j] * weight
            angles = {c: values[TrackId(layer.owner, j, c)] for c in layer.channels[j]}
            below = pose.rotation[:, at[j]]
            led = angles_over(clip, layer, frames, j, angles, w, below)
            pose.rotation[:, at[j]] = (
                led if layer.kind == "channels" else rotation.slerp(below, led, w)
            )
    for j in inside:
        for k, axis in enumerate(AXES):
            if f"t{axis}" not in layer.channels[j]:
                continue
            moved = values[TrackId(layer.owner, j, f"t{axis}")]
            place = pose.translation[:, at[j], k]
            if layer.kind == "override":
                offset = clip.skeleton.offset_array[j, k] if clip.adds_offset(j) else 0.0
                moved = moved + offset - place
            place += layer.shares[j] * weight * moved


def angles_over(
    clip: Clip, layer: Layer, frames: Floats, joint: int, own: Mapping[str, Floats], w: Floats,
    below: Floats,
) -> Floats:  # fmt: skip
    """Where a joint's rotations ``(F, 4)`` are led by numbers that a layer adds to its angles,
    weighed by ``w (F,)``, or by angles of the layer's own, in full; channels that the layer has not
    are as they are below."""
    order = clip.order(joint)
    near = curve_values(clip, frames, clip.turns_of(joint))
    angles = np.stack([near[t] for t in clip.turns_of(joint)], axis=-1)
    angles = angles_near(below, order, angles)
    goal = angles.copy()
    for k, axis in enumerate(order):
        given = own.get(f"r{axis.lower()}")
        if given is not None:
            goal[:, k] = given if layer.kind == "override" else angles[:, k] + w * given
    return rotations_of(goal, clip, [joint])


def _turned_in_figure(
    clip: Clip, layer: Layer, joints: Sequence[int], turning: Sequence[int], vectors: Floats,
    pose: Pose,
) -> None:  # fmt: skip
    """Joints turned about the figure's axes, in place: ``joints`` hold all that they hang on."""
    turns = rotation.exp(vectors)
    of = {j: turns[:, n] for n, j in enumerate(turning)}
    at = {j: k for k, j in enumerate(joints)}
    chains = sorted({k for j in turning for k in clip.skeleton.chain(j)})
    still = np.broadcast_to(rotation.IDENTITY, (len(vectors), 4))
    below: dict[int, Floats] = {}
    here: dict[int, Floats] = {}
    for joint in chains:
        parent = clip.skeleton.parents[joint]
        own = pose.rotation[:, at[joint]]
        if parent < 0:
            # The root is what orientations in the figure are told relative to.
            below[joint] = here[joint] = still
            if joint in of:
                share = layer.shares[joint]
                turned = rotation.multiply(of[joint], own)
                pose.rotation[:, at[joint]] = rotation.slerp(own, turned, share)
            continue
        below[joint] = rotation.multiply(below[parent], own)
        if joint in of:
            wanted = rotation.multiply(of[joint], below[joint])
            local = rotation.multiply(rotation.conjugate(here[parent]), wanted)
            share = layer.shares[joint]
            own = local if share == 1.0 else rotation.slerp(own, local, share)
            pose.rotation[:, at[joint]] = own
        here[joint] = rotation.multiply(here[parent], own)


def soloed(clip: Clip, ids: Sequence[int]) -> Clip:
    """The clip as somebody sees it who listens to some layers alone; as it is where none is named.
    Nothing that is kept or delivered hangs on it."""
    if not ids:
        return clip
    return replace(
        clip, layers=tuple(x if x.id in ids else replace(x, muted=True) for x in clip.layers)
    )


def with_only_layers(clip: Clip, ids: Sequence[int]) -> Clip:
    """The clip with just these layers counting, as they are weighed: not placed, not planted."""
    kept = tuple(
        replace(x, muted=False) if x.id in ids else replace(x, muted=True) for x in clip.layers
    )
    return replace(clip, layers=kept, plants=(), placement=None)
