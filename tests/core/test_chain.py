"""Chains led by the least turning: the spine, the neck, a finger, a tail."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.document.plant import Plant
from leancurve.document.planting.parts import holding
from leancurve.document.planting.plan import plan_of
from leancurve.figure.chain import follow
from leancurve.figure.feet import Chain
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats
from leancurve.operations import OPERATIONS, Scope, apply_patch
from scipy.spatial.transform import Rotation


def tail(frames: int, joints: int = 5, seed: int = 1) -> tuple[Floats, Floats]:
    """World rotations and points of a bent chain with bones of ten."""
    random = np.random.default_rng(seed)
    local = rotation.exp(random.normal(0, 18, (frames, joints, 3)))
    turns, points = np.empty((frames, joints, 4)), np.zeros((frames, joints + 1, 3))
    at = np.tile(rotation.IDENTITY, (frames, 1))
    for j in range(joints):
        at = rotation.multiply(at, local[:, j])
        turns[:, j] = at
        points[:, j + 1] = points[:, j] + rotation.rotate(at, np.array([0.0, 10.0, 0.0]))
    return turns, points


def led_points(turns: Floats, solved: Floats, points: Floats) -> Floats:
    """Where the joints are once they are turned, by SciPy's rotations."""
    out = points.copy()
    for f in range(len(points)):
        for j in range(turns.shape[1]):
            by = Rotation.from_quat(solved[f, j]) * Rotation.from_quat(turns[f, j]).inv()
            out[f, j + 1] = out[f, j] + by.apply(points[f, j + 1] - points[f, j])
    return out


def test_a_chains_end_comes_to_its_target_and_bones_keep_their_lengths() -> None:
    turns, points = tail(40)
    target = points[:, -1] + np.random.default_rng(3).normal(0, 6, (40, 3))
    target *= np.minimum(1.0, 46.0 / np.linalg.norm(target, axis=1))[:, None]
    solved = follow(turns, points, target)
    now = led_points(turns, solved, points)
    assert np.linalg.norm(now[:, -1] - target, axis=1).max() < 0.25
    bones = np.linalg.norm(np.diff(now, axis=1), axis=2)
    assert np.abs(bones - 10.0).max() < 1e-9


def test_a_target_that_is_here_moves_nothing_and_one_out_of_reach_is_approached() -> None:
    turns, points = tail(10)
    assert np.abs(follow(turns, points, points[:, -1]) - turns).max() < 1e-12
    far = points[:, -1] * 5
    now = led_points(turns, follow(turns, points, far), points)
    was = np.linalg.norm(points[:, -1] - far, axis=1)
    assert np.all(np.linalg.norm(now[:, -1] - far, axis=1) < was)
    assert np.all(np.isfinite(now))


def test_a_straight_a_folded_and_a_chain_without_length_give_numbers() -> None:
    turns = np.tile(rotation.IDENTITY, (3, 3, 1))
    points = np.zeros((3, 4, 3))
    points[0, :, 1] = [0, 10, 20, 30]
    points[1, :, 1] = [0, 10, 0, 10]
    for target in ([0.0, 25.0, 0.0], [0.0, 0.0, 0.0], [5.0, 5.0, 5.0]):
        solved = follow(turns, points, np.tile(target, (3, 1)))
        assert np.all(np.isfinite(solved))
        assert np.abs(np.linalg.norm(solved, axis=2) - 1.0).max() < 1e-9


def test_weights_say_which_joints_turn() -> None:
    turns, points = tail(20)
    target = points[:, -1] + np.array([4.0, -2.0, 1.0])
    stiff = np.array([0.0, 1.0, 1.0, 1.0, 1.0])
    solved = follow(turns, points, target, stiff)
    assert np.abs(solved[:, 0] - turns[:, 0]).max() < 1e-12
    assert rotation.geodesic_deg(solved[:, 2], turns[:, 2]).min() > 0.1


@pytest.mark.parametrize("part", ["Head", "LeftIndex2"])
def test_any_joint_can_be_planted_and_the_chain_above_it_follows(walk: Clip, part: str) -> None:
    joint = walk.skeleton.index(part)
    at = evaluate(walk).world(walk.skeleton)[1]
    place = tuple(at[301, joint] + np.array([2.0, -1.5, 1.0]) * (1 if part == "Head" else 0.3))
    plant = Plant(part, 300, 302, (place[0], place[1], place[2]), ease_in=30, ease_out=30)
    held = replace(walk, plants=(plant,))
    chain = holding(held, plant)
    assert isinstance(chain, Chain)
    now = evaluate(held).world(held.skeleton)[1]
    was = np.linalg.norm(at[300:303, joint] - place, axis=1).max() * walk.millimetres
    off = np.linalg.norm(now[300:303, joint] - place, axis=1).max() * walk.millimetres
    assert off < 0.05 * was
    assert np.array_equal(evaluate(held).rotation[:270], evaluate(walk).rotation[:270])
    assert plan_of(held).limbs[0].missed.max() >= 0


def test_a_head_is_led_by_its_neck_and_spine_over_a_span(walk: Clip) -> None:
    params = {"part": "Head", "x": 30.0, "ramp_in": 10, "ramp_out": 10}
    patch = OPERATIONS["pull"].run(walk, params, Scope(frames=(300, 360)))
    led = apply_patch(walk, patch)
    head = walk.skeleton.index("Head")
    moved = (evaluate(led).world(led.skeleton)[1] - evaluate(walk).world(walk.skeleton)[1])[330]
    assert np.allclose(moved[head] * walk.millimetres, [30, 0, 0], atol=1.0)
    assert np.abs(moved[walk.skeleton.index("Hips")]).max() < 1e-9
    assert patch.report["missed_mm"] < 1
