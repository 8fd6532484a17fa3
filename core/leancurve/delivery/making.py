"""A clip made into a file, in the form that a preset asks for."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from leancurve.curves.curve import KeyedCurve, Segment
from leancurve.delivery.axes import in_axes, skin_in_axes, turn_between
from leancurve.delivery.joints import (
    Structure,
    names_of,
    renamed,
    restructured,
    skin_on,
    structure_of,
)
from leancurve.delivery.preset import SCENES, UNITS, Preset
from leancurve.delivery.proof import MOST_DEG, MOST_MM, Expected
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.document.track import BASE
from leancurve.figure.drawn_skin import drawn_skin
from leancurve.figure.skin import Skin
from leancurve.formats.bvh import with_prop_roots
from leancurve.formats.files import write_take
from leancurve.formats.gltf.writing import Splines, write_gltf
from leancurve.formats.scene.splines import PER_FRAME, spline_of
from leancurve.formats.world import write_world
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Bools, Floats
from leancurve.time.resample import resampled, sample_times

MOST_DEPTH_DEG = 45.0
"""A spline's bound adds up along a chain; a file is never allowed to be farther off than this."""


@dataclass(frozen=True)
class Made:
    """A file's bytes, what it is to hold, and the clip as it is in it."""

    data: bytes
    expected: Expected
    clip: Clip


def made(
    clip: Clip,
    preset: Preset,
    first: int = 0,
    last: int | None = None,
    recipe: Sequence[Mapping[str, Any]] = (),
    skin: Skin | None = None,
) -> Made:
    """The file of a clip's frames from ``first`` to ``last``, with the body of its skeleton.

    :class:`BadInput` where the preset asks for what the clip has not.
    """
    preset.checked()
    last = max(clip.frames - 1, 0) if last is None else last
    rate = preset.at_rate(clip.rate)
    times = sample_times(clip, rate, first, last)
    props = bool(clip.props) and preset.props and preset.format != "csv"
    if preset.keeps(clip.rate, clip.reading) and props == bool(clip.props):
        whole = first == 0 and last == clip.frames - 1
        # Plants are solved from all frames: fewer of them would be planted otherwise.
        fewer = clip if whole else resampled(clip, rate, first, last, planted=bool(clip.plants))
        data = write_take(fewer, "clip.json", recipe)
        return Made(data, Expected(times, rate, {n: n for n in clip.skeleton.names}, props), fewer)
    structure = structure_of(clip, preset)
    names = names_of(clip, preset)
    up, metres = preset.up_axis or clip.reading.up_axis, clip.reading.metres_per_unit
    metres = metres if preset.unit is None else UNITS[preset.unit]

    def formed(finer: int) -> Clip:
        baked = resampled(clip, finer * rate, first, last, planted=True)
        baked = baked if props else _without_props(baked)
        own = {**{n: n for n in _extra(structure)}, **names}
        return renamed(in_axes(restructured(baked, structure), up, metres), own)

    form = formed(1)
    body = _body(clip, preset, structure, skin, form)
    allowed = MOST_DEG, MOST_MM
    if preset.within_deg is not None and form.frames > 1:
        fine = formed(PER_FRAME)
        points = PER_FRAME * (form.frames - 1) + 1  # a last frame that the rate does not reach
        splines = _splines(clip, preset, structure, fine, first, points)
        data = write_gltf([form], body, [splines], text=preset.format == "gltf")
        allowed = _allowed(form, preset)
    elif preset.format == "csv-world":
        data = write_world(form, props)
    else:
        told = with_prop_roots(form) if preset.format == "bvh" else form
        data = write_take(told, f"clip{preset.ending}", (), body)
    kept = {clip.skeleton.names[j]: names[clip.skeleton.names[j]] for j in structure.kept}
    like = replace(form, curves={}) if preset.format == "csv" else None
    expected = Expected(
        times, rate, kept, props, (*_extra(structure), *_above(form, preset)), form.reading,
        allowed, like,
    )  # fmt: skip
    return Made(data, expected, form)


def _extra(structure: Structure) -> tuple[str, ...]:
    return () if structure.floor is None else (structure.floor,)


def _above(form: Clip, preset: Preset) -> tuple[str, ...]:
    """The joint that readers of a scene put above several roots: it is called as the node is."""
    several = len(form.skeleton.roots) > 1 and preset.format in SCENES
    return ("Figure", "Skeleton") if several else ()


def _without_props(clip: Clip) -> Clip:
    own = {t: c for t, c in clip.curves.items() if t.owner == BASE}
    return replace(clip, props=(), curves=own)


def _body(
    clip: Clip, preset: Preset, structure: Structure, skin: Skin | None, form: Clip
) -> Skin | None:
    if preset.format not in SCENES or preset.body == "none":
        return None
    if skin is None:
        return drawn_skin(form.skeleton, form.body) if preset.body == "figure" else None
    turn = turn_between(clip.reading.up_axis, form.reading.up_axis)
    factor = clip.reading.metres_per_unit / form.reading.metres_per_unit
    return skin_in_axes(skin_on(skin, clip.skeleton, structure), turn, factor)


def _splines(
    clip: Clip, preset: Preset, structure: Structure, fine: Clip, first: int, points: int
) -> Splines:
    """Splines of every joint of a clip that was formed at eight points a frame."""
    assert preset.within_deg is not None
    pose = evaluate(fine)
    turns, places = rotation.hemisphere(pose.rotation)[:points], pose.translation[:points]
    scale = PER_FRAME * float(preset.at_rate(clip.rate) / clip.rate)
    within = preset.within_mm / fine.millimetres
    out = Splines({}, {})
    for joint in range(len(fine.skeleton)):
        on, corners = _keys_of(clip, structure, joint, preset.fewest)
        keys, broken = (np.rint((f - first) * scale).astype(np.int64) for f in (on, corners))
        for into, wanted, bound, turned in (
            (out.turns, turns[:, joint], preset.within_deg, True),
            (out.places, places[:, joint], within, False),
        ):
            assert isinstance(into, dict)
            if np.ptp(wanted, axis=0).max() > 0.0:
                values = np.ascontiguousarray(wanted)
                into[joint] = spline_of(values, keys, broken, bound, turned)
    return out


def _keys_of(clip: Clip, structure: Structure, joint: int, fewest: bool) -> tuple[Floats, Floats]:
    """Frames on which a joint of a structure has keys, and those on which its curves have a corner:
    its own and those of joints above it that are left out."""
    none = np.zeros(0)
    if fewest:
        return none, none
    own = structure.kept[max(joint - structure.shift, 0)]
    chain = [own]
    while (over := clip.skeleton.parents[chain[-1]]) >= 0 and over not in structure.kept:
        chain.append(over)
    curves = [c for t, c in clip.curves.items() if t.joint in chain and t.owner != "prop"]
    keyed = [c.unmuted for c in curves if isinstance(c, KeyedCurve)]
    if not keyed:
        return none, none
    times = np.concatenate([c.time for c in keyed])
    corners = np.concatenate([c.time[_corners(c)] for c in keyed])
    return np.unique(times), np.unique(corners)


def _corners(curve: KeyedCurve) -> Bools:
    plain = curve.segment == Segment.CURVE
    before = np.concatenate([[True], plain[:-1]])
    return np.asarray((curve.slope_in != curve.slope_out) | ~plain | ~before)


def _allowed(form: Clip, preset: Preset) -> tuple[float, float]:
    """How far off in the world a joint may be whose own splines keep their bound: bounds add up
    along a chain, and each turn moves all that hangs on it."""
    assert preset.within_deg is not None
    skeleton = form.skeleton
    depth = max(len(skeleton.chain(j)) for j in range(len(skeleton)))
    places = form.millimetres * skeleton.rest_positions
    reach = max(
        sum(float(np.linalg.norm(places[j] - places[a])) for a in skeleton.chain(j))
        for j in range(len(skeleton))
    )
    moved = preset.within_mm * depth
    return (
        min(preset.within_deg * depth, MOST_DEPTH_DEG),
        moved + float(np.radians(preset.within_deg)) * reach,
    )
