"""Handles fitted again to kept keys, against SciPy's splines and the plain least squares."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from leancurve.cleaning.refitting import refitted
from leancurve.curves.curve import KeyFlag, keyed
from leancurve.numbers.cubic import hermite
from scipy.interpolate import CubicSpline

FRAMES = np.arange(121.0)


def test_keys_on_a_cubic_spline_get_that_splines_slopes_back() -> None:
    """What a spline made on every frame is met by its own knots, exactly (SciPy's CubicSpline)."""
    times, values = np.array([0.0, 17, 40, 75, 120]), np.array([0.0, 9, -4, 22, 3])
    spline = CubicSpline(times, values)
    curve = refitted(keyed(times, values), spline(FRAMES))
    assert np.abs(curve.at(FRAMES) - spline(FRAMES)).max() < 1e-3
    assert curve.slope_in == pytest.approx(spline(times, 1), abs=1e-3)
    assert curve.time.tolist() == times.tolist()
    assert curve.value == pytest.approx(values)


def test_what_is_left_after_a_key_was_taken_out_is_nearer_to_the_motion() -> None:
    motion = 20 * np.sin(FRAMES / 15) + 5 * np.sin(FRAMES / 6)
    times = np.array([0.0, 20, 55, 90, 120])
    stood = keyed(times, motion[times.astype(int)])

    def off(curve: object) -> float:
        return float(np.sqrt(np.mean((curve.at(FRAMES) - motion) ** 2)))  # type: ignore[attr-defined]

    assert off(refitted(stood, motion)) < 0.7 * off(stood)


def test_values_set_by_hand_stay_and_lead_the_motion_along() -> None:
    motion = 10 * np.sin(FRAMES / 12)
    times = np.array([0.0, 30, 60, 90, 120])
    raised = refitted(keyed(times, motion[times.astype(int)] + 5.0), motion)
    assert raised.value == pytest.approx(motion[times.astype(int)] + 5.0)
    plain = refitted(keyed(times, motion[times.astype(int)]), motion)
    assert raised.at(FRAMES) == pytest.approx(plain.at(FRAMES) + 5.0, abs=1e-6)


def test_a_broken_key_gets_a_slope_to_each_side() -> None:
    motion = np.abs(FRAMES - 60.0)
    curve = keyed([0, 60, 120], [60.0, 0, 60])
    flags = np.array([0, KeyFlag.BROKEN, 0], dtype=np.uint8)
    out = refitted(curve.edited(flags=flags), motion)
    assert (out.slope_in[1], out.slope_out[1]) == pytest.approx((-1.0, 1.0), abs=1e-3)
    assert np.abs(out.at(FRAMES) - motion).max() < 0.05


@settings(max_examples=40)
@given(
    st.lists(st.integers(1, 119), min_size=1, max_size=12, unique=True),
    st.integers(0, 2**16),
)
def test_it_is_the_least_squares_solution_and_leaves_alone_what_is_not_chosen(
    inner: list[int], seed: int
) -> None:
    """Against numpy's lstsq on the Hermite basis, some keys' slopes held."""
    random = np.random.default_rng(seed)
    times = np.array([0.0, *sorted(inner), 120.0])
    motion = np.cumsum(random.normal(0, 1, len(FRAMES)))
    curve = keyed(times, motion[times.astype(int)])
    which = random.random(len(times)) < 0.7
    out = refitted(curve, motion, which)
    assert np.array_equal(out.slope_in[~which], curve.slope_in[~which])
    assert np.array_equal(out.handle[~which], curve.handle[~which])

    def path(slopes: np.ndarray) -> np.ndarray:
        k = np.clip(np.searchsorted(times, FRAMES, side="right") - 1, 0, len(times) - 2)
        span = times[k + 1] - times[k]
        u = (FRAMES - times[k]) / span
        return np.asarray(
            hermite(u, curve.value[k], span * slopes[k], curve.value[k + 1], span * slopes[k + 1])
        )

    def off(slopes: np.ndarray) -> float:
        return float(np.sum((path(slopes) - motion) ** 2))

    base = path(curve.slope_out)
    chosen = np.eye(len(times))[which]
    ways = [path(curve.slope_out + one) - base for one in chosen]
    basis = np.array(ways).reshape(len(ways), len(FRAMES)).T
    best = np.linalg.lstsq(basis, motion - base, rcond=None)[0]
    least = curve.slope_out.copy()
    least[which] += best
    assert off(out.slope_out) <= off(least) + 1e-3 * (1 + off(least))
