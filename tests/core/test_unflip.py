"""Flips found and removed with no pose changed; true jumps told apart."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from leancurve.cleaning.continuity import find_flips
from leancurve.curves.curve import SampledCurve, keyed
from leancurve.demo.defects import Capture
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.document.track import base_track
from leancurve.figure.skeleton import Skeleton
from leancurve.measures.drift import drift
from leancurve.numbers import rotation
from leancurve.operations import OPERATIONS, Scope, apply_patch

UNFLIP = OPERATIONS["unflip"]


def one_joint(angles: np.ndarray, order: str) -> Clip:
    names = tuple(f"r{a.lower()}" for a in order)
    curves = {
        base_track(0, n): SampledCurve(np.ascontiguousarray(angles[:, k]))
        for k, n in enumerate(names)
    }
    skeleton = Skeleton(("a",), (-1,), ((0.0, 0.0, 0.0),))
    return Clip(skeleton, (names,), curves, Fraction(120), len(angles))


def stacked(clip: Clip) -> np.ndarray:
    return np.stack([clip.curves[c].values for c in clip.channels], axis=1)


def smooth_angles(seed: int, frames: int = 400, middle: float = 50.0) -> np.ndarray:
    """Motion whose middle angle keeps away from the singularity at ±90°."""
    random = np.random.default_rng(seed)
    t = np.arange(frames) / 120
    waves = [
        np.sin(2 * np.pi * random.uniform(0.2, 1.2) * t + random.uniform(0, 6)) for _ in range(3)
    ]
    return np.stack([100 * waves[0], middle * waves[1], 120 * waves[2]], axis=1)


def other_solution(angles: np.ndarray, order: str) -> np.ndarray:
    return np.remainder(rotation.alternate(angles, order) + 180, 360) - 180


@pytest.mark.parametrize("order", rotation.TAIT_BRYAN)
def test_seeded_flips_are_found_counted_and_removed_exactly(order: str) -> None:
    true = smooth_angles(7)
    bad = true.copy()
    bad[50:90, 0] += 360
    bad[200:, 2] -= 720
    bad[120:160] = rotation.alternate(true[120:160], order)
    clip = one_joint(bad, order)
    flips = find_flips(clip)
    first, third = f"r{order[0].lower()}", f"r{order[2].lower()}"
    assert {(f, c) for _, c, f in flips.wraps} == {(50, first), (90, first), (200, third)}
    assert [f for _, f in flips.alternates] == [120, 160]
    mended = apply_patch(clip, UNFLIP.run(clip))
    assert stacked(mended) == pytest.approx(true, abs=1e-9)


@settings(max_examples=40)
@given(
    st.integers(0, 2**32 - 1),
    st.sampled_from(rotation.TAIT_BRYAN),
    st.lists(st.tuples(st.integers(1, 380), st.integers(1, 19)), max_size=5),
)
def test_any_choice_of_solutions_comes_back_continuous_with_no_pose_changed(
    seed: int, order: str, spans: list[tuple[int, int]]
) -> None:
    true = smooth_angles(seed)
    bad = true.copy()
    for first, length in spans:
        bad[first : first + length] = other_solution(bad[first : first + length], order)
    clip = one_joint(bad, order)
    mended = apply_patch(clip, UNFLIP.run(clip))
    before, after = evaluate(clip).rotation, evaluate(mended).rotation
    assert rotation.geodesic_deg(before, after).max() < 1e-6
    assert np.abs(np.diff(stacked(mended), axis=0)).max() < 45
    again = find_flips(mended)
    assert not again.wraps
    assert not again.alternates


def test_every_demo_take_unflips_without_drift(captured_walk: Capture) -> None:
    clip = captured_walk.clip
    patch = UNFLIP.run(clip)
    mended = apply_patch(clip, patch)
    moved = drift(mended, clip)
    assert moved.max_deg < 1e-6
    assert moved.max_mm < 1e-6
    seeded = {d.joint for d in captured_walk.truth if d.kind == "alternate"}
    assert {p["joint"] for p in patch.report["alternates_at"]} == seeded
    wrapped = {d.joint for d in captured_walk.truth if d.kind == "wrap"}
    assert wrapped <= {p["joint"] for p in patch.report["wraps_at"]}
    after = find_flips(mended)
    assert (after.wraps, after.alternates) == ((), ())


def test_true_snaps_are_not_flips_they_stay_and_are_named(captured_walk: Capture) -> None:
    clip = captured_walk.clip
    mended = apply_patch(clip, UNFLIP.run(clip))
    for defect in captured_walk.truth:
        if defect.kind != "snap":
            continue
        joint = clip.skeleton.index(defect.joint)
        for state in (clip, mended):
            found = {f for j, f, _ in find_flips(state).snaps if j == joint}
            assert {defect.first, defect.last + 1} <= found


def test_a_snap_of_a_half_turn_is_reported_with_its_size() -> None:
    angles = np.zeros((60, 3))
    angles[30:, 0] = 180.0
    flips = find_flips(one_joint(angles, "XYZ"))
    assert [(f, round(d)) for _, f, d in flips.snaps] == [(30, 180)]
    assert (flips.wraps, flips.alternates) == ((), ())


def test_a_fast_turn_is_no_snap() -> None:
    """Six turns a second is 45° a frame at 48: fast throughout, and so no finding."""
    angles = np.zeros((96, 3))
    angles[:, 1] = 0
    angles[:, 2] = np.remainder(45.0 * np.arange(96) + 180, 360) - 180
    flips = find_flips(one_joint(angles, "XYZ"))
    assert flips.snaps == ()
    assert len(flips.wraps) == 12


@pytest.mark.parametrize("order", ["X", "ZY", "ZXZ"])
def test_orders_of_one_two_or_repeated_axes_unflip_too(order: str) -> None:
    t = np.linspace(0, 3, 300)
    true = np.stack([200 * np.sin(t + k) for k in range(len(order))], axis=1)
    wrapped = np.remainder(true + 180, 360) - 180
    clip = one_joint(wrapped, order)
    mended = apply_patch(clip, UNFLIP.run(clip))
    assert np.abs(np.diff(stacked(mended), axis=0)).max() < 10
    gap = rotation.geodesic_deg(evaluate(clip).rotation, evaluate(mended).rotation)
    assert gap.max() < 1e-6


def test_a_keyed_spin_of_two_turns_is_meant_and_left_alone() -> None:
    clip = one_joint(np.zeros((101, 1)), "Y")
    spin = clip.with_curves({base_track(0, "ry"): keyed([0, 100], [0, 720])})
    assert dict(UNFLIP.run(spin).curves) == {}


def test_nothing_outside_its_scope_changes(captured_walk: Capture) -> None:
    clip = captured_walk.clip
    patch = UNFLIP.run(clip, scope=Scope(joints=("Hips",), channels=None))
    assert {clip.skeleton.names[c.joint] for c in patch.curves} == {"Hips"}
    partial = UNFLIP.run(clip, scope=Scope(joints=("Hips",), channels=("rx",)))
    assert dict(partial.curves) == {}


def test_a_clip_of_one_frame_or_none_has_no_flips() -> None:
    one = one_joint(np.full((1, 3), 500.0), "XYZ")
    assert dict(UNFLIP.run(one).curves) == {}
    none = replace(one_joint(np.zeros((0, 3)), "XYZ"), frames=0)
    assert UNFLIP.run(none).report["wraps"] == 0


def test_the_open_capture_with_flips_made_in_it_comes_back(open_capture: Clip) -> None:
    """Real optical capture whose channel steps stay under 180°: made flips have known truth."""
    made = open_capture
    random = np.random.default_rng(11)
    for joint in random.choice(len(made.skeleton), 8, replace=False).tolist():
        order = made.order(joint)
        ids = [base_track(joint, f"r{a.lower()}") for a in order]
        angles = np.stack([made.curves[c].values for c in ids], axis=1).copy()
        first = int(random.integers(100, 2000))
        angles[first : first + 300] = other_solution(angles[first : first + 300], order)
        made = made.with_curves(
            {c: SampledCurve(np.ascontiguousarray(angles[:, k])) for k, c in enumerate(ids)}
        )
    mended = apply_patch(made, UNFLIP.run(made))
    assert drift(mended, open_capture).max_deg < 1e-6
    after = find_flips(mended)
    assert (after.wraps, after.alternates) == ((), ())
