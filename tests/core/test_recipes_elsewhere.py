"""A kept recipe means the same on the same take, and on a figure of other names, unit and up axis.

Held on the family of laden clips, whose members move alike in the figure's space: metres, Y up.
What a line says in a joint's own axes, and numbers of curves, are that skeleton's and no other's.
"""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
import pytest
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats
from leancurve.operations import OPERATIONS
from leancurve.operations.base import Operation
from leancurve.operations.lengths import WithLengths
from leancurve.recipe import checked_line, read_recipe, run_recipe, write_recipe

from tests.core.laden import Load, laden
from tests.core.test_time_of_operations import models
from tests.core.test_together import EXACT
from tests.core.test_writes_together import told

OTHER_NAMES = {
    "Hips": "pelvis", "Spine": "spine_01", "Chest": "spine_02", "Neck": "neck_01", "Head": "head",
    **{f"{s}{ours}": f"{theirs}_{s[0].lower()}" for s in ("Left", "Right") for ours, theirs in (
        ("Shoulder", "clavicle"), ("Arm", "upperarm"), ("ForeArm", "lowerarm"), ("Hand", "hand"),
        ("UpLeg", "thigh"), ("Leg", "calf"), ("Foot", "foot"), ("ToeBase", "ball"))},
}  # fmt: skip

LINES: dict[str, tuple[dict[str, Any], dict[str, Any]]] = {
    "smooth": ({"strength": 0.8}, {}),
    "find_contacts": ({}, {}),
    "plant": ({}, {}),
    "edit_plants": ({"edits": [{"do": "set", "part": "left hand", "first": 12, "last": 29,
                                "strength": 0.5}]}, {}),
    "lag": ({"frames": 2.5}, {"joints": ["LeftForeArm", "LeftHand"]}),
    "edit_layers": ({"edits": [{"do": "set", "name": "instead", "weight": 0.3,
                                "mask": {"LeftForeArm": 0.2}}]}, {}),
    "edit_props": ({"edits": [{"do": "set", "name": "case", "size": [400, 300, 200]}]}, {}),
    "place": ({"turn": 20.0, "scale": 1.1}, {}),
    "insert_frames": ({"after": 20, "count": 6}, {}),
    "change_rate": ({"rate": "60"}, {}),
    "flatten": ({}, {}),
    "trim": ({"first": 4, "last": 70, "calibration": False}, {}),
}  # fmt: skip


def pair(up: Any) -> tuple[Clip, Clip]:
    """The same performance in centimetres with Y up, and in metres by other names. The numbers of
    layers are a skeleton's own, and these plants hold what stands over them: with another axis up
    both are left out."""
    here, there = laden(Load("sampled")), laden(Load("sampled", up, 1.0))
    if up != "y":
        here, there = (_without_layers(c) for c in (here, there))
    names = tuple(OTHER_NAMES.get(n, n) for n in there.skeleton.names)
    plants = tuple(
        replace(p, with_joint=OTHER_NAMES.get(p.with_joint, p.with_joint)) for p in there.plants
    )
    return here, replace(there, skeleton=replace(there.skeleton, names=names), plants=plants)


def _without_layers(clip: Clip) -> Clip:
    bare = replace(clip, layers=(), plants=())
    return replace(bare, curves={t: clip.curves[t] for t in bare.tracks})


def in_figure_space(clip: Clip) -> Floats:
    """Where all joints are ``(F, J, 3)``: metres, Y up."""
    points = evaluate(clip).world(clip.skeleton)[1] * clip.reading.metres_per_unit
    if clip.reading.up_axis == "y":
        return points
    return np.asarray(rotation.rotate(rotation.from_axis("X", np.array(-90.0)), points))


def kept(*names: str) -> list[dict[str, Any]]:
    """Lines as a recipe's file keeps them."""
    lines = [checked_line(n, *LINES[n]) for n in names]
    return list(read_recipe(write_recipe("kept", lines)).lines)


OVER = {"edit_layers", "edit_plants"}
CASES = [(name, up) for name in [*LINES, "all of them"] for up in "yz" if (name, up) not in {
    (n, "z") for n in OVER}]  # fmt: skip


@pytest.mark.parametrize(("name", "up"), CASES)
def test_a_kept_recipe_means_the_same_elsewhere(name: str, up: Any) -> None:
    lines = kept(*([name] if name in LINES else LINES))
    here, there = pair(up)
    assert np.abs(in_figure_space(here) - in_figure_space(there)).max() < 1e-9
    if not here.layers:
        lines = [x for x in lines if x["operation"] not in OVER]
        assert lines
    done, other = (run_recipe(clip, lines).clip for clip in (here, there))
    away = np.linalg.norm(in_figure_space(done) - in_figure_space(other), axis=-1)
    assert away.max() < EXACT * here.skeleton.rest_height * here.reading.metres_per_unit
    assert told(run_recipe(here, lines).clip) == told(done) != told(here)


def test_what_a_name_does_not_say_plainly_is_told_and_not_guessed() -> None:
    """``LeftArm`` by itself is an upper arm to some and a forearm to others."""
    line = checked_line("smooth", {}, {"joints": ["LeftArm", "LeftHand"]})
    (done,) = run_recipe(pair("y")[1], [line]).lines
    assert done.report["unplaced"] == [{"joint": "LeftArm"}]


def test_lengths_in_recipes_are_millimetres() -> None:
    """No parameter has another unit of length, and what is a point is declared a length."""
    lengths = 0
    for kind in OPERATIONS.values():
        for name, field in models(kind.Params):
            extra = field.json_schema_extra or {}
            unit = str(extra.get("unit", ""))
            assert unit not in ("cm", "m", "metres", "centimetres"), f"{kind.name}.{name}"
            if extra.get("length"):
                assert issubclass(kind.Params, WithLengths), kind.name
                assert unit in ("mm", "mm/s")
                lengths += 1
            assert "skeleton's unit" not in str(field.description), f"{kind.name}.{name}"
    assert lengths >= 8


def changed(kind: Operation[Any], clip: Clip, version: int, **params: Any) -> Clip:
    from leancurve.operations import apply_patch

    return apply_patch(clip, kind.run(clip, kind.upgraded(version, params)))


def test_lines_of_older_versions_mean_the_lengths_that_they_meant() -> None:
    """Once they were in the skeleton's unit, and of placing in centimetres."""
    clip = laden(Load("sampled", "y", 1.0))
    place = OPERATIONS["place"]
    old, new = (changed(place, clip, v, move=m) for v, m in ((1, [5, 0, 3]), (2, [50, 0, 30])))
    assert told(old) == told(new)
    assert old.placement is not None
    assert np.allclose(old.placement.move, (0.05, 0.0, 0.03))
    plants = OPERATIONS["edit_plants"]
    edit = {"do": "set", "part": "left foot", "first": 0, "last": 9}
    old = changed(plants, clip, 1, edits=[{**edit, "place": [0.1, 0.02, 0.3]}])
    new = changed(plants, clip, 2, edits=[{**edit, "place": [100.0, 20.0, 300.0]}])
    assert told(old) == told(new)
    key = {"layer": "lean", "frame": 5}
    layer = OPERATIONS["key_layer"]
    old, new = (changed(layer, clip, v, **key, moves={"Hips": [0, m, 0]})
                for v, m in ((1, 0.25), (2, 250.0)))  # fmt: skip
    assert told(old) == told(new)
    soft = {"frame": 20, "radius": 8.0}
    old, new = (changed(OPERATIONS["soft_offset"], clip, v, **soft,
                        offsets=[{"joint": "Hips", "move": [0, m, 0]}])
                for v, m in ((1, 0.25), (2, 250.0)))  # fmt: skip
    assert told(old) == told(new)
