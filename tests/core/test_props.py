"""Props: of the document, moved with time, kept in files, and what holds on to them."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction
from typing import Any

import numpy as np
import pytest
from leancurve.cleaning.contacts import find_support
from leancurve.curves.curve import KeyedCurve, SampledCurve
from leancurve.demo import TAKES, crate_take
from leancurve.demo.crate import HELD_S
from leancurve.document.base import prop_pose
from leancurve.document.clip import Clip
from leancurve.document.evaluation import affected, evaluate
from leancurve.document.prop import PROP, prop_track
from leancurve.document.scope import Scope
from leancurve.document.track import base_track
from leancurve.errors import BadInput
from leancurve.figure.skeleton import UP
from leancurve.formats.bvh import read_bvh, with_prop_roots, write_bvh
from leancurve.formats.clipjson import read_clip, write_clip
from leancurve.measures.findings import find
from leancurve.numbers import rotation
from leancurve.operations import OPERATIONS, apply_patch
from leancurve.operations.plant.props import steadiness
from leancurve.time.resample import resampled

HANDS = ("LeftHand", "RightHand")


def edited(clip: Clip, *edits: dict[str, Any]) -> Clip:
    return apply_patch(clip, OPERATIONS["edit_props"].run(clip, {"edits": list(edits)}))


@pytest.fixture(scope="module")
def crate() -> Clip:
    """The crate's take with its crate, led by both hands on every frame."""
    return edited(
        TAKES[1].clean(),
        {"do": "add", "name": "crate", "shape": "box", "size": [420, 300, 320], "joints": HANDS},
    )


def test_a_prop_led_by_two_hands_is_between_them_and_turns_with_them(crate: Clip) -> None:
    turns, points = prop_pose(crate)
    at = evaluate(crate).world(crate.skeleton)[1]
    left, right = (at[:, crate.skeleton.index(h)] for h in HANDS)
    assert np.allclose(points[:, 0], 0.5 * (left + right))
    across = rotation.rotate(turns[:, 0], np.broadcast_to([1.0, 0.0, 0.0], left.shape))
    line = (left - right) / np.linalg.norm(left - right, axis=1)[:, None]
    assert np.allclose(across, line, atol=1e-9)
    steps = [np.abs(np.diff(crate.curves[prop_track(0, f"r{a}")].values)).max() for a in "xyz"]  # type: ignore[union-attr]
    assert max(steps) < 30  # no flip
    assert crate.props[0].size == pytest.approx((42, 30, 32))


def test_both_hands_stay_on_the_crate_while_it_moves_and_turns(crate: Clip) -> None:
    """A steady crate; hands that wander by half a centimetre are held to their places on it."""
    random = np.random.default_rng(4)
    curves = {}
    for hand in ("LeftForearm", "RightForearm"):
        joint = crate.skeleton.index(hand)
        for track in crate.turns_of(joint):
            curve = crate.curves[track]
            assert isinstance(curve, SampledCurve)
            wander = np.convolve(random.normal(0, 6, crate.frames), np.ones(40) / 40, "same")
            curves[track] = SampledCurve(curve.values + wander)
    loose = crate.with_curves(curves)
    span = {"first": 500, "last": 900}
    edits = [
        {"do": "add", "part": f"{side} hand", **span, "with_prop": "crate", "hold_turn": True}
        for side in ("left", "right")
    ]
    patch = OPERATIONS["edit_plants"].run(loose, {"edits": edits})
    held = apply_patch(loose, patch)
    assert patch.report["missed_mm"] < 1

    def slip(clip: Clip) -> float:
        turns, points = prop_pose(clip)
        at = evaluate(clip).world(clip.skeleton)[1]
        worst = 0.0
        for hand in HANDS:
            own = at[500:901, clip.skeleton.index(hand)] - points[500:901, 0]
            own = rotation.rotate(rotation.conjugate(turns[500:901, 0]), own)
            worst = max(worst, float(np.linalg.norm(own - np.median(own, axis=0), axis=1).max()))
        return worst * clip.millimetres

    assert slip(loose) > 5
    assert slip(held) < 1
    # The prop moved: the hands go along, and the change says that they do.
    moved = edited(held, {"do": "key", "name": "crate", "frame": 600, "place": [0, 1100, 1200]})
    assert slip(moved) < 1 or moved.props == held.props
    changed = [prop_track(0, "tx")]
    arms = {held.skeleton.index(j) for j in ("LeftUpperArm", "LeftForearm", "LeftHand")}
    assert arms <= set(affected(held, changed, held))


def test_props_are_kept_in_clip_json_and_as_roots_in_bvh(crate: Clip) -> None:
    back = read_clip(write_clip(crate)).clip
    assert back.props == crate.props
    assert set(back.curves) == set(crate.curves)
    for track in crate.props[0].tracks:
        assert np.array_equal(back.curves[track].values, crate.curves[track].values)  # type: ignore[union-attr]
    plain = read_bvh(write_bvh(crate)).clip
    assert plain.skeleton.names == crate.skeleton.names
    wide = read_bvh(write_bvh(with_prop_roots(crate))).clip
    assert wide.skeleton.names[-1] == "crate"
    at = evaluate(wide).world(wide.skeleton)
    turns, points = prop_pose(crate)
    assert np.allclose(at[1][:, -1], points[:, 0], atol=1e-6)
    assert rotation.geodesic_deg(at[0][:, -1], turns[:, 0]).max() < 1e-4
    text = write_clip(crate).replace(b'"prop":"crate"', b'"prop":"chest"', 1)
    with pytest.raises(BadInput, match="curve chest tx: there is no such prop"):
        read_clip(text)
    twice = write_clip(crate).replace(b'"shape":"box"', b'"shape":"blob"')
    with pytest.raises(BadInput, match="shape"):
        read_clip(twice)


def test_what_moves_time_moves_props(crate: Clip) -> None:
    place = prop_pose(crate)[1][:, 0]
    late = apply_patch(
        crate, OPERATIONS["insert_frames"].run(crate, {"after": 100, "count": 12, "fill": "hold"})
        if "fill" in OPERATIONS["insert_frames"].Params.model_fields
        else OPERATIONS["insert_frames"].run(crate, {"after": 100, "count": 12}),
    )  # fmt: skip
    assert np.allclose(prop_pose(late)[1][200, 0], place[188])
    cut = apply_patch(
        crate, OPERATIONS["trim"].run(crate, {"first": 50, "last": 400, "calibration": False})
    )
    assert np.allclose(prop_pose(cut)[1][:, 0], place[50:401])
    half = apply_patch(crate, OPERATIONS["change_rate"].run(crate, {"rate": "60"}))
    step = int(crate.rate / half.rate)
    assert np.allclose(prop_pose(half)[1][10, 0], place[10 * step])
    pins = [[0, 0], [400, 500], [crate.frames - 1, crate.frames + 99]]
    warped = apply_patch(crate, OPERATIONS["retime"].run(crate, {"pins": pins}))
    assert np.allclose(prop_pose(warped)[1][500, 0], place[400], atol=0.05)
    again = apply_patch(crate, OPERATIONS["repeat"].run(crate, {"first": 100, "last": 200}))
    assert set(again.curves) == set(crate.curves)


def test_props_are_made_keyed_renamed_and_taken_out(crate: Clip) -> None:
    clip = edited(
        crate.below,
        {"do": "add", "name": "lamp", "shape": "cylinder", "size": [90, 200, 90],
         "place": [100, 1500, 0]},
        {"do": "key", "name": "lamp", "frame": 40, "place": [100, 1600, 0]},
    )  # fmt: skip
    assert [p.name for p in clip.props] == ["crate", "lamp"]
    lamp = clip.props[1]
    curve = clip.curves[prop_track(lamp.id, "ty")]
    assert isinstance(curve, KeyedCurve)
    assert curve.at(np.array([0.0, 40.0])).tolist() == [150, 160]
    named = edited(clip, {"do": "set", "name": "lamp", "new_name": "signal lamp"})
    assert named.props[1].name == "signal lamp"
    gone = edited(named, {"do": "remove", "name": "crate"})
    assert [p.name for p in gone.props] == ["signal lamp"]
    assert {t.joint for t in gone.curves if t.owner == PROP} == {lamp.id}
    lost = OPERATIONS["edit_props"].run(gone, {"edits": [{"do": "remove", "name": "crate"}]})
    assert lost.report["unplaced"] == [{"name": "crate", "frame": 0}]
    with pytest.raises(BadInput, match="a prop is named 'lamp' already"):
        edited(clip, {"do": "add", "name": "lamp"})
    with pytest.raises(BadInput, match="no joint is named 'Tail'"):
        edited(clip, {"do": "follow", "name": "lamp", "joints": ["Tail"]})


def test_a_plant_goes_with_its_prop_by_name_and_without_it_holds_nothing(crate: Clip) -> None:
    add = {"do": "add", "part": "left hand", "first": 500, "last": 600, "with_prop": "crate"}
    held = apply_patch(crate, OPERATIONS["edit_plants"].run(crate, {"edits": [add]}))
    named = edited(held, {"do": "set", "name": "crate", "new_name": "box of flares"})
    assert named.plants[0].with_prop == "box of flares"
    gone = edited(named, {"do": "remove", "name": "box of flares"})
    assert np.array_equal(evaluate(gone).rotation, evaluate(crate).rotation)
    with pytest.raises(BadInput, match="no prop is named 'barrel'"):
        OPERATIONS["edit_plants"].run(crate, {"edits": [{**add, "with_prop": "barrel"}]})


def test_it_is_said_how_steady_a_prop_is(crate: Clip) -> None:
    calm = steadiness(crate, crate.props[0])
    track = prop_track(0, "tx")
    curve = crate.curves[track]
    assert isinstance(curve, SampledCurve)
    shaken = np.random.default_rng(2).normal(0, 0.5, crate.frames)
    loose = crate.with_curves({track: SampledCurve(curve.values + shaken)})
    assert steadiness(loose, loose.props[0])["shake_mm"] > 5 * calm["shake_mm"]


def test_a_delivered_span_is_planted_as_the_whole_is(crate: Clip) -> None:
    add = {"do": "add", "part": "left hand", "first": 500, "last": 600, "with_prop": "crate"}
    held = apply_patch(crate, OPERATIONS["edit_plants"].run(crate, {"edits": [add]}))
    part = resampled(held, first=450, last=700, planted=True)
    assert part.plants == ()
    world = evaluate(held).world(held.skeleton)[1]
    assert np.allclose(evaluate(part).world(part.skeleton)[1], world[450:701], atol=1e-6)
    beside = resampled(held, first=450, last=700)
    assert beside.plants[0].first == 50
    apart = evaluate(replace(beside)).world(beside.skeleton)[1] - world[450:701]
    assert np.abs(apart).max() < 1e-6


def test_feet_are_planted_on_a_step_and_on_a_slope(walk: Clip) -> None:
    """A place's height is that of the prop's top beneath it, and of the part above its floor."""
    slope = edited(
        walk,
        {"do": "add", "name": "ramp", "size": [4000, 100, 9000], "place": [0, 50, 2000],
         "turn": [0, -3, 0]},
    )  # fmt: skip
    level = {p.part + str(p.first): p for p in OPERATIONS["plant"].run(walk).plants or ()}
    on_ramp = OPERATIONS["plant"].run(slope, {"floor": "ramp"}).plants or ()
    assert len(on_ramp) == len(level)
    floor = find_support(walk).floor
    turns, points = (x[0, 0] for x in prop_pose(slope, np.zeros(1)))
    normal = rotation.rotate(turns, np.array([0.0, 1.0, 0.0]))
    for plant in on_ramp:
        if plant.part.endswith("heel"):
            flat = level[plant.part + str(plant.first)]
            away = np.array(plant.place) - (points + 5.0 * normal)
            rest = flat.place[1] - floor
            assert float(away @ normal) / normal[1] == pytest.approx(rest, abs=0.3)
    heights = [p.place[1] for p in on_ramp if p.part == "left heel"]
    assert max(heights) - min(heights) > 5
    with pytest.raises(BadInput, match="no prop is named 'stairs'"):
        OPERATIONS["plant"].run(slope, {"floor": "stairs"})


def test_a_foot_on_a_props_top_is_measured_from_that_top(walk: Clip) -> None:
    """On a platform as high as a step, all of the walk is: nothing floats, nothing sinks."""
    up = UP[walk.reading.up_axis]
    raised = walk.curves[base_track(0, f"t{'xyz'[up]}")]
    lifted = walk.with_curves(
        {base_track(0, f"t{'xyz'[up]}"): SampledCurve(raised.at(np.arange(walk.frames)) + 12.0)}
    )
    lifted = replace(lifted, reading=replace(lifted.reading, floor=find_support(walk).floor))
    floor = find_support(walk).floor * walk.millimetres
    stage = edited(
        lifted,
        {"do": "add", "name": "stage", "size": [90000, 120, 90000], "place": [0, 60 + floor, 0]},
    )
    on_floor, on_stage = find(walk, ("float", "sink")), find(stage, ("float", "sink"))
    assert len(on_stage) <= len(on_floor)
    contacts = [c for c in find_support(stage).contacts if c.limb.endswith("heel")]
    assert len(contacts) >= 0.8 * sum(c.limb.endswith("heel") for c in find_support(walk).contacts)
    # Without it nothing stands anywhere.
    assert not [c for c in find_support(lifted).contacts if c.limb.endswith("heel")]


def test_a_foot_is_put_on_a_top_in_one_step(walk: Clip) -> None:
    floor = find_support(walk).floor * walk.millimetres
    stage = edited(
        walk,
        {"do": "add", "name": "stage", "size": [90000, 120, 90000], "place": [0, 60 + floor, 0]},
    )
    add = {"do": "add", "part": "left heel", "first": 40, "last": 80, "on_floor": True}
    low = OPERATIONS["edit_plants"].run(stage, {"edits": [add]}).plants or ()
    high = OPERATIONS["edit_plants"].run(stage, {"edits": [{**add, "stand_on": "stage"}]})
    up = UP[walk.reading.up_axis]
    assert high.plants is not None
    rise = (high.plants[0].place[up] - low[0].place[up]) * walk.millimetres
    assert rise == pytest.approx(120, abs=0.5)
    with pytest.raises(BadInput, match="no prop is named 'quay'"):
        OPERATIONS["edit_plants"].run(stage, {"edits": [{**add, "stand_on": "quay"}]})


def test_a_props_channels_are_edited_slid_brushed_and_refused_to_filters(crate: Clip) -> None:
    thin = edited(crate, {"do": "thin", "name": "crate", "within_mm": 2.0, "within_deg": 0.5})
    tracks = thin.props[0].tracks
    frames = np.arange(crate.frames, dtype=np.float64)
    for track in tracks:
        keyed, dense = thin.curves[track], crate.curves[track]
        assert isinstance(keyed, KeyedCurve)
        assert keyed.key_count < crate.frames / 10
        bound = 0.5 if track.turns else 2.0 / crate.millimetres
        assert np.abs(keyed.at(frames) - dense.at(frames)).max() <= bound + 1e-9
    up = thin.curves[prop_track(0, "ty")]
    assert isinstance(up, KeyedCurve)
    one = {"owner": "prop", "joint": "crate", "channel": "ty", "id": int(up.id[2])}
    raised = {**one, "frame": float(up.time[2]), "value": 100.0}
    patch = OPERATIONS["edit"].run(thin, {"keys": [raised]})
    assert set(patch.curves) == {prop_track(0, "ty")}
    assert apply_patch(thin, patch).curves[prop_track(0, "ty")].value[2] == 100.0  # type: ignore[union-attr]

    # The same name and channel of a joint, or of no prop, is another thing: told as without place.
    lost = OPERATIONS["edit"].run(thin, {"keys": [{**raised, "joint": "Hips"}]})
    assert not lost.curves
    assert lost.report["unplaced"][0]["owner"] == "prop"

    of_crate = Scope(owner="prop", joints=("crate",), channels=("ty",))
    slid = OPERATIONS["slide"].run(
        thin, {"by": 3.0}, of_crate.model_copy(update={"channels": None})
    )
    assert {t.owner for t in slid.curves} == {PROP}
    brushed = OPERATIONS["brush"].run(
        crate, {"dabs": [{"frame": 100}], "by": 5.0, "radius": 20.0}, of_crate
    )
    gap = brushed.curves[prop_track(0, "ty")].at(frames) - crate.curves[prop_track(0, "ty")].at(
        frames
    )
    assert gap[100] == pytest.approx(5.0)
    assert not np.any(gap[np.abs(frames - 100) >= 20])
    for name in ("smooth", "thin", "unflip", "despike"):
        with pytest.raises(BadInput, match="props"):
            OPERATIONS[name].run(crate, {}, of_crate)
    # Where nothing is said of owners the props stay as they are.
    assert not any(t.owner == PROP for t in OPERATIONS["smooth"].run(crate).curves)


def test_the_demos_crate_is_in_both_hands_while_it_is_carried_and_stands_before_and_after() -> None:
    take = crate_take()
    clip = take.clip
    turns, points = prop_pose(clip)
    first, last = (round(s * float(clip.rate)) + take.lead_in for s in HELD_S)
    assert np.ptp(points[: first + 1, 0], axis=0).max() == 0
    assert np.ptp(points[last:, 0], axis=0).max() == 0
    assert rotation.geodesic_deg(turns[0, 0], turns[first, 0]) < 1e-9
    at = evaluate(clip).world(clip.skeleton)[1]
    middle = at[:, [clip.skeleton.index(h) for h in HANDS]].mean(axis=1)
    away = np.linalg.norm(points[:, 0] - middle, axis=1)[first:last] * clip.millimetres
    # The hands are captured, the crate is true: what lies between is the capture's error.
    assert 0 < np.median(away) < 15
    assert read_clip(write_clip(clip)).clip.props == clip.props


@pytest.mark.parametrize("up", ["y", "z"])
def test_a_point_follows_a_joint_of_another_figure_wherever_that_is_laid(up: str) -> None:
    """A quarter turn about the up axis and a move, said by hand; at twice the rate, in metres and
    with another axis up it is the same motion."""
    clip, other = (resampled(TAKES[k].clean(), Fraction(60), 0, 300) for k in (2, 1))
    hand = other.skeleton.index("RightHand")
    world = evaluate(other).world(other.skeleton)[1][:, hand] * other.millimetres
    given = resampled(other, Fraction(120))
    if up == "z":
        from leancurve.delivery.axes import in_axes  # of a whole clip: another room

        given = in_axes(given, "z", 1.0)
    edit = {
        "do": "add", "name": "their hand", "shape": "point", "joints": ["RightHand"], "other": 0,
        "later": 40, "moved": [1000, 0, 200], "turned": 90,
    }  # fmt: skip
    run = OPERATIONS["edit_props"].run
    made = apply_patch(clip, run(clip, {"edits": [edit]}, inputs={"others": [given]}))
    place = prop_pose(made)[1][:, 0] * clip.millimetres
    # A quarter turn about Y: z goes to x, and x to -z.
    there = np.stack([world[:, 2] + 1000, world[:, 1], -world[:, 0] + 200], axis=1)
    at = np.clip(np.arange(clip.frames) - 40, 0, other.frames - 1)
    assert np.abs(place - there[at]).max() < 0.01
    assert np.array_equal(place[:40], np.broadcast_to(place[40], (40, 3)))


def test_a_hand_that_is_planted_with_anothers_stays_on_it() -> None:
    """A handshake: within the hold the hand keeps its place on the point that follows the other's,
    which it left by centimetres."""
    clip = resampled(TAKES[1].clean(), Fraction(60), 0, 300)
    edit = {
        "do": "add", "name": "their hand", "joints": ["RightHand"], "other": 0, "later": 3,
    }  # fmt: skip
    made = apply_patch(
        clip, OPERATIONS["edit_props"].run(clip, {"edits": [edit]}, inputs={"others": [clip]})
    )
    plant = {
        "do": "add", "part": "right hand", "first": 100, "last": 160, "with_prop": "their hand",
    }  # fmt: skip
    held = apply_patch(made, OPERATIONS["edit_plants"].run(made, {"edits": [plant]}))

    def strays(state: Clip) -> float:
        turns, points = prop_pose(state)
        hand = evaluate(state).world(state.skeleton)[1][:, state.skeleton.index("RightHand")]
        on_it = rotation.rotate(rotation.conjugate(turns[:, 0]), hand - points[:, 0])[100:161]
        return float(np.abs(on_it - on_it[0]).max()) * state.millimetres

    assert strays(made) > 10.0
    assert strays(held) < 0.1


def test_another_figure_that_is_not_there_is_asked_for() -> None:
    clip = TAKES[1].clean()
    edit = {"do": "add", "name": "hand", "joints": ["RightHand"], "other": 1}
    run = OPERATIONS["edit_props"].run
    with pytest.raises(BadInput, match="choose the clip whose joints lead it"):
        run(clip, {"edits": [edit]})
    with pytest.raises(BadInput, match="there are 1 other clips, and none 1"):
        run(clip, {"edits": [edit]}, inputs={"others": [clip]})
    with pytest.raises(BadInput, match="no joint is named 'Fin'"):
        run(clip, {"edits": [{**edit, "joints": ["Fin"], "other": 0}]}, inputs={"others": [clip]})
