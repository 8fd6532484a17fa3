"""The joints that are delivered: some left out, the root on the floor, other names."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from leancurve.curves.curve import Curve, SampledCurve
from leancurve.delivery.partners import is_partners
from leancurve.delivery.preset import Preset
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.document.moves import point_of, turn_of
from leancurve.document.parts.registry import without_figure
from leancurve.document.root_motion import RootMotion, leading_root
from leancurve.document.rotations import angles_afresh, said
from leancurve.document.track import BASE, TrackId, base_track
from leancurve.errors import BadInput, short
from leancurve.figure.body_shape import FINGERS
from leancurve.figure.skeleton import STRAIGHT, UP, EndSite, Skeleton
from leancurve.figure.skin import Skin
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats

STILL = 1e-9
"""Share of the figure's height: a joint that moves by less has no position channels of its own."""
TURNS = {"x": "XYZ", "y": "YXZ", "z": "ZXY"}
"""The rotation order of a joint on the floor: its heading first."""


@dataclass(frozen=True)
class Structure:
    """Which joints are delivered, in their order; the first hangs on a joint on the floor where
    there is to be one, which is then joint 0."""

    kept: tuple[int, ...]
    floor: str | None

    @property
    def shift(self) -> int:
        """By how many joints the kept ones stand later."""
        return 0 if self.floor is None else 1


def structure_of(clip: Clip, preset: Preset) -> Structure:
    """The joints that a preset asks for; :class:`BadInput` where it names one that is not there, or
    leaves none."""
    names = clip.skeleton.names
    unknown = [n for n in preset.joints if n not in names]
    if unknown:
        raise BadInput(f"joints: there is none named {short(unknown[0])}")
    left_out = {"twists": ("twist",), "helpers": ("helper",), "ends": ("end",), "fingers": FINGERS}
    dropped = {role for kind in preset.without for role in left_out[kind]}

    def stays(joint: int, name: str) -> bool:
        leaves = clip.body.joints[joint].part in dropped and not is_partners(clip, joint)
        return (not preset.joints or name in preset.joints) and not leaves

    kept = tuple(j for j, name in enumerate(names) if stays(j, name))
    if not kept:
        raise BadInput("joints: none is left to deliver")
    if preset.root == "floor" and preset.floor_joint in {names[j] for j in kept}:
        raise BadInput(f"the joint on the floor: {short(preset.floor_joint)} is a joint already")
    return Structure(kept, preset.floor_joint if preset.root == "floor" else None)


def restructured(clip: Clip, structure: Structure) -> Clip:
    """A sampled clip on the joints of a structure: all of them stand in the world as they did.

    A joint whose joint above is still there keeps its numbers. The others are said relative to the
    next one above that is; they have position channels where they move within it. A joint on the
    floor carries travel and heading, and what was a root hangs on it.
    """
    old = clip.skeleton
    if structure.kept == tuple(range(len(old))) and structure.floor is None:
        return clip
    at = {j: k + structure.shift for k, j in enumerate(structure.kept)}
    above = [_above(old, j, at) for j in structure.kept]
    pose = evaluate(clip)
    turns, places = pose.world(old)
    rest_turns, rest_places = old.rest_world
    up = UP[clip.reading.up_axis]
    lead = leading_root(clip)
    if structure.floor is not None:
        stands = RootMotion.of(turns[:, lead], places[:, lead], up, rest_turns[lead])
    names = [old.names[j] for j in structure.kept]
    parents, offsets, rests = [], [], []
    layout: list[tuple[str, ...]] = []
    curves: dict[TrackId, Curve] = {}
    local: dict[int, tuple[Floats, Floats]] = {}
    if structure.floor is not None:
        names.insert(0, structure.floor)
        parents.append(-1)
        offsets.append((0.0, 0.0, 0.0))
        rests.append(STRAIGHT)
        order = TURNS[clip.reading.up_axis]
        layout.append(("tx", "ty", "tz", *(f"r{a.lower()}" for a in order)))
        local[0] = (stands.heading, stands.path)
    for joint, over in zip(structure.kept, above, strict=True):
        own = at[joint]
        parents.append(at[over] if over >= 0 else structure.shift - 1)
        same = over == old.parents[joint] and (over >= 0 or structure.floor is None)
        if same:
            offsets.append(old.offsets[joint])
            rests.append(old.rests[joint])
            layout.append(clip.layout[joint])
            curves |= {base_track(own, c): clip.curves[base_track(joint, c)] for c in layout[-1]}
            continue
        rest, moved = (rest_turns[joint], rest_places[joint]), (turns[:, joint], places[:, joint])
        if over >= 0:
            rest = _within(rest_turns[over], rest_places[over], *rest)
            moved = _within(turns[:, over], places[:, over], *moved)
        elif structure.floor is not None:
            moved = stands.taken_off(*moved)
        offsets.append(point_of(rest[1]))
        rests.append(_rest(rest[0]))
        layout.append(_channels(clip, joint, over, moved, rest))
        local[own] = moved
    skeleton = Skeleton(
        tuple(names), tuple(parents), tuple(offsets), _ends(old, structure, at), tuple(rests)
    )
    left = set(names)
    reading = replace(
        clip.reading,
        roles=tuple(r for r in clip.reading.roles if r[0] in left),
        ends=tuple(e for e in clip.reading.ends if e in left),
        originals=tuple(o for o in clip.reading.originals if o[0] in left),
    )
    props = {t: c for t, c in clip.curves.items() if t.owner != BASE}
    out = replace(
        clip, skeleton=skeleton, layout=tuple(layout), curves=props | curves, reading=reading,
        **without_figure(),
    )  # fmt: skip
    back = {k: j for j, k in at.items()}
    for joint, (turned, placed) in local.items():
        curves |= _said(clip, out, joint, back.get(joint), turned, placed)
    return replace(out, curves=props | curves)


def _above(skeleton: Skeleton, joint: int, kept: Mapping[int, int]) -> int:
    """The next joint above that is delivered; -1 where none is."""
    over = skeleton.parents[joint]
    while over >= 0 and over not in kept:
        over = skeleton.parents[over]
    return over


def _within(turn: Floats, place: Floats, turns: Floats, places: Floats) -> tuple[Floats, Floats]:
    """What stands so in the world, relative to what stands as ``turn`` and ``place`` say."""
    back = rotation.conjugate(turn)
    return rotation.multiply(back, turns), rotation.rotate(back, places - place)


def _rest(turn: Floats) -> tuple[float, float, float, float]:
    told = turn_of(rotation.normalise(turn))
    return STRAIGHT if max(map(abs, told[:3])) < 1e-12 else told


def _channels(
    clip: Clip, joint: int, over: int, moved: tuple[Floats, Floats], rest: tuple[Floats, Floats]
) -> tuple[str, ...]:
    """A joint's channels where another joint is above it: three turns, and places if it moves."""
    order = clip.order(joint)
    kept = [c for c in clip.layout[joint] if c[0] == "t"]
    height = max(clip.skeleton.rest_height, 1e-9)
    if over < 0 or np.abs(moved[1] - rest[1]).max(initial=0.0) > STILL * height:
        kept = ["tx", "ty", "tz"]
    turns = order if len(order) == 3 else TURNS[clip.reading.up_axis]
    return (*kept, *(f"r{a.lower()}" for a in turns))


def _said(
    clip: Clip, out: Clip, joint: int, was: int | None, turned: Floats, placed: Floats
) -> dict[TrackId, Curve]:
    """Channels of a joint that stands so within the one above: as it said it before, if it did."""
    order = out.order(joint)
    tracks = out.turns_of(joint)
    frames = np.arange(clip.frames, dtype=np.float64)
    if was is not None and clip.order(was) == order:
        own = np.stack([clip.curves[t].at(frames) for t in clip.turns_of(was)], axis=-1)
        angles = said(own, turned, order)
    else:
        angles = angles_afresh(rotation.hemisphere(turned), order)
    curves: dict[TrackId, Curve] = {
        t: SampledCurve(np.ascontiguousarray(angles[:, k])) for k, t in enumerate(tracks)
    }
    for track, values in out.translation_values(joint, placed).items():
        curves[track] = SampledCurve(np.ascontiguousarray(values))
    return curves


def _ends(old: Skeleton, structure: Structure, at: Mapping[int, int]) -> tuple[EndSite, ...]:
    """End sites of the joints that stay; where all below a joint goes, its tip is where the first
    of these was."""
    ends = [EndSite(at[e.parent], e.offset, 10_000) for e in old.ends if e.parent in at]
    tipped = {e.parent for e in ends} | {at[p] for j in at if (p := _above(old, j, at)) >= 0}
    for joint in structure.kept:
        gone = [c for c in old.children[joint] if c not in at]
        if gone and at[joint] not in tipped:
            ends.append(EndSite(at[joint], old.offsets[gone[0]], 10_000))
    return tuple(ends)


def skin_on(skin: Skin, skeleton: Skeleton, structure: Structure) -> Skin:
    """A skin for the joints of a structure: points of a joint that is left out follow the next one
    above it that stays, as they lie at rest."""
    at = {j: k + structure.shift for k, j in enumerate(structure.kept)}
    above = [j if j in at else _above(skeleton, j, at) for j in range(len(skeleton))]
    first = structure.kept[0]
    to = np.array([at[j if j >= 0 else first] for j in above], dtype=np.uint16)
    binds = np.zeros((len(at) + structure.shift, 3, 4))
    for joint, own in at.items():
        binds[own] = skin.binds[joint]
    if structure.floor is not None:
        binds[0, :, :3] = np.eye(3)
    return replace(skin, joints=np.where(skin.weights > 0, to[skin.joints], 0), binds=binds)


BEFORE = re.compile(r"^.*[:|]")


def names_of(clip: Clip, preset: Preset) -> dict[str, str]:
    """What each joint is called in the file; :class:`BadInput` where two would be called alike."""
    names = clip.skeleton.names
    unknown = [n for n in preset.renamed if n not in names]
    if unknown:
        raise BadInput(f"names: there is no joint named {short(unknown[0])}")
    out: dict[str, str] = {}
    for name in names:
        plain = (BEFORE.sub("", name) or name) if preset.plain_names else name
        out[name] = preset.renamed.get(name, f"{preset.prefix}{plain}")
    if len(set(out.values())) != len(out):
        twice = Counter(out.values()).most_common(1)[0][0]
        raise BadInput(f"names: two joints would be called {short(twice)}")
    return out


def renamed(clip: Clip, names: Mapping[str, str]) -> Clip:
    """The clip with its joints called otherwise, in everything that speaks of them."""
    if all(old == new for old, new in names.items()):
        return clip

    def of(pairs: Sequence[tuple[str, str]]) -> tuple[tuple[str, str], ...]:
        return tuple((names.get(name, name), told) for name, told in pairs)

    reading = clip.reading
    return replace(
        clip,
        skeleton=replace(clip.skeleton, names=tuple(names[n] for n in clip.skeleton.names)),
        reading=replace(
            reading,
            roles=of(reading.roles),
            ends=tuple(names.get(n, n) for n in reading.ends),
            originals=of([o for o in reading.originals if names.get(o[0]) == o[0]]),
        ),
        accepted=tuple(replace(a, joint=names.get(a.joint, a.joint)) for a in clip.accepted),
    )
