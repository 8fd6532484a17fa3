"""A clip said in other axes and in another unit: the same motion, exactly."""

from __future__ import annotations

from dataclasses import replace
from typing import Literal, TypeAlias

import numpy as np

from leancurve.curves.curve import Curve, SampledCurve
from leancurve.document.clip import Clip
from leancurve.document.moves import point_of, turn_of
from leancurve.document.prop import CHANNELS, ORDER, prop_track
from leancurve.document.rotations import angles_afresh, quaternions
from leancurve.document.track import TrackId, base_track
from leancurve.errors import BadInput
from leancurve.figure.skeleton import STRAIGHT, EndSite, Skeleton, turn_between
from leancurve.figure.skin import Skin
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats

Axis: TypeAlias = Literal["x", "y", "z"]


def in_axes(clip: Clip, up: Axis, metres: float) -> Clip:
    """The clip with another axis up, and lengths in a unit of so many metres.

    Every joint's own axes are called otherwise along with the world's, so angles keep their sizes
    and their order in time: a channel about one axis becomes one about another, or its negative.
    Of sampled clips without layers, plants and placement.
    """
    factor = clip.reading.metres_per_unit / metres
    turn = turn_between(clip.reading.up_axis, up)
    if factor == 1.0 and clip.reading.up_axis == up:
        return clip
    if clip.layers or clip.plants or clip.placement:
        raise BadInput("only a baked clip is said in other axes")
    matrix = np.rint(rotation.matrix(turn))
    to = {a: int(np.argmax(np.abs(matrix[:, k]))) for k, a in enumerate("xyz")}
    sign = {a: float(matrix[to[a], k]) for k, a in enumerate("xyz")}
    name = {f"{kind}{a}": f"{kind}{'xyz'[to[a]]}" for kind in "rt" for a in "xyz"}

    def said(track: TrackId) -> Curve:
        curve = clip.curves[track]
        assert isinstance(curve, SampledCurve)
        by = sign[track.name[1]] * (factor if track.name[0] == "t" else 1.0)
        return SampledCurve(np.ascontiguousarray(by * curve.values))

    curves = {base_track(t.joint, name[t.name]): said(t) for t in clip.channels}
    for prop in clip.props:
        turned = _prop_curves(clip, prop.id, turn, factor)
        for k, channel in enumerate(CHANNELS):
            curves[prop_track(prop.id, channel)] = SampledCurve(turned[:, k])
    props = tuple(replace(p, size=point_of(factor * np.array(p.size))) for p in clip.props)
    floor = clip.reading.floor
    reading = replace(
        clip.reading,
        metres_per_unit=metres,
        up_axis=up,
        floor=None if floor is None else factor * floor,
    )
    return replace(
        clip,
        skeleton=_skeleton(clip.skeleton, turn, factor),
        layout=tuple(_in_order([name[c] for c in names]) for names in clip.layout),
        curves=curves,
        props=props,
        reading=reading,
    )


def _in_order(names: list[str]) -> tuple[str, ...]:
    """Channels with their positions in the order X, Y, Z, as readers expect it: in which order they
    stand means nothing, unlike that of rotations."""
    places = iter(sorted(n for n in names if n[0] == "t"))
    return tuple(next(places) if n[0] == "t" else n for n in names)


def _prop_curves(clip: Clip, prop: int, turn: Floats, factor: float) -> Floats:
    """Channels ``(F, 6)`` of a prop: its own axes stay, its place and its turn are the world's."""
    frames = np.arange(clip.frames, dtype=np.float64)
    own = np.stack([clip.curves[prop_track(prop, c)].at(frames) for c in CHANNELS], axis=-1)
    out = np.empty_like(own)
    out[:, :3] = factor * rotation.rotate(turn, own[:, :3])
    turned = rotation.multiply(turn, quaternions(own[:, 3:], ORDER))
    out[:, 3:] = angles_afresh(rotation.hemisphere(turned), ORDER)
    return out


def _skeleton(skeleton: Skeleton, turn: Floats, factor: float) -> Skeleton:
    offsets = factor * rotation.rotate(turn, skeleton.offset_array)
    back = rotation.conjugate(turn)
    rests = rotation.multiply(rotation.multiply(turn, skeleton.rest_rotations), back)
    kept = [
        STRAIGHT if rest == STRAIGHT else turn_of(rotation.normalise(turned))
        for rest, turned in zip(skeleton.rests, rests, strict=True)
    ]
    ends = tuple(
        EndSite(e.parent, point_of(factor * rotation.rotate(turn, np.array(e.offset))), e.before)
        for e in skeleton.ends
    )
    return replace(
        skeleton,
        offsets=tuple(map(point_of, offsets)),
        ends=ends,
        rests=tuple(kept),
    )


def skin_in_axes(skin: Skin, turn: Floats, factor: float) -> Skin:
    """A skin for the same skeleton said so."""
    matrix = rotation.matrix(turn)
    binds = np.empty_like(skin.binds)
    binds[:, :, :3] = matrix @ skin.binds[:, :, :3] @ matrix.T
    binds[:, :, 3] = factor * skin.binds[:, :, 3] @ matrix.T
    points = (factor * skin.points.astype(np.float64) @ matrix.T).astype(np.float32)
    return replace(skin, points=points, binds=binds)
