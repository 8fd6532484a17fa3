"""What each line of a recipe did, told apart: continuity, mends, costs, hand work."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from leancurve.curves.curve import SampledCurve
from leancurve.demo import TAKES, captured
from leancurve.document.clip import Clip
from leancurve.document.track import base_track
from leancurve.measures.account import Account, account
from leancurve.measures.drift import drift
from leancurve.operations import OPERATIONS
from leancurve.recipe import ALL_OF_IT, Line, checked_line, counted_as, entry_of, run_recipe

CAPTURE = captured(TAKES[2], 109)


def told(clip: Clip, lines: list[Line]) -> tuple[Account, list, Clip]:
    done = run_recipe(clip, lines)
    before, entries = clip, []
    for line in done.lines:
        entries.append(entry_of(line.line, line.report, before, line.clip))
        before = line.clip
    return account(entries), entries, done.clip


def line(name: str, params: dict | None = None, **scope: object) -> Line:
    return checked_line(name, params or {}, scope)


@pytest.fixture(scope="module")
def all_of_it() -> tuple[Account, list, Clip]:
    return told(CAPTURE.clip, [line(x["operation"], x.get("params")) for x in ALL_OF_IT])


def test_reading_and_continuity_move_nothing(all_of_it: tuple) -> None:
    for entry in all_of_it[1]:
        if entry.drift.kind == "continuity":
            assert entry.drift.deg.size < 1e-9
            assert entry.drift.mm.size < 1e-6


def test_what_cleaning_costs_does_not_hide_behind_what_was_mended(all_of_it: tuple) -> None:
    """The drift of it all is a snap's size; what calm and thin cost is a hundredth of that."""
    result, entries, clip = all_of_it
    take = OPERATIONS["trim"].run(CAPTURE.clip)
    whole = drift(clip, replace(CAPTURE.clip.with_curves(take.curves), frames=clip.frames))
    assert CAPTURE.clip.frames - clip.frames == CAPTURE.lead_in
    assert whole.max_deg > 60.0
    assert 0.2 < result.cost_deg.size < 3.0
    assert 0.5 < result.cost_mm.size < 40.0
    assert max(m.deg for m in result.mended) > 60.0
    thin = next(e.drift for e in entries if e.drift.kind == "thin")
    assert thin.deg.size < 0.5


@pytest.mark.parametrize("kind", ["snap", "spike", "gap"])
def test_every_seeded_fault_is_a_place_among_the_mends(all_of_it: tuple, kind: str) -> None:
    """At its joint and frames, which the trimmed start has moved, and near what its neighbours
    predict where it is short."""
    result, _, clip = all_of_it
    start = CAPTURE.clip.frames - clip.frames
    for d in CAPTURE.truth:
        if d.kind != kind or (kind == "gap" and d.last - d.first > 20):
            continue
        near = [
            m
            for m in result.mended
            if d.joint in m.joints
            and m.first <= d.last - start + 2
            and m.last >= d.first - start - 2
        ]
        assert near, d
        if kind == "spike":
            assert max(m.deg for m in near) > 1.0
            assert min(m.off_deg for m in near if m.off_deg is not None) < 0.5


def test_costs_of_several_lines_are_taken_together_and_hand_work_is_apart(walk: Clip) -> None:
    lines = [
        line("smooth", {"method": "gaussian", "sigma_s": 0.05}),
        line("thin", {"tolerance_deg": 0.3}),
    ]
    result, _, clip = told(walk, lines)
    whole = drift(clip, walk)
    assert result.cost_deg.size == pytest.approx(whole.max_deg, rel=1e-4)
    assert (result.cost_deg.name, result.cost_deg.frame) == (whole.max_joint, whole.max_frame)
    assert result.cost_mm.size == pytest.approx(whole.max_mm, rel=1e-4)
    assert result.cost_deg.rms == pytest.approx(whole.rms_deg, rel=1e-4)
    assert result.mended == ()
    offset = line("offset", {"amount": 20.0}, joints=["Head"])
    after, more, _ = told(walk, [*lines, offset])
    assert after.cost_deg == result.cost_deg
    assert more[-1].drift.kind == "hand"
    assert more[-1].drift.deg.size > 15.0
    assert more[-1].drift.deg.name == "Head"


def test_places_follow_the_frames_that_later_lines_move(walk: Clip) -> None:
    track = base_track(walk.skeleton.index("Head"), "rx")
    values = walk.curves[track].at(np.arange(walk.frames, dtype=np.float64)).copy()
    values[400] += 12.0
    spiked = walk.with_curves({track: SampledCurve(values)})
    moves = [
        line("trim", {"first": 100, "last": 700, "calibration": False}),
        line("insert_frames", {"after": 20, "count": 30}),
        line("change_rate", {"rate": "30"}),
    ]
    result, _, _ = told(spiked, [line("despike"), *moves])
    (mend,) = result.mended
    assert mend.joints == ("Head",)
    assert (mend.first, mend.last) == ((400 - 100 + 30) // 2,) * 2
    assert mend.deg == pytest.approx(12.0, abs=0.2)
    gone, _, _ = told(spiked, [line("despike"), line("trim", {"first": 500, "last": 700})])
    assert gone.mended == ()


def test_lines_are_counted_by_what_they_are_told_to_do() -> None:
    assert counted_as(line("clamp", {"feet": True})) == "mend"
    assert counted_as(line("clamp", {"most": 3.0})) == "calm"
    assert counted_as(line("unflip")) == "continuity"
    assert counted_as(line("unflip", {"gimbal_deg": 2.0})) == "calm"
