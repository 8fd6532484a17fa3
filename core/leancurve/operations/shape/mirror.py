"""Mirror: the left side's motion on the right and the right's on the left."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from typing import Any, ClassVar, Literal, TypeAlias

import numpy as np
from pydantic import Field

from leancurve.curves import splice
from leancurve.curves.curve import Curve, KeyedCurve, SampledCurve
from leancurve.curves.insertion import cut
from leancurve.document.base import base_pose, curve_values, prop_pose, times_of
from leancurve.document.clip import Clip
from leancurve.document.layer import Layer
from leancurve.document.mirroring import (
    Mirror,
    Plane,
    Side,
    as_placed,
    other_side,
    own_plane,
    signs_of,
    world_plane,
)
from leancurve.document.moves import point_of, turn_of
from leancurve.document.parts.registry import bare
from leancurve.document.plant import Plant
from leancurve.document.planting.parts import limb_of
from leancurve.document.prop import CHANNELS, ORDER, prop_track
from leancurve.document.rotations import angles_afresh, quaternions
from leancurve.document.scope import Scope
from leancurve.document.track import TrackId, base_track
from leancurve.errors import BadInput
from leancurve.joining.blending import BLEND_S, Blend, joined
from leancurve.joining.seams import seam_at
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats, runs
from leancurve.operations.base import (
    Operation,
    Params,
    Patch,
    Progress,
    apply_patch,
    patch_to,
    silent,
)
from leancurve.operations.identity import drawn
from leancurve.operations.layers.writing import KeyedParams, key_times, written
from leancurve.operations.shaping import change_report
from leancurve.progress import part_of

Curves: TypeAlias = dict[TrackId, Curve]
AXES = "xyz"
FITTED = KeyedParams(keyed=True)
"""Keyed turns that no change of signs mirrors are fitted again, at the other side's key times."""


class MirrorParams(Params):
    across: Literal["figure", "world"] = Field(
        "figure",
        description="the plane between its sides, where it stands on the first frame; or the "
        "world's middle",
    )


class MirrorSides(Operation[MirrorParams]):
    """Mirror the performance: left for right, whichever way the joints' axes lie.

    Of the whole figure everything goes along: contacts, marks that name a side, plants, layers and
    props. Chosen joints get what their counterparts do, within the bones that carry them: both
    arms change sides, one of them becomes the other's double.

    Within a span it goes over into its mirrored self at both ends, on up to 0.3 s of the span;
    before it nothing changes, and after it the same motion goes on from where it ended.
    """

    name = "mirror"
    title = "Mirror"
    step = "shape"
    part = "pose"
    ranged = True
    over_all = True
    Params: ClassVar[type[MirrorParams]] = MirrorParams

    def apply(
        self, clip: Clip, scope: Scope, params: MirrorParams, progress: Progress = silent
    ) -> Patch:
        if not clip.frames:
            return Patch(report={"channels": 0})
        plane = own_plane(clip, 0) if params.across == "figure" else world_plane(clip)
        mirror = Mirror(clip, plane)
        spans = [] if scope.whole_time else runs(scope.mask(clip))
        if not scope.whole_figure:
            chosen = set(scope.resolve(clip))
            if not spans:
                whole, missed = _of_figure(mirror, {t.joint for t in chosen})
                curves = {t: c for t, c in whole.items() if t in chosen}
                return Patch(curves=curves, report=_report(mirror, curves, missed))
            # A figure's curves without what lies over them: its joints say the same in both.
            alone = bare(clip)
            within, missed = _within(alone, spans, self._whole(Mirror(alone, plane), silent))
            curves = {t: c for t, c in within.curves.items() if t in chosen}
            missed &= {t.joint for t in chosen}
            return Patch(curves=curves, report=_report(mirror, curves, missed))
        made = self._whole(mirror, part_of(progress, 0.0, 0.5))
        if not spans and scope.whole_time:
            return made
        within, missed = _within(clip, spans, made)
        return replace(patch_to(clip, within), report=_report(mirror, dict(within.curves), missed))

    def _whole(self, mirror: Mirror, progress: Progress) -> Patch:
        """All of a clip mirrored."""
        clip = mirror.clip
        curves, missed = _of_figure(mirror, set(range(len(clip.skeleton))))
        progress(0.5)
        layers, of_layers, missed_there = _layers(mirror)
        curves |= of_layers | _props(mirror)
        return Patch(
            curves=curves,
            layers=layers if layers != clip.layers else None,
            **_sides_named(mirror),
            report=_report(mirror, curves, missed | missed_there),
        )

    def told(self, params: Mapping[str, Any]) -> str:
        return "Mirror across the world" if params.get("across") == "world" else "Mirror"


def _within(clip: Clip, spans: Sequence[tuple[int, int]], made: Patch) -> tuple[Clip, set[int]]:
    """A clip that is mirrored within spans alone, as a patch ``made`` of it says: joined to its
    mirrored self at the beginning of each, and to itself at its end. Which joints stay as well."""
    there = apply_patch(clip, made)
    names = clip.skeleton.names
    missed = {names.index(gone["joint"]) for gone in made.report.get("unplaced", ())}
    out, end = clip, clip.frames - 1
    for k, (first, last) in enumerate(spans):
        most = min(round(BLEND_S * float(clip.rate)), (last - first) // 2)
        if most < 1:
            raise BadInput(f"mirror: frames {first} to {last} are too few to go over and back")
        # At an end of the clip nothing is gone over from, or back to.
        coming, going = (0 if first == 0 else most), (0 if last == end else most)
        if first == 0:
            out = there
        else:
            out = _gone_over(out, there, first, Blend(0, coming), 2 * k)
        if last < end:
            out = _gone_over(out, clip, last, Blend(going, 0), 2 * k + 1)
    return out, missed


def _gone_over(a: Clip, b: Clip, frame: int, blend: Blend, part: int) -> Clip:
    """One clip up to a frame, the other from there on, laid as it fits. Layers that are the same in
    both are one, if all are: they work on one another in their order."""
    ids = {x.id: drawn({y.id for y in a.layers}, f"{part} {x.id}".encode())() for x in b.layers}
    out = joined(a, b, seam_at(a, b, frame, frame), blend, ids).clip
    fewer = out
    for layer in b.layers:
        fewer = _as_one(fewer, layer.id, ids[layer.id])
    return fewer if len(fewer.layers) == len(a.layers) else out


def _as_one(clip: Clip, first: int, second: int) -> Clip:
    """A clip whose two layers, if they do the same, are one that counts as much as both."""
    one, two = (next((x for x in clip.layers if x.id == i), None) for i in (first, second))
    if one is None or two is None or replace(two, id=one.id, name=one.name) != one:
        return clip
    frames = np.arange(clip.frames, dtype=np.float64)
    weight, *pairs = [
        (clip.curves[t], clip.curves[u]) for t, u in zip(one.tracks, two.tracks, strict=True)
    ]
    if not all(np.array_equal(x.at(frames), y.at(frames)) for x, y in pairs):
        return clip
    values = [curve.at(frames) for curve in weight]
    rests = np.flatnonzero((values[0] == 0.0) & (values[1] == 0.0))
    if not len(rests) or values[0][rests[0] :].any() or values[1][: rests[0]].any():
        return clip
    both: Curve = SampledCurve(values[0] + values[1])
    before, after = weight
    if isinstance(before, KeyedCurve) and isinstance(after, KeyedCurve):
        # At rest between the two: the keys of either stand on their side of it.
        at, end = float(rests[0]), max(float(after.time[-1]), clip.frames - 1.0)
        parts = [cut(before, min(0.0, float(before.time[0])), at), cut(after, at, end)]
        both = replace(splice.joined(parts), extend=after.extend)
    curves = {t: c for t, c in clip.curves.items() if t.owner != two.owner}
    layers = tuple(x for x in clip.layers if x.id != second)
    return replace(clip, layers=layers, curves={**curves, one.weight: both})


def _report(mirror: Mirror, curves: Curves, missed: Iterable[int]) -> dict[str, Any]:
    clip = mirror.clip
    names = [clip.skeleton.names[j] for j in sorted(missed)]
    lengths = np.linalg.norm(clip.skeleton.offset_array, axis=1)
    uneven = np.abs(lengths - lengths[list(mirror.across)])
    told: dict[str, Any] = {
        **change_report(clip, {t: c for t, c in curves.items() if t in clip.curves}),
        "uneven_bones_mm": float(uneven.max(initial=0.0)) * clip.millimetres,
    }
    if names:
        more = f" and {len(names) - 3} more" if len(names) > 3 else ""
        told["told"] = f"{', '.join(names[:3])}{more}: too few channels for the other side's turns"
        told["unplaced"] = [{"joint": name} for name in names]
    return told


# --- a figure's own curves ------------------------------------------------------------------------


def _of_figure(mirror: Mirror, joints: set[int]) -> tuple[Curves, set[int]]:
    """The mirrored curves of some joints, and which of them could not be had."""
    clip = mirror.clip
    curves: Curves = {}
    missed: set[int] = set()
    for joint in sorted(joints):
        side = mirror.sides.get(joint)
        if side is None:
            continue
        turned = _turns(clip, joint, side)
        if turned is None:
            missed.add(joint)
        else:
            curves |= turned | _moves(mirror, joint, side)
    return curves, missed


def _turns(clip: Clip, joint: int, side: Side) -> Curves | None:
    """A joint's rotation channels; None where it has too few for what its counterpart does."""
    order, theirs = clip.order(joint), clip.order(side.source)
    if not order and not theirs:
        return {}
    if side.signs is not None and order == theirs:
        return _by_signs(clip, clip.turns_of(side.source), joint, side.signs)
    if len(order) != 3 or len(theirs) != 3:
        return None
    sources = clip.turns_of(side.source)
    turned = side.turns(base_pose(clip, times_of(clip, None), [side.source]).rotation[:, 0])
    angles = angles_afresh(rotation.hemisphere(turned), order)
    return _fitted(clip, clip.turns_of(joint), angles, sources)


def _moves(mirror: Mirror, joint: int, side: Side) -> Curves:
    """A joint's position channels."""
    clip = mirror.clip
    tracks = [base_track(joint, n) for n in clip.layout[joint] if n[0] == "t"]
    theirs = [base_track(side.source, n) for n in clip.layout[side.source] if n[0] == "t"]
    if not tracks:
        return {}
    offsets = clip.skeleton.offset_array
    root = clip.skeleton.parents[joint] < 0
    signs = side.way_signs
    if signs is not None and {t.name for t in tracks} <= {t.name for t in theirs}:
        # What adds nothing of its own: a channel is another one, or its negative, and so far on.
        zero = mirror.plane.points(np.zeros(3)) if root else np.zeros(3)
        on = zero if root else offsets[joint] - signs * offsets[side.source]
        if clip.adds_offset(joint):
            on = on + signs * offsets[side.source] - offsets[joint]
        out = {}
        for track in tracks:
            k = AXES.index(track.name[1])
            out[track] = scaled(clip.curves[base_track(side.source, track.name)], signs[k], on[k])
        return out
    places = base_pose(clip, times_of(clip, None), [side.source]).translation[:, 0]
    if root:
        moved = mirror.plane.points(places)
    else:
        moved = offsets[joint] + side.ways(places - offsets[side.source])
    values = clip.translation_values(joint, moved)
    return _fitted(clip, tracks, np.stack([values[t] for t in tracks], axis=-1), theirs)


def _by_signs(clip: Clip, sources: Sequence[TrackId], joint: int, signs: Floats) -> Curves:
    """A joint's curves that are those of its counterpart, or their negatives."""
    return {
        TrackId(t.owner, joint, t.name): scaled(clip.curves[t], signs[AXES.index(t.name[1])])
        for t in sources
    }


def _fitted(
    clip: Clip, tracks: Sequence[TrackId], values: Floats, sources: Sequence[TrackId]
) -> Curves:
    """Values ``(F, n)`` as curves: keyed where those that they come from are."""
    times = key_times([clip.curves[t] for t in sources], clip.frames) if sources else None
    return {t: written(clip, t, values[:, k], times, FITTED) for k, t in enumerate(tracks)}


def scaled(curve: Curve, factor: float, on: float = 0.0) -> Curve:
    """A curve whose values are so many times what they were, and so much more."""
    if factor == 1.0 and on == 0.0:
        return curve
    if isinstance(curve, SampledCurve):
        return SampledCurve(factor * curve.values + on)
    return curve.edited(
        value=factor * curve.value + on,
        slope_in=factor * curve.slope_in,
        slope_out=factor * curve.slope_out,
    )


# --- what goes along ------------------------------------------------------------------------------


def _layers(mirror: Mirror) -> tuple[tuple[Layer, ...], Curves, set[int]]:
    """The clip's layers on the other joints, their curves, and joints that they could not be had
    on: there they stay as they were, and so on their counterparts."""
    clip = mirror.clip
    layers: list[Layer] = []
    curves: Curves = {}
    missed: set[int] = set()
    for layer in clip.layers:
        given = dict(layer.mask)
        made = {j: _layered(mirror, layer, j) for j in layer.channels}
        stay = {
            j
            for j, found in made.items()
            if found is None or made.get(mirror.across[j], found) is None
        }
        missed |= {j for j in stay if mirror.across[j] in mirror.sides}
        layout: dict[int, tuple[str, ...]] = {}
        mask: dict[int, float] = {}
        for source, found in made.items():
            joint = source if source in stay else mirror.across[source]
            own = {t: clip.curves[t] for t in _own(layer, source)}
            tracks = own if found is None or source in stay else found
            layout[joint] = tuple(t.name for t in tracks)
            if source in given:
                mask[joint] = given[source]
            curves |= tracks
        layers.append(
            replace(layer, layout=tuple(sorted(layout.items())), mask=tuple(sorted(mask.items())))
        )
    return tuple(layers), curves, missed


def _own(layer: Layer, joint: int) -> list[TrackId]:
    return [TrackId(layer.owner, joint, name) for name in layer.channels[joint]]


def _layered(mirror: Mirror, layer: Layer, source: int) -> Curves | None:
    """A layer's curves of a joint, on its counterpart; None where they cannot be had."""
    clip, joint = mirror.clip, mirror.across[source]
    side = mirror.sides.get(joint)
    if side is None:
        return None
    own = _own(layer, source)
    turns, moves = [t for t in own if t.turns], [t for t in own if not t.turns]
    made: Curves | None
    if layer.kind == "additive":
        half = rotation.conjugate(side.after)
        if layer.space == "figure":
            root = clip.skeleton.chain(joint)[-1]
            half = mirror.plane.half if joint == root else mirror.carried(root)
        made = _by_vectors(clip, layer, joint, turns, half)
    elif side.signs is not None and clip.order(joint) == clip.order(side.source):
        made = _by_signs(clip, turns, joint, side.signs)
    elif not turns:
        made = {}
    elif layer.kind == "override" and len(turns) == 3 == len(clip.order(joint)):
        made = _angles_of(clip, layer, joint, side)
    else:
        made = None
    if made is None or not moves:
        return made
    moved = _moved(mirror, layer, joint, side, moves)
    return None if moved is None else made | moved


def _by_vectors(
    clip: Clip, layer: Layer, joint: int, turns: Sequence[TrackId], half: Floats
) -> Curves:
    """Rotation vectors turned by a half turn ``(4,)``."""
    if not turns:
        return {}
    signs = signs_of(half)
    if signs is not None:
        return _by_signs(clip, turns, joint, signs)
    tracks = [TrackId(layer.owner, joint, f"r{a}") for a in AXES]
    vectors = rotation.rotate(half, _in_three(clip, turns))
    return _fitted(clip, tracks, vectors, turns)


def _in_three(clip: Clip, tracks: Sequence[TrackId]) -> Floats:
    """Values ``(F, 3)`` of tracks along X, Y and Z; 0 where there is none."""
    values = curve_values(clip, times_of(clip, None), tracks)
    out = np.zeros((clip.frames, 3))
    for track in tracks:
        out[:, AXES.index(track.name[1])] = values[track]
    return out


def _angles_of(clip: Clip, layer: Layer, joint: int, side: Side) -> Curves:
    """Poses of a layer's own, said in the order of the joint on the other side."""
    order, theirs = clip.order(joint), clip.order(side.source)
    sources = [TrackId(layer.owner, side.source, f"r{a.lower()}") for a in theirs]
    values = curve_values(clip, times_of(clip, None), sources)
    turned = side.turns(quaternions(np.stack([values[t] for t in sources], axis=-1), theirs))
    tracks = [TrackId(layer.owner, joint, f"r{a.lower()}") for a in order]
    angles = angles_afresh(rotation.hemisphere(turned), order)
    return _fitted(clip, tracks, angles, sources)


def _moved(
    mirror: Mirror, layer: Layer, joint: int, side: Side, moves: Sequence[TrackId]
) -> Curves | None:
    """Moves that a layer adds, or places that it leads to: these need all three of them."""
    clip = mirror.clip
    signs = side.way_signs
    if layer.kind != "override" and signs is not None:
        return _by_signs(clip, moves, joint, signs)
    if layer.kind == "override" and len(moves) < 3:
        return None
    values = _in_three(clip, moves)
    if layer.kind == "override":
        offsets = clip.skeleton.offset_array
        there = offsets[side.source] if clip.adds_offset(side.source) else np.zeros(3)
        here = offsets[joint] if clip.adds_offset(joint) else np.zeros(3)
        if clip.skeleton.parents[joint] < 0:
            moved = mirror.plane.points(values + there) - here
        else:
            away = values + there - offsets[side.source]
            moved = offsets[joint] + side.ways(away) - here
    else:
        moved = side.ways(values)
    tracks = [TrackId(layer.owner, joint, f"t{a}") for a in AXES]
    return _fitted(clip, tracks, moved, moves)


def _props(mirror: Mirror) -> Curves:
    """Props on the other side: each turned so that its own two sides are exchanged."""
    clip = mirror.clip
    out: Curves = {}
    turned, places = prop_pose(clip)
    for k, prop in enumerate(clip.props):
        turns = rotation.multiply(rotation.multiply(mirror.plane.half, turned[:, k]), mirror.half)
        angles = angles_afresh(rotation.hemisphere(turns), ORDER)
        values = np.concatenate([mirror.plane.points(places[:, k]), angles], axis=1)
        for which in (slice(0, 3), slice(3, 6)):
            tracks = [prop_track(prop.id, n) for n in CHANNELS[which]]
            out |= _fitted(clip, tracks, values[:, which], tracks)
    return out


def _sides_named(mirror: Mirror) -> dict[str, Any]:
    """What calls a side by its name, with the other one: as parts of a patch."""
    clip = mirror.clip
    out: dict[str, Any] = {}
    if clip.contacts:
        swapped = (replace(c, limb=_limb(mirror, c.limb)) for c in clip.contacts)
        out["contacts"] = tuple(sorted(swapped))
    if clip.marks:
        out["marks"] = tuple(sorted(replace(m, name=other_side(m.name)) for m in clip.marks))
    if clip.accepted:
        there = (replace(a, joint=mirror.name_of(a.joint)) for a in clip.accepted)
        out["accepted"] = tuple(sorted(there))
    if clip.plants:
        effective = as_placed(clip, mirror.plane)
        out["plants"] = tuple(sorted(_plant(mirror, effective, p) for p in clip.plants))
    return out


def _limb(mirror: Mirror, limb: str) -> str:
    """A part of the body or a joint, on the other side."""
    return mirror.name_of(limb) if limb in mirror.clip.skeleton.names else other_side(limb)


def _plant(mirror: Mirror, plane: Plane, plant: Plant) -> Plant:
    """A plant of the other side's part, held on the other side of what it is held by."""
    clip = mirror.clip
    names = clip.skeleton.names
    there = replace(
        plant, part=_limb(mirror, plant.part), with_joint=mirror.name_of(plant.with_joint)
    )
    place = np.array(plant.place)
    if plant.with_joint in names:
        before = mirror.carried(names.index(there.with_joint))
        place = -rotation.rotate(before, place)
    elif plant.with_prop:
        before = mirror.half
        place = -rotation.rotate(before, place)
    else:
        before = plane.half
        place = plane.points(place)
    if plant.turn is None:
        return replace(there, place=point_of(place))
    try:
        held = limb_of(clip, there.part).end
    except BadInput:
        return replace(there, place=point_of(place))
    after = rotation.conjugate(mirror.carried(held))
    turn = rotation.multiply(rotation.multiply(before, np.array(plant.turn)), after)
    return replace(there, place=point_of(place), turn=turn_of(turn))
