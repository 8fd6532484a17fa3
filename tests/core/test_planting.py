"""Plants: feet stay, the rest stays as it was, and any frame is what it is among all of them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import cache
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from leancurve.curves.curve import KeyedCurve, SampledCurve
from leancurve.demo import TAKES, DemoTake, captured, gangway_take
from leancurve.document.clip import Clip
from leancurve.document.evaluation import affected, effective, evaluate
from leancurve.document.plant import Plant
from leancurve.document.planting.parts import holding
from leancurve.document.planting.plan import plan_of, planted_joints
from leancurve.document.planting.root import carrier_of
from leancurve.document.track import base_track
from leancurve.errors import BadInput
from leancurve.figure.feet import limbs_of
from leancurve.formats.bvh import read_bvh, write_bvh
from leancurve.formats.clipjson import read_clip, write_clip
from leancurve.measures.findings import find
from leancurve.measures.findings.base import Motion
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats
from leancurve.numbers.fill import fill
from leancurve.operations import OPERATIONS, Scope, apply_patch
from leancurve.operations.plant.figures import knee_peaks
from leancurve.recipe import ALL_OF_IT, run_recipe

from tests.core.retarget_variants import twisted_in_line
from tests.made import kept


def cleaned(clip: Clip) -> Clip:
    """A take as "All of it" leaves it, dense."""
    lines = [
        {"operation": x["operation"], "params": x.get("params", {}), "scope": {}}
        for x in ALL_OF_IT
        if x["operation"] not in ("thin", "drop_idle")
    ]
    return run_recipe(clip, lines).clip


@cache
def calmed(at: int) -> Clip:
    return kept(f"calmed {at}", lambda: cleaned(captured(TAKES[at]).clip))


@cache
def planted_walk() -> Clip:
    return planted(calmed(2))


def planted(clip: Clip, **params: Any) -> Clip:
    return apply_patch(clip, OPERATIONS["plant"].run(clip, params))


def world(clip: Clip) -> Floats:
    return evaluate(clip).world(clip.skeleton)[1]


def off_place(clip: Clip) -> float:
    """How far planted points are from their places at most, mm."""
    at = world(clip)
    points = {"heel": "foot", "toe": "toe"}
    worst = 0.0
    for p in clip.plants:
        side, point = p.part.split()
        joint = clip.body.find(f"{side} {points[point]}")
        away = at[p.first : p.last + 1, joint] - np.array(p.place)
        worst = max(worst, float(np.linalg.norm(away, axis=1).max()) * clip.millimetres)
    return worst


# --- filling --------------------------------------------------------------------------------


def test_a_fill_is_the_least_squares_solution() -> None:
    """Against NumPy's dense solver of the same sum: ``s⁴ |D²x|² + |x|²`` over the free frames."""
    random = np.random.default_rng(3)
    values = random.normal(size=(90, 2))
    known = np.zeros(90, dtype=bool)
    known[[0, 20, 21, 22, 40]] = True
    known[60:70] = True
    stiffness = random.uniform(0, 8, 90)
    second = np.zeros((90, 90))
    for k in range(1, 89):
        second[k, k - 1 : k + 2] = stiffness[k] ** 2 * np.array([1.0, -2.0, 1.0])
    whole = np.vstack([second, np.eye(90)])
    rest = -whole[:, known] @ values[known]
    expected = values.copy()
    expected[~known] = np.linalg.lstsq(whole[:, ~known], rest, rcond=None)[0]
    assert np.abs(fill(values, known, stiffness) - expected).max() < 1e-9


@pytest.mark.parametrize("count", [1, 2, 3, 5])
def test_a_fill_of_few_frames_keeps_what_is_known(count: int) -> None:
    known = np.arange(count) == 0
    out = fill(np.ones((count, 3)), known, np.full(count, 4.0))
    assert np.all(np.isfinite(out))
    assert np.array_equal(out[0], np.ones(3))


# --- what planting is for ---------------------------------------------------------------------


@pytest.mark.parametrize("at", range(3), ids=[t.file for t in TAKES])
def test_the_demos_sliding_feet_stand_and_come_nearer_to_the_truth(at: int) -> None:
    clip, take = calmed(at), TAKES[at]
    patch = OPERATIONS["plant"].run(clip)
    after = apply_patch(clip, patch)
    told = patch.report
    assert told["foot_slide_before_mm"] > 30
    assert told["foot_slide_after_mm"] <= 2
    assert told["sink_after_mm"] <= 0.5
    assert told["hips_changed_mm"] <= 25
    assert told["missed_mm"] <= 4
    assert told["limb_length_error_mm"] <= 1e-9
    assert not find(after, ("slide", "sink", "float"))
    before = Motion(replace(clip, contacts=after.contacts))
    ratios = [b / a for a, b in knee_peaks(clip, after.plants, before, Motion(after))]
    assert np.percentile(ratios, 90) <= 1.6
    assert max(ratios) <= 1.6
    _nearer(take, clip, after)


def _nearer(take: DemoTake, before: Clip, after: Clip) -> None:
    """The RMS distance of each leg's ends from what the performer did is less than before."""
    truth = world(take.clean())
    for limb in limbs_of(after.skeleton, after.body):
        if limb.is_leg:
            for joint in (limb.end, limb.ball):
                off = [
                    np.sqrt(np.mean(np.sum((world(c)[:, joint] - truth[:, joint]) ** 2, axis=1)))
                    for c in (before, after)
                ]
                assert off[1] < off[0], limb.name


def test_the_open_captures_feet_stand(open_capture: Clip) -> None:
    clip = kept("the open capture calmed", lambda: cleaned(open_capture))
    patch = OPERATIONS["plant"].run(clip)
    after = apply_patch(clip, patch)
    assert patch.report["foot_slide_before_mm"] > 40
    assert patch.report["foot_slide_after_mm"] <= 3
    assert patch.report["sink_after_mm"] <= 0.5
    assert patch.report["hips_changed_mm"] <= 25
    assert patch.report["missed_mm"] <= 4
    before = replace(clip, contacts=after.contacts)
    ratios = [b / a for a, b in knee_peaks(clip, after.plants, Motion(before), Motion(after))]
    assert np.percentile(ratios, 90) <= 1.8
    assert not find(after, ("slide", "sink", "float"))
    assert len(find(after, ("pop",))) <= len(find(before, ("pop",)))


def stretched(clip: Clip, by: float) -> Clip:
    """The clip with its pelvis higher, in its own unit: legs that are nearly straight."""
    carrier = carrier_of(clip)
    assert carrier is not None
    track = base_track(carrier, "ty")
    curve = clip.curves[track]
    assert isinstance(curve, SampledCurve)
    return clip.with_curves({track: SampledCurve(curve.values + by)})


@pytest.mark.parametrize(
    "change",
    [
        lambda clip: stretched(clip, 5.0),
        lambda clip: apply_patch(
            clip, OPERATIONS["gain"].run(clip, {"factor": 1.3}, Scope(joints=("Hips",)))
        ),
        lambda clip: apply_patch(clip, OPERATIONS["thin"].run(clip, {"tolerance_deg": 1.0})),
    ],
    ids=["hips 5 cm higher", "gain of 1.3 at the hips", "thinned at 1°"],
)
def test_planted_feet_stay_whatever_is_done_below(change: Callable[[Clip], Clip]) -> None:
    """Exaggerate a movement at the hips, and the standing foot stays (common practice)."""
    clip = planted_walk()
    assert off_place(clip) < 1e-6
    free = change(clip.below)
    assert off_place(replace(free, plants=clip.plants).below) == 0.0  # it has none left
    assert off_place(replace(change(clip))) < 1.0


def test_a_swapped_take_keeps_its_feet_in_their_places() -> None:
    clip = planted_walk()
    other = replace(clip, plants=(), curves=calmed(2).curves)
    swapped = replace(stretched(other, 1.5), plants=clip.plants)
    assert off_place(swapped) < 1.0


def test_where_a_place_is_out_of_reach_the_hips_go_down_by_their_share() -> None:
    clip = replace(stretched(calmed(2), 7.0))
    low = replace(clip, plants=planted_walk().plants)
    plan = plan_of(low)
    assert 10 < plan.lowered.max() * low.millimetres < 80
    assert off_place(low) < 5
    # Lowering comes and goes softly: no step of more than 2 mm in a frame at 60 a second.
    assert np.abs(np.diff(plan.lowered)).max() * low.millimetres < 4
    stiff = replace(low, plants=tuple(replace(p, hips=0.0) for p in low.plants))
    assert plan_of(stiff).lowered.max() == 0.0
    assert off_place(stiff) > off_place(low)
    half = replace(low, plants=tuple(replace(p, hips=0.5) for p in low.plants))
    share = plan_of(half).lowered.max() / plan.lowered.max()
    assert share == pytest.approx(0.5, abs=0.02)


# --- laws -------------------------------------------------------------------------------------


@settings(max_examples=25)
@given(st.lists(st.integers(0, 899), min_size=1, max_size=30))
def test_some_frames_are_all_frames_chosen_from(frames: list[int]) -> None:
    clip = planted_walk()
    some, whole = evaluate(clip, np.array(frames, dtype=float)), evaluate(clip)
    assert np.array_equal(some.rotation, whole.rotation[frames])
    assert np.array_equal(some.translation, whole.translation[frames])
    legs = [base_track(j, "rx") for j in sorted(planted_joints(clip)) if "rx" in clip.layout[j]]
    values = effective(clip, np.array(frames, dtype=float), legs)
    every = effective(clip, channels=legs)
    assert all(np.array_equal(values[t], every[t][frames]) for t in legs)


def test_only_the_limb_within_span_and_ease_changes() -> None:
    clip = calmed(2)
    all_plants = planted_walk().plants
    plant = next(p for p in all_plants if p.part == "left heel" and p.first > 100)
    one = replace(clip, plants=(plant,))
    ours, theirs = evaluate(one), evaluate(clip)
    moved = np.flatnonzero(np.any(ours.rotation != theirs.rotation, axis=(0, 2)))
    limb = holding(one, plant)
    assert limb is not None
    assert set(moved) <= set(limb.joints)
    frames = np.flatnonzero(np.any(ours.rotation != theirs.rotation, axis=(1, 2)))
    assert plant.first - plant.ease_in <= frames[0] <= plant.first
    assert plant.last <= frames[-1] <= plant.last + plant.ease_out
    assert set(planted_joints(one)) == set(limb.joints) | {
        j for x in limbs_of(clip.skeleton, clip.body) if x.is_leg for j in x.joints
    }


def test_muting_and_no_strength_bring_the_curves_back_exactly() -> None:
    clip = planted_walk()
    below = evaluate(clip.below)
    for change in ({"muted": True}, {"strength": 0.0}):
        off = replace(clip, plants=tuple(replace(p, **change) for p in clip.plants))  # type: ignore[arg-type]
        assert np.array_equal(evaluate(off).rotation, below.rotation)
        assert np.array_equal(evaluate(off).translation, below.translation)
    half = replace(clip, plants=tuple(replace(p, strength=0.5) for p in clip.plants))
    assert 1.0 < off_place(half) < off_place(replace(clip.below, plants=())) + 60


@pytest.mark.parametrize("ease", ["settle", "linear", "ease-in-out"])
def test_limbs_keep_their_lengths_and_their_side_however_a_plant_comes_and_goes(ease: Any) -> None:
    clip = planted_walk()
    eased = replace(clip, plants=tuple(replace(p, ease=ease) for p in clip.plants))
    at, was = world(eased), world(clip.below)
    assert np.all(np.isfinite(at))
    for limb in limbs_of(clip.skeleton, clip.body):
        for a, b in ((limb.upper, limb.middle), (limb.middle, limb.end)):
            now, before = (np.linalg.norm(w[:, b] - w[:, a], axis=1) for w in (at, was))
            assert np.abs(now - before).max() < 1e-9
        # The axis about which a knee bends never turns over between two frames.
        u, v = at[:, limb.middle] - at[:, limb.upper], at[:, limb.end] - at[:, limb.middle]
        axis = np.cross(u, v)
        bent = np.linalg.norm(axis, axis=1) > 0.17 * np.linalg.norm(u, axis=1) * np.linalg.norm(
            v, axis=1
        )
        along = np.sum(axis[1:] * axis[:-1], axis=1)
        assert np.all(along[bent[1:] & bent[:-1]] > 0)


def test_planting_makes_no_flip_and_no_jump_in_what_is_delivered() -> None:
    clip = planted_walk()
    assert not find(clip, ("wrap", "alternate", "snap"))
    back = read_bvh(write_bvh(clip), "walk").clip
    held = replace(back, plants=clip.plants)
    assert off_place(replace(held, plants=())) == 0.0
    apart = np.abs(world(back) - world(clip)).max() * clip.millimetres
    assert apart < 0.01


# --- parts and how they are held ---------------------------------------------------------------


def test_a_hand_is_held_on_the_hip_with_its_turn() -> None:
    clip = calmed(2)
    edit = {"do": "add", "part": "left hand", "first": 300, "last": 420, "with_joint": "Hips",
            "hold_turn": True}  # fmt: skip
    patch = OPERATIONS["edit_plants"].run(clip, {"edits": [edit]})
    held = apply_patch(clip, patch)
    turns, points = evaluate(held).world(held.skeleton)
    hips, hand = held.skeleton.index("Hips"), held.body.find("left hand")
    at = rotation.rotate(rotation.conjugate(turns[:, hips]), points[:, hand] - points[:, hips])
    turned = rotation.multiply(rotation.conjugate(turns[:, hips]), turns[:, hand])
    span = slice(300, 421)
    assert np.ptp(at[span], axis=0).max() * held.millimetres < 1e-6
    assert rotation.geodesic_deg(turned[span], turned[300:301]).max() < 1e-4
    free = evaluate(clip)
    assert np.array_equal(evaluate(held).rotation[:200], free.rotation[:200])


def test_hands_that_hold_on_to_each_other_do_not_hang() -> None:
    clip = calmed(2)
    names = {s: clip.skeleton.names[clip.body.find(f"{s} hand") or 0] for s in ("left", "right")}
    plants = tuple(
        Plant(f"{s} hand", 100, 140, (2.0, 0.0, 0.0), with_joint=names[other])
        for s, other in (("left", "right"), ("right", "left"))
    )
    assert np.all(np.isfinite(world(replace(clip, plants=plants))))


def test_what_cannot_be_held_is_refused_by_name_and_harms_nothing_where_it_stands() -> None:
    clip = calmed(2)
    run = OPERATIONS["edit_plants"].run
    add = {"do": "add", "part": "tail", "first": 10, "last": 40}
    with pytest.raises(BadInput, match="tail: no part that can be planted; there are left heel"):
        run(clip, {"edits": [add]})
    with pytest.raises(BadInput, match="no joint is named 'Crane'"):
        run(clip, {"edits": [{**add, "part": "left hand", "with_joint": "Crane"}]})
    twice = [{**add, "part": "left hand"}, {**add, "part": "left hand", "first": 30, "last": 60}]
    with pytest.raises(BadInput, match="left hand is planted already from 10 to 40"):
        run(clip, {"edits": twice})
    odd = replace(clip, plants=(Plant("tail", 0, 10, (0.0, 0.0, 0.0)),))
    assert np.array_equal(evaluate(odd).rotation, evaluate(clip).rotation)


def test_a_plant_is_changed_moved_muted_and_freed() -> None:
    clip = planted_walk()
    first = next(p for p in clip.plants if p.part == "left toe" and p.first > 0)
    named = {"part": first.part, "first": first.first, "last": first.last}
    run = OPERATIONS["edit_plants"].run
    edit = {"do": "set", **named, "new_last": first.last - 4, "ease_out": 9, "move": [10, 0, -20]}
    changed = run(clip, {"edits": [edit]}).plants or ()
    (one,) = set(changed) - set(clip.plants)
    assert (one.last, one.ease_out) == (first.last - 4, 9)
    assert np.allclose(np.array(one.place) - first.place, [1, 0, -2])
    assert len(run(clip, {"edits": [{"do": "remove", **named}]}).plants or ()) == (
        len(clip.plants) - 1
    )
    lost = run(clip, {"edits": [{"do": "remove", "part": "left hand", "first": 0, "last": 9}]})
    assert lost.report["unplaced"] == [{"part": "left hand", "first": 0, "last": 9}]


# --- kept, moved in time, baked ----------------------------------------------------------------


def test_plants_are_kept_in_clip_json_and_checked_there() -> None:
    clip = planted_walk()
    odd = replace(clip.plants[0], turn=(0.0, 0.6, 0.0, 0.8), with_joint="Hips", ease="ease-in",
                  strength=0.5, muted=True)  # fmt: skip
    kept = replace(clip, plants=tuple(sorted((odd, *clip.plants[1:]))))
    assert read_clip(write_clip(kept)).clip.plants == kept.plants
    text = write_clip(kept).replace(b'"strength":0.5', b'"strength":1.5')
    with pytest.raises(BadInput, match="strength"):
        read_clip(text)
    old = write_clip(clip.below).replace(b'"schema_version":4', b'"schema_version":1')
    assert read_clip(old).clip.plants == ()


def test_what_moves_time_moves_plants_with_their_eases() -> None:
    clip = planted_walk()
    half = apply_patch(clip, OPERATIONS["change_rate"].run(clip, {"rate": "30"}))
    for was, now in zip(clip.plants, half.plants, strict=True):
        assert abs(now.first - was.first / 2) <= 0.5
        assert abs(now.ease_in - was.ease_in / 2) <= 1
    assert off_place(half) < 1.0
    late = apply_patch(clip, OPERATIONS["insert_frames"].run(clip, {"after": 0, "count": 20}))
    assert late.plants[-1].last == clip.plants[-1].last + 20
    cut = apply_patch(
        clip, OPERATIONS["trim"].run(clip, {"first": 300, "last": 600, "calibration": False})
    )
    assert off_place(cut) < 1.0
    assert all(0 <= p.first <= p.last <= 300 for p in cut.plants)


def test_a_repeated_walk_is_planted_on_where_it_walks_on() -> None:
    clip = planted_walk()
    again = apply_patch(clip, OPERATIONS["repeat"].run(clip, {"first": 300, "last": 389}))
    assert len(again.plants) > len(clip.plants)
    assert off_place(again) < 1.0
    assert plan_of(again).lowered.max() == 0.0


@pytest.mark.parametrize("keyed", [False, True], ids=["dense", "keyed"])
def test_baked_plants_are_in_the_curves(keyed: bool) -> None:
    clip = planted_walk()
    if keyed:
        clip = apply_patch(clip, OPERATIONS["thin"].run(clip, {"tolerance_deg": 0.5}))
    patch = OPERATIONS["bake_plants"].run(clip, {"tolerance_deg": 0.1, "tolerance_mm": 0.5})
    baked = apply_patch(clip, patch)
    assert baked.plants == ()
    away = np.abs(world(baked) - world(clip)).max() * clip.millimetres
    assert away < (6.0 if keyed else 1e-6)
    track = next(t for t in patch.curves if t.turns)
    curve, was = baked.curves[track], clip.curves[track]
    if keyed:
        assert isinstance(curve, KeyedCurve)
        assert isinstance(was, KeyedCurve)
        assert set(np.round(was.time)) <= set(curve.time)
        assert curve.key_count < clip.frames / 2


def test_a_change_below_says_that_planted_limbs_are_others() -> None:
    clip = planted_walk()
    hips = base_track(clip.skeleton.index("Hips"), "tx")
    assert set(planted_joints(clip)) <= set(affected(clip, [hips]))
    assert affected(clip.below, [hips]) == (clip.skeleton.index("Hips"),)


def test_a_walk_on_nearly_straight_legs_is_planted_with_the_hips_help() -> None:
    """A demo take of its own: legs that have hardly a bend left."""
    clip = gangway_take().clip
    assert {p.name for p in clip.props} == {"lamp", "mooring line"}
    patch = OPERATIONS["plant"].run(clip)
    after = apply_patch(clip, patch)
    told = patch.report
    assert told["foot_slide_before_mm"] > 30
    assert told["foot_slide_after_mm"] <= 2
    assert told["sink_after_mm"] <= 0.5
    assert 5 < told["hips_changed_mm"] <= 25
    assert told["missed_mm"] <= 4
    assert told["knee_after_deg_s2"] <= 1.6 * told["knee_before_deg_s2"]
    lowest = plan_of(after).lowered.max() * clip.millimetres
    assert lowest == pytest.approx(told["hips_changed_mm"], abs=1e-3)
    stiff = OPERATIONS["plant"].run(clip, {"hips": 0.0}).report
    assert stiff["hips_changed_mm"] == 0
    assert stiff["missed_mm"] > told["missed_mm"]


def test_twist_joints_in_line_ride_along_in_a_limb_and_change_nothing() -> None:
    """Many characters have them between knee and foot, or elbow and hand."""
    plain = calmed(2)
    sway = 30.0 * np.sin(np.arange(plain.frames) / 40.0)
    rolled = twisted_in_line(plain, "LeftFoot", 0.5, sway)
    rolled = twisted_in_line(rolled, "RightHand", 0.4, -sway)
    assert np.abs(world(rolled)[:, -1] - world(plain)[:, -1]).max() < 1e-9
    limbs = {x.name: x for x in limbs_of(rolled.skeleton, rolled.body)}
    assert set(limbs) == {"left leg", "right leg", "left arm", "right arm"}

    def apart(a: Clip, b: Clip) -> float:
        names = ("LeftFoot", "LeftToe", "LeftShin", "RightForearm", "RightHand", "RightIndex1")
        here, there = evaluate(a).world(a.skeleton), evaluate(b).world(b.skeleton)
        pairs = [(a.skeleton.index(n), b.skeleton.index(n)) for n in names]
        places = max(np.abs(here[1][:, i] - there[1][:, j]).max() for i, j in pairs)
        turns = max(rotation.geodesic_deg(here[0][:, i], there[0][:, j]).max() for i, j in pairs)
        return float(max(places, turns))

    assert apart(plain, rolled) < 1e-6
    plants = OPERATIONS["plant"].run(plain).plants or ()
    place = Plant("right hand", 300, 360, (30.0, 120.0, 60.0), ease_in=30, ease_out=30)
    held, also = (replace(c, plants=(*plants, place)) for c in (plain, rolled))
    assert apart(plain, held) > 1.0
    assert apart(held, also) < 1e-5
    for name, params in (
        ("pull", {"part": "left foot", "y": 80.0}),
        ("mend_limbs", {}),
        ("clamp", {"feet": True, "soft": 5.0}),
    ):
        one, other = (apply_patch(c, OPERATIONS[name].run(c, params)) for c in (plain, rolled))
        assert apart(one, plain) > 0.01, name
        assert apart(one, other) < 1e-5, name
