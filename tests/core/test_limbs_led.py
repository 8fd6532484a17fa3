"""Ends pulled over a span, and limbs repaired: what is led is led, all else stays."""

from __future__ import annotations

import numpy as np
import pytest
from leancurve.curves.curve import KeyedCurve, SampledCurve
from leancurve.demo import TAKES
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.document.track import base_track
from leancurve.errors import BadInput
from leancurve.figure.feet import Limb, limbs_of
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats
from leancurve.operations import OPERATIONS, Scope, apply_patch


def world(clip: Clip) -> Floats:
    return evaluate(clip).world(clip.skeleton)[1]


def limb(clip: Clip, name: str) -> Limb:
    return next(x for x in limbs_of(clip.skeleton, clip.body) if x.name == name)


@pytest.mark.parametrize("keyed", [False, True], ids=["dense", "keyed"])
def test_a_hand_that_misses_by_four_centimetres_is_led_there_over_a_span(
    walk: Clip, keyed: bool
) -> None:
    clip = walk
    if keyed:
        clip = apply_patch(walk, OPERATIONS["thin"].run(walk, {"tolerance_deg": 0.5}))
    scope = Scope(frames=(300, 360))
    params = {"part": "right hand", "y": 40.0, "ramp_in": 15, "ramp_out": 15}
    patch = OPERATIONS["pull"].run(clip, params, scope)
    led = apply_patch(clip, patch)
    arm = limb(clip, "right arm")
    before, after = world(clip), world(led)
    moved = (after - before)[:, arm.end] * clip.millimetres
    assert np.allclose(moved[330], [0, 40, 0], atol=1.0 if keyed else 1e-6)
    assert patch.report["missed_mm"] < (1.5 if keyed else 0.01)
    # Softly at both ends, and nothing outside; no other limb moves.
    assert np.abs(moved[:299]).max() < 1e-6
    assert np.abs(moved[362:]).max() < 1e-6
    assert np.all(np.diff(moved[300:316, 1]) > -0.5)
    others = [j for j in range(len(clip.skeleton)) if arm.upper not in clip.skeleton.chain(j)]
    assert np.array_equal(before[:, others], after[:, others])
    if keyed:
        track = base_track(arm.upper, "rx")
        was, now = clip.curves[track], led.curves[track]
        assert isinstance(was, KeyedCurve)
        assert isinstance(now, KeyedCurve)
        assert set(np.round(was.time)) <= set(np.round(now.time))


def test_an_end_is_led_in_the_figures_own_axes_and_says_what_it_misses(walk: Clip) -> None:
    scope = Scope(frames=(300, 360))
    run = OPERATIONS["pull"].run
    far = run(walk, {"part": "left hand", "z": 1500.0, "space": "figure"}, scope)
    assert far.report["missed_mm"] > 500
    near = apply_patch(walk, run(walk, {"part": "left hand", "x": 30.0, "space": "figure"}, scope))
    turns, _ = evaluate(walk).world(walk.skeleton)
    hips, hand = walk.skeleton.index("Hips"), limb(walk, "left arm").end
    moved = world(near)[330, hand] - world(walk)[330, hand]
    own = rotation.rotate(rotation.conjugate(turns[330, hips]), moved) * walk.millimetres
    assert np.allclose(own, [30, 0, 0], atol=1e-6)
    with pytest.raises(BadInput, match="nose: no part that can be planted"):
        run(walk, {"part": "nose"}, scope)


def knees_back(clip: Clip, first: int, last: int) -> tuple[Clip, Limb]:
    """The left knee turned to the other side for some frames, foot and hips where they were."""
    leg = limb(clip, "left leg")
    pose = evaluate(clip)
    turns, points = pose.world(clip.skeleton)
    h, k, a = (points[:, j] for j in leg.joints)
    along = (a - h) / np.linalg.norm(a - h, axis=1)[:, None]
    half = rotation.exp(180.0 * along)
    parent = turns[:, clip.skeleton.parents[leg.upper]]
    first_turn = rotation.multiply(half, turns[:, leg.upper])
    second = rotation.multiply(half, turns[:, leg.middle])
    # The thigh's own twist stays as it was: the knee alone is on its wrong side.
    untwist = rotation.exp(180.0 * (k - h) / np.linalg.norm(k - h, axis=1)[:, None])
    first_turn = rotation.multiply(rotation.multiply(half, untwist), turns[:, leg.upper])
    local = {
        leg.upper: rotation.multiply(rotation.conjugate(parent), first_turn),
        leg.middle: rotation.multiply(rotation.conjugate(first_turn), second),
        leg.end: rotation.multiply(rotation.conjugate(second), turns[:, leg.end]),
    }
    curves = {}
    for joint, q in local.items():
        order = clip.order(joint)
        for n, track in enumerate(clip.turns_of(joint)):
            values = np.array(clip.curves[track].at(np.arange(clip.frames, dtype=float)))
            near = np.stack(
                [clip.curves[t].at(np.arange(clip.frames, dtype=float))
                 for t in clip.turns_of(joint)], axis=1,
            )  # fmt: skip
            angles = rotation.angles_near(q, order, near)
            values[first : last + 1] = angles[first : last + 1, n]
            curves[track] = SampledCurve(values)
    return clip.with_curves(curves), leg


def test_a_knee_on_its_wrong_side_is_brought_back_from_the_path_of_its_foot(walk: Clip) -> None:
    spoiled, leg = knees_back(walk, 400, 407)
    truth, off = world(walk), world(spoiled)
    assert np.linalg.norm(off[403, leg.middle] - truth[403, leg.middle]) > 3
    assert np.abs(off[:, leg.end] - truth[:, leg.end]).max() < 1e-6
    patch = OPERATIONS["mend_limbs"].run(spoiled, {"over": 0.1}, Scope(joints=("LeftThigh",)))
    mended = world(apply_patch(spoiled, patch))
    assert patch.report["wrong_side_frames"] >= 8
    assert np.linalg.norm(mended[403, leg.middle] - truth[403, leg.middle]) < 0.6
    # Foot and hips stay where they were, bones keep their lengths.
    assert np.abs(mended[:, leg.end] - truth[:, leg.end]).max() < 1e-6
    for a, b in ((leg.upper, leg.middle), (leg.middle, leg.end)):
        long = np.linalg.norm(mended[:, b] - mended[:, a], axis=1)
        assert np.ptp(long) < 1e-9


def test_a_sound_limb_is_hardly_touched_and_a_wobble_is_calmed(walk: Clip) -> None:
    leg = limb(walk, "right leg")
    still = apply_patch(walk, OPERATIONS["mend_limbs"].run(walk, {"over": 0.0}))
    assert np.abs(world(still)[:, leg.middle] - world(walk)[:, leg.middle]).max() < 0.7
    track = base_track(leg.upper, "ry")
    random = np.random.default_rng(5)
    curve = walk.curves[track]
    assert isinstance(curve, SampledCurve)
    wobbly = walk.with_curves({track: SampledCurve(curve.values + random.normal(0, 1.0, 900))})
    scope = Scope(joints=(walk.skeleton.names[leg.upper],))
    calm = apply_patch(wobbly, OPERATIONS["mend_limbs"].run(wobbly, {"over": 0.15}, scope))

    def shake(clip: Clip) -> float:
        at = world(clip)
        pole = at[:, leg.middle] - 0.5 * (at[:, leg.upper] + at[:, leg.end])
        return float(np.abs(np.diff(pole, 2, axis=0)).mean())

    assert shake(calm) < 0.5 * shake(wobbly)
    assert np.abs(world(calm)[:, leg.end] - world(wobbly)[:, leg.end]).max() < 1e-6


def test_only_the_span_of_the_scope_is_repaired(walk: Clip) -> None:
    spoiled, _ = knees_back(walk, 400, 407)
    scope = Scope(joints=("LeftThigh",), frames=(100, 200))
    mended = apply_patch(spoiled, OPERATIONS["mend_limbs"].run(spoiled, {}, scope))
    assert np.array_equal(world(mended)[250:], world(spoiled)[250:])
    with pytest.raises(BadInput, match="no limb of two bones"):
        OPERATIONS["mend_limbs"].run(walk, {}, Scope(joints=("Head",)))


def test_the_demo_has_the_limbs_that_are_led() -> None:
    names = {x.name for x in limbs_of(TAKES[2].clean().skeleton, TAKES[2].clean().body)}
    assert names == {"left leg", "right leg", "left arm", "right arm"}
