"""Whole-curve work: amount, timing, loops, pose, brushes; nothing outside the scope changes."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction
from typing import Any

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from leancurve.curves.curve import Curve, Handle, KeyedCurve, SampledCurve, keyed
from leancurve.curves.easing import EASINGS, easing_of
from leancurve.document.clip import Clip, Contact, Mark
from leancurve.document.evaluation import evaluate
from leancurve.document.track import TrackId, base_track
from leancurve.errors import BadInput
from leancurve.measures.cycles import whole_cycles
from leancurve.measures.findings import find
from leancurve.operations import OPERATIONS, Patch, Scope, apply_patch
from leancurve.recipe import moved_lines, run_recipe
from leancurve.time.meaning import ClipTime

TX, RX, RY = base_track(0, "tx"), base_track(0, "rx"), base_track(0, "ry")
FRAMES = np.arange(900, dtype=np.float64)
TIMES = np.arange(0, 899, 0.25)

fast = settings(max_examples=25, suppress_health_check=[HealthCheck.function_scoped_fixture])


@pytest.fixture(scope="module")
def thin(walk: Clip) -> Clip:
    return apply_patch(walk, OPERATIONS["thin"].run(walk))


def run(clip: Clip, name: str, params: dict[str, Any] | None = None, **scope: Any) -> Patch:
    return OPERATIONS[name].run(clip, params or {}, Scope(**scope))


def values(clip: Clip, channel: TrackId) -> np.ndarray:
    return clip.curves[channel].at(TIMES)


def test_easings_are_those_of_the_css_specification() -> None:
    """CSS Easing Functions Level 1, 2.2: ease is cubic-bezier(0.25, 0.1, 0.25, 1); at half the
    time it has come 0.8024 of the way, ease-in 0.3154, ease-out 0.6846, ease-in-out 0.5."""
    half = {n: float(e.at(np.array([0.5]))[0]) for n, e in EASINGS.items()}
    assert half == pytest.approx(
        {"linear": 0.5, "ease": 0.8024, "ease-in": 0.3154, "ease-out": 0.6846, "ease-in-out": 0.5},
        abs=5e-5,
    )
    own = easing_of("cubic-bezier", "0.25, 0.1, 0.25, 1")
    x = np.linspace(0, 1, 41)
    assert own.at(x) == pytest.approx(EASINGS["ease"].at(x))
    slope = np.gradient(own.at(np.linspace(0, 1, 4001)), 1 / 4000)[100:-100:100]
    assert own.slope(np.linspace(0, 1, 4001)[100:-100:100]) == pytest.approx(slope, abs=1e-4)


@pytest.mark.parametrize("bezier", ["", "1,2,3", "a,b,c,d", "1.2, 0, 0.5, 1"])
def test_a_wrong_bezier_is_refused(bezier: str) -> None:
    with pytest.raises(BadInput, match="bezier"):
        easing_of("cubic-bezier", bezier)


LIMITED = [
    ("gain", {"factor": 2.0, "ramp_in": 8, "ramp_out": 5}),
    ("offset", {"amount": 7.0}),
    ("offset", {"amount": 7.0, "ramp_in": 20, "easing": "ease"}),
    ("noise", {"size": 2.0, "ramp_in": 4, "ramp_out": 4}),
    ("clamp", {"most": 1.0}),
    ("close_loop", {"spread": 30}),
    ("level", {"tolerance_deg": 3.0}),
    ("even", {}),
    ("flow", {}),
]


@pytest.mark.parametrize(("name", "params"), LIMITED)
@pytest.mark.parametrize("dense", [True, False])
def test_nothing_outside_the_scope_changes(
    walk: Clip, thin: Clip, name: str, params: dict[str, Any], dense: bool
) -> None:
    clip = walk if dense else thin
    joint = clip.skeleton.names[3]
    patch = run(clip, name, params, joints=(joint,), frames=(300, 420))
    assert {c.joint for c in patch.curves} <= {3}
    after = apply_patch(clip, patch)
    for channel in patch.curves:
        low, high = 299.0, 421.0
        curve = clip.curves[channel]
        if isinstance(curve, KeyedCurve) and name in ("level", "even", "flow"):
            # What changes keys themselves reaches to those beside them, and to their handles.
            low = np.append(-1.0, curve.time[curve.time < 300])[-2:][0]
            high = np.append(curve.time[curve.time > 420], 900.0)[:2][-1]
        outside = (low >= TIMES) | (high <= TIMES)
        gap = np.abs(values(after, channel) - values(clip, channel))[outside]
        assert gap.max(initial=0) < 1e-9


@fast
@given(st.floats(0.1, 9), st.sampled_from(["mean", "first", "ends", "value"]))
def test_gain_and_its_inverse_give_the_first_state(thin: Clip, factor: float, about: str) -> None:
    scope = Scope(only=(("Hips", "ry"),))
    up = OPERATIONS["gain"].run(thin, {"factor": factor, "about": about}, scope)
    back = OPERATIONS["gain"].run(
        apply_patch(thin, up), {"factor": 1 / factor, "about": about}, scope
    )
    assert set(up.curves) == {RY}
    assert np.abs(back.curves[RY].at(TIMES) - values(thin, RY)).max() < 1e-8


@fast
@given(st.floats(-400, 400))
def test_there_and_back_is_the_first_state(thin: Clip, amount: float) -> None:
    there = run(thin, "offset", {"amount": amount}, joints=("Hips",))
    moved = apply_patch(thin, there)
    back = run(moved, "offset", {"amount": -amount}, joints=("Hips",))
    assert there.report["most_turned_deg"] == pytest.approx(abs(amount))
    for channel, curve in back.curves.items():
        assert np.abs(curve.at(TIMES) - values(thin, channel)).max() < 1e-9


@pytest.mark.parametrize("exchange", ["x and y", "y and z", "x and z"])
def test_swapping_twice_is_the_first_state(thin: Clip, exchange: str) -> None:
    params = {"exchange": exchange, "negate_x": exchange == "y and z"}
    once = apply_patch(thin, run(thin, "swap", params))
    assert any(once.curves[c] is not thin.curves[c] for c in thin.channels)
    twice = apply_patch(once, run(once, "swap", params))
    for c in thin.channels:
        assert np.array_equal(values(twice, c), values(thin, c))


def test_frames_beyond_the_clip_change_nothing(walk: Clip, thin: Clip) -> None:
    for clip in (walk, thin):
        for name in ("gain", "offset", "noise"):
            patch = run(clip, name, joints=("Hips",), frames=(5000, 6000))
            assert all(curve is clip.curves[c] for c, curve in patch.curves.items())


def test_gain_about_the_ends_keeps_both_ends_and_doubles_what_is_between(thin: Clip) -> None:
    patch = run(thin, "gain", {"factor": 2, "about": "ends"}, only=(("Hips", "ry"),))
    old, new = values(thin, RY), patch.curves[RY].at(TIMES)
    line = np.interp(TIMES, [0, 899], thin.curves[RY].at(np.array([0.0, 899.0])))
    assert new == pytest.approx(line + 2 * (old - line), abs=1e-9)


def test_a_ramp_comes_in_with_its_easing(walk: Clip) -> None:
    params = {"amount": 10.0, "ramp_in": 19, "easing": "ease-in"}
    patch = run(walk, "offset", params, only=(("Hips", "ry"),), frames=(100, 300))
    added = patch.curves[RY].values - walk.curves[RY].values  # type: ignore[union-attr]
    expected = 10 * EASINGS["ease-in"].at(np.arange(1, 21) / 20)
    assert added[100:120] == pytest.approx(expected, abs=1e-9)
    assert added[120:301] == pytest.approx(10)


def test_a_keyed_ramp_follows_the_sampled_one(walk: Clip, thin: Clip) -> None:
    params = {"amount": 10.0, "ramp_in": 30, "ramp_out": 30}
    scope: dict[str, Any] = {"only": (("Hips", "ry"),), "frames": (200, 400)}
    dense = run(walk, "offset", params, **scope).curves[RY].at(FRAMES) - walk.curves[RY].at(FRAMES)
    few = run(thin, "offset", params, **scope).curves[RY].at(FRAMES) - thin.curves[RY].at(FRAMES)
    assert np.abs(dense - few).max() < 0.25


@pytest.mark.parametrize("loops", [False, True])
def test_noise_is_the_same_for_its_seed_and_loops(walk: Clip, thin: Clip, loops: bool) -> None:
    params = {"size": 2.0, "seed": 7, "frequency_hz": 1.5, "loops": loops}
    scope: dict[str, Any] = {"only": (("Hips", "ry"), ("Hips", "rx"))}
    a, b = run(walk, "noise", params, **scope), run(walk, "noise", params, **scope)
    other = run(walk, "noise", {**params, "seed": 8}, **scope)
    added = {c: a.curves[c].at(FRAMES) - walk.curves[c].at(FRAMES) for c in (RX, RY)}
    assert np.array_equal(a.curves[RY].at(FRAMES), b.curves[RY].at(FRAMES))
    assert not np.allclose(a.curves[RY].at(FRAMES), other.curves[RY].at(FRAMES))
    assert not np.allclose(added[RX], added[RY])
    assert 0.7 < np.abs(added[RY]).max() < 4.0
    if loops:
        assert added[RY][0] == pytest.approx(added[RY][-1], abs=1e-9)
    keyed_added = run(thin, "noise", params, **scope).curves[RY].at(FRAMES) - thin.curves[RY].at(
        FRAMES
    )
    assert np.abs(keyed_added - added[RY]).max() < 0.1


def one(clip: Clip, curve: Curve, channel: TrackId = RY) -> Clip:
    return clip.with_curves({channel: curve})


@pytest.mark.parametrize("soft", [0.0, 2.0])
def test_a_clamped_keyed_curve_never_passes_its_bounds(thin: Clip, soft: float) -> None:
    old = values(thin, RY)
    least, most = np.quantile(old, [0.2, 0.8])
    patch = run(thin, "clamp", {"least": least, "most": most, "soft": soft}, only=(("Hips", "ry"),))
    new = patch.curves[RY].at(TIMES)
    slack = 1e-6 if soft == 0 else 0.3
    assert new.max() <= most + slack
    assert new.min() >= least - slack
    # Its keys stand on frames: between the two about a bound it goes straight.
    inside = (old > least + soft) & (old < most - soft) & (np.round(TIMES) == TIMES)
    assert np.abs(new - old)[inside].max() < (1e-6 if soft == 0 else 0.3)
    fresh = patch.curves[RY]
    assert isinstance(fresh, KeyedCurve)
    assert np.all(fresh.time == np.round(fresh.time))
    assert patch.report["values"] > 100


RAMPED = {"ramp_in": 5, "ramp_out": 8}
SPANNED: list[tuple[str, dict[str, Any]]] = [
    ("gain", {"factor": 1.7, **RAMPED}),
    ("gain", {"factor": 1.7}),
    ("offset", {"amount": 8.0, **RAMPED}),
    ("noise", {"size": 3.0, "frequency_hz": 7.3, **RAMPED}),
    ("clamp", {"least": -3.0, "most": 3.0}),
]


@pytest.mark.parametrize(("name", "params"), SPANNED)
def test_a_change_over_a_span_ends_at_its_borders_and_puts_keys_on_frames(
    walk: Clip, thin: Clip, name: str, params: dict[str, Any]
) -> None:
    """Frames outside are the same number, before the first and after the last key too."""
    few = one(walk, keyed([0, 12, 33, 47, 60], [0, 15, -6, 9, 4]))
    for clip in (thin, few, one(walk, keyed([20], [5.0]))):
        patch = run(clip, name, params, only=(("Hips", "ry"),), frames=(21, 74))
        changed = patch.curves.get(RY, clip.curves[RY])
        away = np.abs(changed.at(FRAMES) - clip.curves[RY].at(FRAMES))
        outside = (FRAMES < 21) | (FRAMES > 74)
        assert away[outside].max() < 1e-9
        assert away[~outside].max() > 1e-3 or clip is not few
        assert isinstance(changed, KeyedCurve)
        assert np.all(changed.time == np.round(changed.time))


def test_a_borrowed_rhythm_stands_on_frames(walk: Clip) -> None:
    clip = one(walk, keyed([0, 10, 13, 17, 40, 90], [0, 5, 6, 3, 2, 0]))
    clip = one(clip, keyed([3, 9, 50, 80], [0, 1, 2, 0]), RX)
    patch = run(clip, "borrow_rhythm", {"joint": "Hips", "channel": "rx"}, only=(("Hips", "ry"),))
    times = patch.curves[RY].time  # type: ignore[union-attr]
    assert np.all(times == np.round(times))
    assert (times[0], times[-1]) == (3, 80)
    assert np.all(np.diff(times) >= 1)


def test_a_closed_loop_says_one_gap_before_and_after(walk: Clip) -> None:
    """Of the channels that were chosen alone, and none is left of a loop that closed."""
    report = run(walk, "close_loop", {"spread": 30}, only=(("Hips", "ry"),)).report
    assert report["gap_before_deg"] == pytest.approx(
        float(np.ptp(walk.curves[RY].at(FRAMES)[[0, -1]]))
    )
    assert report["gap_after_deg"] == pytest.approx(0.0, abs=1e-9)
    assert report["gap_after_mm"] == report["gap_before_mm"] == 0.0


def test_even_spacing_of_picked_keys(walk: Clip) -> None:
    clip = one(walk, keyed([0, 10, 13, 40, 90], [0, 5, 6, 2, 0]))
    picked = tuple(("Hips", "ry", k) for k in (1, 2, 3))
    patch = run(clip, "even", keys=picked)
    assert patch.curves[RY].time.tolist() == [0, 10, 25, 40, 90]  # type: ignore[union-attr]
    assert patch.curves[RY].value.tolist() == [0, 5, 6, 2, 0]  # type: ignore[union-attr]
    assert patch.report["keys_moved"] == 1


def test_a_retimed_free_key_keeps_its_shape_in_its_stretched_segments(walk: Clip) -> None:
    curve = keyed([0, 10, 30, 40, 60], [0, 4, 3, 9, 0], [0, 1.2, -0.3, 0.4, 0], handle=Handle.FREE)
    clip = one(one(walk, curve), keyed([0, 20, 60, 80, 120], [1, 2, 1, 2, 1]), RX)
    patch = run(clip, "borrow_rhythm", {"joint": "Hips", "channel": "rx"}, only=(("Hips", "ry"),))
    t = np.linspace(0, 60, 200)
    assert patch.curves[RY].at(2 * t) == pytest.approx(curve.at(t), abs=1e-9)


def test_lag_follows_later_down_the_chain_and_the_clip_is_no_longer(walk: Clip, thin: Clip) -> None:
    names = walk.skeleton.names
    chain = [j for j in walk.body.groups["left arm"] if "Hand" not in names[j]][:3]
    for clip in (walk, thin):
        patch = run(
            clip, "lag", {"frames": 4, "fall_off": 0.5}, joints=tuple(names[j] for j in chain)
        )
        assert patch.report["longest_frames"] == pytest.approx(6)
        last = base_track(chain[-1], clip.layout[chain[-1]][0])
        new, old = patch.curves[last], clip.curves[last]
        t = np.arange(10, 890, dtype=np.float64)
        assert new.at(t) == pytest.approx(old.at(t - 6), abs=1e-9)
        assert new.at(np.array([0.0])) == pytest.approx(old.at(np.array([0.0])))
        if isinstance(new, KeyedCurve):
            assert (new.time[0], new.time[-1]) == (0, 899)
        assert not any(c.joint == chain[0] for c in patch.curves)


def test_matched_times_change_no_shape(thin: Clip) -> None:
    patch = run(thin, "match_times", {"joint": "Hips"}, joints=(thin.skeleton.names[3],))
    times = set(np.concatenate([thin.curves[base_track(0, c)].time for c in thin.layout[0]]))  # type: ignore[union-attr]
    assert patch.report["keys_made"] > 0
    for channel, curve in patch.curves.items():
        assert isinstance(curve, KeyedCurve)
        assert times <= set(curve.time.tolist())
        assert np.abs(curve.at(TIMES) - values(thin, channel)).max() < 1e-9


@pytest.mark.parametrize("dense", [True, False])
@pytest.mark.parametrize("spread", [12, 40])
def test_a_closed_loop_meets_in_value_and_slope(
    walk: Clip, thin: Clip, dense: bool, spread: int
) -> None:
    clip = walk if dense else thin
    closed = apply_patch(clip, run(clip, "close_loop", {"spread": spread, "heading": False}))
    for channel, curve in closed.curves.items():
        ends = curve.at(np.array([0.0, 899.0]))
        if channel not in (TX, base_track(0, "tz")):
            assert ends[1] == pytest.approx(ends[0], abs=1e-6)
        if isinstance(curve, SampledCurve):
            first, last = np.diff(curve.values[:2])[0], np.diff(curve.values[-2:])[0]
        else:
            first, last = curve.slope_out[0], curve.slope_in[-1]
        assert last == pytest.approx(first, abs=1e-6)
        before = 899 - spread > TIMES
        assert np.abs(curve.at(TIMES) - values(clip, channel))[before].max() < 1e-9


def test_a_repeated_span_goes_on_where_it_ended(walk: Clip, thin: Clip) -> None:
    for clip in (walk, thin):
        clip = replace(
            clip, contacts=(Contact("left toe", 110, 130),), marks=(Mark(150, 150, "m"),)
        )
        done = apply_patch(clip, run(clip, "repeat", {"first": 100, "last": 140, "times": 3}))
        assert done.frames == 980
        assert done.marks == (Mark(230, 230, "m"),)
        assert [c.first for c in done.contacts or ()] == [110, 150, 190]
        tz = base_track(0, "tz")
        rise = float(np.diff(clip.curves[tz].at(np.array([100.0, 140.0])))[0])
        assert abs(rise) > 1
        t = np.arange(100, 139, dtype=np.float64)
        for channel in (tz, RY):
            on = rise if channel == tz else 0.0
            old, new = clip.curves[channel], done.curves[channel]
            assert new.at(t + 40) == pytest.approx(old.at(t) + on, abs=1e-6)
            assert new.at(FRAMES[300:] + 80) == pytest.approx(
                old.at(FRAMES[300:]) + 2 * on, abs=1e-6
            )
        evaluate(done)


def test_whole_cycles_are_found_on_a_motion_of_known_period(walk: Clip) -> None:
    frames = np.arange(walk.frames)
    curves: dict[TrackId, Curve] = {
        c: SampledCurve(20 * np.sin(2 * np.pi * frames / 97.0 + c.joint)) for c in walk.channels
    }
    found = whole_cycles(walk.with_curves(curves), 50, 600)
    assert found is not None
    assert (found.last - 50) % 97 in (0, 1, 96)
    assert found.count == 5
    still = walk.with_curves({c: SampledCurve(1.0 * frames) for c in walk.channels if c.turns})
    assert whole_cycles(still, 0, 100) is None


@pytest.mark.parametrize(("amount", "value"), [(0, 0), (1, 10), (0.3, 3), (1.5, 15), (-0.5, -5)])
def test_lean_goes_from_the_pose_before_to_the_one_after_and_beyond(
    walk: Clip, amount: float, value: float
) -> None:
    clip = one(walk, keyed([0, 20, 60], [0, 8, 10]))
    patch = run(clip, "lean", {"frame": 20, "amount": amount}, only=(("Hips", "ry"),))
    assert patch.curves[RY].value[1] == pytest.approx(value)  # type: ignore[union-attr]


def test_lean_to_the_line_and_to_rest(walk: Clip) -> None:
    clip = one(walk, keyed([0, 20, 60], [0, 8, 9]))
    scope: dict[str, Any] = {"keys": (("Hips", "ry", 1),)}
    line = run(clip, "lean", {"towards": "line", "amount": 1}, **scope).curves[RY]
    rest = run(clip, "lean", {"towards": "rest", "amount": 0.25}, **scope).curves[RY]
    assert line.value[1] == pytest.approx(3)  # type: ignore[union-attr]
    assert rest.value[1] == pytest.approx(6)  # type: ignore[union-attr]
    with pytest.raises(BadInput, match="frame"):
        run(clip, "lean")


def test_levelled_neighbours_become_a_true_hold(walk: Clip) -> None:
    curve = keyed([0, 20, 40, 60, 90], [0, 5.0, 5.3, 5.1, 12], [0, 0.3, -0.2, 0.2, 0])
    patch = run(one(walk, curve), "level", {"tolerance_deg": 1}, only=(("Hips", "ry"),))
    level = patch.curves[RY].at(np.linspace(20, 60, 81))
    assert np.ptp(level) == 0
    assert level[0] == pytest.approx(5.133, abs=1e-3)
    assert patch.report["holds"] == 1
    again = run(one(walk, patch.curves[RY]), "level", {}, only=(("Hips", "ry"),))
    assert again.report["holds"] == 0


def test_a_flat_key_inside_a_motion_is_found_and_flows(walk: Clip) -> None:
    curve = keyed([0, 30, 60, 90], [0, 20, 60, 60], [0, 0, 0, 0], handle=Handle.FLAT)
    clip = one(walk, curve)
    found = find(clip, ["stuck key"])
    assert [(f.joint, f.channel, f.first) for f in found] == [("Hips", "ry", 30)]
    patch = run(clip, "flow")
    after = apply_patch(clip, patch)
    assert patch.report["keys_loosened"] == 1
    assert find(after, ["stuck key"]) == []
    assert after.curves[RY].slope_in[1] > 0  # type: ignore[union-attr]
    assert np.all(np.diff(after.curves[RY].at(np.linspace(0, 60, 300))) >= -1e-9)


def test_thinning_leaves_no_stuck_keys(thin: Clip) -> None:
    # Where a motion truly slows half way a smooth key may be flat.
    assert len(find(thin, ["stuck key"])) <= 4


BRUSH = {"kind": "pull", "radius": 20, "dabs": [{"frame": 400}]}


@pytest.mark.parametrize("dense", [True, False])
def test_pull_is_full_in_its_middle_and_nothing_beyond_its_radius(
    walk: Clip, thin: Clip, dense: bool
) -> None:
    clip = walk if dense else thin
    keys = FRAMES if dense else clip.curves[RY].time  # type: ignore[union-attr]
    middle = float(keys[np.argmin(np.abs(keys - 400))])
    params = {**BRUSH, "dabs": [{"frame": middle}], "by": 9}
    patch = run(clip, "brush", params, only=(("Hips", "ry"),))
    added = patch.curves[RY].at(TIMES) - values(clip, RY)
    low, high = keys[keys <= middle - 20].max(), keys[keys >= middle + 20].min()
    assert np.abs(added[(low > TIMES) | (high < TIMES)]).max() == 0
    assert added[middle == TIMES] == pytest.approx(9)


@fast
@given(st.floats(-500, 500), st.floats(2, 60), st.floats(0, 899))
def test_pulling_time_never_reorders_keys(
    thin: Clip, later: float, radius: float, middle: float
) -> None:
    params = {"kind": "pull", "radius": radius, "dabs": [{"frame": middle}], "by_frames": later}
    patch = run(thin, "brush", params, joints=("Hips",))
    for curve in patch.curves.values():
        assert isinstance(curve, KeyedCurve)
        assert np.all(np.diff(curve.time) > 0)


def test_calm_smooths_within_its_reach_and_keeps_ends(walk: Clip) -> None:
    rough = walk.curves[RY].at(FRAMES) + np.random.default_rng(1).normal(0, 1, 900)
    clip = one(walk, SampledCurve(rough))
    dabs = [{"frame": 100, "strength": 1}, {"frame": 120, "strength": 1}]
    after = run(clip, "brush", {"kind": "calm", "radius": 30, "dabs": dabs}, joints=("Hips",))
    new = after.curves[RY].at(FRAMES)
    assert np.std(np.diff(new[95:125])) < 0.3 * np.std(np.diff(rough[95:125]))
    assert np.array_equal(new[150:], rough[150:])
    start = run(clip, "brush", {"kind": "calm", "radius": 30, "dabs": [{"frame": 0}]})
    assert start.curves[RY].at(np.array([0.0]))[0] == rough[0]


def test_restore_brings_back_the_take(walk: Clip) -> None:
    lines = [
        {"operation": "offset", "params": {"amount": 12.0}},
        {"operation": "trim", "params": {"first": 100, "last": 700, "calibration": False}},
        {"operation": "brush", "scope": {"joints": ("Hips",)},
         "params": {"kind": "restore", "radius": 40, "dabs": [{"frame": 300}]}},
    ]  # fmt: skip
    done = run_recipe(walk, lines).clip
    gap = done.curves[RY].at(FRAMES[:601]) - walk.curves[RY].at(FRAMES[100:701])
    assert gap[300] == pytest.approx(0, abs=1e-9)
    assert gap[[0, 250, 600]] == pytest.approx(12)
    with pytest.raises(BadInput, match="take"):
        run(walk, "brush", {**BRUSH, "kind": "restore"})


def test_restore_brings_back_the_takes_rotations_not_its_flips(
    walk: Clip, captured_walk: Any
) -> None:
    """The take as captured has wraps and alternates; unflipped and reordered it is told anew."""
    take = captured_walk.clip
    joint = next(d.joint for d in captured_walk.truth if d.kind == "wrap")
    lines = [
        {"operation": "unflip"},
        {"operation": "reorder", "params": {"order": "XYZ"}, "scope": {"joints": (joint,)}},
        {"operation": "offset", "params": {"amount": 9.0}, "scope": {"joints": (joint,)}},
        {"operation": "brush", "scope": {"joints": (joint,)},
         "params": {"kind": "restore", "radius": 5000, "dabs": [{"frame": 450}]}},
    ]  # fmt: skip
    done = run_recipe(take, lines).clip
    index = take.skeleton.index(joint)
    at = np.array([450.0])
    ours, theirs = (evaluate(c, at).rotation[0, index] for c in (done, take))
    assert abs(float(ours @ theirs)) == pytest.approx(1, abs=1e-9)
    curves = [
        done.curves[base_track(index, c)].at(np.arange(done.frames) * 1.0)
        for c in done.layout[index]
    ]
    assert max(np.abs(np.diff(c)).max() for c in curves) < 60


def test_brushes_touch_only_picked_keys_where_some_are_picked(thin: Clip) -> None:
    curve = thin.curves[RY]
    assert isinstance(curve, KeyedCurve)
    k = int(np.argmin(np.abs(curve.time - 400)))
    params = {"kind": "pull", "radius": 80, "dabs": [{"frame": float(curve.time[k])}], "by": 5.0}
    patch = run(thin, "brush", params, keys=(("Hips", "ry", int(curve.id[k])),))
    after = patch.curves[RY]
    assert isinstance(after, KeyedCurve)
    assert np.flatnonzero(after.value != curve.value).tolist() == [k]


def test_marks_are_made_moved_and_taken_out(walk: Clip) -> None:
    def edited(clip: Clip, **mark: Any) -> Patch:
        return run(clip, "edit_marks", {"edits": [mark]})

    clip = apply_patch(walk, edited(walk, do="add", name="lifts off", first=41))
    clip = apply_patch(clip, edited(clip, do="add", name="step", first=10, last=60))
    assert clip.marks == (Mark(10, 60, "step"), Mark(41, 41, "lifts off"))
    moved = apply_patch(clip, edited(clip, do="set", name="step", first=10, new_last=80))
    assert moved.marks[0] == Mark(10, 80, "step")
    trimmed = apply_patch(
        moved, run(moved, "trim", {"first": 20, "last": 50, "calibration": False})
    )
    assert trimmed.marks == (Mark(0, 30, "step"), Mark(21, 21, "lifts off"))
    gone = run(moved, "edit_marks", {"edits": [{"do": "remove", "name": "other", "first": 1}]})
    assert gone.report["unplaced"] == [{"name": "other", "first": 1}]
    with pytest.raises(BadInput, match="before"):
        edited(walk, do="add", name="step", first=10, last=6)


def test_a_scope_names_single_channels_and_keys(thin: Clip) -> None:
    only = Scope(only=(("Hips", "ry"), ("Head", "rx"), ("nobody", "rx")))
    head = thin.skeleton.index("Head")
    assert set(only.resolve(thin)) == {RY, base_track(head, "rx")}
    before = thin.curves[RY]
    assert isinstance(before, KeyedCurve)
    one, three = before.id[[1, 3]].tolist()
    keys = Scope(keys=(("Hips", "ry", one), ("Hips", "ry", three)))
    assert keys.resolve(thin) == (RY,)
    assert keys.keys_of(thin, RY) == [one, three]
    picked = ("Hips", "ry", one, float(before.time[1]))
    raised = run(thin, "offset", {"amount": 2.0}, keys=(picked,)).curves[RY]
    assert isinstance(raised, KeyedCurve)
    moved = raised.value - before.value
    assert moved[before.id == one] == pytest.approx(2)
    assert np.abs(moved[before.id != one]).max() == 0


def test_a_picked_key_is_known_by_its_frame_as_well_or_listed(thin: Clip) -> None:
    before = thin.curves[RY]
    assert isinstance(before, KeyedCurve)
    key, at = int(before.id[1]), float(before.time[1])
    anew = Scope(keys=(("Hips", "ry", 5, at + 0.3),))
    assert anew.keys_of(thin, RY) == [key]
    gone = ("Hips", "ry", key, at + 1000.0)
    assert Scope(keys=(gone,)).keys_of(thin, RY) == []
    patch = run(thin, "offset", {"amount": 2.0}, keys=(gone,))
    (lost,) = patch.report["unplaced"]
    assert (lost["id"], lost["frame"]) == (key, at + 1000.0)


def test_keys_of_hand_edits_move_with_the_rate_of_a_swapped_take() -> None:
    key = {"joint": "Hips", "channel": "ry", "id": 1, "frame": 41.0, "time": 40.5, "value": 2.0}
    line = {"operation": "edit", "params": {"keys": [key]}, "scope": {}}
    full, half = ClipTime(Fraction(60), 200), ClipTime(Fraction(30), 100)
    moved, lost = moved_lines([line], full, half)
    assert lost == []
    assert (moved[0]["params"]["keys"][0]["time"], moved[0]["params"]["keys"][0]["value"]) == (
        20.25,
        2.0,
    )


def test_operations_on_whole_curves_take_no_keys(thin: Clip) -> None:
    with pytest.raises(BadInput, match="no keys in its scope"):
        run(thin, "lag", keys=(("Hips", "ry", 1),))


def test_a_contact_across_a_repeated_spans_border_is_in_every_round(walk: Clip) -> None:
    """Repeated 100 to 199, three times: what reaches over a border is cut to it in the rounds
    between, what meets itself at a seam is one, what lies around the span grows with it."""
    spans = (
        Contact("left toe", 80, 130),  # comes in
        Contact("left toe", 180, 230),  # goes out
        Contact("right toe", 150, 160),
        Contact("right toe", 300, 310),
        Contact("left hand", 0, 400),
    )
    clip = replace(walk, contacts=tuple(sorted(spans)), marks=(Mark(150, 150, "step"),))
    patch = run(clip, "repeat", {"first": 100, "last": 199, "times": 3, "offset": "none"})
    found = {limb: [(c.first, c.last) for c in patch.contacts or () if c.limb == limb]
             for limb in ("left toe", "right toe", "left hand")}  # fmt: skip
    assert found["left toe"] == [(80, 130), (180, 229), (279, 328), (378, 428)]
    assert found["right toe"] == [(150, 160), (249, 259), (348, 358), (498, 508)]
    assert found["left hand"] == [(0, 598)]
    assert [m.first for m in patch.marks or ()] == [150, 249, 348]
