"""Poses by hand: mirrored through the body's middle, keyed, and led to softly."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from leancurve.curves.curve import KeyedCurve, keyed
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.document.posing import lateral_axis, mirrored, opposites
from leancurve.document.track import base_track
from leancurve.errors import BadInput
from leancurve.numbers import rotation
from leancurve.operations import OPERATIONS, Scope, apply_patch
from scipy.spatial.transform import Rotation


@pytest.fixture(scope="module")
def thin(walk: Clip) -> Clip:
    return apply_patch(walk, OPERATIONS["thin"].run(walk))


def forearm(clip: Clip) -> int:
    joint = clip.body.find("left forearm")
    assert joint is not None
    return joint


def pose_at(clip: Clip, frame: int) -> dict[int, dict[str, float]]:
    at = np.array([float(frame)])
    return {
        j: {c: float(clip.curves[base_track(j, c)].at(at)[0]) for c in names}
        for j, names in enumerate(clip.layout)
        if names
    }


def posed(clip: Clip, pose: dict[int, dict[str, float]]) -> Clip:
    curves = {
        base_track(j, c): keyed([0], [v]) for j, given in pose.items() for c, v in given.items()
    }
    return replace(clip, frames=1).with_curves(curves)


def upright(clip: Clip, pose: dict[int, dict[str, float]]) -> dict[int, dict[str, float]]:
    """The pose with its root neither turned nor moved, so that its middle is the world's."""
    root = next(j for j, p in enumerate(clip.skeleton.parents) if p < 0)
    return {**pose, root: dict.fromkeys(pose[root], 0.0)}


def test_a_mirrored_pose_is_the_reflection_of_the_figure(walk: Clip) -> None:
    pose = upright(walk, pose_at(walk, 321))
    other = mirrored(walk, pose, 321)
    there = opposites(walk)
    assert set(other) == set(pose)
    here_at = evaluate(posed(walk, pose)).world(walk.skeleton)[1][0]
    both = {j: {**given, **other[j]} for j, given in pose.items()}
    there_at = evaluate(posed(walk, both)).world(walk.skeleton)[1][0]
    axis = lateral_axis(walk)
    assert axis == 0
    flipped = here_at[list(there)].copy()
    root = np.array(walk.skeleton.offsets[0])
    flipped[:, axis] = 2 * root[axis] - flipped[:, axis]
    reach = np.ptp(here_at, axis=0).max()
    # The suit's two sides are alike to the rounding of its offsets.
    assert np.abs(flipped - there_at).max() < 0.01 * reach


def test_mirrored_twice_a_pose_is_what_it_was(walk: Clip) -> None:
    pose = pose_at(walk, 500)
    twice = mirrored(walk, mirrored(walk, pose, 500), 500)
    for joint, given in pose.items():
        turns = [c for c in given if c[0] == "r"]
        order = walk.order(joint)
        a, b = (
            rotation.from_euler(np.array([v[joint][c] for c in turns]), order)
            for v in (pose, twice)
        )
        assert rotation.geodesic_deg(a, b) < 1e-6


def test_the_root_keeps_its_heading_and_leans_to_the_other_side(walk: Clip) -> None:
    pose = {0: {**pose_at(walk, 0)[0]}}
    lean = Rotation.from_euler("z", 20, degrees=True)
    heading = Rotation.from_euler("y", 70, degrees=True)
    order = walk.order(0)
    angles = (heading * lean).as_euler(order, degrees=True)
    pose[0] |= {f"r{a.lower()}": float(x) for a, x in zip(order, angles, strict=True)}
    out = mirrored(walk, pose, 0)[0]
    back = Rotation.from_euler(order, [out[f"r{a.lower()}"] for a in order], degrees=True)
    expected = heading * Rotation.from_euler("z", -20, degrees=True)
    assert (back.inv() * expected).magnitude() < 1e-9


def test_a_skeleton_without_sides_is_not_mirrored(walk: Clip) -> None:
    roles = tuple((name, "helper") for name in walk.skeleton.names)
    clip = replace(walk, reading=replace(walk.reading, roles=roles))
    with pytest.raises(BadInput, match="left and the right"):
        mirrored(clip, pose_at(walk, 0), 0)


def test_a_pose_is_keyed_on_one_part_of_the_body(thin: Clip) -> None:
    patch = OPERATIONS["key_pose"].run(thin, {"frame": 333}, Scope(groups=("left arm",)))
    arm = {
        c
        for c in Scope(groups=("left arm",)).resolve(thin)
        if not np.any(thin.curves[c].columns["time"] == 333)
    }
    assert arm
    assert set(patch.curves) == arm
    frames = np.arange(thin.frames, dtype=np.float64)
    for channel, curve in patch.curves.items():
        assert isinstance(curve, KeyedCurve)
        assert 333 in curve.time
        assert curve.at(frames) == pytest.approx(thin.curves[channel].at(frames), abs=1e-9)


def test_a_soft_offset_counts_in_full_at_its_frame_and_dies_out(walk: Clip) -> None:
    joint = forearm(walk)
    offset = {"joint": walk.skeleton.names[joint], "turn": [0.0, 0.0, 25.0]}
    params = {"frame": 400, "radius": 10, "offsets": [offset]}
    patch = OPERATIONS["soft_offset"].run(walk, params)
    assert {c.joint for c in patch.curves} == {joint}
    after = apply_patch(walk, patch)
    old, new = (evaluate(c).rotation[:, joint] for c in (walk, after))
    moved = rotation.geodesic_deg(old, new)
    assert moved[400] == pytest.approx(25, abs=1e-9)
    by = Rotation.from_quat(old[400]).inv() * Rotation.from_quat(new[400])
    assert by.as_rotvec(degrees=True) == pytest.approx([0, 0, 25], abs=1e-9)
    assert np.all(moved[:391] == 0)
    assert np.all(moved[410:] == 0)
    # No spike: frame by frame it is led there.
    assert np.abs(np.diff(moved)).max() < 25 * 1.54 / 10 * 1.05


def test_a_soft_offset_leaves_keyed_channels_and_lists_joints_it_does_not_find(thin: Clip) -> None:
    name = thin.skeleton.names[forearm(thin)]
    offsets = [{"joint": name, "turn": [9, 0, 0]}, {"joint": "Tail", "turn": [9, 0, 0]}]
    patch = OPERATIONS["soft_offset"].run(thin, {"frame": 4, "offsets": offsets})
    assert patch.curves == {}
    assert patch.report["unplaced"] == [{"joint": "Tail"}]
    with pytest.raises(BadInput, match="radius"):
        OPERATIONS["soft_offset"].run(thin, {"frame": 4, "offsets": offsets, "radius": 0.5})
