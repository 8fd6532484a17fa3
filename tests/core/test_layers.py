"""Layers: corrections that weigh, mute and come out again, and leave what lies below exactly."""

from __future__ import annotations

from dataclasses import replace
from functools import cache
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from leancurve.curves.curve import Handle, KeyedCurve, SampledCurve, keyed
from leancurve.demo import TAKES
from leancurve.document.clip import Clip
from leancurve.document.evaluation import affected, effective, evaluate
from leancurve.document.layer import Layer
from leancurve.document.scope import Scope
from leancurve.document.stored import clip_of, header_of
from leancurve.document.track import TrackId
from leancurve.errors import BadInput
from leancurve.formats.bvh import read_bvh, write_bvh
from leancurve.formats.clipjson import read_clip, write_clip
from leancurve.measures.layers import layer_changes
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats
from leancurve.operations import OPERATIONS, apply_patch
from scipy.spatial.transform import Rotation

from tests.core.test_planting import planted_walk

ARM, FOREARM, HEAD, SPINE = "LeftUpperArm", "LeftForearm", "Head", "Spine2"


@cache
def walk() -> Clip:
    return TAKES[2].clean()


def done(clip: Clip, name: str, **params: Any) -> Clip:
    return apply_patch(clip, OPERATIONS[name].run(clip, params))


def edited(clip: Clip, *edits: dict[str, Any]) -> Clip:
    return done(clip, "edit_layers", edits=list(edits))


def laid(clip: Clip, name: str, turns: dict[str, tuple[float, float, float]], **given: Any) -> Clip:
    """A clip with a layer on top that turns joints by vectors, the same on all frames."""
    made = edited(clip, {"do": "add", "name": name, **given})
    return done(made, "key_layer", layer=name, frame=0, turns=turns)


def turns(clip: Clip) -> Floats:
    return evaluate(clip).rotation


def apart(a: Clip, b: Clip) -> float:
    """The most that any joint's local rotation differs by, degrees."""
    return float(rotation.geodesic_deg(turns(a), turns(b)).max())


def of(clip: Clip, name: str) -> int:
    return clip.skeleton.index(name)


def test_a_layer_of_nothing_changes_nothing_bit_for_bit() -> None:
    clip = walk()
    for made in (
        edited(clip, {"do": "add", "name": "new"}),
        edited(
            laid(clip, "off", {ARM: (9.0, 0.0, 0.0)}), {"do": "set", "name": "off", "weight": 0}
        ),
        edited(laid(clip, "off", {ARM: (9.0, 0, 0)}), {"do": "set", "name": "off", "muted": True}),
        edited(
            laid(clip, "off", {ARM: (9.0, 0, 0)}),
            {"do": "set", "name": "off", "mask": {ARM: 0.0}},
        ),
    ):
        values, own = effective(made), effective(clip)
        assert all(np.array_equal(values[t], own[t]) for t in clip.channels)
        assert made.below.layers == ()
    assert apart(laid(clip, "zero", {ARM: (0.0, 0.0, 0.0)}), clip) < 1e-9


@pytest.mark.parametrize("weight", [0.4, 1.0, 1.7])
def test_an_added_turn_is_what_scipy_composes(weight: float) -> None:
    clip = walk()
    vector = (12.0, -30.0, 8.0)
    made = edited(laid(clip, "arm", {ARM: vector}), {"do": "set", "name": "arm", "weight": weight})
    joint = of(clip, ARM)
    by = Rotation.from_rotvec(weight * np.array(vector), degrees=True)
    wanted = (Rotation.from_quat(turns(clip)[:, joint]) * by).as_quat()
    assert rotation.geodesic_deg(turns(made)[:, joint], wanted).max() < 1e-6
    others = [j for j in range(len(clip.skeleton)) if j != joint]
    assert np.array_equal(turns(made)[:, others], turns(clip)[:, others])


def test_a_forearm_adds_its_angle_whatever_the_base() -> None:
    """18.5° from its reference add 18.5° (a worked case of common practice)."""
    clip = walk()
    made = laid(clip, "forearm", {ARM: (0.0, 0.0, 0.0), FOREARM: (0.0, 18.5, 0.0)})
    gap = rotation.geodesic_deg(turns(made), turns(clip))
    assert gap[:, of(clip, FOREARM)] == pytest.approx(18.5, abs=1e-6)
    assert gap[:, of(clip, ARM)].max() == 0.0


def test_layers_on_other_joints_commute_and_on_one_joint_by_as_much_as_their_product() -> None:
    a, b = {ARM: (6.0, 0.0, 0.0)}, {FOREARM: (0.0, 25.0, 0.0)}
    one = laid(laid(walk(), "a", a), "b", b)
    other = edited(one, {"do": "move", "name": "b", "to": 0})
    assert [x.name for x in other.layers] == ["b", "a"]
    assert apart(one, other) < 1e-9
    same = laid(laid(walk(), "a", {ARM: (6.0, 0, 0)}), "b", {ARM: (0, 8.0, 0)})
    swapped = edited(same, {"do": "move", "name": "a", "to": 1})
    # For small turns |a| |b| sin of the angle between their axes, in radians.
    assert apart(same, swapped) == pytest.approx(
        np.degrees(np.radians(6) * np.radians(8)), rel=0.02
    )


def test_a_mask_never_leaks_and_weighs_a_joint() -> None:
    clip = laid(walk(), "both", {ARM: (30.0, 0, 0), FOREARM: (0, 30.0, 0)})
    half = edited(clip, {"do": "set", "name": "both", "mask": {ARM: 0.5, FOREARM: 0.0}})
    gap = rotation.geodesic_deg(turns(half), turns(walk()))
    assert gap[:, of(clip, ARM)] == pytest.approx(15.0, abs=1e-6)
    assert gap[:, of(clip, FOREARM)].max() == 0.0
    assert affected(half, [], clip) == tuple(sorted((of(clip, ARM), of(clip, FOREARM))))


def orientations(clip: Clip) -> Floats:
    """Of each joint relative to the root ``(F, J, 4)``."""
    world = evaluate(clip).world(clip.skeleton)[0]
    return rotation.multiply(rotation.conjugate(world[:, :1]), world)


def test_in_the_figures_space_a_joint_keeps_its_direction_whatever_those_above_do() -> None:
    clip = laid(walk(), "aim", {ARM: (0.0, 40.0, 0.0)}, space="figure")
    by = rotation.exp(np.array([0.0, 40.0, 0.0]))
    arm, hand, spine = of(clip, ARM), of(clip, "LeftHand"), of(clip, SPINE)
    wanted = rotation.multiply(by, orientations(walk())[:, arm])
    assert rotation.geodesic_deg(orientations(clip)[:, arm], wanted).max() < 1e-9
    # What hangs on it rides along as it did; what does not stays.
    assert np.array_equal(turns(clip)[:, hand], turns(walk())[:, hand])
    # A layer beneath bends the spine: the arm's own zero in the figure's space holds it.
    bent = laid(walk(), "spine", {SPINE: (25.0, 0.0, 0.0)})
    still = laid(bent, "hold", {ARM: (0.0, 0.0, 0.0)}, space="figure")
    above = done(still, "key_layer", layer="hold", frame=0, turns={SPINE: (10.0, 0.0, 0.0)})
    assert (
        rotation.geodesic_deg(orientations(above)[:, arm], orientations(bent)[:, arm]).max() < 1e-9
    )
    assert rotation.geodesic_deg(orientations(above)[:, spine], orientations(bent)[:, spine])[
        :
    ] == pytest.approx(10.0, abs=1e-6)


def test_the_figures_space_is_the_parents_where_parents_do_not_move() -> None:
    clip = walk()
    still = {t: SampledCurve(np.zeros(clip.frames)) for t in clip.channels if t.turns}
    flat = clip.with_curves(still)
    vector = (10.0, 20.0, -15.0)
    one, other = (laid(flat, "x", {ARM: vector}, space=s) for s in ("parent", "figure"))
    rest = orientations(flat)[0, of(clip, ARM)]
    if rotation.geodesic_deg(rest, rotation.IDENTITY) < 1e-9:
        assert apart(one, other) < 1e-9
    assert rotation.geodesic_deg(orientations(one), orientations(other)).max() < 1e-6


@settings(max_examples=12)
@given(st.data())
def test_any_frame_is_what_it_is_among_all(data: st.DataObject) -> None:
    clip = stacked()
    frames = data.draw(st.lists(st.integers(0, clip.frames - 1), min_size=1, max_size=6))
    joints = data.draw(st.lists(st.integers(0, 64), min_size=1, max_size=5, unique=True))
    whole = everything()
    some = evaluate(clip, np.array(frames, dtype=np.float64), joints)
    assert np.array_equal(some.rotation, whole[0][frames][:, joints])
    assert np.array_equal(some.translation, whole[1][frames][:, joints])


@cache
def stacked() -> Clip:
    """Planted feet, and layers of all kinds below them."""
    clip = laid(planted_walk(), "head", {HEAD: (0.0, 15.0, 0.0)})
    clip = laid(clip, "aim", {ARM: (0.0, 20.0, 5.0), SPINE: (4.0, 0.0, 0.0)}, space="figure")
    clip = laid(clip, "numbers", {FOREARM: (0.0, 7.0, 0.0)}, kind="channels")
    clip = done(
        clip, "key_layer", layer="head", frame=200, turns={HEAD: (0, -10.0, 0)}, ramp_out=40
    )
    clip = edited(clip, {"do": "add", "name": "lift"})
    return done(clip, "key_layer", layer="lift", frame=0, moves={"Hips": (0.0, 40.0, 0.0)})


@cache
def everything() -> tuple[Floats, Floats]:
    pose = evaluate(stacked())
    return pose.rotation, pose.translation


def test_plants_hold_over_layers() -> None:
    """The hips lifted by a layer: planted feet stay where they are."""
    clip = planted_walk()
    lifted = edited(clip, {"do": "add", "name": "lift"})
    lifted = done(lifted, "key_layer", layer="lift", frame=0, moves={"Hips": (0.0, 30.0, 0.0)})
    plant = next(p for p in clip.plants if p.part == "left toe")
    toe = of(clip, "LeftToe")
    here, there = (evaluate(c).world(c.skeleton)[1] for c in (clip, lifted))
    held = slice(plant.first, plant.last + 1)
    assert np.abs(there[held, toe] - here[held, toe]).max() * clip.millimetres < 1.0
    assert np.abs(there[held, 0] - here[held, 0]).max() > 1.0


def test_what_is_delivered_is_the_layered_motion() -> None:
    clip = stacked()
    back = read_bvh(write_bvh(clip)).clip
    assert apart(back, clip) < 1e-4
    assert np.abs(evaluate(back).translation - evaluate(clip).translation)[:, 0].max() < 1e-4


def test_flattened_is_the_same_on_every_frame_and_the_layers_go() -> None:
    clip = stacked()
    flat = done(clip, "flatten")
    assert apart(flat, clip) < 1e-6
    assert np.abs(evaluate(flat).translation - evaluate(clip).translation).max() < 1e-9
    assert flat.layers == ()
    assert not any(t.owner.startswith("layer") for t in flat.curves)
    assert all(p.muted for p in flat.plants)
    # Of a recipe of older versions they stay, switched off.
    assert OPERATIONS["flatten"].upgraded(1, {}) == {"stay": True}
    kept = done(clip, "flatten", stay=True)
    assert [(x.name, x.muted) for x in kept.layers] == [(x.name, True) for x in clip.layers]
    assert apart(kept, clip) < 1e-6
    # The one unmuted again lies over what it was flattened into: twice.
    twice = edited(kept, {"do": "set", "name": "numbers", "muted": False})
    assert apart(twice, kept) == pytest.approx(7.0, abs=0.1)


def test_some_layers_are_flattened_without_the_others() -> None:
    clip = laid(laid(walk(), "one", {ARM: (20.0, 0, 0)}), "two", {FOREARM: (0, 25.0, 0)})
    flat = done(clip, "flatten", layers=["one"])
    assert [x.name for x in flat.layers] == ["two"]
    assert apart(flat, clip) < 1e-6
    assert {t.joint for t in flat.curves if flat.curves[t] is not clip.curves.get(t)} == {
        of(clip, ARM)
    }
    with pytest.raises(BadInput, match="no layer is named 'three'"):
        OPERATIONS["flatten"].run(clip, {"layers": ["three"]})


def test_stray_keys_beyond_the_range_do_not_make_it_longer() -> None:
    """Keys reach frame 1,084 of a clip that ends at 679: flatten stops at 679."""
    clip = replace(
        laid(walk(), "late", {ARM: (5.0, 0.0, 0.0)}), frames=680,
        curves={t: SampledCurve(c.values[:680]) if isinstance(c, SampledCurve) else c
                for t, c in laid(walk(), "late", {ARM: (5.0, 0.0, 0.0)}).curves.items()},
    )  # fmt: skip
    layer = clip.layers[0]
    stray = keyed([0.0, 400.0, 1084.0], [0.0, 30.0, -30.0])
    clip = clip.with_curves({TrackId(layer.owner, of(clip, ARM), "rx"): stray})
    flat = done(clip, "flatten")
    changed = [c for t, c in flat.curves.items() if t.joint == of(clip, ARM) and t.owner == "base"]
    assert {c.key_count for c in changed} == {680}
    assert apart(flat, clip) < 1e-6
    keyed_flat = done(clip, "flatten", keyed=True)
    assert keyed_flat.frames == 680


def test_flattened_to_keys_it_is_within_the_tolerance_and_keeps_all_key_times() -> None:
    thin = apply_patch(walk(), OPERATIONS["thin"].run(walk(), {"tolerance_deg": 0.3}))
    clip = laid(thin, "arm", {ARM: (0.0, 12.0, 0.0)})
    clip = done(clip, "key_layer", layer="arm", frame=333, turns={ARM: (0.0, -20.0, 0.0)})
    flat = done(clip, "flatten", keyed=True, tolerance_deg=0.2)
    gap = rotation.geodesic_deg(turns(flat), turns(clip))
    assert gap.max() < 0.5
    for track in clip.turns_of(of(clip, ARM)):
        curve, old = flat.curves[track], clip.curves[track]
        assert isinstance(curve, KeyedCurve)
        assert isinstance(old, KeyedCurve)
        assert set(np.round(old.time)) | {333.0} <= set(curve.time)
        assert curve.key_count < clip.frames / 3


def test_keys_on_a_layer_are_flat_and_come_from_nothing_and_go_back_to_it() -> None:
    clip = edited(walk(), {"do": "add", "name": "head"})
    clip = done(clip, "key_layer", layer="head", frame=100, turns={HEAD: (0, 12.0, 0)}, ramp_in=20,
                hold=30, ramp_out=40)  # fmt: skip
    curve = clip.curves[TrackId(clip.layers[0].owner, of(clip, HEAD), "ry")]
    assert isinstance(curve, KeyedCurve)
    assert curve.time.tolist() == [80, 100, 130, 170]
    assert curve.value.tolist() == [0, 12, 12, 0]
    assert set(curve.handle) == {Handle.FLAT}
    gap = rotation.geodesic_deg(turns(clip), turns(walk()))[:, of(clip, HEAD)]
    assert gap[:81].max() == gap[170:].max() == 0.0
    assert gap[100:131] == pytest.approx(12.0, abs=1e-9)
    # Another key between changes what lies between the keys beside it, and nothing else.
    more = done(clip, "key_layer", layer="head", frame=115, turns={HEAD: (0, 20.0, 0)})
    changed = np.flatnonzero(rotation.geodesic_deg(turns(more), turns(clip)).max(axis=1) > 1e-9)
    assert (changed.min(), changed.max()) == (101, 129)


def test_layers_that_lead_to_poses_and_that_add_numbers() -> None:
    clip = walk()
    joint = of(clip, FOREARM)
    own = edited(clip, {"do": "add", "name": "pose", "kind": "override"},
                 {"do": "set", "name": "pose", "weight": 0.5})  # fmt: skip
    angles = (10.0, 20.0, 30.0)
    led = done(own, "key_layer", layer="pose", frame=0, turns={FOREARM: angles})
    order = clip.order(joint)
    goal = rotation.from_euler(np.array([[angles["XYZ".index(a)] for a in order]]), order)[0]
    wanted = rotation.slerp(turns(clip)[:, joint], np.broadcast_to(goal, (clip.frames, 4)), 0.5)
    assert rotation.geodesic_deg(turns(led)[:, joint], wanted).max() < 1e-9
    numbers = laid(clip, "numbers", {FOREARM: (0.0, 0.0, 6.0)}, kind="channels")
    values = effective(numbers)
    for track in clip.turns_of(joint):
        gap = values[track] - effective(clip)[track]
        assert gap == pytest.approx(6.0 if track.name == "rz" else 0.0, abs=1e-6)


@pytest.mark.parametrize(
    ("edit", "says"),
    [
        ({"do": "add", "name": "arm"}, "named 'arm' already"),
        ({"do": "set", "name": "arm", "kind": "override"}, "kind is set when it is made"),
        ({"do": "set", "name": "arm", "mask": {"Tail": 0.5}}, "no joint is named 'Tail'"),
        ({"do": "set", "name": "arm", "mask": {ARM: 3.0}}, "shares from 0 to 1"),
    ],
)
def test_what_cannot_be_done_to_a_layer_is_told(edit: dict[str, Any], says: str) -> None:
    with pytest.raises(BadInput, match=says):
        edited(laid(walk(), "arm", {ARM: (5.0, 0, 0)}), edit)


def test_a_locked_or_muted_layer_takes_no_keys() -> None:
    clip = laid(walk(), "arm", {ARM: (5.0, 0.0, 0.0)})
    for what in ("locked", "muted"):
        shut = edited(clip, {"do": "set", "name": "arm", what: True})
        with pytest.raises(BadInput, match=f"arm is {what}"):
            done(shut, "key_layer", layer="arm", frame=0, turns={ARM: (1.0, 0, 0)})
        key = {"owner": "layer:0", "joint": ARM, "channel": "rx", "id": 0, "frame": 0, "value": 9}
        with pytest.raises(BadInput, match=f"arm is {what}: it takes no keys"):
            done(shut, "edit", keys=[key])
        # Its weight is none of its keys, and time takes it along.
        faded = done(shut, "edit", keys=[{**key, "joint": "", "channel": "w", "value": 0.5}])
        assert faded.curves[faded.layers[0].weight] != shut.curves[shut.layers[0].weight]
        assert done(shut, "trim", first=5, last=60, calibration=False).frames == 56
    with pytest.raises(BadInput, match="no layer is named 'leg'"):
        done(clip, "key_layer", layer="leg", frame=0, turns={ARM: (1.0, 0, 0)})


def test_a_layers_curves_are_edited_and_its_weight_is_a_curve_of_its_own() -> None:
    clip = laid(walk(), "arm", {ARM: (0.0, 20.0, 0.0)})
    owner = clip.layers[0].owner
    weight = {"owner": owner, "joint": "", "channel": "w"}
    edits = [
        {**weight, "id": 0, "frame": 0.0, "value": 0.0, "handle": "straight"},
        {**weight, "id": 1, "frame": 100.0, "do": "make", "value": 1.0, "handle": "straight"},
    ]
    faded = done(clip, "edit", keys=edits)
    gap = rotation.geodesic_deg(turns(faded), turns(walk()))[:, of(clip, ARM)]
    assert gap[50] == pytest.approx(10.0, abs=1.0)
    assert gap[0] == 0.0
    assert gap[100:] == pytest.approx(20.0, abs=1e-9)
    scope = Scope(owner=owner, joints=(ARM,))
    doubled = apply_patch(
        clip, OPERATIONS["gain"].run(clip, {"factor": 2.0, "about": "value"}, scope)
    )
    more = rotation.geodesic_deg(turns(doubled), turns(walk()))[:, of(clip, ARM)]
    assert more == pytest.approx(40.0, abs=1e-9)
    with pytest.raises(BadInput, match="no layers"):
        OPERATIONS["smooth"].run(clip, {}, scope)


def test_layers_are_kept_in_files_and_in_the_store() -> None:
    clip = edited(stacked(), {"do": "set", "name": "aim", "mask": {ARM: 0.5}, "locked": True})
    back = read_clip(write_clip(clip)).clip
    assert back.layers == clip.layers
    assert np.array_equal(turns(back), turns(clip))
    header = header_of(clip, "digest")
    again = clip_of(header, clip.skeleton, clip.curves)
    assert again.layers == clip.layers
    old = write_clip(walk()).replace(b'"schema_version":4', b'"schema_version":2')
    assert read_clip(old).clip.layers == ()
    text = write_clip(clip)
    for find, put, says in (
        (b'"layer":"aim","joint"', b'"layer":"none","joint"', "no such layer"),
        (b'"mask":{"LeftUpperArm"', b'"mask":{"Tail"', "no joint is named"),
    ):
        assert find in text
        with pytest.raises(BadInput, match=says):
            read_clip(text.replace(find, put, 1))


def test_layers_move_with_every_change_of_time() -> None:
    clip = edited(walk(), {"do": "add", "name": "head"})
    clip = done(clip, "key_layer", layer="head", frame=100, turns={HEAD: (0, 12.0, 0)}, ramp_in=20,
                hold=30, ramp_out=40)  # fmt: skip
    head = of(clip, HEAD)
    for name, params, moved in (
        ("insert_frames", {"after": 50, "count": 25}, lambda f: f + 25),
        ("shift_from", {"frame": 60, "by": 10}, lambda f: f + 10),
        ("trim", {"first": 40, "last": 800, "calibration": False}, lambda f: f - 40),
    ):
        after = done(clip, name, **params)
        gap = rotation.geodesic_deg(turns(after), turns(done(walk(), name, **params)))[:, head]
        assert gap[moved(115)] == pytest.approx(12.0, abs=1e-6), name
        assert gap[moved(180)] == pytest.approx(0.0, abs=1e-6), name
    half = done(clip, "change_rate", rate=str(clip.rate / 2))
    base = done(walk(), "change_rate", rate=str(clip.rate / 2))
    gap = rotation.geodesic_deg(turns(half), turns(base))[:, head]
    assert gap[57] == pytest.approx(12.0, abs=1e-6)


def test_copies_and_names_and_what_each_changes() -> None:
    clip = edited(laid(walk(), "arm", {ARM: (0.0, 10.0, 0.0)}), {"do": "copy", "name": "arm"})
    assert [x.name for x in clip.layers] == ["arm", "arm, copy"]
    assert apart(clip, walk()) == pytest.approx(20.0, abs=1e-6)
    told = layer_changes(clip)
    assert [c.change.max_deg for c in told] == pytest.approx([10.0, 10.0], abs=1e-6)
    assert told[0].parts == ("left arm",)
    assert told[0].joints == (ARM,)
    assert told[0].change.max_mm > 10
    gone = edited(clip, {"do": "remove", "name": "arm"})
    assert {t.owner for t in gone.curves} == {"base", gone.layers[0].owner}
    assert OPERATIONS["edit_layers"].run(clip, {"edits": [{"do": "remove", "name": "leg"}]}).report[
        "unplaced"
    ] == [{"name": "leg"}]


def test_a_layer_has_curves_for_all_that_it_says() -> None:
    clip = laid(walk(), "arm", {ARM: (5.0, 0.0, 0.0)})
    broken = replace(clip, layers=(replace(clip.layers[0], layout=((3, ("rx",)),)),))
    text = write_clip(clip)
    assert broken.tracks != clip.tracks
    with pytest.raises(BadInput, match="match one to one"):
        read_clip(text.replace(b'"LeftUpperArm":["rx","ry","rz"]', b'"LeftUpperArm":["rx","ry"]'))
    assert Layer(0, "x").tracks[0].name == "w"


def lifted(clip: Clip, take: Clip, **params: Any) -> Clip:
    patch = OPERATIONS["lift"].run(clip, {"what": "all", **params}, inputs={"take": take})
    return apply_patch(clip, patch)


def test_what_was_done_by_hand_is_lifted_off_and_the_motion_stays() -> None:
    """A gain on the arm and hips pulled up: the clip's own curves are the take's again."""
    take = walk()
    scope = Scope(joints=(ARM, FOREARM))
    clip = apply_patch(take, OPERATIONS["gain"].run(take, {"factor": 1.4}, scope))
    offset = Scope(joints=("Hips",), channels=("ty",))
    clip = apply_patch(clip, OPERATIONS["offset"].run(clip, {"amount": 3.0}, offset))
    done_ = lifted(clip, take, name="acting")
    assert apart(done_, clip) < 1e-6
    assert np.abs(evaluate(done_).translation - evaluate(clip).translation).max() < 1e-9
    assert apart(done_.below, take) < 1e-6
    (layer,) = done_.layers
    assert {clip.skeleton.names[j] for j in layer.channels} == {ARM, FOREARM, "Hips"}
    assert layer.channels[of(clip, "Hips")] == ("tx", "ty", "tz")
    half = edited(done_, {"do": "set", "name": "acting", "weight": 0.0})
    assert apart(half, take) < 1e-6
    with pytest.raises(BadInput, match="works on a clip with its take"):
        OPERATIONS["lift"].run(clip, {"what": "all"})
    with pytest.raises(BadInput, match="nothing was done by hand"):
        OPERATIONS["lift"].run(clip, {}, inputs={"take": take})


def test_a_turn_past_half_is_lifted_without_a_jump() -> None:
    """A joint that spins by 900° over the clip: its vector goes on, and half of it is half."""
    take = walk()
    joint = of(take, "LeftHand")
    spin = rotation.exp(np.linspace(0, 900, take.frames)[:, None] * np.array([0.0, 1.0, 0.0]))
    turned = rotation.multiply(evaluate(take).rotation[:, joint], spin)
    order = take.order(joint)
    angles = rotation.angles_near(
        turned, order, np.stack([effective(take)[t] for t in take.turns_of(joint)], axis=-1)
    )
    clip = take.with_curves(
        {t: SampledCurve(np.ascontiguousarray(angles[:, k]))
         for k, t in enumerate(take.turns_of(joint))}
    )  # fmt: skip
    made = lifted(clip, take)
    curve = made.curves[TrackId(made.layers[0].owner, joint, "ry")]
    assert isinstance(curve, SampledCurve)
    assert curve.values[-1] == pytest.approx(900.0, abs=1e-3)
    assert np.abs(np.diff(curve.values)).max() < 2.0


def loaded(clip: Clip, source: Clip, scope: Scope | None = None, **params: Any) -> Clip:
    patch = OPERATIONS["load_layer"].run(clip, params, scope or Scope(), inputs={"source": source})
    return apply_patch(clip, patch)


def test_two_takes_stand_in_two_layers_and_one_alone_is_what_was_loaded() -> None:
    """The walk on one layer and the crate on another (a worked case of common practice)."""
    base, crate = walk(), TAKES[1].clean()
    plain = {"ramp_in": 0, "ramp_out": 0}
    clip = loaded(loaded(base, walk(), name="walk", **plain), crate, name="crate", **plain)
    arms = [j for g in ("left arm", "right arm") for j in clip.body.groups[g]]
    one = edited(clip, {"do": "set", "name": "crate", "muted": True})
    assert rotation.geodesic_deg(turns(one), turns(walk())).max() < 1e-6
    two = edited(clip, {"do": "set", "name": "walk", "muted": True})
    frames = np.arange(clip.frames) * float(crate.rate / clip.rate)
    lasts = frames <= crate.frames - 1
    there = evaluate(crate, np.minimum(frames, crate.frames - 1.0)).rotation
    gap = rotation.geodesic_deg(turns(two)[lasts][:, arms], there[lasts][:, arms])
    assert gap[1:-1].max() < 1e-6
    # Whatever is muted below it: the same.
    muted = edited(two, {"do": "set", "name": "walk", "muted": True})
    assert np.array_equal(turns(muted), turns(two))


def test_a_loaded_difference_is_added_and_comes_and_goes_in_its_range() -> None:
    base, crate = walk(), TAKES[1].clean()
    scope = Scope(joints=(HEAD,), frames=(100, 300))
    first = {"stands_as": "difference from its first frame", "at": 100, "start": 400}
    clip = loaded(base, crate, scope, **first, ramp_in=20, ramp_out=20)
    head = of(clip, HEAD)
    gap = rotation.geodesic_deg(turns(clip), turns(base))
    outside = np.r_[0:100, 302 : base.frames]
    assert gap[outside].max() < 1e-9
    assert gap[:, [j for j in range(65) if j != head]].max() == 0.0
    frames = 400 + (np.arange(140, 260) - 100) * float(crate.rate / base.rate)
    there = evaluate(crate, frames).rotation[:, head]
    begun = evaluate(crate, np.array([400.0])).rotation[:, head]
    wanted = rotation.geodesic_deg(np.broadcast_to(begun, there.shape), there)
    assert gap[140:260, head] == pytest.approx(wanted, abs=1e-6)
    with pytest.raises(BadInput, match="has no frames within"):
        loaded(base, crate, Scope(frames=(0, 10)), at=50)


def test_the_difference_between_two_clips_added_to_one_is_the_other() -> None:
    base, crate = walk(), TAKES[1].clean()
    below = laid(base, "beneath", {ARM: (10.0, 0.0, 0.0)})
    clip = loaded(below, crate, stands_as="difference from this clip", start=240)
    joints = [j for j in range(65) if len(clip.order(j)) == 3]
    frames = 240 + np.arange(clip.frames) * float(crate.rate / clip.rate)
    inside = np.flatnonzero(frames < crate.frames - 60)[1:]
    there = evaluate(crate, frames[inside]).rotation
    arms = [j for g in ("left arm", "head") for j in clip.body.groups[g]]
    gap = rotation.geodesic_deg(turns(clip)[inside][:, arms], there[:, arms])
    assert gap.max() < 1e-6
    assert len(arms) < len(joints)


def test_layers_beneath_another_may_be_put_in_any_order_and_come_out_again() -> None:
    clip = stacked()
    without = edited(clip, *({"do": "remove", "name": x.name} for x in clip.layers))
    assert without.layers == ()
    assert set(without.curves) == set(planted_walk().curves)
    assert np.array_equal(turns(without), turns(planted_walk()))


@pytest.mark.parametrize("kind", ["additive", "channels", "override"])
@pytest.mark.parametrize("space", ["parent", "figure"])
def test_how_joints_shall_stand_is_keyed_through_whatever_lies_over_and_under(
    kind: str, space: str
) -> None:
    """Turned further by vectors about their own axes, checked by composing with SciPy."""
    below = laid(walk(), "below", {SPINE: (4, -7, 3), ARM: (0, 12, 5)}, weight=0.7)
    mine = laid(below, "mine", {FOREARM: (3, 9, -4)}, kind=kind, mask={ARM: 0.6}, weight=0.8)
    if kind == "additive":
        mine = edited(mine, {"do": "set", "name": "mine", "space": space})
    over = laid(mine, "over", {ARM: (11, 0, -6), FOREARM: (0, 8, 2), SPINE: (1, 2, 3)}, weight=1.2)
    joints = [FOREARM] if kind == "override" else [SPINE, ARM, FOREARM]
    by = {j: (5.0 + k, -6.0, 2.5 * k) for k, j in enumerate(joints)}
    hips = (1.0, -2.0, 0.5)
    frame = 30
    given = done(
        over,
        "key_layer",
        layer="mine",
        frame=frame,
        turned=by,
        moved={"Hips": tuple(10 * v for v in hips)},
    )
    was, now = (evaluate(c, np.array([float(frame)])) for c in (over, given))
    for joint, vector in by.items():
        k = of(walk(), joint)
        wanted = Rotation.from_quat(was.rotation[0, k]) * Rotation.from_rotvec(vector, degrees=True)
        off = wanted.inv() * Rotation.from_quat(now.rotation[0, k])
        assert np.degrees(off.magnitude()) < 1e-6, joint
    moved = now.translation[0, 0] - was.translation[0, 0]
    assert np.abs(moved - hips).max() < 1e-9
    others = [j for j in range(len(walk().skeleton.names)) if walk().skeleton.names[j] not in by]
    if space == "parent":
        assert np.abs(now.rotation[0, others] - was.rotation[0, others]).max() < 1e-12


def test_what_would_not_be_seen_is_not_keyed() -> None:
    under = laid(walk(), "under", {ARM: (0, 5, 0)})
    over = laid(under, "over", {ARM: (10, 0, 0)}, kind="override")
    with pytest.raises(BadInput, match="over lies above and leads LeftUpperArm"):
        done(over, "key_layer", layer="under", frame=3, turned={ARM: (1, 0, 0)})
    light = edited(under, {"do": "set", "name": "under", "weight": 0.0})
    with pytest.raises(BadInput, match="under has no weight on LeftUpperArm at frame 3"):
        done(light, "key_layer", layer="under", frame=3, turned={ARM: (1, 0, 0)})


def test_a_spin_on_a_layer_is_turned_further_and_not_unwound() -> None:
    spun = laid(walk(), "spin", {HEAD: (0, 700, 0)})
    more = done(spun, "key_layer", layer="spin", frame=10, turned={HEAD: (0, 30, 0)})
    assert more.curves[TrackId("layer:0", of(walk(), HEAD), "ry")].at(
        np.array([10.0])
    ) == pytest.approx(730)


def test_a_difference_is_told_from_a_frame_of_this_clip() -> None:
    """Where the source stands as this clip does on that frame nothing is added."""
    base, crate = walk(), TAKES[1].clean()
    params = {"stands_as": "difference from a frame of this clip", "against": 200, "start": 240}
    clip = loaded(base, crate, Scope(joints=(HEAD,)), **params, ramp_in=0, ramp_out=0)
    head = of(clip, HEAD)
    frames = 240 + np.arange(100) * float(crate.rate / base.rate)
    there = evaluate(crate, frames).rotation[:, head]
    held = Rotation.from_quat(turns(base)[200, head])
    below, now = (Rotation.from_quat(turns(c)[:100, head]) for c in (base, clip))
    wanted = below * held.inv() * Rotation.from_quat(there)
    assert np.degrees((wanted.inv() * now).magnitude()).max() < 1e-5
    own = loaded(base, base, Scope(joints=(HEAD,)), **{**params, "start": 0}, ramp_in=0)
    gap = rotation.geodesic_deg(turns(own), turns(base))[:, head]
    assert gap[200] < 1e-9 < 1 < gap.max()
    # Told from a frame of another clip, here this very one: the same.
    told = {"stands_as": "difference from a frame of another clip", "reference_frame": 200}
    other = {"start": 240, **told}
    kind, scope = OPERATIONS["load_layer"], Scope(joints=(HEAD,))
    inputs = {"source": crate, "reference": base}
    same = kind.run(base, {**other, "ramp_in": 0, "ramp_out": 0}, scope, inputs=inputs)
    assert apart(apply_patch(base, same), clip) < 1e-5
    with pytest.raises(BadInput, match="choose the clip or pose that the difference is told from"):
        loaded(base, crate, **other)
    with pytest.raises(BadInput, match="against: expected a frame within"):
        loaded(base, crate, **{**params, "against": 10**6})
