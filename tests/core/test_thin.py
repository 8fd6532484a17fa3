"""Thinning: the bound holds, landmarks are kept, the minimum is a minimum."""

from __future__ import annotations

from fractions import Fraction

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from leancurve.cleaning.thinning import (
    FEWEST,
    ON_TIMES,
    TURNED,
    USUAL,
    Channel,
    borders,
    find_landmarks,
    fit_channel,
    least_keys,
    noise_level,
)
from leancurve.curves.curve import Handle, KeyFlag, SampledCurve
from leancurve.curves.plain import evaluate_plain
from leancurve.demo.defects import Capture
from leancurve.document.clip import Clip
from leancurve.document.evaluation import effective
from leancurve.document.track import base_track
from leancurve.errors import BadInput
from leancurve.figure.skeleton import Skeleton
from leancurve.measures.drift import drift
from leancurve.numbers.kernels import landmarks as kernels
from leancurve.numbers.kernels import minimax
from leancurve.operations import OPERATIONS, Cancelled, Scope, apply_patch
from leancurve.operations.thin.tolerances import tolerances_of
from scipy.optimize import linprog

from tests import oracle

THIN = OPERATIONS["thin"]


def channel(values: np.ndarray, rate: int = 120) -> Clip:
    skeleton = Skeleton(("a",), (-1,), ((0.0, 0.0, 0.0),))
    curves = {base_track(0, "rx"): SampledCurve(np.asarray(values, dtype=np.float64))}
    return Clip(skeleton, (("rx",),), curves, Fraction(rate), len(values))


def thinned(values: np.ndarray, tolerance: float = 0.25, **params: object) -> object:
    clip = channel(values)
    patch = THIN.run(clip, {"tolerance_deg": tolerance, **params})
    return patch.curves[base_track(0, "rx")]


def wave(frames: int = 600) -> np.ndarray:
    t = np.arange(frames) / 120
    return 40 * np.sin(2 * np.pi * 0.7 * t) + 8 * np.sin(2 * np.pi * 2.3 * t + 1)


def minimax_error(y: np.ndarray) -> float:
    """Least largest error of a cubic, by linear programming: the oracle."""
    x = np.linspace(-1, 1, len(y))
    v = np.vander(x, 4)
    ones = np.ones((len(y), 1))
    result = linprog(
        [0, 0, 0, 0, 1],
        A_ub=np.block([[v, -ones], [-v, -ones]]),
        b_ub=np.concatenate([y, -y]),
        bounds=[(None, None)] * 4 + [(0, None)],
    )
    return float(result.x[-1])


@settings(max_examples=60)
@given(st.integers(0, 2**32 - 1), st.integers(5, 120), st.floats(0.02, 3.0))
def test_feasibility_of_a_cubic_agrees_with_linear_programming(
    seed: int, count: int, tolerance: float
) -> None:
    random = np.random.default_rng(seed)
    y = np.cumsum(random.normal(0, 0.3, count)) + 5 * np.sin(np.arange(count) / 9)
    error = minimax_error(y)
    if abs(error - tolerance) > 1e-6:
        assert minimax.cubic_fits(y, 0, count - 1, tolerance) == (error <= tolerance)


def test_the_bound_is_the_optimum_of_dynamic_programming() -> None:
    """Fewest stretches over all segmentations, found by trying every one."""
    y = wave(130)[:130] + np.random.default_rng(1).normal(0, 0.1, 130)
    fewest = [0] + [10**6] * (len(y) - 1)
    for b in range(1, len(y)):
        for a in range(b):
            if fewest[a] + 1 < fewest[b] and minimax.cubic_fits(y, a, b, 0.25):
                fewest[b] = fewest[a] + 1
    assert least_keys(y, 0.25) == fewest[-1] + 1


@settings(max_examples=40)
@given(
    st.integers(0, 2**32 - 1),
    st.integers(1, 400),
    st.floats(0.02, 3.0),
    st.booleans(),
)
def test_the_tolerance_holds_on_every_frame_of_anything(
    seed: int, frames: int, tolerance: float, landmarks: bool
) -> None:
    random = np.random.default_rng(seed)
    rough = random.normal(0, random.choice([0.0, 0.05, 2.0]), frames)
    jumps = np.cumsum(random.choice([0, 0, 0, 0, 25.0], frames))
    values = 30 * np.sin(np.arange(frames) / random.uniform(4, 60)) + rough + jumps
    curve = thinned(values, tolerance, landmarks=landmarks)
    error = np.abs(evaluate_plain(curve, np.arange(frames, dtype=float)) - values)
    assert error.max() <= tolerance * (1 + 1e-9) + 1e-9
    assert curve.time[0] == 0
    assert curve.time[-1] == frames - 1
    assert np.all(curve.time == np.round(curve.time))


def test_extremes_have_a_key_about_which_the_curve_turns() -> None:
    values = wave()
    curve = thinned(values)
    marks = find_landmarks(values, 0.25, 120.0, least=1.0)
    extremes = marks.frames[marks.kinds == TURNED]
    inner = np.flatnonzero((values[1:-1] - values[:-2]) * (values[2:] - values[1:-1]) < 0) + 1
    assert len(extremes) >= 7
    assert set(extremes) <= set(inner)
    fine = np.arange(0.0, len(values) - 1 + 1e-9, 0.125)
    at = evaluate_plain(curve, fine)
    turns = fine[1:-1][(at[1:-1] - at[:-2]) * (at[2:] - at[1:-1]) < 0]
    for f in extremes:
        assert np.abs(curve.time - f).min() <= 2
        assert np.abs(turns - f).min() <= 2
        assert np.abs(at[np.abs(fine - f) <= 2] - values[f]).min() <= 0.25


def test_where_a_smooth_key_would_not_turn_at_an_extreme_it_is_flat() -> None:
    """On slow motion a curve within the tolerance may turn seconds away from the extreme."""
    slow = 20 * np.sin(2 * np.pi * np.arange(1200) / 600)
    curve = thinned(slow, 1.0, contacts=False)
    for f in (150, 450, 750, 1050):
        nearest = int(np.abs(curve.time - f).argmin())
        assert abs(curve.time[nearest] - f) <= 2
        assert abs(curve.value[nearest] - slow[f]) <= 0.5
        assert curve.handle[nearest] == Handle.FLAT or curve.slope_out[nearest] != 0


def test_only_large_extremes_have_a_key_when_asked() -> None:
    values = wave() + 2.5 * np.sin(2 * np.pi * 6.0 * np.arange(600) / 120)
    counts = [thinned(values, extremes=which).key_count for which in ("every", "large")]
    assert counts[1] < counts[0]
    error = np.abs(evaluate_plain(thinned(values, extremes="large"), np.arange(600.0)) - values)
    assert error.max() <= 0.25 * (1 + 1e-9)


def channel_with_stops(seed: int) -> tuple[Channel, np.ndarray | None]:
    """Motion with holds, its landmarks, keys asked for within three frames of them as contacts
    ask, and spans with a part of the tolerance that begin and end there too."""
    random = np.random.default_rng(seed)
    frames = int(random.integers(40, 200))
    t = np.arange(frames) / 120
    values = np.zeros(frames)
    for _ in range(3):
        size, pace, phase = random.uniform((2, 0.1, 0), (30, 3, 6))
        values += size * np.sin(2 * np.pi * pace * t + phase)
    for _ in range(int(random.integers(0, 3))):
        first = int(random.integers(0, frames - 30))
        last = first + int(random.integers(20, 30))
        values[last:] += values[first] - values[last]
        values[first:last] = values[first]
    values += random.normal(0, random.choice([0, 0.02, 0.1]), frames)
    tolerance = float(random.choice([0.1, 0.25, 1.0, 3.0]))
    marks = find_landmarks(values, tolerance, 120.0, least=0.5)
    inner = marks.frames[1:-1]
    asked = np.clip(inner + random.integers(-3, 4, len(inner)), 0, frames - 1)
    share = np.ones(frames)
    for f in [*inner, *random.integers(0, frames, 2)]:
        if random.random() < 0.4:
            begin = max(0, int(f + random.integers(-3, 4)))
            share[begin : begin + int(random.integers(1, 30))] *= random.choice([0.25, 0.5])
    return Channel(values, tolerance, marks, share), np.unique(asked)


@settings(max_examples=60)
@given(st.integers(0, 1_000_000))
def test_no_frame_exceeds_its_tolerance_whatever_stops_a_channel_has(seed: int) -> None:
    channel, asked = channel_with_stops(seed)
    limit = channel.tolerance * channel.share
    for effort in (USUAL, FEWEST, ON_TIMES):
        curve = fit_channel(channel, asked, effort)
        found = evaluate_plain(curve, np.arange(len(limit), dtype=float))
        assert np.all(np.abs(found - channel.values) <= limit * (1 + 1e-6))
        assert set(asked.tolist()) <= set(curve.time.tolist())
        assert np.all(np.diff(curve.time) >= 1)


@pytest.mark.parametrize("seed", range(40))
def test_a_slow_channel_needs_few_keys_at_any_wide_tolerance(seed: int) -> None:
    """A cubic of free ends may reach ten times as far as one that goes on from the last key: keys
    on every frame were the answer to that."""
    r = np.random.default_rng(seed)
    t = np.arange(3500.0)
    values = np.zeros(3500)
    for k in range(1, 5):
        pace = r.uniform(2500, 9000)
        values += r.normal() * 6 / k * np.sin(2 * np.pi * k * t / pace + r.uniform(0, 6))
    apart = np.exp(-(((t - r.uniform(0, 3500)) / 300) ** 2))
    values += r.uniform(2, 12) * np.sin(t / r.uniform(20, 60)) * apart
    for tolerance in (1.0, 2.0, 2.9, 4.0):
        keys = fit_channel(Channel(values, tolerance, borders(values))).key_count
        assert keys <= 1.5 * least_keys(values, tolerance) + 6


def test_a_wiggle_within_the_tolerance_or_the_noise_earns_no_key() -> None:
    slow = 40 * np.sin(2 * np.pi * 0.7 * np.arange(600) / 120)
    for tolerance, size in ((0.25, 1.0), (1.0, 4.0)):
        wiggling = slow + size * np.sin(2 * np.pi * 5.0 * np.arange(600) / 120)
        slowly = find_landmarks(slow, tolerance, 120.0, least=1.0)
        marks = find_landmarks(wiggling, tolerance, 120.0, least=1.0)
        assert len(marks.frames) <= len(slowly.frames) + 2
    rough = slow + np.random.default_rng(3).normal(0, 1.0, 600)
    assert len(find_landmarks(rough, 0.05, 120.0, least=1.0).frames) < 20


def test_few_more_keys_than_an_oracle_needs(open_capture: Clip) -> None:
    """Dynamic programming over frame, slope and value, on short stretches of a real capture."""
    smooth = apply_patch(open_capture, OPERATIONS["smooth"].run(open_capture))
    needed = {"usual": 0, "fewest keys": 0, "oracle": 0}
    for joint, name in (("LeftLeg", "rx"), ("RightArm", "ry"), ("Hips", "rz"), ("Neck", "rx")):
        track = base_track(smooth.skeleton.index(joint), name)
        values = np.ascontiguousarray(smooth.curves[track].at(np.arange(900.0, 1060.0)))
        needed["oracle"] += oracle.keys(values, 0.25, slopes=3, values=1)
        for search in ("usual", "fewest keys"):
            needed[search] += thinned(values, landmarks=False, search=search).key_count
    assert needed["oracle"] > 20
    assert needed["usual"] <= 1.1 * needed["oracle"]
    assert needed["fewest keys"] <= 1.03 * needed["oracle"]


def test_both_ends_of_a_hold_are_keys_and_nothing_wanders_between() -> None:
    rise = 20 * (0.5 - 0.5 * np.cos(np.linspace(0, np.pi, 60)))
    values = np.concatenate([rise, np.full(80, 20.0), 20 - rise])
    curve = thinned(values)
    # Within a tenth of the tolerance of its rest the way in counts as rest: 2 or 3 frames.
    held = [k for k in range(len(curve.time)) if 56 <= curve.time[k] <= 143]
    assert len(held) == 2
    first, last = curve.time[held]
    assert first <= 60 <= 139 <= last
    assert np.abs(curve.at(np.arange(first, last + 1)) - 20).max() < 1e-12


def test_a_static_channel_becomes_two_keys_also_under_noise() -> None:
    noise = np.random.default_rng(2).normal(0, 0.04, 1000)
    assert thinned(np.full(1000, 7.5)).key_count == 2
    assert thinned(7.5 + noise).key_count <= 4


def test_a_slow_travel_is_not_cut_into_holds() -> None:
    assert thinned(np.linspace(0, 8, 2000)).key_count == 2


def test_a_velocity_break_is_a_broken_key() -> None:
    """A foot coming to a stop at once: the speed changes in one frame, as at a contact."""
    t = np.arange(240) / 120.0
    values = np.where(t < 1, 60 * t, 60 - 25 * (t - 1))
    curve = thinned(values)
    k = int(np.argmin(np.abs(curve.time - 120)))
    assert curve.time[k] == 120
    assert curve.flags[k] & KeyFlag.BROKEN or curve.handle[k] == Handle.FLAT
    down = np.where(t < 1, 60 * t, 60 + 5 * (t - 1))
    curve = thinned(down)
    k = int(np.argmin(np.abs(curve.time - 120)))
    assert curve.time[k] == 120
    assert curve.flags[k] & KeyFlag.BROKEN
    assert curve.slope_in[k] == pytest.approx(0.5, abs=0.05)


def test_keys_between_landmarks_are_smooth() -> None:
    curve = thinned(wave(), landmarks=False)
    inner = slice(1, -1)
    assert np.all(curve.slope_in[inner] == curve.slope_out[inner])
    assert not np.any(curve.flags & KeyFlag.BROKEN)


def test_one_sided_slopes_are_exact_on_parabolas() -> None:
    k = np.arange(11)
    weights = kernels.one_sided_weights(10)
    assert weights @ (3 + 0.7 * k - 0.05 * k**2) == pytest.approx(0.7)


def test_noise_level_is_the_sigma_put_in() -> None:
    noise = np.random.default_rng(3).normal(0, 0.1, 20000)
    assert noise_level(wave(20000) + noise) == pytest.approx(0.1, rel=0.05)


def test_demo_take_counts_reach_their_targets(walk: Clip) -> None:
    plain = THIN.run(walk, {"landmarks": False, "contacts": False}).report
    kept = THIN.run(walk, {"contacts": False}).report
    assert plain["keys_after"] / plain["keys_bound"] <= 1.15
    assert kept["keys_after"] / kept["keys_bound"] <= 1.6
    assert kept["max_error_deg"] <= 0.25
    assert kept["max_error_mm"] <= 1.0


def test_thinning_reports_what_a_separate_evaluation_finds(captured_walk: Capture) -> None:
    clip = captured_walk.clip
    mended = apply_patch(clip, OPERATIONS["unflip"].run(clip))
    patch = THIN.run(mended, {"tolerance_deg": 0.5})
    frames = np.arange(clip.frames, dtype=float)
    source = effective(mended, frames)
    worst = max(
        float(np.abs(evaluate_plain(curve, frames) - source[c]).max())
        for c, curve in patch.curves.items()
        if c.turns
    )
    assert worst == pytest.approx(patch.report["max_error_deg"], abs=1e-6)
    assert worst <= 0.5
    moved = drift(apply_patch(mended, patch), mended)
    assert 0 < moved.rms_deg < moved.max_deg < 3 * 0.5


def test_the_open_capture_thins_within_its_tolerance(open_capture: Clip) -> None:
    report = THIN.run(open_capture).report
    assert report["max_error_deg"] <= 0.25
    assert report["keys_after"] < report["keys_before"] / 10


def test_nothing_outside_its_scope_changes(walk: Clip) -> None:
    patch = THIN.run(walk, scope=Scope(joints=("Head", "Nobody"), channels=("rx",)))
    assert {(walk.skeleton.names[c.joint], c.name) for c in patch.curves} == {("Head", "rx")}
    assert patch.report["keys_before"] == walk.frames


def test_the_same_input_gives_the_same_bytes(walk: Clip) -> None:
    scope = Scope(joints=("Hips", "LeftHand"), channels=None)
    a, b = (THIN.run(walk, scope=scope).curves for _ in range(2))
    for c in a:
        for name, column in a[c].columns.items():
            assert column.tobytes() == b[c].columns[name].tobytes()


def test_thinning_can_be_cancelled_between_channels(walk: Clip) -> None:
    shares: list[float] = []

    def stop(share: float) -> None:
        shares.append(share)
        if share > 0.1:
            raise Cancelled

    with pytest.raises(Cancelled):
        THIN.run(walk, progress=stop)
    assert len(shares) < 30


@pytest.mark.parametrize(
    ("params", "message"),
    [
        ({"tolerance_deg": 0}, "tolerance_deg: .* greater than 0, got 0"),
        ({"tolerance_deg": -1}, "tolerance_deg: .* got -1"),
        ({"tolerance": 1}, "tolerance: .* not permitted"),
        ({"tolerance_deg": "much"}, "tolerance_deg: .* got 'much'"),
    ],
)
def test_wrong_parameters_are_refused_by_name_and_bound(params: dict, message: str) -> None:
    with pytest.raises(BadInput, match=message):
        THIN.run(channel(wave()), params)


def test_landmarks_always_hold_the_first_and_last_frame() -> None:
    marks = find_landmarks(wave(), 0.25, 120.0, least=1.0)
    assert (marks.frames[0], marks.frames[-1]) == (0, 599)
    assert np.all(np.diff(marks.frames) > 0)


def test_what_a_tolerance_buys_is_near_what_thinning_needs(open_capture: Clip) -> None:
    smooth = apply_patch(open_capture, OPERATIONS["smooth"].run(open_capture))
    told = tolerances_of(smooth)
    assert [b.tolerance_deg for b in told.bought] == sorted(b.tolerance_deg for b in told.bought)
    assert all(b.minimum <= b.keys for b in told.bought)
    for tolerance in (0.25, 1.0):
        report = THIN.run(smooth, {"tolerance_deg": tolerance}).report
        bought = next(b for b in told.bought if b.tolerance_deg == tolerance)
        assert bought.minimum == report["keys_bound"]
        assert bought.keys == pytest.approx(report["keys_after"], rel=0.15)


def test_a_noisy_take_proposes_a_tolerance_above_its_noise() -> None:
    noisy = wave() + np.random.default_rng(1).normal(0, 0.2, 600)
    told = tolerances_of(channel(noisy))
    assert told.noise_deg == pytest.approx(0.2, rel=0.15)
    assert told.proposed_deg == 1.0
    assert tolerances_of(channel(wave())).proposed_deg == 0.25
