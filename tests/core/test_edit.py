"""Hand edits: made on the key that was seen, or listed; never dropped in silence."""

from __future__ import annotations

import numpy as np
import pytest
from leancurve.curves.curve import Handle, keyed
from leancurve.document.clip import Clip
from leancurve.document.track import base_track
from leancurve.errors import BadInput
from leancurve.operations import OPERATIONS, Patch

EDIT = OPERATIONS["edit"]
TX = base_track(0, "tx")


@pytest.fixture
def clip(walk: Clip) -> Clip:
    return walk.with_curves({TX: keyed([0, 10, 20, 30], [0, 5, 5, 0])})


def edit(clip: Clip, **key: object) -> Patch:
    full = {"joint": "Hips", "channel": "tx", "id": 1, "frame": 10, **key}
    return EDIT.run(clip, {"keys": [full]})


def test_a_key_moves_in_time_and_value(clip: Clip) -> None:
    curve = edit(clip, time=12.5, value=9).curves[TX]
    assert curve.time.tolist() == [0, 12.5, 20, 30]
    assert curve.value.tolist() == [0, 9, 5, 0]
    assert clip.curves[TX].value.tolist() == [0, 5, 5, 0]


def test_eased_neighbours_keep_from_passing_their_keys(clip: Clip) -> None:
    curve = edit(clip, value=2).curves[TX]
    assert curve.slope_out[1] > 0
    at = curve.at(np.linspace(0, 30, 400))
    assert at.max() <= 5 + 1e-9
    assert at.min() >= -1e-9


def test_a_slope_set_by_hand_makes_the_key_free(clip: Clip) -> None:
    curve = edit(clip, slope_in=1.0, slope_out=-1.0).curves[TX]
    assert curve.handle[1] == Handle.FREE
    assert (curve.slope_in[1], curve.slope_out[1]) == (1.0, -1.0)


def test_without_its_id_a_key_is_found_within_half_a_frame(clip: Clip) -> None:
    found = edit(clip, id=99, frame=10.4, value=7)
    assert found.curves[TX].value[1] == 7
    lost = edit(clip, id=99, frame=14, value=7)
    assert lost.report["keys"] == 0
    assert lost.report["unplaced"][0]["frame"] == 14


@pytest.mark.parametrize(("time", "stops"), [(0, 1), (20, 19), (25, 19), (30, 19)])
def test_a_key_stops_a_frame_before_its_neighbour(clip: Clip, time: float, stops: float) -> None:
    patch = edit(clip, time=time)
    assert patch.report["unplaced"] == []
    assert patch.curves[TX].time.tolist() == [0, stops, 20, 30]


@pytest.mark.parametrize(("time", "times"), [(25, [0, 20, 25, 30]), (20, [0, 19, 20, 30]),
                                             (30, [0, 20, 29, 30])])  # fmt: skip
def test_a_key_goes_past_its_neighbours_where_asked(
    clip: Clip, time: float, times: list[float]
) -> None:
    """Never onto one: it stops a frame before it, on the side it comes from."""
    curve = edit(clip, time=time, past=True).curves[TX]
    assert curve.time.tolist() == times
    assert curve.value[curve.id == 1].tolist() == [5]
    assert sorted(curve.id.tolist()) == [0, 1, 2, 3]


def test_an_edit_is_made_on_the_key_that_was_seen_and_on_no_other(clip: Clip) -> None:
    """Its id, its frame and its value agree, or it is listed with all that it would set."""
    assert edit(clip, was=5.0, value=8).curves[TX].value[1] == 8
    assert edit(clip, was=5.2, value=8).curves[TX].value[1] == 8  # a small change above
    for elsewhere in ({"frame": 14}, {"was": -20.0}, {"id": 3, "frame": 14}):
        patch = edit(clip, value=8, **elsewhere)
        assert patch.curves[TX].value.tolist() == [0, 5, 5, 0]
        (lost,) = patch.report["unplaced"]
        assert lost["value"] == 8
    # The id of another key counts no more than where the key was.
    moved = edit(clip, id=3, frame=10.0, was=5.0, value=8).curves[TX]
    assert moved.value.tolist() == [0, 8, 5, 0]


def test_turns_are_made_one_after_another(clip: Clip) -> None:
    """One turn after another is not the same as all at once: a key that rides shows it."""
    ride = {"joint": "Hips", "channel": "tx", "id": 1, "frame": 10, "riding": True}
    pull = {"joint": "Hips", "channel": "tx", "id": 2, "frame": 20, "time": 24}
    one = EDIT.run(clip, {"keys": [ride]})
    then = EDIT.run(clip.with_curves(one.curves), {"keys": [pull]}).curves[TX]
    turns = EDIT.run(clip, {"keys": [ride, {**pull, "turn": 1}]}).curves[TX]
    assert turns.time.tolist() == then.time.tolist() == [0, 12, 24, 30]


def test_lines_of_the_first_version_are_made_key_by_key(clip: Clip) -> None:
    """Version 1 made each edit by itself: a key could not move to where the next one stood."""
    keys = [
        {"joint": "Hips", "channel": "tx", "id": 1, "frame": 10.0, "time": 18.0},
        {"joint": "Hips", "channel": "tx", "id": 2, "frame": 20.0, "value": 3.0},
    ]
    upgraded = EDIT.upgraded(1, {"keys": keys})
    assert [k["turn"] for k in upgraded["keys"]] == [0, 1]
    curve = EDIT.run(clip, upgraded).curves[TX]
    assert (curve.time.tolist(), curve.value.tolist()) == ([0, 18, 20, 30], [0, 5, 3, 0])
    assert EDIT.upgraded(2, {"keys": keys})["keys"] == keys


def test_keys_of_dense_channels_and_unknown_joints_are_listed_as_unplaced(clip: Clip) -> None:
    for where in ({"joint": "Nobody"}, {"channel": "ty"}):
        assert len(edit(clip, **where).report["unplaced"]) == 1


def test_edits_that_are_no_numbers_are_refused(clip: Clip) -> None:
    with pytest.raises(BadInput, match=r"keys\.0\.value"):
        edit(clip, value=float("nan"))
    with pytest.raises(BadInput, match="keys or ends"):
        EDIT.run(clip, {"keys": []})


def edits(clip: Clip, *keys: dict) -> Patch:
    full = [{"joint": "Hips", "channel": "tx", "id": 1, "frame": 10, **k} for k in keys]
    return EDIT.run(clip, {"keys": full})


def test_keys_set_together_may_move_past_where_they_stood(clip: Clip) -> None:
    patch = edits(clip, {"time": 18}, {"id": 2, "frame": 20, "time": 28})
    assert patch.curves[TX].time.tolist() == [0, 18, 28, 30]
    assert patch.report["unplaced"] == []
    pushed = edits(clip, {"time": 18}, {"id": 2, "frame": 20, "time": 31})
    assert pushed.curves[TX].time.tolist() == [0, 18, 29, 30]
    # Two of one group that meet stay both.
    met = edits(clip, {"time": 18}, {"id": 2, "frame": 20, "time": 18})
    assert sorted(u["id"] for u in met.report["unplaced"]) == [1, 2]
    assert met.curves[TX].time.tolist() == [0, 10, 20, 30]


def test_a_key_is_made_on_the_curve_and_taken_out_again(clip: Clip) -> None:
    next_id = edits(clip, {"do": "make", "id": 4, "frame": 4})
    assert next_id.curves[TX].id.tolist() == [0, 4, 1, 2, 3]
    made = edits(clip, {"do": "make", "id": 9, "frame": 4})
    frames = np.linspace(0, 30, 200)
    assert 9 in made.curves[TX].id
    assert made.curves[TX].at(frames) == pytest.approx(clip.curves[TX].at(frames), abs=1e-9)
    after = clip.with_curves(made.curves)
    gone = edits(after, {"do": "remove", "id": 9, "frame": 4})
    assert gone.curves[TX].id.tolist() == [0, 1, 2, 3]
    shaped = edits(clip, {"do": "make", "id": 9, "frame": 4, "value": -3, "handle": "flat"})
    assert shaped.curves[TX].value.tolist() == [0, -3, 5, 5, 0]


def test_a_made_key_with_a_taken_id_or_time_is_unplaced(clip: Clip) -> None:
    assert edits(clip, {"do": "make", "id": 1, "frame": 4}).report["keys"] == 0
    assert edits(clip, {"do": "make", "id": 9, "frame": 20}).report["keys"] == 0


def test_a_curve_keeps_its_last_key(walk: Clip) -> None:
    clip = walk.with_curves({TX: keyed([5], [2])})
    patch = edits(clip, {"do": "remove", "id": 0, "frame": 5})
    assert patch.curves[TX].key_count == 1
    assert len(patch.report["unplaced"]) == 1


def test_handles_segments_and_ends_are_set(clip: Clip) -> None:
    patch = edits(clip, {"handle": "straight", "segment": "spring", "swings": 3})
    curve = patch.curves[TX]
    assert (curve.slope_in[1], curve.slope_out[1]) == (0.5, 0)
    assert (curve.segment[1], curve.swings[1], curve.decay[1]) == (3, 3, 4.0)
    broken = edits(clip, {"slope_out": 2.0, "length_out": 0.6, "broken": True}).curves[TX]
    assert (broken.handle[1], broken.flags[1], broken.length_out[1]) == (Handle.FREE, 4, 0.6)
    ends = {"joint": "Hips", "channel": "tx", "after": "repeat_offset"}
    on = EDIT.run(clip, {"ends": [ends]}).curves[TX]
    assert on.at(np.array([40.0]))[0] == pytest.approx(5)
