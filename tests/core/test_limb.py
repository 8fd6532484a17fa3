"""Two-bone limbs: bones keep their lengths, straight legs bend as they always do, no case fails."""

from __future__ import annotations

import numpy as np
import pytest
from leancurve.figure.limb import arc, reach, usual_hinge
from leancurve.numbers import rotation

HINGE = np.array([1.0, 0.0, 0.0])
THIGH, SHIN = 42.0, 40.0


def leg(bend: np.ndarray, out: np.ndarray | float = 0.0) -> tuple:
    """Rotations, parent and points of legs hanging down, knees bent forward by degrees ``(F,)``;
    ``out`` turns the knee's axis about the thigh."""
    count = len(bend)
    identity = np.tile(rotation.IDENTITY, (count, 1))
    turned = np.broadcast_to(np.asarray(out, dtype=float), (count,))
    axis = np.stack([np.cos(np.radians(turned)), np.zeros(count),
                     -np.sin(np.radians(turned))], axis=-1)  # fmt: skip
    shin = rotation.exp(axis * bend[:, None])
    hip = np.zeros((count, 3))
    knee = hip - np.array([0.0, THIGH, 0.0])
    foot = knee + rotation.rotate(shin, np.array([0.0, -SHIN, 0.0]))
    return (identity, shin, shin), identity, (hip, knee, foot)


def solved(given: tuple, target: np.ndarray, hinge: np.ndarray = HINGE) -> tuple:
    """Knees and feet where the solution puts them, and its world rotations."""
    rotations, parent, points = given
    upper, middle, end = reach(rotations, parent, points, target, hinge)
    world_upper = rotation.multiply(parent, upper)
    world_middle = rotation.multiply(world_upper, middle)
    thigh = rotation.rotate(rotation.conjugate(rotations[0]), points[1] - points[0])
    shin = rotation.rotate(rotation.conjugate(rotations[1]), points[2] - points[1])
    knee = points[0] + rotation.rotate(world_upper, thigh)
    foot = knee + rotation.rotate(world_middle, shin)
    return knee, foot, rotation.multiply(world_middle, end)


def test_a_foot_comes_to_its_target_and_keeps_its_orientation() -> None:
    given = leg(np.linspace(20.0, 120.0, 40))
    target = given[2][2] + np.array([3.0, 6.0, -5.0])
    knee, foot, world = solved(given, target)
    assert np.abs(foot - target).max() < 1e-9
    assert np.abs(np.linalg.norm(knee - given[2][0], axis=1) - THIGH).max() < 1e-9
    assert np.abs(np.linalg.norm(foot - knee, axis=1) - SHIN).max() < 1e-9
    assert rotation.geodesic_deg(world, given[0][2]).max() < 1e-6


def test_a_straight_leg_bends_forward_whatever_its_rounding() -> None:
    """Bends of ±1e-7 degrees about any axis: the knee goes where it always goes."""
    bend = np.array([0.0, 1e-7, -1e-7, 1e-7, -1e-7, 0.5, 0.5, -0.5])
    out = np.array([0.0, 0.0, 0.0, 90.0, 90.0, 0.0, 170.0, 60.0])
    given = leg(bend, out)
    target = given[2][2] + np.array([0.0, 8.0, 0.0])
    knee, foot, _ = solved(given, target)
    assert np.abs(foot - target).max() < 1e-6
    # Bent about +X the shin goes back and the knee forward; hardly to a side.
    assert np.all(knee[:, 2] > 10.0) or np.all(knee[:, 2] < -10.0)
    assert np.abs(knee[:, 0]).max() < 1.0


def test_nothing_moves_that_is_at_its_target() -> None:
    random = np.random.default_rng(4)
    bend = random.uniform(-14.0, 160.0, 400)
    given = leg(bend, random.uniform(-30, 30, 400))
    locals_ = reach(*given, given[2][2].copy(), HINGE)
    assert rotation.geodesic_deg(locals_[0], given[0][0]).max() < 1e-6
    middle = rotation.multiply(rotation.conjugate(given[0][0]), given[0][1])
    assert rotation.geodesic_deg(locals_[1], middle).max() < 1e-6


def test_no_case_gives_no_number_and_bones_keep_their_lengths() -> None:
    """Targets on the hip, opposite, beyond reach, on the knee; legs folded and straight."""
    random = np.random.default_rng(7)
    count = 20_000
    bend = random.choice([0.0, 1e-9, 180.0, 90.0, -3.0, 45.0], count)
    given = leg(bend, random.uniform(-180, 180, count))
    target = random.normal(0, 60, (count, 3))
    special = [given[2][0], given[2][1], -given[2][2], given[2][2] * 3.0, given[2][2]]
    for k, places in enumerate(special):
        target[k::9] = places[k::9]
    knee, foot, world = solved(given, target)
    for values in (knee, foot, world):
        assert np.all(np.isfinite(values))
    whole = THIGH + SHIN
    assert np.abs(np.linalg.norm(knee, axis=1) - THIGH).max() < 1e-9 * whole
    assert np.abs(np.linalg.norm(foot - knee, axis=1) - SHIN).max() < 1e-9 * whole
    distance = np.linalg.norm(target, axis=1)
    within = (distance < 0.98 * whole) & (distance > abs(THIGH - SHIN) + 1e-6) & (bend >= 0)
    assert np.linalg.norm(foot - target, axis=1)[within].max() < 0.004 * whole
    assert np.linalg.norm(foot, axis=1).max() <= whole + 1e-9


def test_the_usual_hinge_is_that_of_the_bent_frames() -> None:
    given = leg(np.concatenate([np.full(50, 0.3), np.full(10, 60.0)]),
                np.concatenate([np.full(50, 140.0), np.full(10, 5.0)]))  # fmt: skip
    hinge = usual_hinge(given[0][0], given[2])
    assert np.degrees(np.arccos(hinge @ HINGE)) == pytest.approx(5.0, abs=0.1)
    straight = leg(np.zeros(5))
    assert np.linalg.norm(usual_hinge(straight[0][0], straight[2])) == pytest.approx(1.0)


def test_arcs_turn_directions_into_each_other() -> None:
    random = np.random.default_rng(2)
    a, b = random.normal(size=(2, 200, 3))
    b[:20] = -a[:20]
    axis = random.normal(size=(200, 3))
    turned = rotation.rotate(arc(a, b, axis), a / np.linalg.norm(a, axis=1, keepdims=True))
    assert np.abs(turned - b / np.linalg.norm(b, axis=1, keepdims=True)).max() < 1e-7
    none = arc(np.zeros((1, 3)), b[:1], axis[:1])
    assert none.tolist() == [rotation.IDENTITY.tolist()]
