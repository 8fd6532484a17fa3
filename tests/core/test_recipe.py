"""Recipes: whole takes cleaned by default, replayed to the byte, moved to another take."""

from __future__ import annotations

import json
from fractions import Fraction

import numpy as np
import pytest
from leancurve.demo import TAKES, DemoTake, captured
from leancurve.document.evaluation import evaluate
from leancurve.errors import BadInput
from leancurve.formats.clipjson import write_clip
from leancurve.measures.findings import find, work_left
from leancurve.numbers import rotation
from leancurve.recipe import (
    ALL_OF_IT,
    checked_line,
    moved_lines,
    read_recipe,
    run_recipe,
    write_recipe,
)
from leancurve.time.meaning import ClipTime

ALL = [checked_line(x["operation"], x.get("params", {}), {}) for x in ALL_OF_IT]


def off_truth(clip: object, take: DemoTake, frames: np.ndarray, shift: int) -> np.ndarray:
    """RMS angle of each joint from the clean take, degrees."""
    ours = evaluate(clip, frames).rotation  # type: ignore[arg-type]
    truth = evaluate(take.clean(), frames - shift).rotation
    return np.sqrt(np.mean(rotation.geodesic_deg(ours, truth) ** 2, axis=0))


@pytest.mark.parametrize("take", TAKES[1:], ids=lambda t: t.file)
def test_after_all_of_it_every_joint_is_nearer_the_truth(take: DemoTake) -> None:
    """The captured take against the clean one, joint by joint; thinned within 0.25° a channel."""
    capture = captured(take, 104)
    outcome = run_recipe(capture.clip, ALL)
    frames = np.arange(capture.lead_in, capture.clip.frames, dtype=float)
    before = off_truth(capture.clip, take, frames, capture.lead_in)
    after = off_truth(outcome.clip, take, frames - capture.lead_in, 0)
    spoiled = before > 0.15  # more than thinning itself may move
    assert np.count_nonzero(spoiled) >= 12
    assert np.all(after[spoiled] < before[spoiled])
    assert np.median(after[spoiled] / before[spoiled]) < 0.35
    assert work_left(find(outcome.clip)) < 0.25 * work_left(find(capture.clip))
    assert outcome.clip.key_count < capture.clip.key_count / 25


def test_replayed_it_gives_the_same_bytes() -> None:
    clip = captured(TAKES[2], 3).clip
    once, again = (write_clip(run_recipe(clip, ALL).clip) for _ in range(2))
    assert once == again


def test_a_recipe_file_is_read_as_it_was_written() -> None:
    kept = read_recipe(write_recipe("day 2", ALL))
    assert (kept.lines, kept.rate) == (ALL, None)
    assert read_recipe(write_recipe("day 2", ALL, Fraction(30000, 1001))).rate == Fraction(
        30000, 1001
    )


@pytest.mark.parametrize(
    ("text", "says"),
    [
        (b"{", "not valid JSON"),
        (b"[]", "expected a list of lines"),
        (b'[{"operation": "sing"}]', "line 1 of the recipe: no operation is named 'sing'"),
        (b'[{"operation": "unflip"}, {"params": {}}]', "line 2 of the recipe: expected an op"),
        (b'[{"operation": "unflip", "scoop": {}}]', "no part is named 'scoop'"),
        (b'{"rate": 30, "lines": [{"operation": "thin"}]}', "rate: expected frames a second"),
        (b'[{"operation": "thin", "version": 99}]', "line 1 of the recipe: thin: version 99"),
        (b'[{"operation": "thin", "scope": {"joint": "x"}}]', "line 1 of the recipe: scope"),
    ],
)  # fmt: skip
def test_a_wrong_recipe_is_refused_by_its_line(text: bytes, says: str) -> None:
    with pytest.raises(BadInput, match=says):
        read_recipe(text, "mine.json")


def test_a_line_that_fails_names_itself_and_changes_nothing() -> None:
    lines = [checked_line("unflip", {}, {}), checked_line("trim", {"first": 5000}, {})]
    clip = captured(TAKES[2]).clip
    with pytest.raises(BadInput, match="line 2, Trim: trim: nothing is left"):
        run_recipe(clip, lines)


def test_spans_are_mapped_by_time_and_what_no_longer_fits_is_listed() -> None:
    lines = [
        checked_line("smooth", {}, {"frames": [60, 120], "limbs": ["left toe"]}),
        checked_line("thin", {"also": [30, 900], "tighter": [
            {"group": "left arm", "first": 100, "last": 2000},
            {"group": "left arm", "first": 1500, "last": 2000},
        ]}, {}),
        checked_line("fill", {}, {"frames": [1600, 1700]}),
        checked_line("edit_contacts", {"edits": [
            {"do": "remove", "limb": "left toe", "first": 1900, "last": 1950},
        ]}, {}),
    ]  # fmt: skip
    moved, lost = moved_lines(lines, ClipTime(Fraction(60), 2001), ClipTime(Fraction(30), 500))
    smooth, thin, fill, contacts = moved
    assert smooth["scope"] == {"frames": [30, 60], "limbs": ["left toe"]}
    assert thin["params"]["also"] == [15, 450]
    (span,) = thin["params"]["tighter"]
    assert (span["first"], span["last"]) == (50, 499)
    assert [bool(x.get("aside")) for x in moved] == [False, False, True, True]
    assert [entry["operation"] for entry in lost] == ["thin", "fill", "edit_contacts"]
    # What has no place is kept with the line, and is there again on the way back.
    assert fill["scope"] == {"frames": [1600, 1700]}
    assert contacts["params"] == lines[3]["params"]
    back, nothing = moved_lines(moved, ClipTime(Fraction(30), 500), ClipTime(Fraction(60), 2001))
    assert (back, nothing) == (lines, [])


def test_operations_that_had_another_name_are_known_by_it() -> None:
    """Retargeting was called carrying once: its lines and files are read as what they are."""
    line = {"operation": "carry", "version": 1, "params": {"feet": 0.5}, "scope": {}}
    assert checked_line(**line)["operation"] == "retarget"
    data = json.dumps({"schema": "leancurve.recipe", "schema_version": 1, "lines": [line]}).encode()
    (kept,) = read_recipe(data).lines
    assert (kept["operation"], kept["params"]["feet"]) == ("retarget", 0.5)
