"""Hand edits: placed by id, then by nearness, and never dropped in silence."""

from __future__ import annotations

import numpy as np
import pytest
from leancurve.clip import ChannelId, Clip
from leancurve.curve import Handle, keyed
from leancurve.errors import BadInput
from leancurve.operations import OPERATIONS, Patch

EDIT = OPERATIONS["edit"]
TX = ChannelId(0, "tx")


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


@pytest.mark.parametrize("time", [0, 20, 25])
def test_a_key_never_passes_its_neighbour(clip: Clip, time: float) -> None:
    patch = edit(clip, time=time)
    assert len(patch.report["unplaced"]) == 1
    assert patch.curves[TX].time.tolist() == [0, 10, 20, 30]


def test_keys_of_dense_channels_and_unknown_joints_are_listed_as_unplaced(clip: Clip) -> None:
    for where in ({"joint": "Nobody"}, {"channel": "ty"}):
        assert len(edit(clip, **where).report["unplaced"]) == 1


def test_edits_that_are_no_numbers_are_refused(clip: Clip) -> None:
    with pytest.raises(BadInput, match=r"keys\.0\.value"):
        edit(clip, value=float("nan"))
    with pytest.raises(BadInput, match="keys"):
        EDIT.run(clip, {"keys": []})
