"""Rotations against SciPy's, Shoemake's slerp, and NumPy's unwrap."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from leancurve.numbers import rotation
from leancurve.numbers.continuity import continuous
from leancurve.numbers.kernels import motion
from scipy.spatial.transform import Rotation, Slerp


def angles_near(middle: float, spread: float, seed: int, count: int = 400) -> np.ndarray:
    random = np.random.default_rng(seed)
    out = random.uniform(-180, 180, (count, 3))
    out[:, 1] = middle + random.uniform(-spread, spread, count)
    return out


@pytest.mark.parametrize("order", rotation.ORDERS)
@pytest.mark.parametrize("spread", [90.0, 1.0, 1e-4, 1e-8, 0.0])
def test_euler_conversions_agree_with_scipy_also_near_gimbal_lock(
    order: str, spread: float
) -> None:
    """SciPy's uppercase sequences are intrinsic, as BVH's are."""
    lock = 0.0 if order[0] == order[2] else 90.0
    for middle in (lock, lock + 90.0, -lock):
        angles = angles_near(middle, spread, seed=3)
        ours = rotation.from_euler(angles, order)
        theirs = Rotation.from_euler(order, angles, degrees=True).as_quat()
        assert rotation.geodesic_deg(ours, theirs).max() < 1e-9
        for convert in (rotation.to_euler, rotation.to_euler_compiled):
            back = rotation.from_euler(convert(ours, order), order)
            assert rotation.geodesic_deg(back, ours).max() < 1e-9


@pytest.mark.parametrize("order", rotation.ORDERS)
def test_euler_angles_are_scipys_away_from_gimbal_lock(order: str) -> None:
    middle = 60.0 if order[0] == order[2] else 0.0
    q = rotation.from_euler(angles_near(middle, 50, seed=4), order)
    theirs = Rotation.from_quat(q).as_euler(order, degrees=True)
    for convert in (rotation.to_euler, rotation.to_euler_compiled):
        gap = np.remainder(convert(q, order) - theirs + 180, 360) - 180
        assert np.abs(gap).max() < 1e-8


@pytest.mark.parametrize("order", rotation.ORDERS)
def test_both_euler_solutions_are_one_rotation(order: str) -> None:
    angles = angles_near(0, 180, seed=5)
    a = rotation.from_euler(angles, order)
    b = rotation.from_euler(rotation.alternate(angles, order), order)
    assert rotation.geodesic_deg(a, b).max() < 1e-9


def test_orders_are_intrinsic_as_listed() -> None:
    """ZYX by 90°, 90°, 0°: X goes to Y, then turning about the new Y takes it to -Z."""
    q = rotation.from_euler(np.array([90.0, 90.0, 0.0]), "ZYX")
    assert rotation.rotate(q, np.array([1.0, 0, 0])) == pytest.approx([0, 0, -1], abs=1e-12)


def test_compiled_conversion_agrees_with_the_array_one() -> None:
    angles = np.random.default_rng(1).uniform(-400, 400, (50, 3, 3))
    axes = np.array([[2, 0, 1], [1, 2, 0], [0, -1, -1]])
    out = np.empty((50, 3, 4))
    motion.euler_to_quat(angles, axes, out)
    for joint, order in enumerate(("ZXY", "YZX", "X")):
        plain = rotation.from_euler(angles[:, joint, : len(order)], order)
        assert np.abs(out[:, joint] - plain).max() < 1e-14


@given(st.floats(0, 1), st.integers(0, 2**32 - 1))
def test_slerp_agrees_with_scipy(t: float, seed: int) -> None:
    a, b = Rotation.random(2, random_state=seed).as_quat()
    theirs = Slerp([0, 1], Rotation.from_quat([a, b]))(t).as_quat()
    assert float(rotation.geodesic_deg(rotation.slerp(a, b, t), theirs)) < 1e-6


def test_slerp_goes_the_short_way_at_even_speed() -> None:
    """Shoemake 1985: equal steps of t are equal angles; a quaternion's sign does not matter."""
    a, b = rotation.from_axis("Y", np.array(10.0)), -rotation.from_axis("Y", np.array(100.0))
    steps = rotation.slerp(np.tile(a, (5, 1)), np.tile(b, (5, 1)), np.linspace(0, 1, 5))
    turned = rotation.geodesic_deg(steps[1:], steps[:-1])
    assert turned == pytest.approx([22.5] * 4)


def test_geodesic_angle_is_exact_for_tiny_turns() -> None:
    tiny = np.array([1e-9, 1e-7, 1e-5])
    q = rotation.from_axis("X", tiny)
    assert rotation.geodesic_deg(q, rotation.IDENTITY) == pytest.approx(tiny, rel=1e-6)
    assert rotation.geodesic_deg(-q, rotation.IDENTITY) == pytest.approx(tiny, rel=1e-6)


def test_hemisphere_makes_neighbours_agree() -> None:
    angles = np.linspace(0, 2000, 300)
    q = rotation.from_axis("Z", angles) * np.where(np.arange(300) % 7 < 3, 1, -1)[:, None]
    smooth = rotation.hemisphere(q)
    assert np.einsum("fk,fk->f", smooth[1:], smooth[:-1]).min() > 0
    assert rotation.geodesic_deg(smooth, q).max() < 1e-9


@given(st.lists(st.floats(-170, 170), min_size=2, max_size=60))
def test_single_axis_continuity_is_numpys_unwrap(steps: list[float]) -> None:
    true = np.cumsum(steps)
    wrapped = np.remainder(true + 180, 360) - 180
    ours = continuous(wrapped[None, :, None], "X")[0][0, :, 0]
    assert ours == pytest.approx(np.unwrap(wrapped, period=360), abs=1e-9)


def test_frames_to_quaternions_agree_with_scipy() -> None:
    turns = Rotation.random(200, random_state=7)
    m = turns.as_matrix()
    ours = rotation.from_frame(m[..., 0], m[..., 1], m[..., 2])
    assert rotation.geodesic_deg(ours, turns.as_quat()).max() < 1e-9
