"""Rotation orders and the gimbal: the motion stays, the way through gets smooth."""

from __future__ import annotations

import numpy as np
import pytest
from leancurve.cleaning.gimbal import easiest_path, rate_orders
from leancurve.curves.curve import KeyedCurve, SampledCurve
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.document.track import base_track
from leancurve.measures.drift import drift
from leancurve.numbers import rotation
from leancurve.operations import OPERATIONS, Scope, apply_patch
from scipy.spatial.transform import Rotation


def over_the_pole(frames: int = 240, miss: float = 0.3, order: str = "ZYX") -> np.ndarray:
    """Angles of a joint that swings over its order's gimbal, passing it by ``miss`` degrees."""
    t = np.linspace(-1, 1, frames)
    tilt = Rotation.from_euler(order[1], (90 + 40 * t)[:, None], degrees=True)
    aside = Rotation.from_euler(order[2], np.full((frames, 1), miss), degrees=True)
    turn = Rotation.from_euler(order[0], (10 * t)[:, None], degrees=True)
    return np.unwrap((turn * aside * tilt).as_euler(order, degrees=True), axis=0, period=360)


def test_the_rating_is_what_its_definition_says_and_scipys_angles_agree() -> None:
    local = Rotation.from_euler("ZYX", over_the_pole(), degrees=True).as_quat()
    ratings = {r.order: r for r in rate_orders(local)}
    assert set(ratings) == set(rotation.TAIT_BRYAN)
    for order, rating in ratings.items():
        middle = Rotation.from_quat(local).as_euler(order, degrees=True)[:, 1]
        strain = np.percentile(1 / np.abs(np.cos(np.radians(middle))), 99.9)
        assert rating.strain == pytest.approx(strain, rel=1e-6)
        assert rating.nearest_deg == pytest.approx(np.min(90 - np.abs(middle)), abs=1e-9)
    assert rate_orders(local)[0].strain < 3 < ratings["ZYX"].strain


def test_the_easiest_path_costs_no_more_than_its_tolerance_and_is_far_smoother() -> None:
    """Within about 1° of the gimbal neither equal solution is smooth (docs: 57° → 6 to 10°)."""
    angles = over_the_pole(miss=0.3)
    worst = np.abs(np.diff(angles, axis=0)).max()
    eased = easiest_path(angles, "ZYX", 1.0)
    moved = rotation.geodesic_deg(
        rotation.from_euler(angles, "ZYX"), rotation.from_euler(eased, "ZYX")
    )
    assert 0 < moved.max() <= 1.0
    assert worst > 20
    assert np.abs(np.diff(eased, axis=0)).max() < worst / 2
    assert np.array_equal(easiest_path(angles, "ZYX", 0.1), angles)


def test_unflip_near_the_gimbal_says_what_it_gains_and_costs(walk: Clip) -> None:
    j = walk.skeleton.index("Head")
    order = walk.order(j)
    angles = over_the_pole(walk.frames, 0.3, order)
    curves = {
        base_track(j, f"r{a.lower()}"): SampledCurve(np.ascontiguousarray(angles[:, k]))
        for k, a in enumerate(order)
    }
    clip = walk.with_curves(curves)
    patch = OPERATIONS["unflip"].run(clip, {"gimbal_deg": 1.0}, Scope(joints=("Head",)))
    assert patch.report["gimbal_step_after_deg"] < patch.report["gimbal_step_before_deg"]
    moved = drift(apply_patch(clip, patch), clip)
    assert moved.max_deg <= 1.0 + 1e-9
    assert moved.max_deg == pytest.approx(patch.report["gimbal_drift_deg"], abs=1e-9)


def test_unflip_in_a_range_begins_as_the_frame_before_stands(walk: Clip) -> None:
    hips = base_track(0, "ry")
    values = walk.curves[hips].at(np.arange(walk.frames, dtype=float)).copy()
    values[200:300] += 360
    values[500:600] -= 360
    broken = walk.with_curves({hips: SampledCurve(values)})
    fixed = apply_patch(broken, OPERATIONS["unflip"].run(broken, {}, Scope(frames=(150, 400))))
    after = fixed.curves[hips].at(np.arange(walk.frames, dtype=float))
    original = walk.curves[hips].at(np.arange(walk.frames, dtype=float))
    assert np.allclose(after[:401], original[:401])
    assert np.array_equal(after[401:], values[401:])


def test_a_solution_can_begin_at_a_frame(walk: Clip) -> None:
    """The chosen frame reads as it was given, all others follow from it; no pose changes."""
    j = walk.skeleton.index("LeftHand")
    order = walk.order(j)
    names = [base_track(j, f"r{a.lower()}") for a in order]
    angles = np.stack([walk.curves[c].at(np.arange(walk.frames, dtype=float)) for c in names], 1)
    angles[300:] = rotation.alternate(angles[300:], order)
    broken = walk.with_curves({c: SampledCurve(angles[:, k].copy()) for k, c in enumerate(names)})
    fixed = apply_patch(broken, OPERATIONS["unflip"].run(broken, {"begin_frame": 400}))
    got = np.stack([fixed.curves[c].at(np.arange(walk.frames, dtype=float)) for c in names], 1)
    assert np.allclose(got[400], angles[400])
    assert np.abs(np.diff(got, axis=0)).max() < 30
    assert drift(fixed, broken).max_deg < 1e-6


@pytest.mark.parametrize("order", rotation.TAIT_BRYAN)
def test_changing_the_order_leaves_the_motion_as_it_is(walk: Clip, order: str) -> None:
    patch = OPERATIONS["reorder"].run(walk, {"order": order})
    changed = apply_patch(walk, patch)
    assert {changed.order(j) for j in range(len(walk.skeleton))} == {order}
    assert drift(changed, walk).max_deg < 1e-6
    assert OPERATIONS["unflip"].run(changed).report["alternates"] == 0
    assert changed.layout[0][:3] == ("tx", "ty", "tz")


def test_the_best_order_is_taken_only_where_it_is_worth_it(walk: Clip) -> None:
    j = walk.skeleton.index("LeftThigh")
    angles = over_the_pole(walk.frames, 3.0, walk.order(j))
    names = [base_track(j, f"r{a.lower()}") for a in walk.order(j)]
    clip = walk.with_curves(
        {c: SampledCurve(np.ascontiguousarray(angles[:, k])) for k, c in enumerate(names)}
    )
    patch = OPERATIONS["reorder"].run(clip, {}, Scope(joints=("LeftThigh", "Head")))
    assert [c["joint"] for c in patch.report["changed"]] == ["LeftThigh"]
    (changed,) = patch.report["changed"]
    assert changed["strain_before"] >= 3 * changed["strain_after"]
    assert drift(apply_patch(clip, patch), clip).max_deg < 1e-6


def test_keyed_curves_are_fitted_again_within_the_tolerance(walk: Clip) -> None:
    thin = apply_patch(walk, OPERATIONS["thin"].run(walk, {}, Scope(joints=("RightUpperArm",))))
    patch = OPERATIONS["reorder"].run(
        thin, {"order": "ZXY", "tolerance_deg": 0.1}, Scope(joints=("RightUpperArm",))
    )
    changed = apply_patch(thin, patch)
    j = walk.skeleton.index("RightUpperArm")
    assert all(isinstance(changed.curves[base_track(j, c)], KeyedCurve) for c in ("rz", "rx", "ry"))
    a, b = evaluate(changed).rotation[:, j], evaluate(thin).rotation[:, j]
    assert rotation.geodesic_deg(a, b).max() < 0.3
    assert 0 < patch.report["keys_after"] < 3 * patch.report["keys_before"]


def test_quaternions_of_one_sign_and_their_logarithms_agree_with_scipy() -> None:
    random = np.random.default_rng(8)
    q = Rotation.random(500, random_state=4).as_quat()
    assert np.all(np.einsum("fk,fk->f", *(lambda h: (h[1:], h[:-1]))(rotation.hemisphere(q))) >= 0)
    vectors = rotation.log(q)
    assert np.allclose(np.radians(vectors), Rotation.from_quat(q).as_rotvec(), atol=1e-12)
    assert rotation.geodesic_deg(rotation.exp(vectors), q).max() < 1e-6
    spin = random.normal(0, 80, (50, 3))
    assert rotation.geodesic_deg(
        rotation.exp(spin), Rotation.from_rotvec(np.radians(spin)).as_quat()
    ).max() < 1e-6  # fmt: skip
