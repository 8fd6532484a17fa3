"""Time maps as numbers: what each operation makes of time, put together and turned round."""

from __future__ import annotations

from fractions import Fraction
from typing import Any

import pytest
from leancurve.operations import OPERATIONS
from leancurve.time.maps import TimeMap
from leancurve.time.meaning import ClipTime

FRAMES = 120
CHANGES: list[tuple[str, dict[str, Any]]] = [
    ("trim", {"first": 10, "last": 80, "calibration": False}),
    ("insert_frames", {"after": 20, "count": 8}),
    ("remove_span", {"first": 20, "last": 40}),
    ("repeat", {"first": 20, "last": 60, "times": 3}),
    ("retime", {"pins": [[0, 0], [40, 60], [80, 90]]}),
    ("scale_span", {"first": 20, "last": 60, "factor": 3.0}),
    ("shift_from", {"frame": 40, "by": -6}),
    ("shift_from", {"frame": 40, "by": 6}),
    ("change_rate", {"rate": "30"}),
    ("reverse", {}),
]  # fmt: skip


@pytest.mark.parametrize(("name", "params"), CHANGES)
def test_a_map_says_what_the_operation_does(name: str, params: dict[str, Any]) -> None:
    kind = OPERATIONS[name]
    after = kind.time_after(ClipTime(Fraction(60), FRAMES), kind.parsed(params))
    made = TimeMap.of(after.moved, FRAMES)
    assert TimeMap.kept(made.values) == made
    # Under pins time goes on a curve; all else is straight.
    assert len(made.pieces) <= (60 if name == "retime" else 4)
    for frame in range(FRAMES):
        there = made.at(frame)
        assert there is not None
        assert abs(there - after.moved(frame)) < 0.02
    back = made.inverse
    seen = {}
    for frame in range(FRAMES):
        there = made.at(frame)
        assert there is not None
        again = back.at(there)
        assert again is not None
        # Frames that were closed up lie on one, which leads back to the first of them.
        first = seen.setdefault(round(there, 1), frame)
        assert abs(again - first) < 0.1, frame


def test_what_was_put_in_has_no_place_before() -> None:
    made = TimeMap.of(lambda f: f if f <= 20 else f + 8, FRAMES)
    assert [made.inverse.at(f) for f in (20, 24, 28, 29)] == [20, None, None, 21]


def test_what_is_stretched_has() -> None:
    back = TimeMap.of(lambda f: 3 * f, FRAMES).inverse
    assert [back.at(f) for f in (0, 1, 2, 3, 10)] == pytest.approx([0, 1 / 3, 2 / 3, 1, 10 / 3])
    assert back.at(3 * FRAMES) is None


def test_what_is_no_more_stays_so() -> None:
    gone = TimeMap.of(lambda f: f if f < 50 else None, FRAMES)
    assert gone.at(49) == 49
    assert gone.at(50) is None
    assert TimeMap(()).at(0) is None


def test_a_loop_that_begins_elsewhere_leads_there_and_back() -> None:
    """Its first and its last frame are one pose: either may be meant by where both come."""
    kind = OPERATIONS["begin_loop"]
    after = kind.time_after(ClipTime(Fraction(60), FRAMES), kind.parsed({"frame": 30}))
    made = TimeMap.of(after.moved, FRAMES)
    assert [made.at(f) for f in (30, 60, 118, 1, 29)] == [0, 30, 88, 90, 118]
    assert [made.inverse.at(f) for f in (0, 30, 88, 90, 118)] == [30, 60, 118, 1, 29]
