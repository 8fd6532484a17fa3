"""Filters against scipy, published coefficients, and truth with noise put on it."""

from __future__ import annotations

import numpy as np
import pytest
from leancurve.curves.curve import SampledCurve
from leancurve.demo import TAKES
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.document.track import base_track
from leancurve.measures.findings.jitter import noise_of
from leancurve.numbers import filters, rotation
from leancurve.operations import OPERATIONS, Scope, apply_patch
from scipy import signal


def test_savitzky_golay_has_the_published_coefficients() -> None:
    """Five points, quadratic: (-3, 12, 17, 12, -3) / 35 (Savitzky and Golay 1964, table I)."""
    impulse = np.zeros((41, 1))
    impulse[20] = 35.0
    out = filters.savitzky_golay(impulse, 60.0, 5 / 60, 2)[:, 0]
    assert out[18:23] == pytest.approx([-3, 12, 17, 12, -3], abs=1e-9)


def test_butterworth_is_scipys_and_both_passes_stand_3_db_down_at_the_cutoff() -> None:
    rate, cutoff = 120.0, 6.0
    t = np.arange(2400) / rate
    tone = np.sin(2 * np.pi * cutoff * t)[:, None]
    out = filters.butterworth(tone, rate, cutoff)[600:1800, 0]
    assert np.sqrt(2 * np.mean(out**2)) == pytest.approx(np.sqrt(0.5), rel=1e-2)
    single = cutoff / (np.sqrt(2) - 1) ** 0.25
    sections = signal.butter(2, single, fs=rate, output="sos")
    noise = np.random.default_rng(1).normal(size=(2400, 1))
    theirs = signal.sosfiltfilt(sections, noise, axis=0)
    assert np.allclose(filters.butterworth(noise, rate, cutoff)[300:-300], theirs[300:-300])


@pytest.mark.parametrize(
    "smooth",
    [
        lambda x: filters.butterworth(x, 120, 8),
        lambda x: filters.savitzky_golay(x, 120, 0.1),
        lambda x: filters.gaussian(x, 120, 0.03),
        lambda x: filters.adaptive(x, 120, np.full(len(x), 0.01)),
    ],
)
def test_ends_do_not_shrink_and_a_straight_line_stays(smooth: object) -> None:
    line = np.linspace(3.0, 40.0, 300)[:, None]
    assert np.abs(smooth(line) - line).max() < 1e-6  # type: ignore[operator]


def test_the_suggested_cutoff_parts_motion_from_noise() -> None:
    """Winter's residual analysis on slow motion with white noise: above the motion's 3 Hz, well
    below where only noise is (about 6 Hz is his figure for gait)."""
    t = np.arange(3000) / 120
    motion = 20 * np.sin(2 * np.pi * 0.7 * t) + 6 * np.sin(2 * np.pi * 3.0 * t)
    noisy = motion + np.random.default_rng(3).normal(0, 0.1, len(t))
    assert 3.5 < filters.suggested_cutoff(noisy[:, None], 120) < 14


def test_noise_is_estimated_and_motion_is_not_taken_for_it() -> None:
    clean = TAKES[1].clean()
    moving = [j for j, n in enumerate(clean.skeleton.names) if n in ("Head", "LeftUpperArm")]
    local = rotation.hemisphere(evaluate(clean).rotation[:, moving])
    assert noise_of(local, 60).max() < 0.01
    random = np.random.default_rng(6)
    shake = rotation.exp(random.normal(0, 0.1, (clean.frames, len(moving), 3)))
    level = noise_of(rotation.hemisphere(rotation.multiply(local, shake)), 60)
    assert np.median(level) == pytest.approx(0.1, rel=0.1)


def noisy(clip: Clip, sigma: float, seed: int = 5) -> Clip:
    random = np.random.default_rng(seed)
    return clip.with_curves(
        {
            c: SampledCurve(curve.values + random.normal(0, sigma, clip.frames))
            for c, curve in clip.curves.items()
            if c.turns and np.ptp(curve.values) > 0.01
        }
    )


def off_truth(clip: Clip, clean: Clip, frames: np.ndarray, joints: list[int]) -> float:
    """RMS angle to the truth per axis, degrees."""
    gap = rotation.geodesic_deg(
        evaluate(clip).rotation[frames][:, joints], evaluate(clean).rotation[frames][:, joints]
    )
    return float(np.sqrt(np.mean(gap**2) / 3))


def test_adaptive_smoothing_reaches_its_figures() -> None:
    """0.1° of noise: RMS to the truth ≤ 0.08°, near contacts ≤ 0.15°."""
    clean = TAKES[1].clean()
    dirty = noisy(clean, 0.1)
    turning = sorted(
        {c.joint for c in clean.channels if c.turns and np.ptp(clean.curves[c].values)}
    )
    legs = [j for j in turning if any(p in clean.skeleton.names[j] for p in ("Shin", "Foot"))]
    near = np.zeros(clean.frames, dtype=bool)
    for planted in TAKES[1].perform().planted.values():
        for edge in (f for span in planted for f in span if 0 < f < clean.frames - 1):
            near[edge - 8 : edge + 9] = True
    smooth = OPERATIONS["smooth"]
    calm = apply_patch(dirty, smooth.run(dirty))
    every = np.ones(clean.frames, dtype=bool)
    assert off_truth(calm, clean, every, turning) <= 0.08
    assert off_truth(calm, clean, near, legs) <= 0.15


def test_where_speed_breaks_the_adaptive_filter_stays_sharper_than_fixed_ones() -> None:
    """A joint stopped within a frame from 200° a second, as a foot that is set down."""
    t = np.arange(480) / 120
    truth = np.where(t < 2, 200 * t, 400.0)[:, None]
    noisy = truth + np.random.default_rng(12).normal(0, 0.1, truth.shape)
    near = np.abs(t - 2) < 0.07

    def off(filtered: np.ndarray) -> float:
        return float(np.sqrt(np.mean((filtered - truth)[near] ** 2)))

    ours = off(filters.adaptive(noisy, 120, np.full(len(t), 0.1)))
    assert ours < 0.15
    assert ours < 0.3 * off(filters.butterworth(noisy, 120, 10))
    assert ours < 0.5 * off(filters.savitzky_golay(noisy, 120, 0.07))


def test_strength_zero_changes_nothing_and_half_lies_between(walk: Clip) -> None:
    dirty = noisy(walk, 0.1)
    smooth = OPERATIONS["smooth"]
    assert not smooth.run(dirty, {"strength": 0}).curves
    whole = evaluate(apply_patch(dirty, smooth.run(dirty))).rotation
    half = evaluate(apply_patch(dirty, smooth.run(dirty, {"strength": 0.5}))).rotation
    start = evaluate(dirty).rotation
    j = walk.skeleton.index("Head")
    a = rotation.geodesic_deg(start[:, j], half[:, j])
    b = rotation.geodesic_deg(start[:, j], whole[:, j])
    assert np.allclose(2 * a, b, atol=1e-6)


@pytest.mark.parametrize("method", ["adaptive", "butterworth", "savitzky-golay", "gaussian"])
def test_every_method_keeps_to_its_scope_and_fades_at_its_edges(walk: Clip, method: str) -> None:
    dirty = noisy(walk, 0.1)
    scope = Scope(joints=("Head", "LeftHand"), frames=(200, 400))
    patch = OPERATIONS["smooth"].run(dirty, {"method": method}, scope)
    assert {walk.skeleton.names[c.joint] for c in patch.curves} == {"Head", "LeftHand"}
    for channel, curve in patch.curves.items():
        before = dirty.curves[channel].values
        moved = np.flatnonzero(curve.values != before)
        assert moved.min() >= 200
        assert moved.max() <= 400
        assert np.abs(curve.values - before)[200:203].max() < 0.15
    assert patch.report["jitter_after_deg"] < patch.report["jitter_before_deg"]


def test_fixed_filters_leave_contacts_alone_when_told_to(walk: Clip) -> None:
    dirty = noisy(walk, 0.1)
    params = {"method": "gaussian", "sigma_s": 0.05}
    first = next(s for s in TAKES[2].perform().planted["Left"] if s[0] > 0)[0]
    from leancurve.cleaning.contacts import contacts_of

    contact = min((c for c in contacts_of(dirty) if c.limb == "left heel"),
                  key=lambda c: abs(c.first - first))  # fmt: skip
    shin = base_track(walk.skeleton.index("LeftShin"), "rx")
    kept = OPERATIONS["smooth"].run(dirty, params).curves[shin].at(np.array([contact.first * 1.0]))
    lost = OPERATIONS["smooth"].run(dirty, {**params, "protect": False}).curves[shin]
    here = dirty.curves[shin].values[contact.first]
    assert kept[0] == pytest.approx(here, abs=1e-9)
    assert lost.at(np.array([contact.first * 1.0]))[0] != pytest.approx(here, abs=1e-6)


def test_rotations_are_filtered_as_rotations(walk: Clip) -> None:
    """The same motion in another rotation order gives the same poses."""
    dirty = noisy(walk, 0.1)
    other = apply_patch(dirty, OPERATIONS["reorder"].run(dirty, {"order": "XYZ"}))
    smooth = OPERATIONS["smooth"]
    a = evaluate(apply_patch(dirty, smooth.run(dirty))).rotation
    b = evaluate(apply_patch(other, smooth.run(other))).rotation
    assert rotation.geodesic_deg(a, b).max() < 1e-6
