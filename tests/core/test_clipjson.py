"""Clip JSON: what is written reads back the same; what is broken is named."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import jsonschema
import numpy as np
import orjson
import pytest
from leancurve.curves.curve import Curve, KeyedCurve
from leancurve.demo import lamp_take
from leancurve.document.clip import Clip, Mark
from leancurve.document.track import TrackId, base_track
from leancurve.errors import BadInput
from leancurve.formats.clipjson import read_clip, schema, write_clip
from leancurve.operations import OPERATIONS, Scope, apply_patch

from tests.core.test_segments import mixed_curve


@pytest.fixture(scope="module")
def mixed(walk: Clip) -> Clip:
    """Some channels keyed, the others sampled."""
    scope = Scope(joints=("Hips", "Head"), channels=None)
    return apply_patch(walk, OPERATIONS["thin"].run(walk, scope=scope))


def same(a: Clip, b: Clip) -> None:
    assert (a.skeleton, a.layout, a.rate, a.frames, a.reading, a.name) == (
        b.skeleton, b.layout, b.rate, b.frames, b.reading, b.name,
    )  # fmt: skip
    for c in a.channels:
        assert type(a.curves[c]) is type(b.curves[c])
        for name, column in a.curves[c].columns.items():
            assert np.array_equal(column, b.curves[c].columns[name])


def test_a_clip_with_keyed_and_sampled_channels_comes_back_the_same(mixed: Clip) -> None:
    same(read_clip(write_clip(mixed)).clip, mixed)


def test_what_is_written_satisfies_the_schema_and_holds_the_recipe(mixed: Clip) -> None:
    recipe = [{"operation": "thin", "version": 1, "params": {}, "scope": {}}]
    document = orjson.loads(write_clip(mixed, recipe))
    jsonschema.Draft202012Validator.check_schema(schema())
    jsonschema.validate(document, schema())
    assert document["recipe"] == recipe
    assert (document["schema"], document["schema_version"]) == ("leancurve.clip", 4)


def test_springs_extension_and_marks_come_back_the_same(walk: Clip) -> None:
    curves: dict[TrackId, Curve] = {
        base_track(0, c): mixed_curve(seed) for seed, c in enumerate(walk.layout[0])
    }
    marks = (Mark(3, 3, "lifts off"), Mark(10, 60, "step"))
    clip = replace(walk.with_curves(curves), marks=marks)
    data = write_clip(clip)
    jsonschema.validate(orjson.loads(data), schema())
    back = read_clip(data).clip
    same(back, clip)
    assert back.marks == marks
    for c in curves:
        assert back.curves[c].extend == clip.curves[c].extend  # type: ignore[union-attr]


def test_keys_off_the_frame_and_doubled_ones_are_retargeted() -> None:
    capture = lamp_take()
    clip = read_clip(write_clip(capture.clip)).clip
    same(clip, capture.clip)
    kinds = {d.kind for d in capture.truth}
    assert kinds == {"key off the frame", "doubled key"}
    off = [
        c for c in clip.curves.values()
        if isinstance(c, KeyedCurve) and np.any(c.time != np.round(c.time))
    ]  # fmt: skip
    assert len(off) == len({(d.joint, d.channel) for d in capture.truth})


def broken(clip: Clip, change: Any) -> bytes:
    document = orjson.loads(write_clip(clip))
    change(document)
    return orjson.dumps(document)


def put(*path: Any, value: Any) -> Any:
    def change(document: Any) -> None:
        for step in path[:-1]:
            document = document[step]
        document[path[-1]] = value

    return change


@pytest.mark.parametrize(
    ("change", "says"),
    [
        (put("schema", value="other"), '"schema": "leancurve.clip"'),
        (put("schema_version", value=99), "schema_version: expected 4 or lower, got 99"),
        (put("frames", value=-1), r"\$\.frames"),
        (put("rate", value=[30, 0]), r"\$\.rate"),
        (put("reading", "up_axis", value="w"), r"\$\.reading\.up_axis"),
        (put("skeleton", "joints", 3, "parent", value=7), "its parent must stand before it"),
        (put("skeleton", "joints", 3, "name", value="Hips"), "joint names must differ"),
        (put("skeleton", "ends", 0, "parent", value=500), "end's parent 500 does not exist"),
        (put("curves", 0, "joint", value="Nobody"), "curve Nobody tx: the skeleton has no such"),
        (put("curves", 0, "channel", value="ty"), "stands twice"),
        (put("curves", 0, "keys", "time", 1, value=-5), "curve Hips tx: key times must ascend"),
        (put("curves", 0, "keys", "handle", 1, value="bent"), "expected one of eased, .* 'bent'"),
        (put("curves", 0, "keys", "value", 1, value="1.5"), "value: expected a list of numbers"),
        (put("curves", 0, "keys", "value", 1, value=None), "value: expected a list of numbers"),
        (put("curves", 0, "keys", "id", 1, value=0.5), "id: expected whole numbers"),
        (put("curves", 0, "keys", "flags", 1, value=-1), "flags: expected whole numbers"),
        (put("curves", 9, "values", 3, value=[1]), "values: expected a list of numbers"),
        (put("curves", 9, "values", value=[1.0]), "expected 900 values, found 1"),
        (put("placement", value={"spin": 5}), r"\$\.placement: .*'spin'"),
        (put("placement", value={"move": [1, "x", 0]}), r"\$\.placement\.move"),
        (lambda d: d["curves"].pop(), "must match one to one"),
        (lambda d: d["curves"][9].pop("values"), r"\$\.curves\[9\]"),
    ],
)
def test_broken_documents_are_refused_by_field(mixed: Clip, change: Any, says: str) -> None:
    with pytest.raises(BadInput, match=says):
        read_clip(broken(mixed, change))


def test_text_that_is_no_json_gives_its_line() -> None:
    with pytest.raises(BadInput, match=r"line 2: not valid JSON"):
        read_clip(b'{\n"schema": oops}')
    with pytest.raises(BadInput, match="expected an object"):
        read_clip(b"[1, 2]")
