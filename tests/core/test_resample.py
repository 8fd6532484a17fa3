"""Delivery rates and ranges: exact where times coincide, slerp between, names by pattern."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction

import numpy as np
import pytest
from leancurve.demo.defects import Capture
from leancurve.document.clip import Clip
from leancurve.document.evaluation import effective, evaluate
from leancurve.errors import BadInput
from leancurve.formats.names import delivery_name
from leancurve.numbers import rotation
from leancurve.operations import OPERATIONS, apply_patch
from leancurve.time.resample import resampled, sample_times


def test_every_second_frame_is_exactly_what_was_there(walk: Clip) -> None:
    half = resampled(walk, Fraction(30))
    assert half.frames == 450
    for c in walk.channels:
        assert np.array_equal(half.curves[c].values, walk.curves[c].values[::2])


def test_times_of_odd_rates_are_exact_fractions(walk: Clip) -> None:
    times = sample_times(walk, Fraction(24000, 1001), 0, 899)
    assert times[0] == 0
    assert np.diff(times) == pytest.approx([60 * 1001 / 24000] * (len(times) - 1))
    assert times[-1] <= 899
    long = sample_times(replace(walk, frames=180_000), Fraction(24), 0, 180_000 - 1)
    assert long[2 * 35_000] == 5 * 35_000


@pytest.mark.parametrize("rate", [Fraction(24), Fraction(30000, 1001), Fraction(120)])
def test_between_frames_poses_are_slerps_and_angles_stay_continuous(
    captured_walk: Capture, rate: Fraction
) -> None:
    clip = apply_patch(captured_walk.clip, OPERATIONS["unflip"].run(captured_walk.clip))
    out = resampled(clip, rate, 100, 400)
    times = sample_times(clip, rate, 100, 400)
    gap = rotation.geodesic_deg(evaluate(out).rotation, evaluate(clip, times).rotation)
    assert gap.max() < 1e-6
    steps = max(np.abs(np.diff(c.values)).max() for k, c in out.curves.items() if k.turns)
    assert steps < 185


def test_keyed_channels_follow_their_curves_between_frames(walk: Clip) -> None:
    thin = apply_patch(walk, OPERATIONS["thin"].run(walk))
    out = resampled(thin, Fraction(240), 10, 20)
    times = np.arange(10, 20.1, 0.25)
    assert out.frames == len(times)
    expected = effective(thin, times)
    for c in walk.channels:
        assert out.curves[c].values == pytest.approx(expected[c], abs=1e-12)


@pytest.mark.parametrize(
    ("rate", "first", "last", "says"),
    [
        (30, -1, 10, "range: expected 0"),
        (30, 20, 10, "range: expected 0"),
        (30, 0, 900, "last ≤ 899, got 0 to 900"),
        (0, 0, 10, "rate: must be above 0"),
        (10**9, 0, 899, "14,983,333,334 frames; at most 500,000"),
    ],
)
def test_impossible_ranges_and_rates_are_refused(
    walk: Clip, rate: int, first: int, last: int, says: str
) -> None:
    with pytest.raises(BadInput, match=says):
        resampled(walk, Fraction(rate), first, last)


def test_a_single_frame_can_be_delivered(walk: Clip) -> None:
    assert resampled(walk, Fraction(24), 7, 7).frames == 1


@pytest.mark.parametrize(
    ("pattern", "name"),
    [
        ("{character}_{action}_v{version:03}", "Wren_haul_line_v007"),
        ("{action}-{version}", "haul_line-7"),
        ("../../{action}", "haul_line"),
    ],
)
def test_names_follow_the_pattern_and_stay_in_their_folder(pattern: str, name: str) -> None:
    assert delivery_name(pattern, character="Wren", action="haul line", version=7) == name


HOSTILE = (
    *("{version:9999999999}", "{version:0999}", "{version:}", "{character.__class__.__mro__}"),
    *("{version!r:>9}", "{character:03}", "{{version}}", "{action[0]}", "}{"),
)


@pytest.mark.parametrize("pattern", ["{shot}", "{version:q}", "{", "{0}", "...", *HOSTILE])
def test_patterns_that_mean_nothing_are_refused(pattern: str) -> None:
    with pytest.raises(BadInput, match="name pattern"):
        delivery_name(pattern, character="Wren", action="haul", version=7)


def test_a_name_is_at_most_so_long_and_what_is_typed_means_only_itself() -> None:
    name = delivery_name(
        "{character}_{version:6}", character="{action}" * 50, action="x", version=7
    )
    assert len(name) == 120
    assert "x" not in name
    with pytest.raises(BadInput) as refused:
        delivery_name("{" + "a" * 100_000 + "}", character="", action="", version=1)
    assert len(str(refused.value)) < 300
