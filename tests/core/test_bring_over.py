"""Parts of another clip brought over: what is in scope, from any skeleton, at any rate."""

from __future__ import annotations

from fractions import Fraction
from functools import cache
from typing import Any

import numpy as np
import pytest
from leancurve.curves.curve import KeyedCurve
from leancurve.demo import TAKES
from leancurve.demo.characters import heron_file
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.errors import BadInput
from leancurve.measures.findings import find
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats
from leancurve.operations import OPERATIONS, Patch, Scope, apply_patch
from leancurve.retarget.retargeting import retargeted
from leancurve.time.resample import resampled

FIRST, LAST, START = 200, 420, 500
INSIDE = np.arange(FIRST, LAST + 1)


@cache
def walk() -> Clip:
    return TAKES[2].clean()


@cache
def crate() -> Clip:
    return TAKES[1].clean()


@cache
def on_heron(at: int) -> Clip:
    return retargeted(TAKES[at].clean(), heron_file()).clip


def times(clip: Clip, source: Clip) -> Floats:
    """The source's frames that come to the range's, as its pace is kept."""
    return START + (INSIDE - FIRST) * float(source.rate / clip.rate)


def brought(clip: Clip, source: Clip, scope: Scope, **params: Any) -> Patch:
    params = {"ramp_in": 0, "ramp_out": 0, **params}
    return OPERATIONS["bring_over"].run(clip, params, scope, inputs={"source": source})


def test_from_itself_it_is_what_it_was() -> None:
    clip = walk()
    done = apply_patch(clip, brought(clip, clip, Scope()))
    before, after = evaluate(clip), evaluate(done)
    assert rotation.geodesic_deg(before.rotation, after.rotation).max() < 1e-9
    assert np.abs(before.translation - after.translation).max() < 1e-9


def test_one_arm_in_a_range_does_what_the_other_clips_does_and_nothing_else_changes() -> None:
    """The suit's crate in both hands, brought to the left arm of Heron's walk."""
    clip, source = on_heron(2), crate()
    scope = Scope(groups=("left arm",), frames=(FIRST, LAST))
    patch = brought(clip, source, scope, at=FIRST, start=START)
    arm = set(clip.body.groups["left arm"])
    assert {t.joint for t in patch.curves} == arm
    done = evaluate(apply_patch(clip, patch)).rotation
    before, wanted = evaluate(clip).rotation, evaluate(on_heron(1), times(clip, source)).rotation
    outside = np.r_[0:FIRST, LAST + 1 : clip.frames]
    assert rotation.geodesic_deg(done[outside], before[outside]).max() < 1e-9
    for joint in sorted(arm):
        assert rotation.geodesic_deg(done[INSIDE, joint], wanted[:, joint]).max() < 1e-6
    others = [j for j in range(len(clip.skeleton)) if j not in arm]
    assert np.array_equal(done[:, others], before[:, others])
    assert not [f for f in find(apply_patch(clip, patch)) if f.kind in ("wrap", "alternate")]


def test_it_comes_and_goes_over_ramps_and_by_a_share() -> None:
    clip, source = walk(), crate()
    scope = Scope(joints=("LeftForearm",), frames=(FIRST, LAST))
    whole = brought(clip, source, scope, at=FIRST, start=START, ramp_in=20, ramp_out=20)
    half = brought(clip, source, scope, at=FIRST, start=START, share=0.5)
    joint = clip.skeleton.index("LeftForearm")
    before = evaluate(clip).rotation[:, joint]
    ramped, mixed = (evaluate(apply_patch(clip, p)).rotation[:, joint] for p in (whole, half))
    wanted = evaluate(source, times(clip, source)).rotation[:, joint]
    away = rotation.geodesic_deg(ramped, before)
    assert away[FIRST] < 0.1 * rotation.geodesic_deg(wanted[0], before[FIRST])
    middle = (FIRST + LAST) // 2
    assert rotation.geodesic_deg(ramped[middle], wanted[middle - FIRST]) < 1e-6
    left = rotation.geodesic_deg(mixed[middle], before[middle])
    right = rotation.geodesic_deg(mixed[middle], wanted[middle - FIRST])
    assert left == pytest.approx(right, abs=1e-6)
    assert left > 1.0


def test_a_source_of_another_rate_keeps_its_pace_and_counts_as_long_as_it_lasts() -> None:
    clip, source = walk(), crate()
    slow = resampled(source, Fraction(30))
    scope = Scope(joints=("LeftForearm",))
    patch = brought(clip, slow, scope, at=100, start=slow.frames - 61)
    joint = clip.skeleton.index("LeftForearm")
    done = evaluate(apply_patch(clip, patch)).rotation[:, joint]
    before = evaluate(clip).rotation[:, joint]
    changed = np.flatnonzero(rotation.geodesic_deg(done, before) > 1e-9)
    many = round(60 * float(clip.rate) / 30)
    assert (changed.min(), changed.max()) == (100, 100 + many)
    theirs = evaluate(slow, np.array([slow.frames - 31.0])).rotation[0, joint]
    assert rotation.geodesic_deg(done[100 + many // 2], theirs) < 1e-6


def test_where_the_source_ends_it_goes_out_softly() -> None:
    clip, source = walk(), crate()
    scope = Scope(groups=("left arm",))
    hard = brought(clip, source, scope, at=FIRST, start=1000)
    soft = brought(clip, source, scope, at=FIRST, start=1000, ramp_in=30, ramp_out=30)
    joint = clip.skeleton.index("LeftUpperArm")

    def steps(patch: Patch) -> float:
        turns = evaluate(apply_patch(clip, patch)).rotation[:, joint]
        return float(rotation.geodesic_deg(turns[1:], turns[:-1]).max())

    assert steps(hard) > 2.0 * steps(soft)
    assert soft.report["frames"] == hard.report["frames"]


def test_hips_go_on_from_where_they_are() -> None:
    clip, source = walk(), crate()
    scope = Scope(groups=("torso", "left leg", "right leg"), frames=(FIRST, LAST))
    done = apply_patch(clip, brought(clip, source, scope, at=FIRST, start=START))
    place = evaluate(done).translation[:, 0]
    steps = np.linalg.norm(np.diff(place, axis=0)[:, [0, 2]], axis=1)
    assert steps[FIRST - 2 : FIRST + 2].max() < 2.0  # cm: no jump over the floor
    way = evaluate(source, times(clip, source)).translation[:, 0]
    own = place[FIRST : LAST + 1]
    assert np.linalg.norm(own[-1, [0, 2]] - own[0, [0, 2]]) == pytest.approx(
        np.linalg.norm(way[-1, [0, 2]] - way[0, [0, 2]]), abs=1e-6
    )
    there = apply_patch(clip, brought(clip, source, scope, at=FIRST, start=START, go_on=False))
    assert np.abs(evaluate(there).translation[FIRST : LAST + 1, 0] - way).max() < 1e-6


def test_keyed_channels_stay_keyed_within_the_tolerance() -> None:
    clip = apply_patch(walk(), OPERATIONS["thin"].run(walk()))
    scope = Scope(joints=("LeftForearm",), frames=(FIRST, LAST))
    patch = brought(clip, crate(), scope, at=FIRST, start=START, tolerance_deg=0.2)
    joint = clip.skeleton.index("LeftForearm")
    for track, curve in patch.curves.items():
        old = clip.curves[track]
        assert isinstance(curve, KeyedCurve)
        assert isinstance(old, KeyedCurve)
        before = old.time[old.time < FIRST - 1]
        assert np.array_equal(curve.time[curve.time < FIRST - 1], before)
    done = evaluate(apply_patch(clip, patch)).rotation[FIRST : LAST + 1, joint]
    wanted = evaluate(crate(), times(clip, crate())).rotation[:, joint]
    assert rotation.geodesic_deg(done, wanted).max() < 0.5


@pytest.mark.parametrize(
    ("scope", "params", "says"),
    [
        (Scope(), {"start": 5000}, "the source has frames 0 to"),
        (Scope(), {"joints": {"Tail": "Hips"}}, "no joint named 'Tail'"),
        (Scope(frames=(0, 10)), {"at": 20}, "has no frames within the scope"),
    ],
)
def test_what_cannot_be_brought_is_told(scope: Scope, params: dict[str, Any], says: str) -> None:
    with pytest.raises(BadInput, match=says):
        brought(walk(), crate(), scope, **params)
    # A single frame is one all the same; joints that are not there are none.
    assert brought(walk(), crate(), Scope(), at=880, start=1439).report["frames"] == 1
    assert not brought(walk(), crate(), Scope(joints=("none such",))).curves
