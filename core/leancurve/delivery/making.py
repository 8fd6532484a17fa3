"""A clip made into a file, in the form that a preset asks for."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, TypeAlias

import numpy as np

from leancurve.curves.curve import KeyedCurve, Segment
from leancurve.delivery.axes import in_axes, skin_in_axes
from leancurve.delivery.joints import (
    Structure,
    names_of,
    renamed,
    restructured,
    skin_on,
    structure_of,
)
from leancurve.delivery.preset import GLTF, SCENES, UNITS, Preset
from leancurve.delivery.proof import Expected, allowed_of
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.document.track import BASE
from leancurve.figure.drawn_skin import drawn_skin
from leancurve.figure.skeleton import turn_between
from leancurve.figure.skin import Skin
from leancurve.formats.bvh import with_prop_roots
from leancurve.formats.files import write_take
from leancurve.formats.gltf.writing import Splines, write_gltf
from leancurve.formats.scene.splines import PER_FRAME, spline_of
from leancurve.formats.world import write_world
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Bools, Floats
from leancurve.time.resample import resampled, sample_times


@dataclass(frozen=True)
class Stretch:
    """A clip's frames from ``first`` to ``last``."""

    clip: Clip
    first: int
    last: int


@dataclass(frozen=True)
class Made:
    """A file's bytes, what it is to hold of a clip, and the clip as it is in it."""

    data: bytes
    expected: Expected
    clip: Clip


Recipe: TypeAlias = Sequence[Mapping[str, Any]]


def made(
    clip: Clip,
    preset: Preset,
    first: int = 0,
    last: int | None = None,
    recipe: Recipe = (),
    skin: Skin | None = None,
) -> Made:
    """The file of a clip's frames from ``first`` to ``last``, with the body of its skeleton.

    :class:`BadInput` where the preset asks for what the clip has not.
    """
    last = max(clip.frames - 1, 0) if last is None else last
    return made_together([Stretch(clip, first, last)], preset, recipe, skin)[0]


def made_together(
    stretches: Sequence[Stretch], preset: Preset, recipe: Recipe = (), skin: Skin | None = None
) -> list[Made]:
    """One file of stretches of clips: the same bytes for each, in their order. Of several it is
    glTF, and each an animation of it.

    :class:`BadInput` where they are not on one skeleton, or the preset asks for what one has not.
    """
    preset.checked()
    if preset.format in GLTF:
        return _of_gltf(stretches, preset, skin)
    (only,) = stretches
    return [_of_one(only, preset, recipe, skin)]


def _of_one(stretch: Stretch, preset: Preset, recipe: Recipe, skin: Skin | None) -> Made:
    clip, first, last = stretch.clip, stretch.first, stretch.last
    rate = preset.at_rate(clip.rate)
    props = _with_props(clip, preset)
    if preset.keeps(clip.rate, clip.reading) and props == bool(clip.props):
        times = sample_times(clip, rate, first, last)
        whole = first == 0 and last == clip.frames - 1
        # Plants are solved from all frames: fewer of them would be planted otherwise.
        fewer = clip if whole else resampled(clip, rate, first, last, planted=bool(clip.plants))
        data = write_take(fewer, "clip.json", recipe)
        return Made(data, Expected(times, rate, {n: n for n in clip.skeleton.names}, props), fewer)
    structure = structure_of(clip, preset)
    form = _formed(stretch, preset, structure)
    if preset.format == "csv-world":
        data = write_world(form, props)
    else:
        told = with_prop_roots(form) if preset.format == "bvh" else form
        body = _body(clip, preset, structure, skin, form)
        data = write_take(told, f"clip{preset.ending}", (), body)
    return Made(data, _expected(stretch, preset, structure, form), form)


def _of_gltf(stretches: Sequence[Stretch], preset: Preset, skin: Skin | None) -> list[Made]:
    structures = [structure_of(s.clip, preset) for s in stretches]
    whole = list(zip(stretches, structures, strict=True))
    forms = [_formed(s, preset, structure) for s, structure in whole]
    splines: list[Splines] = []
    if preset.within_deg is not None:
        splines = [_splines(s, preset, w, f) for (s, w), f in zip(whole, forms, strict=True)]
    body = _body(stretches[0].clip, preset, structures[0], skin, forms[0])
    data = write_gltf(forms, body, splines, text=preset.format == "gltf")
    return [
        Made(data, replace(_expected(s, preset, w, form), take=k), form)
        for k, ((s, w), form) in enumerate(zip(whole, forms, strict=True))
    ]


def _with_props(clip: Clip, preset: Preset) -> bool:
    return bool(clip.props) and preset.props and preset.format != "csv"


def _formed(stretch: Stretch, preset: Preset, structure: Structure, finer: int = 1) -> Clip:
    """A stretch as it is in the file, so many times the frames of its rate."""
    clip = stretch.clip
    up, metres = preset.up_axis or clip.reading.up_axis, clip.reading.metres_per_unit
    metres = metres if preset.unit is None else UNITS[preset.unit]
    rate = finer * preset.at_rate(clip.rate)
    baked = resampled(clip, rate, stretch.first, stretch.last, planted=True)
    baked = baked if _with_props(clip, preset) else _without_props(baked)
    own = {**{n: n for n in _extra(structure)}, **names_of(clip, preset)}
    return renamed(in_axes(restructured(baked, structure), up, metres), own)


def _expected(stretch: Stretch, preset: Preset, structure: Structure, form: Clip) -> Expected:
    clip, names = stretch.clip, names_of(stretch.clip, preset)
    rate = preset.at_rate(clip.rate)
    return Expected(
        sample_times(clip, rate, stretch.first, stretch.last),
        rate,
        {clip.skeleton.names[j]: names[clip.skeleton.names[j]] for j in structure.kept},
        _with_props(clip, preset),
        (*_extra(structure), *_above(form, preset)),
        form.reading,
        allowed_of(form, preset),
        replace(form, curves={}) if preset.format == "csv" else None,
    )


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


def _splines(stretch: Stretch, preset: Preset, structure: Structure, form: Clip) -> Splines:
    """Splines of every joint of a stretch, fitted to eight points a frame."""
    assert preset.within_deg is not None
    clip, first = stretch.clip, stretch.first
    if form.frames < 2:
        return Splines()
    points = PER_FRAME * (form.frames - 1) + 1  # a last frame that the rate does not reach
    fine = _formed(stretch, preset, structure, PER_FRAME)
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
