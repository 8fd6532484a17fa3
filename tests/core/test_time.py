"""Time as a whole and keys in time: nothing that has a time is left behind, and the path stays."""

from __future__ import annotations

from dataclasses import fields, replace
from fractions import Fraction
from typing import Any

import numpy as np
import pytest
from hypothesis import HealthCheck, example, given, settings
from hypothesis import strategies as st
from leancurve.curves.curve import (
    Extend,
    Handle,
    KeyedCurve,
    KeyFlag,
    SampledCurve,
    Segment,
    forward_only,
    keyed,
)
from leancurve.curves.insertion import insert_key
from leancurve.curves.plain import evaluate_plain
from leancurve.curves.reversing import backwards
from leancurve.document.clip import Accepted, Clip, Contact, Mark
from leancurve.document.evaluation import evaluate
from leancurve.document.placement import placed_props
from leancurve.document.track import base_track
from leancurve.errors import BadInput
from leancurve.numbers import rotation
from leancurve.operations import OPERATIONS, Patch, Scope, apply_patch
from leancurve.recipe import moved_lines
from leancurve.time.meaning import ClipTime
from leancurve.time.warp import Warp
from scipy.interpolate import CubicHermiteSpline

from tests.core.laden import WHOLE, Load, laden
from tests.core.test_curve import random_curve

RX, RY, TX = base_track(0, "rx"), base_track(0, "ry"), base_track(0, "tx")

fast = settings(max_examples=25, suppress_health_check=[HealthCheck.function_scoped_fixture])


@pytest.fixture(scope="module")
def thin(walk: Clip) -> Clip:
    return apply_patch(walk, OPERATIONS["thin"].run(walk))


@pytest.fixture(scope="module")
def timed(walk: Clip) -> Clip:
    """A clip with one of everything that has a time."""
    return replace(
        walk,
        contacts=(Contact("left toe", 10, 120), Contact("left toe", 300, 400)),
        accepted=(Accepted("spike", "Hips", "rx", 200, 210),),
        marks=(Mark(50, 50, "lifts off"), Mark(500, 600, "carries")),
    )


def run(clip: Clip, name: str, params: dict[str, Any] | None = None, **scope: Any) -> Patch:
    return OPERATIONS[name].run(clip, params or {}, Scope(**scope))


def done(clip: Clip, name: str, params: dict[str, Any] | None = None, **scope: Any) -> Clip:
    return apply_patch(clip, run(clip, name, params, **scope))


def with_flag(curve: KeyedCurve, keys: list[int], flag: KeyFlag) -> KeyedCurve:
    flags = curve.flags.copy()
    flags[keys] |= np.uint8(flag)
    return curve.edited(flags=flags).among_live(forward_only).checked()


# Muted keys


@given(st.integers(0, 500), st.lists(st.integers(0, 6), min_size=1, max_size=5))
@fast
def test_a_muted_key_counts_as_if_it_were_not_there(seed: int, keys: list[int]) -> None:
    curve = random_curve(seed, keys=7)
    muted = with_flag(curve, keys, KeyFlag.MUTED)
    gone = np.isin(np.arange(7), keys)
    times = np.linspace(curve.time[0] - 5, curve.time[-1] + 5, 200)
    assert np.array_equal(muted.at(times), forward_only(curve.only(~gone)).at(times))
    assert evaluate_plain(muted, times) == pytest.approx(muted.at(times), abs=1e-6)


def test_muting_by_hand_and_back_is_the_identity_and_keeps_one_key(walk: Clip) -> None:
    clip = walk.with_curves({RX: keyed([0, 10, 20, 30], [0, 5, 6, 0])})
    edit = {"joint": "Hips", "channel": "rx", "id": 1, "frame": 10}
    muted = done(clip, "edit", {"keys": [{**edit, "muted": True}]})
    plain = keyed([0, 20, 30], [0, 6, 0])
    assert muted.curves[RX].at(np.arange(31.0)) == pytest.approx(plain.at(np.arange(31.0)))
    back = done(muted, "edit", {"keys": [{**edit, "muted": False}]})
    for name, column in clip.curves[RX].columns.items():
        assert np.array_equal(back.curves[RX].columns[name], column), name
    every = [{**edit, "id": k, "frame": 10 * k, "muted": True} for k in range(4)]
    patch = run(clip, "edit", {"keys": every})
    assert len(patch.report["unplaced"]) == 4
    assert patch.curves[RX].at(np.arange(31.0)) == pytest.approx(
        clip.curves[RX].at(np.arange(31.0))
    )


def test_a_key_set_among_muted_ones_keeps_the_shape() -> None:
    curve = with_flag(random_curve(3, keys=7), [2, 3], KeyFlag.MUTED)
    middle = float(curve.time[2] + curve.time[3]) / 2
    more = insert_key(curve, middle)
    times = np.linspace(curve.time[0], curve.time[-1], 300)
    assert more.at(times) == pytest.approx(curve.at(times), abs=1e-9)
    assert more.key_count == 8
    assert np.count_nonzero(~more.live) == 2


def test_tidying_takes_no_key_for_the_double_of_a_muted_one() -> None:
    curve = with_flag(keyed([0, 10, 10.2, 20.3, 30], [0, 5, 6, 2, 0]), [1], KeyFlag.MUTED)
    tidy = done(Clip(*_one_joint(curve)), "tidy_keys").curves[RX]
    assert isinstance(tidy, KeyedCurve)
    assert tidy.unmuted.time.tolist() == [0, 10, 20, 30]
    assert tidy.unmuted.value.tolist() == [0, 6, 2, 0]


# Riding keys


@given(
    st.lists(st.floats(1, 30), min_size=5, max_size=9),
    st.floats(-0.9, 40),
    st.floats(0.2, 5),
)
@fast
def test_a_riding_keys_share_is_constant(gaps: list[float], by: float, factor: float) -> None:
    time = np.concatenate([[0.0], np.cumsum(gaps)])
    count = len(time)
    rides = [k for k in range(1, count - 1) if k % 3]
    curve = with_flag(keyed(time, np.sin(time)), rides, KeyFlag.RIDING)
    anchors = np.setdiff1d(np.arange(count), rides)

    def shares(c: KeyedCurve) -> np.ndarray:
        right = np.searchsorted(anchors, rides)
        a, b = c.time[anchors[right - 1]], c.time[anchors[right]]
        return (c.time[rides] - a) / (b - a)

    clip = Clip(*_one_joint(curve))
    last = [("a", "rx", int(curve.id[-1]))]
    moved = done(clip, "slide", {"by": by, "whole_frames": False}, keys=last).curves[RX]
    assert moved.time[-1] == pytest.approx(time[-1] + by)
    assert shares(moved) == pytest.approx(shares(curve), abs=1e-9)
    scaled = done(clip, "slide", {"factor": factor, "whole_frames": False}).curves[RX]
    assert scaled.time == pytest.approx(time * factor)
    assert shares(scaled) == pytest.approx(shares(curve), abs=1e-9)
    edit = {"joint": "a", "channel": "rx", "id": int(curve.id[-1]), "frame": float(time[-1])}
    by_hand = done(clip, "edit", {"keys": [{**edit, "time": float(time[-1] + by)}]}).curves[RX]
    assert shares(by_hand) == pytest.approx(shares(curve), abs=1e-9)


def _one_joint(curve: KeyedCurve, frames: int = 400) -> tuple[Any, ...]:
    from fractions import Fraction

    from leancurve.figure.skeleton import Skeleton

    skeleton = Skeleton(("a",), (-1,), ((0.0, 0.0, 0.0),))
    return skeleton, (("rx",),), {RX: curve}, Fraction(60), frames


def test_a_riding_key_moved_by_hand_gets_a_new_share_and_is_no_finding() -> None:
    curve = with_flag(keyed([0, 10, 30], [0, 5, 0]), [1], KeyFlag.RIDING)
    clip = Clip(*_one_joint(curve))
    edit = {"joint": "a", "channel": "rx", "frame": 10.0}
    moved = done(clip, "edit", {"keys": [{**edit, "id": 1, "time": 12.5}]})
    assert moved.curves[RX].time.tolist() == [0, 12.5, 30]
    again = done(moved, "edit", {"keys": [{**edit, "id": 2, "frame": 30.0, "time": 60.0}]})
    assert again.curves[RX].time.tolist() == [0, 25, 60]
    from leancurve.measures.findings import find

    assert not [f for f in find(moved) if f.kind == "key off the frame"]
    plain = done(moved, "edit", {"keys": [{**edit, "id": 1, "frame": 12.5, "riding": False}]})
    assert [f.kind for f in find(plain) if f.kind == "key off the frame"]


# Slide


@given(st.integers(0, 300), st.integers(1, 60))
@fast
def test_sliding_there_and_back_is_the_identity(seed: int, by: int) -> None:
    curve = random_curve(seed, keys=7).edited(handle=np.full(7, Handle.FREE, dtype=np.uint8))
    clip = Clip(*_one_joint(curve))
    picked = [("a", "rx", int(k)) for k in curve.id[3:]]
    there = done(clip, "slide", {"by": by}, keys=picked)
    back = done(there, "slide", {"by": -by}, keys=picked)
    for name, column in curve.columns.items():
        assert back.curves[RX].columns[name] == pytest.approx(column, abs=1e-9), name


@given(st.integers(0, 300), st.sampled_from([0.5, 2.0, 3.0, 0.8]))
@fast
def test_scaled_by_s_and_by_one_over_s_keys_are_what_they_were(seed: int, s: float) -> None:
    curve = random_curve(seed, keys=7)
    clip = Clip(*_one_joint(curve))
    far = {"about": 40.0, "whole_frames": False}
    scaled = done(clip, "slide", {"factor": s, **far, "by": 300.0})
    back = done(scaled, "slide", {"factor": 1 / s, "about": 340.0, "by": -300.0,
                                  "whole_frames": False})  # fmt: skip
    free = curve.handle == Handle.FREE
    assert back.curves[RX].time == pytest.approx(curve.time)
    assert back.curves[RX].slope_out[free] == pytest.approx(curve.slope_out[free])
    # The shape goes along: values at scaled times are what they were.
    settled_already = back.curves[RX].at(curve.time)
    assert settled_already == pytest.approx(curve.value)


def test_a_group_moved_in_time_keeps_its_shape_and_leaves_the_rest(thin: Clip) -> None:
    moved = done(thin, "slide", {"by": 3}, groups=["left arm"])
    arm = set(Scope(groups=("left arm",)).resolve(thin))
    frames = np.arange(40, 800, dtype=np.float64)
    for channel, curve in thin.curves.items():
        if channel in arm:
            assert moved.curves[channel].at(frames + 3) == pytest.approx(curve.at(frames), abs=1e-6)
        else:
            assert moved.curves[channel] is curve
    assert arm


def test_keys_that_would_pass_others_are_left_and_counted(thin: Clip) -> None:
    names = thin.skeleton.names
    channel = next(c for c, k in thin.curves.items() if k.key_count > 5)
    curve = thin.curves[channel]
    assert isinstance(curve, KeyedCurve)
    key = [(names[channel.joint], channel.name, int(curve.id[2]))]
    patch = run(thin, "slide", {"by": 500}, keys=key)
    assert patch.curves == {}
    assert patch.report["channels_left"] == 1


def test_copies_take_the_place_of_what_stands_there() -> None:
    clip = Clip(*_one_joint(keyed([0, 10, 20, 30], [0, 5, 6, 1])))
    pair = [("a", "rx", 0), ("a", "rx", 1)]
    out = done(clip, "slide", {"by": 20, "copies": True}, keys=pair).curves[RX]
    assert isinstance(out, KeyedCurve)
    assert out.time.tolist() == [0, 10, 20, 30]
    assert out.value.tolist() == [0, 5, 0, 5]


# Time pins


def test_a_smooth_warp_is_scipys_cubic_hermite_with_these_speeds() -> None:
    warp = Warp(np.array([0.0, 20, 50, 90]), np.array([0.0, 30, 40, 100]), smooth=True).checked()
    peer = CubicHermiteSpline(warp.source, warp.target, warp.speeds)
    t = np.linspace(0, 90, 500)
    assert warp.to(t) == pytest.approx(peer(t), abs=1e-10)
    assert warp.back(warp.to(t)) == pytest.approx(t, abs=1e-9)
    inner = t[1:-1]
    assert warp.rate(inner, 1) == pytest.approx(peer.derivative()(inner), abs=1e-9)
    assert np.all(np.diff(warp.to(t)) > 0)


PINS = {"pins": [[100, 100], [200, 150], [300, 300]]}


@pytest.mark.parametrize("smooth", [True, False])
def test_retiming_keeps_the_set_of_poses(thin: Clip, smooth: bool) -> None:
    patch = run(thin, "retime", {**PINS, "smooth": smooth})
    after = apply_patch(thin, patch)
    warp = Warp(*np.array(PINS["pins"], dtype=float).T, smooth)
    frames = np.arange(thin.frames, dtype=np.float64)
    old = evaluate(thin, warp.back(frames))
    new = evaluate(after, frames)
    gap = rotation.geodesic_deg(old.rotation, new.rotation)
    # Three channels of a joint, each within 0.15°.
    assert gap.max() < 0.3
    exact = done(thin, "retime", {**PINS, "smooth": False, "whole_frames": False})
    linear = evaluate(thin, replace(warp, smooth=False).back(frames)).rotation
    assert rotation.geodesic_deg(evaluate(exact).rotation, linear).max() < 1e-6
    # No key is hidden between frames, and there are not many more of them.
    for channel, curve in after.curves.items():
        assert np.all(curve.columns["time"] == np.round(curve.columns["time"])), channel
    assert after.key_count < 1.3 * thin.key_count
    outside = (frames < 100) | (frames > 300)
    assert gap[outside].max() < 1e-6
    assert after.frames == thin.frames


def test_a_pin_in_the_middle_halves_the_time_before_it(walk: Clip) -> None:
    after = done(walk, "retime", {**PINS, "smooth": False})
    old, new = evaluate(walk), evaluate(after)
    for step in range(51):
        gap = rotation.geodesic_deg(old.rotation[100 + 2 * step], new.rotation[100 + step])
        assert gap.max() < 1e-6
    assert np.allclose(old.rotation[:101], new.rotation[:101])
    assert np.allclose(old.rotation[300:], new.rotation[300:])


def test_speed_at_a_pin_is_continuous_or_broken(walk: Clip) -> None:
    line = SampledCurve(np.arange(walk.frames, dtype=np.float64))
    clip = walk.with_curves({TX: line})
    at = slice(140, 161)
    smooth = np.diff(done(clip, "retime", {**PINS, "smooth": True}).curves[TX].at(np.arange(900.0)))
    broken = np.diff(
        done(clip, "retime", {**PINS, "smooth": False}).curves[TX].at(np.arange(900.0))
    )
    assert np.abs(np.diff(smooth[at])).max() < 0.12
    assert np.abs(np.diff(broken[at])).max() > 1.0


def test_what_follows_the_last_pin_moves_along(timed: Clip) -> None:
    after = done(timed, "retime", {"pins": [[100, 100], [200, 300]], "smooth": False})
    assert after.frames == timed.frames + 100
    assert after.marks == (Mark(50, 50, "lifts off"), Mark(600, 700, "carries"))
    assert after.contacts == (Contact("left toe", 10, 140), Contact("left toe", 400, 500))


@pytest.mark.parametrize(
    ("pins", "words"),
    [
        ([[0, 0], [50, 40], [40, 60]], "pass"),
        ([[10, 20], [50, 60]], "first one"),
        ([[0, 0], [5000, 5000]], "within"),
        ([[0, 0]], "2"),
    ],
)
def test_wrong_pins_are_refused(walk: Clip, pins: list[list[int]], words: str) -> None:
    with pytest.raises(BadInput, match=words):
        run(walk, "retime", {"pins": pins})


def test_a_spring_and_a_repetition_keep_their_path_under_pins() -> None:
    curve = keyed([0, 40, 120], [0, 10, 0])
    curve = curve.edited(
        segment=np.array([Segment.SPRING, 0, 0], dtype=np.uint8),
        swings=np.array([2, 0, 0], dtype=np.uint8),
        decay=np.array([4.0, 0, 0]),
        extend=(Extend.HOLD, Extend.REPEAT),
    ).checked()
    clip = Clip(*_one_joint(curve))
    for smooth in (True, False):
        after = done(clip, "retime", {"pins": [[10, 10], [60, 30], [200, 200]], "smooth": smooth})
        warp = Warp(np.array([10.0, 60, 200]), np.array([10.0, 30, 200]), smooth)
        frames = np.arange(400.0)
        assert after.curves[RX].at(frames) == pytest.approx(curve.at(warp.back(frames)), abs=0.16)


@pytest.mark.parametrize("smooth", [True, False])
@given(st.integers(0, 300), st.integers(1, 5), st.integers(1, 5))
@example(seed=27, muted=3, rides=1)
@example(seed=35, muted=2, rides=1)
@fast
def test_muted_riding_and_held_keys_go_through_pins(
    smooth: bool, seed: int, muted: int, rides: int
) -> None:
    curve = random_curve(seed, keys=7)
    curve = with_flag(with_flag(curve, [rides], KeyFlag.RIDING), [muted], KeyFlag.MUTED)
    segment = curve.segment.copy()
    segment[(muted + 2) % 6] = Segment.HOLD
    curve = curve.edited(segment=segment)
    clip = Clip(*_one_joint(curve))
    last = float(np.ceil(curve.time[-1])) + 2
    pins = [[1, 1], [int(last / 2), int(last / 3) + 2], [int(last), int(last)]]
    after = done(clip, "retime", {"pins": pins, "smooth": smooth}).curves[RX]
    assert isinstance(after, KeyedCurve)
    assert np.count_nonzero(~after.live) <= 1
    warp = Warp(*np.array(pins, dtype=float).T, smooth)
    frames = np.arange(1.0, last + 1)
    # A held value steps within the frame; all else keeps to its path.
    gap = np.abs(after.at(frames) - curve.at(warp.back(frames)))
    step = np.ptp(curve.at(np.linspace(curve.time[0], curve.time[-1], 2000)))
    assert np.all((gap < 0.16) | (gap <= step + 1e-6))
    assert np.count_nonzero(gap > 0.16) <= 2


# Gaps, new frames, shifts


def test_of_a_hundred_frames_without_the_middle_fifty_fifty_remain(walk: Clip) -> None:
    clip = done(walk, "trim", {"first": 100, "last": 199, "calibration": False})
    for source in (clip, done(clip, "thin")):
        cut = done(source, "remove_span", {"first": 25, "last": 74, "blend": 0})
        old, new = evaluate(source), evaluate(cut)
        assert cut.frames == 50
        assert np.allclose(new.rotation[:25], old.rotation[:25], atol=1e-6)
        assert np.allclose(new.rotation[25:], old.rotation[75:], atol=1e-6)
        soft = done(source, "remove_span", {"first": 25, "last": 74, "blend": 20})
        led = evaluate(soft)
        # Continuous: the step over the seam is no longer than those of the motion around.
        step = rotation.geodesic_deg(led.rotation[1:], led.rotation[:-1])
        usual = rotation.geodesic_deg(old.rotation[1:], old.rotation[:-1]).max()
        assert step[23:27].max() < 1.6 * usual
        assert rotation.geodesic_deg(new.rotation[25], new.rotation[24]).max() > 3 * usual
        # Outside of the blend nothing has changed.
        assert np.allclose(led.rotation[:14], old.rotation[:14], atol=1e-6)
        assert np.allclose(led.rotation[36:], old.rotation[86:], atol=1e-6)


def test_a_seam_does_not_spin_where_angles_are_whole_turns_apart(walk: Clip) -> None:
    turned = SampledCurve(walk.curves[RY].at(np.arange(900.0)) + np.where(np.arange(900) > 400,
                                                                        360.0, 0.0))  # fmt: skip
    cut = done(walk.with_curves({RY: turned}), "remove_span", {"first": 390, "last": 410})
    plain = done(walk, "remove_span", {"first": 390, "last": 410})
    gap = rotation.geodesic_deg(evaluate(cut).rotation, evaluate(plain).rotation)
    assert gap.max() < 1e-6


@pytest.mark.parametrize("kept", ["sampled", "keyed"])
def test_a_gap_closed_and_opened_again_leaves_the_rest_in_place(
    walk: Clip, thin: Clip, kept: str
) -> None:
    clip = walk if kept == "sampled" else thin
    cut = done(clip, "remove_span", {"first": 200, "last": 259, "blend": 0})
    for fill in ("bridge", "hold"):
        back = done(cut, "insert_frames", {"after": 199, "count": 60, "fill": fill})
        old, new = evaluate(clip), evaluate(back)
        rest = np.r_[0:200, 260:900]
        assert back.frames == clip.frames
        assert rotation.geodesic_deg(old.rotation[rest], new.rotation[rest]).max() < 1e-6
        assert np.allclose(old.translation[rest], new.translation[rest], atol=1e-6)


@pytest.mark.parametrize("kept", ["sampled", "keyed"])
def test_a_pose_is_held_and_new_frames_are_bridged(walk: Clip, thin: Clip, kept: str) -> None:
    clip = walk if kept == "sampled" else thin
    held = evaluate(done(clip, "insert_frames", {"after": 300, "count": 12, "fill": "hold"}))
    assert np.allclose(held.rotation[300:313], held.rotation[300], atol=1e-9)
    bridged = evaluate(done(clip, "insert_frames", {"after": 300, "count": 12}))
    step = rotation.geodesic_deg(bridged.rotation[1:], bridged.rotation[:-1])
    old = evaluate(clip).rotation
    usual = rotation.geodesic_deg(old[1:], old[:-1]).max()
    assert step.max() <= usual * 1.01


@pytest.mark.parametrize("kept", ["sampled", "keyed"])
@pytest.mark.parametrize("by", [1, 7, 40])
def test_shifting_there_and_back_is_the_identity(
    walk: Clip, thin: Clip, kept: str, by: int
) -> None:
    clip = walk if kept == "sampled" else thin
    there = done(clip, "shift_from", {"frame": 321, "by": by})
    assert there.frames == clip.frames + by
    back = done(there, "shift_from", {"frame": 321 + by, "by": -by})
    for channel, curve in clip.curves.items():
        for name, column in curve.columns.items():
            other = back.curves[channel].columns[name]
            np.testing.assert_allclose(
                other, column, rtol=0, atol=1e-9, err_msg=f"{channel} {name}"
            )


@pytest.mark.parametrize(("first", "length"), [(281, 362), (50, 40), (120, 500), (0, 899)])
@pytest.mark.parametrize("s", [0.5, 2.0, 4.0])
def test_a_span_stretched_by_s_and_by_one_over_s_is_what_it_was(
    thin: Clip, first: int, length: int, s: float
) -> None:
    length -= length % 2
    exact = {"whole_frames": False}
    there = done(thin, "scale_span", {"first": first, "last": first + length, "factor": s, **exact})
    ends = {"first": first, "last": first + round(length * s), **exact}
    back = done(there, "scale_span", {**ends, "factor": 1 / s})
    assert back.frames == thin.frames
    frames = np.arange(thin.frames, dtype=np.float64)
    for channel, curve in thin.curves.items():
        np.testing.assert_allclose(
            back.curves[channel].at(frames), curve.at(frames), rtol=0, atol=1e-5
        )


CHANGES = {
    "retime": {"pins": [[0, 0], [899, 1798]], "smooth": False},
    "scale_span": {"first": 0, "last": 899, "factor": 2},
    "insert_frames": {"after": 5, "count": 100},
    "restore_frames": {"places": [{"after": 5, "count": 2}]},
    "shift_from": {"frame": 5, "by": 100},
    "remove_span": {"first": 0, "last": 4},
    "trim": {"first": 5, "last": 899, "calibration": False},
    "change_rate": {"rate": "120"},
}
WITHOUT_A_TIME = {"skeleton", "layout", "reading", "name", "placement"}
TIME_ITSELF = {"rate", "frames"}


def test_the_changes_of_time_are_all_of_them() -> None:
    """But repeat, which adds frames at the end: nothing that was there moves; and reverse and
    begin_loop, which have tests of their own, and join, which takes other clips."""
    moved = {*CHANGES, "repeat", "reverse", "begin_loop", "join"}
    assert {n for n, o in OPERATIONS.items() if o.retimes} == moved


@pytest.mark.parametrize("name", sorted(CHANGES))
@pytest.mark.parametrize("kept", ["sampled", "keyed"])
def test_nothing_that_has_a_time_is_left_behind(timed: Clip, thin: Clip, name: str,
                                                kept: str) -> None:  # fmt: skip
    """Every part of a clip either has no time, is time, or moves: a new part fails here."""
    clip = timed if kept == "sampled" else replace(timed, curves=thin.curves)
    after = done(clip, name, CHANGES[name])
    for part in (f.name for f in fields(Clip)):
        if part in WITHOUT_A_TIME | TIME_ITSELF:
            continue
        old, new = getattr(clip, part), getattr(after, part)
        if part == "curves":
            moved = [c for c in old if old[c].key_count > 1 or kept == "sampled"]
            assert moved
            for channel in moved:
                times = [_last_time(x.curves[channel]) for x in (clip, after)]
                assert times[0] != times[1], channel
            assert set(new) == set(old)
        else:
            assert len(new) == len(old), part
            assert all(a != b for a, b in zip(old, new, strict=True)), part


def _last_time(curve: Any) -> float:
    return float(len(curve.values) - 1 if isinstance(curve, SampledCurve) else curve.time[-1])


def test_spans_within_a_gap_go_and_those_across_it_close_up(timed: Clip) -> None:
    after = done(timed, "remove_span", {"first": 100, "last": 549})
    assert after.contacts == (Contact("left toe", 10, 99),)
    assert after.accepted == ()
    assert after.marks == (Mark(50, 50, "lifts off"), Mark(100, 150, "carries"))


def test_drift_is_measured_on_the_new_time(walk: Clip) -> None:
    """Closing a gap is no drift: the take goes through what moves time as well."""
    from leancurve.measures.drift import drift

    cut = {"first": 200, "last": 259, "blend": 0}
    take, clip = done(walk, "remove_span", cut), done(done(walk, "thin"), "remove_span", cut)
    assert drift(clip, take).max_deg < 0.5


FULL = ClipTime(Fraction(60), 900)


def test_on_another_take_changes_of_time_mean_the_same_seconds() -> None:
    """At half the rate frames and lengths are halved; lines below one that makes the clip longer
    may lie beyond the end that it had."""
    lines = [
        {"operation": "retime", "params": {"pins": [[0, 0], [100, 200], [300, 500]]}, "scope": {}},
        {"operation": "insert_frames", "params": {"after": 40, "count": 20}, "scope": {}},
        {"operation": "shift_from", "params": {"frame": 480, "by": -10}, "scope": {}},
        {"operation": "slide", "params": {"by": 8, "about": 30}, "scope": {}},
        {"operation": "remove_span", "params": {"first": 10, "last": 19}, "scope": {}},
    ]
    moved, lost = moved_lines(lines, FULL, ClipTime(Fraction(30), 200))
    assert [m["params"] for m in moved] == [
        {"pins": [[0, 0], [50, 100], [150, 250]]},
        {"after": 20, "count": 10},
        {"frame": 240, "by": -5},
        {"by": 4, "about": 15},
        {"first": 5, "last": 10},
    ]
    assert lost == []
    short, gone = moved_lines(lines[:1], FULL, ClipTime(Fraction(30), 40))
    assert short[0]["aside"]
    assert gone[0]["aside"]
    pins = {"pins": [[0, 0], [1, 3], [90, 90]]}
    near, met = moved_lines([{**lines[0], "params": pins}], FULL, ClipTime(Fraction(12), 99))
    assert near[0]["params"]["pins"] == [[0, 0], [18, 18]]
    assert met[0]["pins"] == [1, 3]


@pytest.mark.parametrize("load", WHOLE, ids=str)
def test_backwards_the_last_pose_is_the_first(load: Load) -> None:
    """Everything that plays is the other way round, plants and their eases too, and played
    backwards once more it is what it was."""
    clip = laden(load)
    there = done(clip, "reverse", {})
    again = done(there, "reverse", {})
    turns, points = evaluate(clip).world(clip.skeleton)
    turned, placed = evaluate(there).world(clip.skeleton)
    size = clip.skeleton.rest_height
    assert np.abs(placed[::-1] - points).max() < 1e-6 * size
    assert rotation.geodesic_deg(turned[::-1], turns).max() < 1e-4
    for before, after in zip(placed_props(clip), placed_props(there), strict=True):
        assert np.abs(after[::-1] - before).max() < 1e-8 * size
    assert again.key_count == clip.key_count
    for part in ("contacts", "marks", "plants", "accepted"):
        assert getattr(again, part) == getattr(clip, part), part
    for track, curve in clip.curves.items():
        for name, column in curve.columns.items():
            assert np.allclose(again.curves[track].columns[name], column, atol=1e-9), (track, name)


def test_what_holds_springs_bounces_or_is_muted_is_backwards_too() -> None:
    """On every frame: what is held backwards comes from the later key, from the next frame on."""
    base = keyed([0.0, 10, 17, 30, 41, 52.5, 60], [0.0, 5, -3, 8, 2, 6, 1])
    frames = np.arange(61, dtype=np.float64)
    kinds = [Segment.HOLD, Segment.CURVE, Segment.STRAIGHT, Segment.HOLD, Segment.CURVE,
             Segment.HOLD, Segment.CURVE]  # fmt: skip
    for changed in (
        base.edited(segment=np.array(kinds, dtype=np.uint8)),
        base.edited(flags=np.array([0, 0, KeyFlag.MUTED, 0, KeyFlag.MUTED, 0, 0], dtype=np.uint8),
                    segment=np.array(kinds, dtype=np.uint8)),
        replace(base, extend=(Extend.STRAIGHT, Extend.HOLD)),
    ):  # fmt: skip
        made = backwards(changed, 60)
        assert np.abs(made.at(frames)[::-1] - changed.at(frames)).max() < 1e-9
    swinging = base.edited(
        segment=np.array([3, 0, 4, 0, 0, 0, 0], dtype=np.uint8),
        swings=np.full(7, 2, dtype=np.uint8), decay=np.full(7, 1.4),
    )  # fmt: skip
    made = backwards(swinging, 60)
    assert np.abs(made.at(frames)[::-1] - swinging.at(frames)).max() < 0.05
