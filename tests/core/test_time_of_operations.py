"""What operations say of time, through the registry: laws that every one of them keeps."""

from __future__ import annotations

import copy
from fractions import Fraction
from typing import Any, get_args

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from leancurve.curves.curve import SampledCurve, keyed
from leancurve.document.clip import Clip
from leancurve.document.scope import Scope
from leancurve.errors import BadInput
from leancurve.figure.skeleton import Skeleton
from leancurve.operations import OPERATIONS
from leancurve.operations.base import Operation
from leancurve.recipe import checked_line, moved_line, moved_lines, run_recipe, time_after
from leancurve.time.meaning import MEANINGS, ClipTime
from pydantic import BaseModel

# A line of each operation that names frames or lengths; what is not here has none.
LINES: dict[str, dict[str, Any]] = {
    "begin_loop": {"frame": 30},
    "accept": {"findings": [{"kind": "gimbal", "joint": "Hips", "first": 8, "last": 30}]},
    "bring_over": {"at": 20, "start": 30, "ramp_in": 6},
    "brush": {"radius": 12.0, "dabs": [{"frame": 40.0}], "by": 2.0, "by_frames": 3.0},
    "change_rate": {"rate": "30"},
    "close_loop": {"spread": 12},
    "densify": {"every": 4},
    "edit": {"keys": [{"joint": "Hips", "channel": "ry", "id": 1, "frame": 40.0, "time": 44.0,
                       "slope_in": 0.5}]},
    "edit_contacts": {"edits": [{"do": "add", "limb": "left toe", "first": 10, "last": 40}]},
    "edit_marks": {"edits": [{"do": "add", "name": "lifts", "first": 10, "last": 40}]},
    "edit_partners": {"edits": [{"do": "set", "name": "Wren", "later": 12}]},
    "edit_plants": {"edits": [{"do": "remove", "part": "left heel", "first": 10, "last": 40}]},
    "edit_props": {"edits": [{"do": "add", "name": "crate", "frame": 30}]},
    "gain": {"factor": 1.1, "ramp_in": 6, "ramp_out": 4},
    "insert_frames": {"after": 20, "count": 8},
    "key_layer": {"layer": "head", "frame": 30, "turns": {"Hips": [0, 9, 0]}, "ramp_in": 8},
    "key_pose": {"frame": 30.0},
    "lag": {"frames": 2.5},
    "lean": {"frame": 30.0},
    "load_layer": {"at": 20, "start": 30, "ramp_in": 6},
    "mend_limbs": {"ramp": 4},
    "noise": {"ramp_in": 6},
    "offset": {"amount": 2.0, "ramp_out": 4},
    "pull": {"y": 40.0, "ramp_in": 6, "ramp_out": 4},
    "remove_span": {"first": 20, "last": 40, "blend": 6},
    "repeat": {"first": 20, "last": 60, "times": 3},
    "reverse": {},
    "join": {"leave": 40},
    "restore_frames": {"places": [{"after": 20, "count": 1}, {"after": 50, "count": 2}]},
    "retime": {"pins": [[0, 0], [40, 60], [80, 90]]},
    "scale_span": {"first": 20, "last": 60, "factor": 1.5},
    "shift_from": {"frame": 40, "by": 6},
    "slide": {"by": 4.0, "about": 20.0},
    "soft_offset": {"frame": 40, "radius": 12.0, "offsets": [{"joint": "Hips", "turn": [5, 0, 0]}]},
    "thin": {"also": [10, 40], "tighter": [{"group": "spine", "first": 10, "last": 40}]},
    "split_layer": {"layer": "head", "frame": 40},
    "tidy_keys": {"doubled": 0.25},
    "trim": {"first": 10, "last": 80, "calibration": False},
    "unflip": {"begin_frame": 20},
    "travel": {"ease": 6},
}  # fmt: skip
SPAN = {"frames": [10, 60]}


def short(frames: int = 101, rate: int = 60) -> Clip:
    """A root that turns on every frame in X, and on keys in Y and Z."""
    t = np.arange(frames, dtype=np.float64)
    ids = {"rx": SampledCurve(20 * np.sin(t / 9)), "ry": keyed([0, 40, 100], [0.0, 30, -5]),
           "rz": keyed([0, 50, 100], [0.0, 8, 3])}  # fmt: skip
    skeleton = Skeleton(("Hips",), (-1,), ((0.0, 90.0, 0.0),))
    from leancurve.document.track import base_track

    curves: Any = {base_track(0, name): curve for name, curve in ids.items()}
    return Clip(skeleton, (("rx", "ry", "rz"),), curves, Fraction(rate), frames)


def models(model: type[BaseModel]) -> Any:
    """A model and all the models inside of it, with each field's name and schema."""
    from leancurve.time.meaning import model_in

    for name, field in model.model_fields.items():
        yield name, field
        inner = model_in(field.annotation)
        if inner is not None:
            yield from models(inner)


def parts_of(annotation: Any) -> list[Any]:
    """The plain types that an annotation is made of."""
    inner = get_args(annotation)
    return [annotation] if not inner else [p for a in inner for p in parts_of(a)]


def line_of(name: str) -> dict[str, Any]:
    kind = OPERATIONS[name]
    return checked_line(name, LINES.get(name, {}), SPAN if kind.ranged else {})


def runnable() -> list[str]:
    """Operations whose parameters are complete without a given line, or given here."""
    out = []
    for name, kind in OPERATIONS.items():
        try:
            kind.parsed(LINES.get(name, {}))
        except BadInput:
            continue
        out.append(name)
    return out


def test_every_field_in_frames_says_what_it_means_in_time() -> None:
    """By its unit, or by a name that can mean nothing else (a frame, first, last)."""
    told = 0
    for kind in OPERATIONS.values():
        for name, field in models(kind.Params):
            extra = field.json_schema_extra or {}
            assert extra.get("time", "frame") in MEANINGS
            number = any(a in (int, float) for a in parts_of(field.annotation))
            suspicious = extra.get("unit", "").startswith("frame") or (number and name in {
                "frame", "first", "last", "new_first", "new_last", "begin_frame", "pins", "also",
                "after", "time",
            })  # fmt: skip
            if suspicious:
                assert "time" in extra, f"{kind.name}.{name}"
                told += 1
    assert told > 40


def test_a_line_is_given_here_for_every_operation_with_a_time() -> None:
    timed = {
        kind.name
        for kind in OPERATIONS.values()
        if any("time" in (f.json_schema_extra or {}) for _, f in models(kind.Params))
        or kind.retimes
    }
    assert timed - set(LINES) <= {"swap", "clamp", "smooth", "drop_idle"}
    assert len(timed) >= 20


@pytest.mark.parametrize("name", runnable())
def test_onto_an_equal_take_every_line_is_the_same(name: str) -> None:
    line = line_of(name)
    time = ClipTime(Fraction(60), 101)
    moved = moved_line(copy.deepcopy(line), time, time)
    assert moved.line == line
    assert moved.lost == []


@pytest.mark.parametrize("name", sorted(LINES))
def test_there_and_back_at_half_the_rate_is_the_same(name: str) -> None:
    line = line_of(name)
    full, half = ClipTime(Fraction(60), 101), ClipTime(Fraction(30), 51)
    there = moved_line(copy.deepcopy(line), full, half)
    back = moved_line(there.line, half, full)
    assert back.line == line
    assert there.lost == back.lost == []
    if any("time" in (f.json_schema_extra or {}) for _, f in models(OPERATIONS[name].Params)):
        assert there.line["params"] != line["params"] or there.line["scope"] != line["scope"]


LENGTHS_ALONE = {
    "change_rate", "close_loop", "densify", "edit_partners", "gain", "lag", "noise", "offset",
    "retime", "reverse", "slide", "tidy_keys", "unflip",
}  # fmt: skip


@pytest.mark.parametrize("name", sorted(set(LINES) - LENGTHS_ALONE))
def test_what_lies_beyond_the_end_is_listed_and_kept(name: str) -> None:
    """The take is so short that no frame of the line is left; lengths alone have no place."""
    kind = OPERATIONS[name]
    line = checked_line(name, LINES[name], {"frames": [10, 60]} if kind.ranged else {})
    moved = moved_line(line, ClipTime(Fraction(60), 101), ClipTime(Fraction(60), 5))
    assert moved.lost
    if moved.line.get("aside"):
        assert moved.line["params"] == line["params"]
    back = moved_line(moved.line, ClipTime(Fraction(60), 5), ClipTime(Fraction(60), 101))
    assert back.line == line


def retiming() -> list[str]:
    """Operations that move time by themselves: joining takes other clips, and has its own tests."""
    return [name for name, kind in OPERATIONS.items() if kind.retimes and not kind.inputs]


@pytest.mark.parametrize("name", retiming())
def test_the_time_after_is_what_was_said(name: str) -> None:
    clip = short()
    kind: Operation[Any] = OPERATIONS[name]
    line = line_of(name)
    patch = kind.run(clip, line["params"], Scope())
    said = time_after(line, ClipTime(clip.rate, clip.frames), patch.report)
    assert said.frames == patch.frames
    assert said.rate == (patch.rate or clip.rate)


@settings(max_examples=60)
@given(st.data())
def test_spans_lie_where_the_time_after_says(data: st.DataObject) -> None:
    """Marks are moved by operations as :class:`ClipTime` says frames are."""
    from dataclasses import replace

    from leancurve.document.clip import Mark

    name = data.draw(st.sampled_from([n for n in retiming() if n not in ("repeat", "begin_loop")]))
    frame = data.draw(st.integers(0, 100))
    clip = replace(short(), marks=(Mark(frame, frame, "x"),))
    line = line_of(name)
    patch = OPERATIONS[name].run(clip, line["params"])
    time = time_after(line, ClipTime(clip.rate, clip.frames), patch.report)
    at = round(time.moved(float(frame)))
    inside = 0 <= at < time.frames
    for mark in patch.marks or ():
        assert inside
        assert abs(mark.first - at) <= 1
    if inside and name not in ("remove_span", "shift_from", "trim"):
        assert patch.marks


def test_lines_below_a_change_of_rate_are_not_scaled_twice() -> None:
    """A clip of 60 a second taken to 30, then trimmed; swapped for a take of 120 a second."""
    lines = [
        checked_line("change_rate", {"rate": "30"}, {}),
        checked_line("trim", {"first": 10, "last": 40, "calibration": False}, {}),
    ]
    moved, lost = moved_lines(lines, ClipTime(Fraction(60), 101), ClipTime(Fraction(120), 201))
    assert moved == lines
    assert lost == []
    clip = run_recipe(short(201, 120), moved).clip
    assert (clip.rate, clip.frames) == (Fraction(30), 31)


def test_a_line_below_one_that_makes_the_clip_longer_keeps_its_place() -> None:
    lines = [
        checked_line("repeat", {"first": 0, "last": 100, "times": 3}, {}),
        checked_line("key_pose", {"frame": 250.0}, {}),
    ]
    time = ClipTime(Fraction(60), 101)
    assert moved_lines(lines, time, time) == (lines, [])


def test_lengths_follow_the_rate_and_rates_go_against_it() -> None:
    full, half = ClipTime(Fraction(60), 101), ClipTime(Fraction(30), 51)

    def halved(name: str) -> dict[str, Any]:
        return moved_line(line_of(name), full, half).line["params"]

    assert halved("brush")["radius"] == 6.0
    assert halved("brush")["by_frames"] == 1.5
    assert halved("lag")["frames"] == 1.25
    assert halved("gain")["ramp_in"] == 3
    assert halved("close_loop")["spread"] == 6
    assert halved("remove_span")["blend"] == 3
    key = halved("edit")["keys"][0]
    assert (key["frame"], key["time"], key["slope_in"]) == (20.0, 22.0, 1.0)


def test_a_trim_beyond_the_end_is_set_aside() -> None:
    line = checked_line("trim", {"first": 400, "last": 450, "calibration": False}, {})
    moved = moved_line(line, ClipTime(Fraction(60), 500), ClipTime(Fraction(60), 100))
    assert moved.line["aside"]
    assert moved.lost[0]["operation"] == "trim"
    assert run_recipe(short(100), [moved.line]).clip.frames == 100
