"""A whole scene carried over the floor, on each frame as far as it is said.

Roots and props go along whatever lies over them: what is wanted is seen with layers and placement.
What is planted in the world goes along as well: with a rigid move where the carrying stands still
for as long as a plant counts, else held by a prop, the ground, that is carried.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from leancurve.curves.curve import Curve, SampledCurve
from leancurve.document.base import base_pose, curve_values, times_of
from leancurve.document.clip import Clip, Placement
from leancurve.document.correcting import under_layers
from leancurve.document.moves import point_of
from leancurve.document.names import free_name
from leancurve.document.parts.plants import moved_plant
from leancurve.document.placement import (
    placed_pose,
    placed_props,
    unplaced_moves,
    unplaced_points,
    unplaced_prop,
    unplaced_turns,
)
from leancurve.document.plant import Plant
from leancurve.document.prop import CHANNELS, ORDER, Prop, prop_track
from leancurve.document.root_motion import RootMotion
from leancurve.document.rotations import angles_afresh, said, written
from leancurve.document.track import TrackId, base_track
from leancurve.errors import BadInput
from leancurve.figure.skeleton import UP
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Bools, Floats

MOVES = ("tx", "ty", "tz")
GROUND = "ground"
STILL = 1e-9
"""Share of the figure's height by which what lacks a channel may be off."""


@dataclass(frozen=True, eq=False)
class Carried:
    """What of a clip is otherwise when it is carried."""

    curves: dict[TrackId, Curve]
    props: tuple[Prop, ...]
    plants: tuple[Plant, ...]


def carried(clip: Clip, by: RootMotion) -> Carried:
    """The clip's scene with a motion over the floor put on all that is seen of it, in the world's
    axes. Frames on which nothing is carried keep their numbers to the bit.

    :class:`BadInput` where a root has too few channels, or is led to poses of a layer's own.
    """
    going = _going(by)
    curves = carried_curves(clip, by)
    moves = [_carried(clip, p, by, going) for p in clip.plants]
    if all(plant is not None for plant in moves):
        return Carried(curves, clip.props, tuple(sorted(p for p in moves if p is not None)))
    here = placed_pose(clip, times_of(clip, None), [clip.skeleton.root]).translation[:, 0]
    origin = here[int(np.argmax(going))].copy()
    origin[UP[clip.reading.up_axis]] = 0.0
    name = free_name(GROUND, {p.name for p in clip.props})
    ground = Prop(max((p.id for p in clip.props), default=-1) + 1, name, "point")
    curves |= _ground(clip.with_curves(curves), ground, by, origin)
    held = [
        replace(old, place=point_of(np.array(old.place) - origin), with_prop=ground.name)
        if plant is None else plant
        for old, plant in zip(clip.plants, moves, strict=True)
    ]  # fmt: skip
    return Carried(curves, (*clip.props, ground), tuple(sorted(held)))


def carried_curves(clip: Clip, by: RootMotion) -> dict[TrackId, Curve]:
    """Of :func:`carried`, the curves of what has some: roots and props."""
    going = _going(by)
    if not going.any():
        return {}
    if not np.any(by.heading[:, :3]):
        return _moved_along(clip, unplaced_moves(clip, by.path), going)
    curves = _turned_roots(clip, by, going)
    return curves | _turned_props(clip, clip.with_curves(curves), by, going)


def _going(by: RootMotion) -> Bools:
    return np.asarray(np.any(by.path, axis=1) | np.any(by.heading[:, :3], axis=1))


def _moves(clip: Clip, root: int) -> list[tuple[int, TrackId]]:
    """A root's position channels, by their axes."""
    own = clip.layout[root]
    return [(k, base_track(root, n)) for k, n in enumerate(MOVES) if n in own]


def _require_moves(clip: Clip, root: int, by: Floats) -> None:
    """:class:`BadInput` where a root is to be moved ``by (F, 3)`` and lacks channels for it."""
    lacking = [k for k, n in enumerate(MOVES) if n not in clip.layout[root]]
    if np.abs(by[:, lacking]).max(initial=0.0) > STILL * max(clip.skeleton.rest_height, 1e-9):
        name = clip.skeleton.names[root]
        raise BadInput(f"{name} has not three position channels to be moved")


def _moved_along(clip: Clip, by: Floats, going: Bools) -> dict[TrackId, Curve]:
    """Roots and props moved ``by (F, 3)``, in the root's axes."""
    for root in clip.skeleton.roots:
        _require_moves(clip, root, by)
    owned = [pair for root in clip.skeleton.roots for pair in _moves(clip, root)]
    owned += [(k, prop_track(p.id, n)) for p in clip.props for k, n in enumerate(MOVES)]
    tracks = [(k, t) for k, t in owned if np.any(by[:, k])]
    own = curve_values(clip, times_of(clip, None), [t for _, t in tracks])
    return {t: SampledCurve(np.where(going, own[t] + by[:, k], own[t])) for k, t in tracks}


def _turned_roots(clip: Clip, by: RootMotion, going: Bools) -> dict[TrackId, Curve]:
    roots = clip.skeleton.roots
    seen = placed_pose(clip, times_of(clip, None), roots)
    there = [by.put_on(seen.rotation[:, k], seen.translation[:, k]) for k in range(len(roots))]
    return _roots_seen(clip, there, clip.placement, going)


def _roots_seen(
    clip: Clip, seen: Sequence[tuple[Floats, Floats]], placement: Placement | None, going: Bools
) -> dict[TrackId, Curve]:
    """The roots' own curves for them to be seen with rotations ``(F, 4)`` and places ``(F, 3)``
    under a placement and the clip's layers, where they are ``going (F,)``."""
    frames = times_of(clip, None)
    curves: dict[TrackId, Curve] = {}
    for root, (turns, places) in zip(clip.skeleton.roots, seen, strict=True):
        if len(clip.order(root)) != 3:
            name = clip.skeleton.names[root]
            raise BadInput(f"{name} has not three rotation channels to be turned")
        if placement is not None and placement.counts:
            turns = unplaced_turns(clip, placement, turns)
            places = unplaced_points(clip, placement, places)
        turns, places = under_layers(clip, root, turns, places)
        _require_moves(clip, root, places - base_pose(clip, frames, [root]).translation[:, 0])
        own = np.stack([clip.curves[t].at(frames) for t in clip.turns_of(root)], axis=-1)
        curves |= written(clip, root, said(own, turns, clip.order(root), going))
        for track, values in clip.translation_values(root, places).items():
            kept = clip.curves[track].at(frames)
            curves[track] = SampledCurve(np.where(going, values, kept))
    return curves


def under_placement(clip: Clip, placement: Placement | None) -> Clip:
    """The clip as it is seen, under another placement: its roots and props are said anew, with a
    value on every frame."""
    here = clip.placement is not None and clip.placement.counts
    there = placement is not None and placement.counts
    after = replace(clip, placement=placement)
    if clip.placement == placement or not (here or there) or not clip.frames:
        return after
    roots = clip.skeleton.roots
    seen = placed_pose(clip, times_of(clip, None), roots)
    each = [(seen.rotation[:, k], seen.translation[:, k]) for k in range(len(roots))]
    every = np.ones(clip.frames, dtype=np.bool_)
    after = after.with_curves(_roots_seen(clip, each, placement, every))
    turned, points = placed_props(clip)
    for k, prop in enumerate(clip.props):
        after = after.with_curves(_prop_seen(clip, after, prop, turned[:, k], points[:, k], every))
    return after


def _turned_props(clip: Clip, after: Clip, by: RootMotion, going: Bools) -> dict[TrackId, Curve]:
    """Props carried, for the clip ``after``, whose roots are. Where the placement scales the way,
    a prop's own place hangs on all of it, and is said anew on every frame."""
    if clip.placement is not None and clip.placement.counts and clip.placement.scale != 1.0:
        going = np.ones_like(going)
    curves: dict[TrackId, Curve] = {}
    turned, points = placed_props(clip)
    for k, prop in enumerate(clip.props):
        there = by.put_on(turned[:, k], points[:, k])
        curves |= _prop_seen(clip, after, prop, *there, going)
    return curves


def _prop_seen(
    clip: Clip, after: Clip, prop: Prop, turns: Floats, points: Floats, going: Bools
) -> dict[TrackId, Curve]:
    """A prop's own curves for it to be seen so in the clip ``after``, where it is going."""
    turns, places = unplaced_prop(after, turns, points)
    tracks = [prop_track(prop.id, n) for n in CHANNELS]
    own = np.stack([clip.curves[t].at(times_of(clip, None)) for t in tracks], axis=-1)
    angles = said(own[:, 3:], turns, ORDER, going)
    values = np.concatenate([np.where(going[:, None], places, own[:, :3]), angles], axis=1)
    return _written(tracks, values)


def _written(tracks: list[TrackId], values: Floats) -> dict[TrackId, Curve]:
    return {t: SampledCurve(np.ascontiguousarray(values[:, n])) for n, t in enumerate(tracks)}


def _carried(clip: Clip, plant: Plant, by: RootMotion, going: Bools) -> Plant | None:
    """A plant where it is carried, by one move for all of its time; None where that is none."""
    first, last = max(plant.first - plant.ease_in, 0), plant.last + plant.ease_out + 1
    if not plant.in_world or not going[first:last].any():
        return plant
    path, heading = by.path[first:last], by.heading[first:last]
    same = bool(np.all(path == path[0]) and np.all(heading == heading[0]))
    return moved_plant(plant, by.at(first)) if same else None


def _ground(clip: Clip, ground: Prop, by: RootMotion, origin: Floats) -> dict[TrackId, Curve]:
    """The curves of a prop that is carried from a point ``(3,)`` of the floor."""
    still = np.broadcast_to(rotation.IDENTITY, by.heading.shape)
    there = by.put_on(still, np.broadcast_to(origin, by.path.shape))
    turns, places = unplaced_prop(clip, *there)
    angles = angles_afresh(rotation.hemisphere(turns), ORDER)
    tracks = [prop_track(ground.id, n) for n in CHANNELS]
    return _written(tracks, np.concatenate([places, angles], axis=1))
