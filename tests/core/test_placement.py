"""Placement: a whole clip put elsewhere, over its layers and under its plants."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
import pytest
from leancurve.document.clip import Clip, Placement
from leancurve.document.evaluation import affected, effective, evaluate
from leancurve.document.stored import clip_of, header_of
from leancurve.errors import BadInput
from leancurve.formats.bvh import read_bvh, write_bvh
from leancurve.formats.clipjson import read_clip, write_clip
from leancurve.numbers.arrays import Floats
from leancurve.recipe import counted_as
from scipy.spatial.transform import Rotation

from tests.core.test_layers import HEAD, done, laid, walk
from tests.core.test_planting import planted_walk


def world(clip: Clip) -> Floats:
    return evaluate(clip).world(clip.skeleton)[1]


def placed(clip: Clip, **params: Any) -> Clip:
    return done(clip, "place", **params)


def test_all_joints_are_moved_and_turned_as_scipy_does() -> None:
    """The walk is in cm, Y up."""
    clip = placed(laid(walk(), "head", {HEAD: (0, 25, 0)}), move=(1200, 0, -400), turn=90,
                  about=(100, 0, 50))  # fmt: skip
    before = laid(walk(), "head", {HEAD: (0, 25, 0)})
    about = np.array([10.0, 0.0, 5.0])
    by = Rotation.from_euler("Y", 90, degrees=True)
    flat = world(before).reshape(-1, 3)
    wanted = (by.apply(flat - about) + about + [120, 0, -40]).reshape(world(before).shape)
    assert np.abs(world(clip) - wanted).max() < 1e-9
    # Nothing but the root is another, and its curves are what they were.
    gap = np.abs(evaluate(clip).rotation - evaluate(before).rotation)
    assert gap[:, 1:].max() == 0.0
    assert all(clip.curves[t] is before.curves[t] for t in walk().channels)
    assert affected(clip, (), before) == (0,)


def test_a_scaled_way_leaves_heights_and_limbs_as_they_are() -> None:
    clip = placed(walk(), scale=1.5)
    before, after = world(walk()), world(clip)
    about = np.array([before[0, 0, 0], 0.0, before[0, 0, 2]])
    flat = [0, 2]
    assert np.allclose(after[:, 0, flat] - about[flat], 1.5 * (before[:, 0, flat] - about[flat]))
    assert np.array_equal(after[:, 0, 1], before[:, 0, 1])
    limbs = [w[:, 1:] - w[:, :1] for w in (before, after)]
    assert np.abs(limbs[0] - limbs[1]).max() < 1e-9


def test_muted_or_of_nothing_it_is_the_clip_bit_for_bit() -> None:
    clip = placed(walk(), move=(1000, 0, 0), turn=30)
    for back in (placed(clip, muted=True), placed(clip, move=(0, 0, 0), turn=0)):
        assert np.array_equal(evaluate(back).rotation, evaluate(walk()).rotation)
        assert np.array_equal(evaluate(back).translation, evaluate(walk()).translation)
    again = placed(placed(clip, muted=True), muted=False)
    assert again.placement == clip.placement


def test_what_is_planted_goes_along_and_comes_back() -> None:
    clip = planted_walk()
    moved = placed(clip, move=(2000, 0, 500), turn=-70)
    by = Rotation.from_euler("Y", -70, degrees=True)
    start = np.array(moved.placement.about) if moved.placement else np.zeros(3)
    flat = world(clip).reshape(-1, 3)
    wanted = (by.apply(flat - start) + start + [200, 0, 50]).reshape(world(clip).shape)
    # As exactly as plants are planned: their chains are iterated to 1e-4 of a unit.
    assert np.abs(world(moved) - wanted).max() < 1e-3
    back = placed(moved, muted=True)
    places = np.array([np.array(p.place) - q.place for p, q in
                       zip(back.plants, clip.plants, strict=True)])  # fmt: skip
    assert np.abs(places).max() < 1e-9


def test_what_is_delivered_stands_there_without_a_jump() -> None:
    clip = placed(walk(), move=(0, 0, 3000), turn=170)
    values = effective(clip)
    root = np.stack([values[t] for t in clip.turns_of(0)], axis=-1)
    assert np.abs(np.diff(root, axis=0)).max() < 20
    back = read_bvh(write_bvh(clip)).clip
    assert np.abs(world(back) - world(clip)).max() < 1e-3
    flat = done(clip, "flatten")
    assert flat.placement == replace(clip.placement or Placement(), muted=True)
    assert np.abs(world(flat) - world(clip)).max() < 1e-6
    few = np.array([0.0, 31.5, 100.0])
    own = evaluate(clip, few)
    assert np.array_equal(own.rotation[[0, 2]], evaluate(clip).rotation[[0, 100]])


def test_it_is_kept_in_files_and_in_the_store() -> None:
    clip = placed(walk(), move=(10, 20, 30), turn=4, scale=1.1, about=(50, 60, 70))
    assert read_clip(write_clip(clip)).clip.placement == clip.placement
    header = header_of(clip, "digest")
    assert clip_of(header, clip.skeleton, clip.curves).placement == clip.placement
    assert clip.placement == Placement((1, 2, 3), 4, 1.1, (5, 6, 7))


def test_a_joint_of_the_root_is_moved_on_a_layer_as_it_is_seen() -> None:
    clip = placed(laid(walk(), "lower", {HEAD: (0, 1, 0)}), turn=90, scale=2.0)
    lower = done(clip, "key_layer", layer="lower", frame=50, moved={"Hips": (30.0, -40.0, 20.0)})
    by = world(lower)[50] - world(clip)[50]
    assert np.abs(by - [3.0, -4.0, 2.0]).max() < 1e-9


def test_what_cannot_be_placed_is_told_and_nothing_counts_as_cost() -> None:
    layout = (("rx", "ry", "rz"), *walk().layout[1:])
    held = replace(walk(), layout=layout, curves={t: c for t, c in walk().curves.items()
                   if not (t.joint == 0 and t.name[0] == "t")})  # fmt: skip
    with pytest.raises(BadInput, match="Hips needs three position channels"):
        placed(held, move=(1, 0, 0))
    with pytest.raises(BadInput, match="scale"):
        placed(walk(), scale=0)
    assert counted_as({"operation": "place", "params": {"turn": 3}}) == "place"
    on_layer = {"operation": "despike", "params": {}, "scope": {"owner": "layer:2"}}
    assert counted_as(on_layer) == "layer"
    key = {"owner": "layer:0", "joint": "Head", "channel": "rx"}
    assert counted_as({"operation": "edit", "params": {"keys": [key]}}) == "layer"
    base = {**key, "owner": "base"}
    assert counted_as({"operation": "edit", "params": {"keys": [key, base]}}) == "hand"


def test_plants_over_layers_and_placement_are_baked_into_a_layer() -> None:
    """The motion is the same without its plants, and what lies below is untouched."""
    leg = laid(planted_walk(), "knee", {"LeftThigh": (0, 6, 2)})
    clip = placed(leg, move=(400, 0, 100), turn=50, scale=1.1)
    baked = done(clip, "bake_plants")
    assert baked.plants == ()
    assert [x.name for x in baked.layers] == ["knee", "held by plants"]
    assert np.abs(world(baked) - world(clip)).max() < 1e-6
    assert all(baked.curves[t] is clip.curves[t] for t in clip.tracks)
