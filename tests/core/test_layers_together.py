"""Layers merged, split, brought from another clip, and extracted: the motion stays what it was."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction
from typing import Any

import numpy as np
import pytest
from leancurve.curves.curve import KeyedCurve
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.document.track import TrackId
from leancurve.errors import BadInput
from leancurve.numbers import rotation
from leancurve.operations import OPERATIONS, apply_patch

from tests.core.test_layers import ARM, FOREARM, HEAD, SPINE, apart, done, edited, laid, of, walk


def did(clip: Clip, operation: str, /, **params: Any) -> Clip:
    return apply_patch(clip, OPERATIONS[operation].run(clip, params))


def three() -> Clip:
    """A figure's space layer, an arm's and a spine's over it, weighed and masked."""
    low = laid(walk(), "aim", {ARM: (3, 8, -5)}, space="figure", weight=0.8)
    arms = laid(low, "arms", {ARM: (0, 12, 4), FOREARM: (7, 0, 0)}, mask={ARM: 0.5})
    keyed = done(arms, "key_layer", layer="arms", frame=300, turns={ARM: (0, -9, 2)})
    return laid(keyed, "spine", {SPINE: (2, 4, 6)}, kind="channels")


@pytest.mark.parametrize("names", [("aim", "arms"), ("spine", "arms"), ("aim", "arms", "spine")])
def test_merged_layers_are_the_motion_in_the_place_of_theirs(names: tuple[str, ...]) -> None:
    clip = three()
    merged = did(clip, "merge_layers", layers=list(names), name="one", keyed=False)
    assert apart(merged, clip) < 1e-6
    assert {x.name for x in merged.layers} == {x.name for x in clip.layers} - set(names) | {"one"}
    kept = did(clip, "merge_layers", layers=list(names), name="one", keyed=False, stay=True)
    states = {x.name: x.muted for x in kept.layers}
    assert states == {x.name: x.name in names for x in clip.layers} | {"one": False}
    # Without it the others are what is left.
    off = edited(merged, {"do": "set", "name": "one", "muted": True})
    left = edited(clip, *({"do": "set", "name": n, "muted": True} for n in names))
    assert apart(off, left) < 1e-9


def test_keyed_layers_are_merged_to_keys_within_the_tolerance() -> None:
    clip = edited(laid(walk(), "a", {ARM: (0, 12, 4)}), {"do": "add", "name": "b"})
    clip = done(clip, "key_layer", layer="b", frame=100, turns={ARM: (5, 0, 0)}, ramp_in=40,
                ramp_out=60)  # fmt: skip
    merged = done(clip, "merge_layers", layers=["a", "b"], keyed=True, tolerance_deg=0.2)
    assert apart(merged, clip) < 0.4
    track = TrackId(merged.layers[-1].owner, of(walk(), ARM), "rx")
    curve = merged.curves[track]
    assert isinstance(curve, KeyedCurve)
    assert {60.0, 100.0, 160.0} <= set(curve.time.tolist())
    assert curve.key_count < 20


def test_what_cannot_be_merged_is_told() -> None:
    with pytest.raises(BadInput, match="arms lies between them"):
        done(three(), "merge_layers", layers=["aim", "spine"])
    off = edited(three(), *({"do": "set", "name": n, "muted": True} for n in ("aim", "arms")))
    with pytest.raises(BadInput, match="muted or have no weight"):
        done(off, "merge_layers", layers=["aim", "arms"])


def test_a_layer_is_split_by_joints_and_by_time_without_a_change() -> None:
    clip = three()
    split = did(clip, "split_layer", layer="arms", joints=[FOREARM], name="forearm")
    assert apart(split, clip) < 1e-9
    assert [x.name for x in split.layers] == ["aim", "arms", "forearm", "spine"]
    assert set(split.layers[2].channels) == {of(walk(), FOREARM)}
    faded = done(clip, "edit", keys=[{"owner": "layer:1", "joint": "", "channel": "w", "id": 1,
                                      "frame": 500, "do": "make", "value": 0.2}])  # fmt: skip
    timed = done(faded, "split_layer", layer="arms", frame=400)
    assert apart(timed, faded) < 1e-6
    late = edited(timed, {"do": "set", "name": "arms, split", "muted": True})
    arm = of(walk(), ARM)
    gap = rotation.geodesic_deg(evaluate(late).rotation, evaluate(faded).rotation)[:, arm]
    assert gap[:400].max() < 1e-6 < 1 < gap[400:].max()


def test_what_cannot_be_split_is_told() -> None:
    aim = done(three(), "key_layer", layer="aim", frame=0, turns={FOREARM: (1, 0, 0)})
    with pytest.raises(BadInput, match="depend on each other"):
        done(aim, "split_layer", layer="aim", joints=[FOREARM])
    with pytest.raises(BadInput, match="not all and not none"):
        done(three(), "split_layer", layer="spine", joints=[SPINE])
    with pytest.raises(BadInput, match="name joints, or a frame"):
        done(three(), "split_layer", layer="spine")


def brought(clip: Clip, inputs: dict[str, Clip], operation: str, /, **params: Any) -> Clip:
    return apply_patch(clip, OPERATIONS[operation].run(clip, params, inputs=inputs))


def test_layers_of_another_clip_lie_over_this_one_by_name_and_by_the_second() -> None:
    source = three()
    fast = replace(walk(), rate=Fraction(walk().rate) * 2)
    over = brought(fast, {"source": source}, "bring_layers", layers=["arms"])
    (layer,) = over.layers
    theirs, own = (c.curves[TrackId(f"layer:{i}", of(walk(), ARM), "ry")]
                   for c, i in ((source, 1), (over, layer.id)))  # fmt: skip
    at = np.array([0.0, 60.0, 150.0, 300.0])
    assert np.abs(own.at(2 * at) - theirs.at(at)).max() < 1e-9
    assert layer.mask == source.layers[1].mask
    # On the clip that they are of, all of them are the motion that it is.
    bare = replace(walk(), layers=())
    assert apart(brought(bare, {"source": source}, "bring_layers"), source) < 1e-9
    with pytest.raises(BadInput, match="has no layer named 'head'"):
        brought(walk(), {"source": source}, "bring_layers", layers=["head"])


def test_what_a_change_made_is_extracted_and_lies_over_what_was_before() -> None:
    before = walk()
    after = done(laid(before, "x", {HEAD: (0, 20, 0)}), "flatten")
    over = brought(before, {"before": before, "after": after}, "extract", name="the change")
    assert apart(over, after) < 1e-6
    half = edited(over, {"do": "set", "name": "the change", "weight": 0.5})
    head = of(walk(), HEAD)
    gap = rotation.geodesic_deg(evaluate(half).rotation, evaluate(before).rotation)[:, head]
    assert np.abs(gap - 10).max() < 1e-6
    with pytest.raises(BadInput, match="moves no joint"):
        brought(before, {"before": before, "after": before}, "extract")


def test_lines_of_layers_mean_the_same_joints_on_a_skeleton_of_other_names() -> None:
    """By what a name says; what is not there is told, and frames go by the second."""
    wren = replace(walk(), skeleton=replace(walk().skeleton, names=tuple(
        {"LeftForearm": "forearm_l", "Head": "skull"}.get(n, n) for n in walk().skeleton.names
    )))  # fmt: skip
    made = edited(wren, {"do": "add", "name": "arm", "mask": {"LeftForearm": 0.5}})
    patch = OPERATIONS["key_layer"].run(
        made, {"layer": "arm", "frame": 3, "turned": {"LeftForearm": (0, 8, 0)},
               "turns": {"Head": (0, 20, 0), "Tail": (1, 1, 1)}},
    )  # fmt: skip
    assert patch.report["unplaced"] == [{"joint": "Tail"}]
    turned = apply_patch(made, patch)
    gap = rotation.geodesic_deg(evaluate(turned).rotation, evaluate(wren).rotation)
    forearm, head = of(walk(), FOREARM), of(walk(), HEAD)
    assert abs(gap[3, forearm] - 8) < 1e-6
    assert abs(gap[3, head] - 20) < 1e-6
    assert turned.layers[0].mask == ((forearm, 0.5),)
    key = {"owner": "layer:0", "joint": "LeftForearm", "channel": "ry", "id": 0, "frame": 3,
           "value": 0.0}  # fmt: skip
    back = done(turned, "edit", keys=[key])
    assert abs(rotation.geodesic_deg(evaluate(back).rotation, evaluate(wren).rotation)
               [3, forearm]) < 1e-6  # fmt: skip
    with pytest.raises(BadInput, match="no joint is named 'Tail'"):
        done(made, "key_layer", layer="arm", frame=0, turns={"Tail": (1, 0, 0)})
