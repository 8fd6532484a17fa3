"""The one evaluation: mixed joints, rest rotations, effective channels; no reader beside it."""

from __future__ import annotations

import ast
import gc
import weakref
from dataclasses import replace
from fractions import Fraction

import numpy as np
import pytest
from leancurve.curves.curve import Curve, SampledCurve, keyed
from leancurve.document.clip import Clip
from leancurve.document.evaluation import affected, effective, evaluate
from leancurve.document.kept import RECENT, recent
from leancurve.document.posing import mirrored
from leancurve.document.stored import (
    clip_of,
    header_of,
    skeleton_of,
    skeleton_values,
    upgraded,
)
from leancurve.document.track import TrackId, base_track
from leancurve.figure.skeleton import Skeleton
from leancurve.formats.bvh import read_bvh, write_bvh
from leancurve.formats.clipjson import read_clip, write_clip
from leancurve.numbers import rotation
from leancurve.operations import Patch, apply_patch
from leancurve.time.resample import resampled
from scipy.spatial.transform import Rotation

from tests.conftest import PROJECT

HALF = float(np.sqrt(0.5))


def mixed() -> Clip:
    """A joint held at 30° by keys about Y, beside samples about X that wrap once."""
    skeleton = Skeleton(("a",), (-1,), ((0.0, 1.0, 0.0),))
    curves: dict[TrackId, Curve] = {
        base_track(0, "rx"): SampledCurve(np.array([0.0, 10, 20, 30, 40, 50, -300, -290])),
        base_track(0, "ry"): keyed([0, 7], [30.0, 30.0]),
        base_track(0, "rz"): keyed([0, 7], [0.0, 7.0], [1.0, 1.0]),
    }
    return Clip(skeleton, (("rx", "ry", "rz"),), curves, Fraction(30), 8)


def test_keyed_channels_beside_sampled_ones_keep_their_shape_between_frames() -> None:
    clip = mixed()
    times = np.array([2.5, 5.5])
    ours = evaluate(clip, times).rotation[:, 0]
    # By scipy: intrinsic X, Y, Z; between 50° and -300°, a wrap, X goes the short way to 60°.
    truth = Rotation.from_euler("XYZ", [[25, 30, 2.5], [55, 30, 5.5]], degrees=True).as_quat()
    assert rotation.geodesic_deg(ours, truth).max() < 1e-9
    values = effective(clip, times)
    assert values[base_track(0, "ry")] == pytest.approx([30, 30])
    assert values[base_track(0, "rz")] == pytest.approx([2.5, 5.5])


def test_delivered_at_another_rate_they_keep_it_too() -> None:
    twice = resampled(mixed(), Fraction(60))
    assert twice.curves[base_track(0, "ry")].at(np.arange(15.0)) == pytest.approx(30)
    every = np.arange(0, 7.5, 0.5)
    ours, there = evaluate(twice).rotation, evaluate(mixed(), every).rotation
    assert rotation.geodesic_deg(ours, there).max() < 1e-9


def test_some_frames_are_all_frames_chosen_from(walk: Clip) -> None:
    every = evaluate(walk)
    some = evaluate(walk, np.array([7.0, 300.0, 899.0]))
    assert np.array_equal(some.rotation, every.rotation[[7, 300, 899]])
    few = evaluate(walk, joints=[5, 2])
    assert np.array_equal(few.rotation, every.rotation[:, [5, 2]])


def test_a_change_reaches_its_own_joints(walk: Clip) -> None:
    assert affected(walk, [base_track(5, "rx"), base_track(2, "ry"), base_track(5, "rz")]) == (2, 5)


def resting() -> Clip:
    """A root turned a quarter about X at rest, a bone along its Y, and a tip with no channels."""
    skeleton = Skeleton(
        ("root", "left", "tip", "right"),
        (-1, 0, 1, 0),
        ((0.0, 10.0, 0.0), (3.0, 4.0, 0.0), (0.0, 2.0, 0.0), (-3.0, 4.0, 0.0)),
        (),
        ((HALF, 0, 0, HALF), (0, 0, HALF, HALF), (0, HALF, 0, HALF), (0, 0, -HALF, HALF)),
    )
    turn = SampledCurve(np.linspace(0, 40, 5))
    layout = (("rx", "ry", "rz"), ("rx", "ry", "rz"), (), ("rx", "ry", "rz"))
    curves: dict[TrackId, Curve] = {
        base_track(j, c): turn for j, names in enumerate(layout) for c in names
    }
    return Clip(skeleton, layout, curves, Fraction(30), 5)


def test_a_joint_without_rotation_channels_stands_at_its_rest() -> None:
    clip = resting()
    local = evaluate(clip).rotation
    assert rotation.geodesic_deg(local[:, 2], np.array([0, HALF, 0, HALF])).max() < 1e-12
    # Channels are the whole of a joint's rotation: a root of zeros stands as its parent does.
    assert rotation.geodesic_deg(local[0, 0], rotation.IDENTITY) < 1e-12
    # By hand: the root at rest turns its Y to the world's Z.
    at = clip.skeleton.rest_positions
    assert at[1] == pytest.approx([3, 10, 4], abs=1e-12)
    assert at[2] == pytest.approx([3 - 2, 10, 4], abs=1e-12)


def test_rest_rotations_are_kept_in_clip_json_and_stored_and_held_in_bvh() -> None:
    clip = resting()
    back = read_clip(write_clip(clip)).clip
    assert np.abs(back.skeleton.rest_rotations - clip.skeleton.rest_rotations).max() < 1e-12
    values = skeleton_values(clip.skeleton)
    stored = clip_of(header_of(clip, "x"), skeleton_of(values), clip.curves)
    assert stored.skeleton == clip.skeleton
    assert stored.layout == clip.layout
    ours = evaluate(clip).world(clip.skeleton)
    file = read_bvh(write_bvh(clip)).clip
    theirs = evaluate(file).world(file.skeleton)
    assert np.abs(theirs[1] - ours[1]).max() < 1e-9
    assert rotation.geodesic_deg(theirs[0], ours[0]).max() < 1e-6
    straight = mixed()
    assert "rests" not in skeleton_values(straight.skeleton)


def test_a_mirrored_pose_is_reflected_in_the_figures_axes() -> None:
    """A left arm whose axes rest otherwise than the right one's: its tip lies mirrored."""
    clip = resting()
    roles = (("left", "left hand"), ("right", "right hand"), ("root", "hips"))
    clip = replace(clip, reading=replace(clip.reading, roles=roles))
    pose = {1: {"rx": 12.0, "ry": -35.0, "rz": 70.0}}
    other = mirrored(clip, pose, 0.0)[3]

    def turn(joint: int, values: dict[str, float]) -> np.ndarray:
        """The joint's turn from rest, in the figure's axes, the root at rest."""
        local = Rotation.from_euler("XYZ", [values[c] for c in ("rx", "ry", "rz")], degrees=True)
        root = Rotation.from_quat(clip.skeleton.rest_rotations[0])
        rest = Rotation.from_quat(clip.skeleton.rest_world[0][joint])
        return (root * local * rest.inv()).as_matrix()

    reflect = np.diag([-1.0, 1.0, 1.0])
    assert turn(3, other) == pytest.approx(reflect @ turn(1, pose[1]) @ reflect, abs=1e-9)


def test_a_stored_header_of_the_first_version_is_brought_up() -> None:
    clip = mixed()
    now = header_of(clip, "x")
    old = {k: v for k, v in now.items() if k not in ("schema", "schema_version", "tracks")}
    joint = {"name": "a", "parent": -1, "offset": [0, 1, 0], "channels": ["rx", "ry", "rz"]}
    old["skeleton"] = {"joints": [joint], "ends": []}
    header, values = upgraded(old)
    assert values is not None
    again = clip_of(header, skeleton_of(values), clip.curves)
    assert (again.skeleton, again.layout, again.rate) == (clip.skeleton, clip.layout, clip.rate)
    assert upgraded(now) == (now, None)


def test_a_patch_can_change_the_skeleton_and_unset_a_part() -> None:
    from leancurve.document.clip import Contact

    clip = replace(mixed(), contacts=(Contact("left toe", 0, 3),))
    longer = Skeleton(("a",), (-1,), ((0.0, 2.0, 0.0),))
    changed = apply_patch(clip, Patch(skeleton=longer, unset=frozenset({"contacts"})))
    assert changed.skeleton == longer
    assert changed.contacts is None
    assert changed.curves == clip.curves


# Rooms and files that edit stored curves, write them or check them; all else reads effective
# channels and poses.
EDITS = {
    "curves", "document", "operations", "demo", "formats", "time", "warm", "recipe",
}  # fmt: skip
STORED = {
    "cleaning/continuity.py": "writes angles anew, curve by curve",
    "cleaning/turned.py": "writes joints that were turned into their curves",
    "delivery/axes.py": "writes a baked clip in other axes, curve by curve",
    "delivery/joints.py": "writes a baked clip on other joints, those that stay curve by curve",
    "delivery/making.py": "asks where a clip has its keys: splines keep them",
    "delivery/partners.py": "adds the curves of a partner's joints to the clip's own",
    "delivery/report.py": "counts keys",
    "joining/blending.py": "lays one clip's curves after another's; keyed ones stay keyed",
    "measures/findings/keys.py": "looks at keys themselves",
    "measures/findings/stuck.py": "looks at keys themselves",
    "retarget/keys.py": "asks where a clip has its keys, and gives another one the same",
    "measures/findings/idle.py": "asks which channels have more than one key",
}


def test_what_reads_a_motion_reads_it_through_the_evaluation() -> None:
    core = PROJECT / "core/leancurve"
    found = set()
    for file in core.rglob("*.py"):
        where = file.relative_to(core)
        if where.parts[0].removesuffix(".py") in EDITS:
            continue
        for node in ast.walk(ast.parse(file.read_text())):
            if isinstance(node, ast.Attribute) and node.attr == "curves":
                found.add(str(where))
    assert found == set(STORED)


def test_what_is_large_is_remembered_for_the_last_few_clips_alone() -> None:
    looked: list[Clip] = []

    def look(clip: Clip) -> list[int]:
        looked.append(clip)
        return [clip.frames]

    clips = [replace(mixed(), name=str(k)) for k in range(RECENT + 1)]
    asked = recent(10, len)(look)
    first = asked(clips[0])
    assert asked(clips[0]) is first
    for clip in clips[1:]:
        asked(clip)
    assert len(looked) == RECENT + 1
    asked(clips[0])  # the oldest was given up
    assert len(looked) == RECENT + 2
    # What weighs more than is kept is found anew each time, and a clip that goes is forgotten.
    heavy = recent(0, len)(look)
    assert heavy(clips[0]) is not heavy(clips[0])
    gone = weakref.ref(clips[1])
    looked.clear()
    clips.clear()
    del clip
    gc.collect()
    assert gone() is None


def test_a_patch_s_clip_is_made_once_and_a_changed_patch_s_anew() -> None:
    clip = mixed()
    patch = Patch(frames=5)
    assert apply_patch(clip, patch) is apply_patch(clip, patch)
    assert apply_patch(clip, replace(patch, frames=4)).frames == 4
    other = replace(clip, name="other")
    assert apply_patch(other, patch).name == "other"
    assert apply_patch(clip, patch).name == clip.name
