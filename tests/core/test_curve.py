"""Cubic segments against the glTF specification, SciPy, and an evaluation by other means."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from leancurve.curves.curve import KeyedCurve, SampledCurve, Segment, evaluate_keyed, keyed
from leancurve.curves.plain import evaluate_plain
from leancurve.document.clip import Clip
from leancurve.document.evaluation import effective, evaluate
from leancurve.document.track import base_track
from leancurve.errors import BadInput
from leancurve.operations import OPERATIONS, apply_patch
from scipy.interpolate import CubicHermiteSpline, PchipInterpolator


def random_curve(seed: int, keys: int = 12) -> KeyedCurve:
    """Keys with handles of any slope and any length in [0, 1]."""
    random = np.random.default_rng(seed)
    curve = keyed(np.cumsum(random.uniform(0.3, 20, keys)), random.normal(0, 40, keys))
    return curve.edited(
        slope_in=random.normal(0, 5, keys),
        slope_out=random.normal(0, 5, keys),
        length_in=random.uniform(0, 1, keys),
        length_out=random.uniform(0, 1, keys),
    )


def test_third_length_handles_are_the_gltf_cubic_spline() -> None:
    """glTF 2.0, appendix C: p(t) = (2t³-3t²+1)v₀ + d(t³-2t²+t)b₀ + (-2t³+3t²)v₁ + d(t³-t²)a₁."""
    curve = keyed([2, 10], [5, -3], [1.5, -0.25])
    t = np.linspace(0, 1, 50)
    d = 8.0
    expected = (
        (2 * t**3 - 3 * t**2 + 1) * 5
        + d * (t**3 - 2 * t**2 + t) * 1.5
        + (-2 * t**3 + 3 * t**2) * -3
        + d * (t**3 - t**2) * -0.25
    )
    assert curve.at(2 + d * t) == pytest.approx(expected, abs=1e-12)


def test_hermite_evaluation_agrees_with_scipy() -> None:
    random = np.random.default_rng(1)
    time, value, slope = np.arange(0, 60, 5.0), random.normal(size=12), random.normal(size=12)
    frames = np.linspace(0, 55, 300)
    theirs = CubicHermiteSpline(time, value, slope)(frames)
    assert keyed(time, value, slope).at(frames) == pytest.approx(theirs, abs=1e-11)


@given(st.integers(0, 2**32 - 1))
def test_free_lengths_agree_with_bisection_in_numpy(seed: int) -> None:
    curve = random_curve(seed)
    frames = np.random.default_rng(seed).uniform(-5, curve.time[-1] + 5, 200)
    gap = np.abs(curve.at(frames) - evaluate_plain(curve, frames))
    # Where handles of full length meet, time stands still and the value is steep there.
    assert gap.max() < 1e-5


def test_a_segment_passes_its_keys_and_holds_outside() -> None:
    curve = random_curve(3)
    assert curve.at(curve.time) == pytest.approx(curve.value, abs=1e-9)
    assert curve.at(np.array([-100.0, 1e6])) == pytest.approx([curve.value[0], curve.value[-1]])


def test_time_never_runs_back_with_any_lengths() -> None:
    for lengths in (0.0, 0.5, 1.0):
        curve = keyed([0, 10], [0, 10], [0.0, 0.0])
        curve = curve.edited(length_in=np.full(2, lengths), length_out=np.full(2, lengths))
        assert np.all(np.diff(curve.at(np.linspace(0, 10, 500))) >= -1e-9)


def test_straight_and_hold_segments() -> None:
    curve = keyed([0, 4, 8], [0, 8, 0])
    curve = curve.edited(segment=np.array([Segment.STRAIGHT, Segment.HOLD, 0], dtype=np.uint8))
    assert curve.at(np.array([1.0, 3.0, 4.0, 7.9, 8.0])) == pytest.approx([2, 6, 8, 8, 0])
    assert evaluate_plain(curve, np.array([1.0, 7.9])) == pytest.approx([2, 8])


def test_eased_slopes_are_scipys_monotone_ones_inside() -> None:
    """Both are Fritsch and Butland's harmonic mean; ends differ on purpose: ours are flat."""
    random = np.random.default_rng(5)
    time, value = np.cumsum(random.uniform(1, 9, 20)), random.normal(size=20)
    theirs = PchipInterpolator(time, value).derivative()(time)
    assert keyed(time, value).slope_out[1:-1] == pytest.approx(theirs[1:-1])


def test_many_curves_at_once_are_each_alone() -> None:
    curves = [random_curve(s, keys=k) for s, k in ((1, 2), (2, 9), (3, 1))]
    frames = np.random.default_rng(0).uniform(0, 90, 70)
    together = evaluate_keyed(curves, frames)
    for row, curve in zip(together, curves, strict=True):
        assert np.array_equal(row, curve.at(frames))


@pytest.mark.parametrize(
    ("column", "value", "message"),
    [
        ("time", [0.0, 0.0, 2.0], "must ascend"),
        ("value", [0.0, np.nan, 0.0], "not a finite number"),
        ("length_out", [0.3, 1.4, 0.3], "0 to 4/3"),
        ("id", [1, 1, 2], "unique"),
        ("value", [0.0, 1.0], "2 entries, expected 3"),
        ("handle", [0, 9, 0], "does not exist"),
    ],
)
def test_broken_key_columns_are_refused_by_name(column: str, value: list, message: str) -> None:
    good = keyed([0, 1, 2], [0, 1, 0])
    array = np.array(value, dtype=getattr(good, column).dtype)
    with pytest.raises(BadInput, match=message):
        good.edited(**{column: array}).checked()


def test_lengths_that_would_let_time_run_back_are_refused() -> None:
    """Time's speed must stay at or above 0: looked at densely, for lengths on both sides of it."""
    u = np.linspace(0, 1, 2001)
    for a, b in ((1.2, 0.05), (1.2, 0.1), (1.3, 0.2), (4 / 3, 1 / 3), (1.0, 1.0), (0.04, 1.25)):
        speed = (1 - u) ** 2 * a + 2 * u * (1 - u) * (1 - a - b) + u**2 * b
        curve = keyed([0, 1], [0, 1])
        curve = curve.edited(length_out=np.array([a, 0.3]), length_in=np.array([0.3, b]))
        if speed.min() < -1e-6:
            with pytest.raises(BadInput, match="run back"):
                curve.checked()
        else:
            curve.checked()


def test_evaluating_some_frames_is_evaluating_all_and_choosing(walk: Clip) -> None:
    thin = apply_patch(walk, OPERATIONS["thin"].run(walk))
    mixed = thin.with_curves({c: walk.curves[c] for c in list(walk.channels)[::3]})
    frames = np.array([0.0, 17, 450, 899])
    some, every = evaluate(mixed, frames), evaluate(mixed)
    between = np.array([3.5, 17.25, 450.0])
    few, all_joints = evaluate(mixed, between, joints=[3, 0]), evaluate(mixed, between)
    assert np.array_equal(few.rotation, all_joints.rotation[:, [3, 0]])
    assert np.array_equal(few.translation, all_joints.translation[:, [3, 0]])
    at = frames.astype(int)
    assert np.abs(some.rotation - every.rotation[at]).max() < 1e-12
    assert np.abs(some.translation - every.translation[at]).max() < 1e-9


def test_sampled_rotations_turn_by_slerp_between_frames(walk: Clip) -> None:
    from leancurve.numbers import rotation

    a, half, b = evaluate(walk, np.array([100.0, 100.5, 101.0])).rotation
    assert rotation.geodesic_deg(half, rotation.slerp(a, b, 0.5)).max() < 1e-9


def test_a_clip_of_n_frames_lasts_n_minus_one_over_rate(walk: Clip) -> None:
    assert walk.duration_s == pytest.approx(899 / 60)
    assert replace(walk, frames=1).duration_s == 0


def test_sampled_channels_are_straight_between_frames() -> None:
    curve = SampledCurve(np.array([0.0, 10.0, 0.0]))
    assert curve.at(np.array([0.25, 1.5, 9.0, -1.0])) == pytest.approx([2.5, 5, 0, 0])


def test_channel_values_of_chosen_channels_only(walk: Clip) -> None:
    chosen = [base_track(0, "tx"), base_track(3, "rz")]
    assert set(effective(walk, np.arange(5.0), chosen)) == set(chosen)
