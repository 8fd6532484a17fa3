"""Forward kinematics, and the sense of a skeleton."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.figure.skeleton import Skeleton, forward_kinematics, forward_kinematics_plain
from leancurve.measures.drift import drift, end_points, find_ends
from leancurve.operations import OPERATIONS, apply_patch
from scipy.spatial.transform import Rotation


def chain(*names: str) -> Skeleton:
    return Skeleton(names, tuple(range(-1, len(names) - 1)), ((0.0, 1.0, 0.0),) * len(names))


def test_compiled_kinematics_agree_with_the_plain_ones(walk: Clip) -> None:
    pose = evaluate(walk, np.arange(0, 900, 13.0))
    ours = forward_kinematics(walk.skeleton, pose.rotation, pose.translation)
    plain = forward_kinematics_plain(walk.skeleton, pose.rotation, pose.translation)
    assert np.abs(ours[0] - plain[0]).max() < 1e-12
    assert np.abs(ours[1] - plain[1]).max() < 1e-9


def test_world_rotation_is_the_product_down_the_chain_as_scipy_has_it() -> None:
    skeleton = chain("a", "b", "c")
    turns = Rotation.random(3, random_state=1)
    local = turns.as_quat()[None]
    rotations, positions = forward_kinematics(skeleton, local, skeleton.offset_array[None].copy())
    product = turns[0] * turns[1] * turns[2]
    assert (Rotation.from_quat(rotations[0, 2]) * product.inv()).magnitude() < 1e-12
    expected = (
        np.array([0, 1, 0]) + turns[0].apply([0, 1, 0]) + (turns[0] * turns[1]).apply([0, 1, 0])
    )
    assert positions[0, 2] == pytest.approx(expected)


def test_a_parent_must_stand_before_its_child() -> None:
    with pytest.raises(ValueError, match="'a' must stand after its parent"):
        Skeleton(("a", "b"), (1, -1), ((0, 0, 0),) * 2)


@pytest.mark.parametrize(
    ("names", "found"),
    [
        (("Hips", "Spine", "LeftHand", "LeftHandIndex1"), None),
        (("root", "l_wrist", "l_palm", "head"), ("l_wrist", "head")),
        (("a", "b", "c"), ("c",)),
    ],
)
def test_ends_are_found_by_name_nearest_the_root_else_leaves(
    names: tuple[str, ...], found: tuple[str, ...] | None
) -> None:
    assert find_ends(chain(*names)) == (found or (names[-1],))


def test_a_quarter_degree_at_the_hips_is_millimetres_at_the_ends(walk: Clip) -> None:
    """World error grows down the chain: 0.25° at 0.9 m is 0.25 π / 180 × 900 = 3.9 mm."""
    hips_x = next(c for c in walk.channels if c.joint == 0 and c.name == "rx")
    turned = walk.with_curves(
        {hips_x: replace(walk.curves[hips_x], values=walk.curves[hips_x].values + 0.25)}
    )
    moved = drift(turned, walk)
    assert moved.max_deg == pytest.approx(0.25, rel=1e-6)
    assert moved.max_joint == "Hips"
    assert 2.5 < moved.max_mm < 5.0
    assert set(moved.end_max_mm) == {"Head", "LeftHand", "RightHand", "LeftFoot", "RightFoot"}


def test_drift_of_equal_motion_is_zero_and_other_joints_are_refused(walk: Clip) -> None:
    same = drift(walk, walk)
    assert (same.max_deg, same.max_mm, same.rms_deg) == (0, 0, 0)
    other = replace(walk, skeleton=replace(walk.skeleton, names=("x", *walk.skeleton.names[1:])))
    with pytest.raises(ValueError, match="joint names differ"):
        drift(other, walk)


def test_drift_is_independent_of_the_unit_a_file_uses(walk: Clip) -> None:
    """Millimetres are millimetres: the same figure in metres drifts as far."""
    thin = apply_patch(walk, OPERATIONS["thin"].run(walk, {"tolerance_deg": 1}))
    in_cm = drift(thin, walk).max_mm
    read = OPERATIONS["read"]
    metres = {"metres_per_unit": 1.0}
    in_m = drift(
        apply_patch(thin, read.run(thin, metres)), apply_patch(walk, read.run(walk, metres))
    )
    assert in_m.max_mm == pytest.approx(100 * in_cm)


def test_an_end_with_a_tip_is_measured_at_the_tip(walk: Clip) -> None:
    pose = evaluate(walk, np.zeros(1))
    names, points = end_points(walk, pose)
    _, positions = pose.world(walk.skeleton)
    head = walk.skeleton.index("Head")
    gap = np.linalg.norm(points[0, names.index("Head")] - positions[0, head])
    assert gap == pytest.approx(np.hypot(17, 1))
