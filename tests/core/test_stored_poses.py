"""Stored poses: kept with all that lies over the curves, taken on the spot, on any skeleton."""

from __future__ import annotations

import numpy as np
import pytest
from leancurve.demo.characters import heron_file
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.document.posing import opposites
from leancurve.errors import BadInput
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats
from leancurve.retarget.retargeting import Wishes, retargeted
from leancurve.retarget.stored import excerpt, pose_on
from scipy.spatial.transform import Rotation

from tests.core.test_layers import FOREARM, done, laid, walk


def turns(clip: Clip, frame: int) -> Floats:
    return evaluate(clip, np.array([float(frame)])).rotation[0]


def test_an_excerpt_is_what_is_seen_and_nothing_lies_over_it() -> None:
    clip = done(laid(walk(), "arm", {FOREARM: (0, 18.5, 0)}), "place", move=(500, 0, 0), turn=30)
    kept = excerpt(clip, 100, 160)
    assert (kept.frames, kept.layers, kept.placement, kept.props) == (61, (), None, ())
    assert set(kept.curves) == set(clip.channels)
    gap = rotation.geodesic_deg(evaluate(kept).rotation, evaluate(clip).rotation[100:161])
    assert gap.max() < 1e-6
    assert excerpt(clip, 7, 7).frames == 1


def test_a_pose_is_taken_on_the_spot() -> None:
    """All joints as they were, the root's lean with the heading that it has now."""
    given = pose_on(walk(), excerpt(walk(), 120, 120), 0, 500, False)
    was, now = turns(walk(), 120), turns(walk(), 500)
    assert len(given) == len(walk().skeleton)
    for joint, turn in given.items():
        if walk().skeleton.parents[joint] >= 0:
            assert rotation.geodesic_deg(turn, was[joint]) < 1e-6

    # Headings by SciPy: the angle about Y of YXZ, intrinsic, where the lean is small.
    def heading(q: Floats) -> float:
        return float(Rotation.from_quat(q).as_euler("YXZ", degrees=True)[0])

    off = heading(given[0]) - heading(now[0])
    assert abs((off + 180) % 360 - 180) < 2.0


def test_mirrored_twice_it_is_the_pose_again_and_sides_change_places() -> None:
    kept = excerpt(walk(), 200, 200)
    once = pose_on(walk(), kept, 0, 200, True)
    across = opposites(walk())
    left, right = (walk().skeleton.index(f"{s}UpperArm") for s in ("Left", "Right"))
    assert across[left] == right
    straight = turns(walk(), 200)
    # As far from rest as the other side was.
    rest = walk().skeleton.rest_rotations
    for a, b in ((left, right), (right, left)):
        far = rotation.geodesic_deg(once[a], rest[a])
        assert far == pytest.approx(float(rotation.geodesic_deg(straight[b], rest[b])), abs=1e-6)


def test_a_pose_is_taken_by_another_skeleton_through_the_map() -> None:
    """As the whole walk retargeted onto it stands there."""
    target = heron_file()
    given = pose_on(target, walk(), 150, 0, False)
    assert len(given) > 0.7 * len(target.skeleton)
    whole = retargeted(walk(), target, Wishes(feet=0.0, hands=0.0)).clip
    wanted = turns(whole, 150)
    roots = {j for j, p in enumerate(target.skeleton.parents) if p < 0}
    off = {j: float(rotation.geodesic_deg(q, wanted[j])) for j, q in given.items()}
    assert max(v for j, v in off.items() if j not in roots) < 1e-3
    with pytest.raises(BadInput, match="expected one within 0 to"):
        pose_on(target, walk(), 10_000, 0, False)
