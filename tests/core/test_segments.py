"""Springs, bounces, how curves go on outside their keys, and keys set without changing a shape."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st
from leancurve.curves.curve import Extend, Handle, KeyedCurve, Segment, keyed, stored_curve
from leancurve.curves.handles import flowing_slopes, settled, with_handle
from leancurve.curves.insertion import cut, insert_key
from leancurve.curves.plain import evaluate_plain
from leancurve.curves.splice import spliced
from leancurve.curves.springs import sprung
from leancurve.errors import BadInput
from scipy.integrate import solve_ivp

from tests.core.test_curve import random_curve

KINDS = [int(s) for s in Segment]
seeds = st.integers(0, 2**32 - 1)


def mixed_curve(seed: int, keys: int = 9) -> KeyedCurve:
    """Every kind of segment, any handles, any way of going on."""
    random = np.random.default_rng(seed)
    curve = random_curve(seed, keys)
    segment = random.choice(KINDS, keys).astype(np.uint8)
    swinging = segment >= Segment.SPRING
    curve = curve.edited(
        segment=segment,
        swings=np.where(swinging, random.integers(1, 6, keys), 0).astype(np.uint8),
        decay=np.where(swinging, random.uniform(0.3, 8, keys), 0.0),
    )
    before, after = (Extend(int(k)) for k in random.integers(0, 4, 2))
    return replace(curve, extend=(before, after)).checked()


def segment_of(kind: Segment, swings: int, decay: float) -> KeyedCurve:
    one = np.array([kind, 0], dtype=np.uint8)
    curve = keyed([0, 10], [0, 1])
    return curve.edited(
        segment=one,
        swings=np.array([swings, 0], dtype=np.uint8),
        decay=np.array([decay, 0.0]),
    )


@settings(max_examples=60)
@given(seeds)
def test_every_kind_agrees_with_the_plain_evaluation_inside_and_outside(seed: int) -> None:
    curve = mixed_curve(seed)
    span = curve.time[-1] - curve.time[0]
    frames = np.random.default_rng(seed).uniform(-2 * span, 3 * span, 200)
    assert np.abs(curve.at(frames) - evaluate_plain(curve, frames)).max() < 1e-5


def test_a_spring_is_the_damped_oscillators_step_response() -> None:
    """y'' + 2 d y' + (d² + ω²)(y - 1) = 0 from rest, integrated by SciPy."""
    decay, swings = 4.0, 2
    omega = 3 * np.pi
    for _ in range(50):
        omega = 3 * np.pi - np.arctan(omega / decay)

    def pull(_: float, y: np.ndarray) -> list[float]:
        return [y[1], -2 * decay * y[1] - (decay**2 + omega**2) * (y[0] - 1)]

    x = np.linspace(0, 1, 40)
    theirs = solve_ivp(pull, (0, 1), [0, 0], t_eval=x, rtol=1e-10, atol=1e-12).y[0]
    ours = segment_of(Segment.SPRING, swings, decay).at(10 * x)
    assert ours[:-1] == pytest.approx(theirs[:-1], abs=1e-7)
    crossings = np.count_nonzero(np.diff(np.sign(ours[1:-1] - 1)))
    assert crossings == swings
    assert sprung(1.0, swings, decay) == pytest.approx(1.0, abs=1e-12)


def test_a_bounce_rebounds_as_often_and_as_high_as_said() -> None:
    curve = segment_of(Segment.BOUNCE, 3, np.log(4.0))
    values = curve.at(np.linspace(0, 10, 20001))
    low = np.flatnonzero((values[1:-1] < values[:-2]) & (values[1:-1] <= values[2:])) + 1
    assert 1 - values[low] == pytest.approx([1 / 4, 1 / 16, 1 / 64], abs=1e-4)
    assert values.max() <= 1 + 1e-12


@settings(max_examples=60)
@given(seeds, st.floats(-0.6, 1.6))
@example(103, 1.0)
@example(1731, -0.5)
def test_inserting_a_key_changes_no_shape(seed: int, share: float) -> None:
    curve = random_curve(seed, 6)
    random = np.random.default_rng(seed)
    kinds = random.choice([0, 1, 2, int(Segment.BOUNCE)], 6).astype(np.uint8)
    bouncing = kinds == Segment.BOUNCE
    swings = np.where(bouncing, 2, 0).astype(np.uint8)
    curve = curve.edited(segment=kinds, swings=swings, decay=np.where(bouncing, 1.4, 0.0))
    # A repetition's jump takes a thousandth of a frame when it is written out.
    before, after = random.choice([0, 1, 3], 2)
    curve = replace(curve, extend=(Extend(int(before)), Extend(int(after))))
    first, last = curve.time[0], curve.time[-1]
    time = float(first + share * (last - first))
    extent = (min(time, first), max(time, last))
    fresh = insert_key(curve, time, extent)
    assert np.abs(fresh.time - time).min() < 1e-9
    assert set(curve.time) <= set(fresh.time)
    frames = random.uniform(min(time, first), max(time, last), 300)
    size = max(1.0, float(np.abs(curve.value).max()))
    assert np.abs(fresh.at(frames) - curve.at(frames)).max() < 1e-9 * size * 10
    assert len(set(fresh.id.tolist())) == fresh.key_count


@pytest.mark.parametrize("extend", [Extend.REPEAT, Extend.REPEAT_OFFSET])
@pytest.mark.parametrize("jumps", [False, True])
@pytest.mark.parametrize("early", [False, True])
@pytest.mark.parametrize("time", [3.0, -7.0, 27.0, 50.0])
def test_a_key_beyond_a_repeating_curve_changes_nothing(
    extend: Extend, jumps: bool, early: bool, time: float
) -> None:
    """On either side of it: where the other side alone repeats, that is written out."""
    curve = keyed([10, 14, 20], [0, 5, 3 if jumps else 0])
    ends = (extend, Extend.HOLD) if early else (Extend.HOLD, extend)
    curve = replace(curve, extend=ends)
    fresh = insert_key(curve, time, (-30.0, 80.0))
    frames = np.linspace(-30, 80, 2201) + 0.013  # off the seams, a thousandth of a frame wide
    assert np.abs(fresh.at(frames) - curve.at(frames)).max() < 1e-9
    assert np.abs(fresh.time - time).min() < 1e-9
    assert len(set(fresh.id.tolist())) == fresh.key_count


def test_without_an_extent_a_key_that_would_change_a_repetition_is_refused() -> None:
    curve = replace(keyed([10, 20], [0, 5]), extend=(Extend.REPEAT, Extend.HOLD))
    with pytest.raises(BadInput, match="what the curve repeats before its first key"):
        insert_key(curve, 27.0)


@pytest.mark.parametrize("extend", [Extend.STRAIGHT, Extend.REPEAT, Extend.REPEAT_OFFSET])
def test_a_stretch_of_a_curve_that_goes_on_is_replaced_and_no_more(extend: Extend) -> None:
    curve = replace(keyed([10, 14, 20], [0, 5, 1]), extend=(extend, extend))
    ends = curve.at(np.array([40.0, 60.0]))
    whole = spliced(curve, keyed([0, 10, 20], [ends[0], 7, ends[1]]), 40, 60, 101)
    outside = np.concatenate([np.linspace(0.013, 39.9, 400), np.linspace(60.1, 99.9, 400)])
    assert np.abs(whole.at(outside) - curve.at(outside)).max() < 1e-9
    assert whole.at(np.array([50.0]))[0] == 7


def test_keys_outside_of_a_stretch_keep_their_ids_and_those_made_anew_have_new_ones() -> None:
    curve = keyed([0, 10, 20, 30, 40], [0, 5, 1, 4, 0])
    made = spliced(curve, keyed([0, 4, 10], [1, 3, 4]), 20, 30, 41)
    kept = {float(t): int(i) for t, i in zip(made.time, made.id, strict=True)}
    assert (kept[0.0], kept[10.0], kept[40.0]) == (0, 1, 4)
    assert not {kept[20.0], kept[24.0], kept[30.0]} & set(range(5))
    again = spliced(curve, keyed([0, 4, 10], [1, 3, 4]), 20, 30, 41)
    other = spliced(curve, keyed([0, 4, 10], [1, 3.5, 4]), 20, 30, 41)
    assert again.id.tolist() == made.id.tolist()
    assert not set(other.id.tolist()) & {kept[20.0], kept[24.0], kept[30.0]}


def test_a_spring_written_out_stays_within_a_ten_thousandth_of_its_rise() -> None:
    curve = segment_of(Segment.SPRING, 4, 3.0)
    fresh = insert_key(curve, 4.321)
    frames = np.linspace(0, 10, 2000)
    assert np.abs(fresh.at(frames) - curve.at(frames)).max() < 1e-4
    assert np.all(fresh.segment == Segment.CURVE)


@settings(max_examples=40)
@given(seeds)
def test_time_never_runs_back_within_a_segment(seed: int) -> None:
    """Values that ascend with time as handles allow: one value a time, whatever the lengths."""
    from leancurve.numbers.kernels.segments import solve_time

    lengths = np.random.default_rng(seed).uniform(0, 1, 2)
    x = np.linspace(0, 1, 200)
    u = np.array([solve_time(float(t), *lengths) for t in x])
    assert np.all(np.diff(u) >= -1e-9)
    p1, p2 = lengths[0], 1 - lengths[1]
    back = 3 * (1 - u) ** 2 * u * p1 + 3 * (1 - u) * u**2 * p2 + u**3
    assert back == pytest.approx(x, abs=1e-9)


@settings(max_examples=30)
@given(seeds, st.floats(0.05, 0.45), st.floats(0.55, 0.95))
def test_a_part_cut_out_keeps_its_shape_whatever_its_segments(
    seed: int, a: float, b: float
) -> None:
    curve = mixed_curve(seed)
    span = curve.time[-1] - curve.time[0]
    first, last = float(curve.time[0] + a * span), float(curve.time[0] + b * span)
    part = cut(curve, first, last)
    assert (part.time[0], part.time[-1]) == (first, last)
    frames = np.linspace(first, last, 200)
    # Springs are written out as keys: within a ten thousandth of their rise.
    rise = float(np.ptp(curve.value)) * 1e-3
    assert np.abs(part.at(frames) - curve.at(frames)).max() < rise
    assert len(set(part.id.tolist())) == part.key_count


def test_stored_columns_leave_out_what_says_nothing_and_read_back() -> None:
    plain = keyed([0, 10], [0, 1])
    assert "swings" not in plain.stored
    assert "extend" not in plain.stored
    for curve in (plain, mixed_curve(4)):
        again = stored_curve(curve.stored)
        assert isinstance(again, KeyedCurve)
        assert again.extend == curve.extend
        for name, column in curve.columns.items():
            assert np.array_equal(column, again.columns[name])


def test_flowing_slopes_are_numpys_gradient_inside() -> None:
    random = np.random.default_rng(2)
    time, value = np.cumsum(random.uniform(1, 9, 15)), random.normal(size=15)
    theirs = np.gradient(value, time)
    assert flowing_slopes(time, value)[1:-1] == pytest.approx(theirs[1:-1])


def test_handle_kinds_mean_what_they_say() -> None:
    curve = keyed([0, 10, 20], [0, 4, 10])
    middle = np.array([False, True, False])
    straight = with_handle(curve, middle, Handle.STRAIGHT)
    assert (straight.slope_in[1], straight.slope_out[1]) == pytest.approx((0.4, 0.6))
    assert with_handle(curve, middle, Handle.FLAT).slope_out[1] == 0
    held = with_handle(curve, middle, Handle.HOLD)
    assert held.at(np.array([10.0, 19.9])) == pytest.approx([4, 4])
    assert with_handle(held, middle, Handle.EASED).segment[1] == Segment.CURVE
    assert settled(curve, middle).slope_in[1] == pytest.approx(curve.slope_in[1])


@pytest.mark.parametrize(
    ("swings", "decay", "message"), [(0, 1.0, "swings"), (21, 1.0, "swings"), (2, 0.0, "decay")]
)
def test_springs_need_a_count_and_a_decay(swings: int, decay: float, message: str) -> None:
    with pytest.raises(BadInput, match=message):
        segment_of(Segment.SPRING, swings, decay).checked()
