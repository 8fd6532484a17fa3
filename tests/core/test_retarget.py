"""Retargeting: the same body is the same motion whatever its names, axes, rest, unit and size."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction
from functools import cache
from pathlib import Path

import numpy as np
import orjson
import pytest
from leancurve.cleaning.contacts import contacts_of, support_of
from leancurve.curves.curve import SampledCurve
from leancurve.demo import TAKES, gangway_take
from leancurve.demo.characters import heron_file, wren_file
from leancurve.demo.characters import standing as file_of
from leancurve.document.base import prop_pose
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.errors import BadInput
from leancurve.figure.feet import limbs_of
from leancurve.figure.skeleton import UP, EndSite, Skeleton
from leancurve.measures.findings import find
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats
from leancurve.operations import OPERATIONS, apply_patch
from leancurve.retarget.figures import foot_slide
from leancurve.retarget.matching import ChainPair
from leancurve.retarget.profile import Profile, read_profile, write_profile
from leancurve.retarget.rest import RestFigure, unit
from leancurve.retarget.retargeting import Retargeted, Wishes, retargeted
from leancurve.retarget.touching import palm
from leancurve.retarget.transfer import World, twist_of, world_of

from tests.core.retarget_variants import as_file, random_axes, rebuilt, twisted_in_line

DATA = Path(__file__).parents[1] / "data"
NAMES = ("haul", "crate", "walk")


@cache
def clean(name: str) -> Clip:
    return TAKES[NAMES.index(name)].clean()


@cache
def on(name: str, target: str) -> Retargeted:
    return retargeted(clean(name), wren_file() if target == "Wren" else heron_file())


def worlds(done: Retargeted, source: Clip) -> tuple[World, World]:
    """Source and retargeted motion in figure space, metres."""
    floor = done.clip.reading.floor
    assert floor is not None
    return (
        world_of(source, done.source, support_of(source).floor),
        world_of(done.clip, done.target, floor),
    )


def turned_from_rest(standing: RestFigure, motion: World, joint: int) -> Floats:
    return rotation.multiply(motion.turns[:, joint], rotation.conjugate(standing.turns[joint]))


def angle(a: Floats, b: Floats) -> Floats:
    """Degrees between directions ``(F, 3)``."""
    across = np.linalg.norm(np.cross(a, b), axis=-1)
    return np.degrees(np.arctan2(across, np.sum(a * b, axis=-1)))


@pytest.mark.parametrize("name", NAMES)
def test_onto_its_own_skeleton_a_take_is_itself(name: str) -> None:
    source = clean(name)
    done = retargeted(source, source)
    ours, theirs = evaluate(done.clip), evaluate(source)
    assert np.max(rotation.geodesic_deg(ours.rotation, theirs.rotation)) < 1e-9
    apart = ours.world(source.skeleton)[1] - theirs.world(source.skeleton)[1]
    assert np.max(np.abs(apart)) * source.millimetres < 1e-6
    assert done.lowered_mm < 1e-6
    assert max(done.missed_mm.values()) < 1e-6


@pytest.mark.parametrize("scale", [0.6, 1.7])
def test_a_figure_of_another_size_turns_alike_and_goes_as_much_less_or_farther(
    scale: float,
) -> None:
    source = clean("walk")
    done = retargeted(source, as_file(rebuilt(source.skeleton, scale=scale), source))
    ours, theirs = evaluate(done.clip), evaluate(source)
    assert np.max(rotation.geodesic_deg(ours.rotation, theirs.rotation)) < 1e-9
    # From floor to floor heights go in the same scale; the floor is where it was.
    floor = support_of(source).floor
    wanted = scale * theirs.world(source.skeleton)[1]
    wanted[..., 1] += (1.0 - scale) * floor
    apart = ours.world(done.clip.skeleton)[1] - wanted
    assert np.max(np.abs(apart)) * source.millimetres < 1e-6


def same_motion(source: Clip, target: Clip, tolerance_mm: float, **wishes: object) -> None:
    done = retargeted(source, target, Wishes(**wishes))  # type: ignore[arg-type]
    ours, theirs = worlds(done, source)
    assert all(link.mapped for link in done.links.links)
    assert np.max(np.linalg.norm(ours.points - theirs.points, axis=-1)) * 1000 < tolerance_mm


def test_shuffled_axes_names_unit_and_up_axis_are_the_same_motion() -> None:
    source = clean("crate")
    skeleton = source.skeleton
    axes = random_axes(len(skeleton), 5)
    same_motion(source, as_file(rebuilt(skeleton, axes), source, "YXZ"), 1e-6)
    # Z up, metres: the world turned about X, every joint's axes any way.
    up = rotation.from_axis("X", np.array(90.0))
    turned = rebuilt(skeleton, axes, 0.01, up)
    metres = as_file(turned, source, up_axis="z", metres_per_unit=1.0)
    same_motion(source, metres, 1e-6)
    spelt = {"Left": "l_", "Right": "r_"}
    names = []
    for name in skeleton.names:
        for word, short in spelt.items():
            name = name.replace(word, short)
        names.append(name.lower())
    same_motion(source, as_file(rebuilt(skeleton, axes, names=tuple(names)), source), 1e-6)


def lowered_arms(skeleton: Skeleton, degrees: float) -> Floats:
    """Local rotations at rest with arms lowered at the shoulder."""
    pose = skeleton.rest_rotations.copy()
    for side, sign in (("Left", 1.0), ("Right", -1.0)):
        joint = skeleton.index(f"{side}UpperArm")
        turn = rotation.from_axis("Z", np.array(-sign * degrees))
        pose[joint] = rotation.multiply(turn, pose[joint])
    return pose


def test_another_rest_pose_is_the_same_motion() -> None:
    source = clean("walk")
    for degrees in (40.0, 78.0):
        rest = lowered_arms(source.skeleton, degrees)
        target = as_file(rebuilt(source.skeleton, random_axes(65, 3), pose=rest), source)
        same_motion(source, target, 1e-3)


def test_a_bent_rest_of_true_hinges_is_the_same_motion() -> None:
    source = clean("walk")
    skeleton = source.skeleton
    rest = lowered_arms(skeleton, 60.0)
    for side, sign in (("Left", 1.0), ("Right", -1.0)):
        elbow = rotation.from_axis("Y", np.array(-sign * 25.0))
        rest[skeleton.index(f"{side}Forearm")] = elbow
        knee, thigh = (
            rotation.from_axis("X", np.array(30.0)),
            rotation.from_axis("X", np.array(-15)),
        )
        rest[skeleton.index(f"{side}Shin")] = knee
        rest[skeleton.index(f"{side}Thigh")] = thigh
        rest[skeleton.index(f"{side}Foot")] = rotation.from_axis("X", np.array(-15.0))
    target = as_file(rebuilt(skeleton, random_axes(65, 4), pose=rest), source)
    done = retargeted(source, target)
    ours, theirs = worlds(done, source)
    for side in ("left", "right"):
        for part, below in (("thigh", "shin"), ("shin", "foot"), ("forearm", "hand")):
            a, b = (done.source.find(f"{side} {p}") for p in (part, below))
            assert a is not None
            assert b is not None
            way = [w.points[:, b] - w.points[:, a] for w in (ours, theirs)]
            # The source's own rest is straight: it says nothing of its hinge, to 1.5° here.
            assert np.max(angle(*way)) < 1.5
    both = as_file(rebuilt(skeleton, pose=rest), source)
    there = retargeted(source, both)
    back = retargeted(there.clip, target)
    mine, again = worlds(back, there.clip)
    assert np.max(np.linalg.norm(mine.points - again.points, axis=-1)) * 1000 < 1e-3


@pytest.mark.parametrize("name", NAMES)
def test_there_and_back_through_heron_is_the_take(name: str) -> None:
    # What hands hold keeps its width on either figure, which the arms' lengths do not scale with.
    source, as_retargeted = clean(name), Wishes(hands=0.0)
    back = retargeted(retargeted(source, heron_file(), as_retargeted).clip, source, as_retargeted)
    ours = world_of(back.clip, back.target, back.clip.reading.floor or 0.0)
    theirs = world_of(source, back.target, support_of(source).floor)
    body = back.target.body
    for joint, role in enumerate(body.joints):
        if body.find(role.role) != joint and "spine" not in role.role:
            continue  # such as the suit's palm, which Heron has no joint for
        off = rotation.geodesic_deg(ours.turns[:, joint], theirs.turns[:, joint]).max()
        part = role.role.removeprefix("left ").removeprefix("right ")
        if part in ("upper arm", "forearm", "hand", "thigh", "shin", "foot", "clavicle"):
            assert off < 0.05, (back.clip.skeleton.names[joint], off)
        elif part in ("hips", "spine", "neck", "head"):
            assert off < 0.2, (back.clip.skeleton.names[joint], off)
        if part in ("hand", "foot"):
            gap = np.linalg.norm(ours.points[:, joint] - theirs.points[:, joint], axis=1).max()
            assert gap * 1000 < 0.5, (back.clip.skeleton.names[joint], gap)


@pytest.mark.parametrize("target", ["Wren", "Heron"])
@pytest.mark.parametrize("name", NAMES)
def test_limbs_palms_and_the_head_point_where_the_source_s_do(name: str, target: str) -> None:
    source = clean(name)
    file = wren_file() if target == "Wren" else heron_file()
    done = retargeted(source, file, Wishes(feet=0.0, hands=0.0))
    ours, theirs = done.source, done.target
    here, there = worlds(done, source)
    for side in ("left", "right"):
        for part, below in (
            *(("upper arm", "forearm"), ("forearm", "hand")),
            *(("thigh", "shin"), ("shin", "foot")),
        ):
            ways = []
            for standing, motion in ((ours, here), (theirs, there)):
                a, b = standing.find(f"{side} {part}"), standing.find(f"{side} {below}")
                assert a is not None
                assert b is not None
                ways.append(motion.points[:, b] - motion.points[:, a])
            assert np.max(angle(*ways)) < 0.1
    heads = [turned_from_rest(s, m, s.find("head") or 0)
             for s, m in ((ours, here), (theirs, there))]  # fmt: skip
    assert np.max(rotation.geodesic_deg(*heads)) < 0.1


def beyond(done: Retargeted, source: Clip) -> tuple[list[float], list[float]]:
    """How far each toe in contact goes otherwise than the source's, in proportion, over the floor
    and above it, mm."""
    here, there = worlds(done, source)
    assert done.target.leg_length
    assert done.source.leg_length
    scale = done.target.leg_length / done.source.leg_length
    slides, heights = [], []
    for contact in contacts_of(source):
        if not contact.limb.endswith("toe"):
            continue
        span = slice(contact.first, contact.last + 1)
        a, b = done.source.find(contact.limb), done.target.find(contact.limb)
        assert a is not None
        assert b is not None
        ours, theirs = here.points[span, a], there.points[span, b]
        more = (theirs - theirs[0] - scale * (ours - ours[0]))[:, [0, 2]]
        slides.append(float(np.linalg.norm(more, axis=1).max()) * 1000)
        up = ours[:, 1] - here.floor - done.source.above_sole(a)
        high = theirs[:, 1] - there.floor - done.target.above_sole(b)
        heights.append(float(np.abs(high - scale * up).max()) * 1000)
    assert len(slides) > 3
    return slides, heights


@pytest.mark.parametrize("target", ["Wren", "Heron"])
@pytest.mark.parametrize("name", NAMES)
def test_feet_slide_no_more_than_the_source_s_in_proportion(name: str, target: str) -> None:
    slides, heights = beyond(on(name, target), clean(name))
    assert np.percentile(slides, 95) < 0.2
    assert np.percentile(heights, 95) < 2.0


def knees(standing: RestFigure, motion: World, side: str) -> Floats:
    """How far a knee is bent ``(F,)``, degrees."""
    found = [standing.find(f"{side} {p}") for p in ("thigh", "shin", "foot")]
    hip, knee, ankle = (motion.points[:, j] for j in found if j is not None)
    return angle(knee - hip, ankle - knee)


@pytest.mark.parametrize("name", NAMES)
def test_knees_do_not_jerk(name: str) -> None:
    source = clean(name)
    for target, most in (("Wren", 2.7), ("Heron", 1.5)):
        done = on(name, target)
        here, there = worlds(done, source)
        for side in ("left", "right"):
            before = np.abs(np.diff(knees(done.source, here, side), 2)).max()
            after = np.abs(np.diff(knees(done.target, there, side), 2)).max()
            assert after < most * before, (target, side, after / before)


def test_nothing_flips_in_any_order() -> None:
    from leancurve.cleaning.continuity import continuity_breaks

    for order in ("XYZ", "XZY", "YXZ", "YZX", "ZXY", "ZYX"):
        target = as_file(rebuilt(wren_file().skeleton), wren_file(), order)
        done = retargeted(clean("haul"), target)
        found = continuity_breaks(done.clip)
        assert not found.wraps
        assert not found.alternates


def test_left_stays_left_where_names_are_mirrored() -> None:
    # A figure whose names say the other side than its place does: the place and the name of the
    # source's are both unread; what the person said by hand counts.
    source = clean("walk")
    done = on("walk", "Heron")
    here, there = worlds(done, source)
    for part in ("hand", "foot"):
        for motion, standing in ((here, done.source), (there, done.target)):
            left, right = (standing.find(f"{s} {part}") for s in ("left", "right"))
            hips = standing.find("hips")
            assert left is not None
            assert right is not None
            assert hips is not None
            across = rotation.rotate(
                rotation.conjugate(turned_from_rest(standing, motion, hips)),
                motion.points[:, left] - motion.points[:, right],
            )
            assert np.mean(across[:, 0] > 0) > 0.9


def test_a_leg_that_is_nearly_straight_is_led_without_a_snap() -> None:
    source = gangway_take().clip
    for file in (wren_file(), heron_file()):
        done = retargeted(source, file)
        here, there = worlds(done, source)
        for side in ("left", "right"):
            ours, theirs = knees(done.source, here, side), knees(done.target, there, side)
            assert np.isfinite(theirs).all()
            assert np.abs(np.diff(theirs, 2)).max() < 2.7 * np.abs(np.diff(ours, 2)).max() + 0.5


def test_a_twist_is_read_past_the_pole_without_a_turn_too_many() -> None:
    axis = np.array([1.0, 0.0, 0.0])
    angles = np.linspace(0.0, 700.0, 300)
    swing = rotation.from_axis("Z", np.linspace(0.0, 179.9, 300))
    turns = rotation.multiply(swing, rotation.from_axis("X", angles))
    assert np.allclose(twist_of(turns, axis), angles, atol=1e-6)
    assert np.allclose(np.diff(twist_of(-turns, axis)), np.diff(angles), atol=1e-6)


def test_up_axes_and_units_are_the_target_s_own() -> None:
    done = on("walk", "Wren")
    assert done.clip.reading.up_axis == "z"
    points = evaluate(done.clip).world(done.clip.skeleton)[1]
    head = done.target.find("head")
    assert head is not None
    assert 0.8 < points[:, head, UP["z"]].mean() < 1.4  # metres
    assert done.clip.frames == clean("walk").frames
    assert done.clip.rate == clean("walk").rate


def test_a_skeleton_whose_rest_is_no_pose_is_told() -> None:
    source = clean("walk")
    curled = np.tile(rotation.from_axis("X", np.array(50.0)), (65, 1))
    odd = rebuilt(source.skeleton, pose=curled)
    assert RestFigure.of(source.skeleton, source.reading).is_pose
    assert RestFigure.of(wren_file().skeleton, wren_file().reading).is_pose
    assert RestFigure.of(heron_file().skeleton, heron_file().reading).is_pose
    assert not RestFigure.of(odd, replace(source.reading)).is_pose


def test_both_hands_hold_the_crate_for_as_long_as_they_did_and_as_wide_as_it_is() -> None:
    source = clean("crate")
    for target in ("Wren", "Heron"):
        done = on("crate", target)
        holds = [t for t in done.touches if t.is_hold]
        assert [t.hand for t in done.touches] == ["both hands"]
        rate = float(source.rate)
        # Performed from 1.4 s to 10.3 s, when the hands have come all the way and still are there.
        assert abs(holds[0].first / rate - 1.4) < 0.1
        assert abs(holds[0].last / rate - 10.3) < 0.1
        here, there = worlds(done, source)
        span = slice(holds[0].first, holds[0].last + 1)
        ways = []
        for standing, motion in ((done.source, here), (done.target, there)):
            palms = [palm(standing, motion, side) for side in ("left", "right")]
            assert palms[0] is not None
            assert palms[1] is not None
            ways.append((palms[1] - palms[0])[span])
        assert np.max(np.linalg.norm(ways[1] - ways[0], axis=1)) * 1000 < 2.0
        assert max(done.missed_mm.values()) < 2.0


def test_no_touch_is_found_that_is_not_there() -> None:
    for name in ("haul", "walk"):
        assert not on(name, "Heron").touches
    assert not retargeted(gangway_take().clip, heron_file()).touches


def test_a_keyed_clip_is_retargeted_keyed_on_the_same_frames() -> None:
    source = clean("walk")
    thin = apply_patch(source, OPERATIONS["thin"].run(source, {"tolerance_deg": 0.5}))
    retarget = OPERATIONS["retarget"]
    for file in (wren_file(), heron_file()):
        patch = retarget.run(thin, {"tolerance_deg": 0.5}, inputs={"target": file})
        keyed = apply_patch(thin, patch)
        dense = apply_patch(
            thin, retarget.run(thin, {"keys": "on every frame"}, inputs={"target": file})
        )
        assert dense.key_count == dense.frames * len(dense.channels)
        assert keyed.key_count < 0.25 * dense.key_count
        report = patch.report
        assert report["keys_kept"] + report["keys_added"] == keyed.key_count
        # Within three channels' tolerances of what was retargeted on every frame.
        off = rotation.geodesic_deg(evaluate(keyed).rotation, evaluate(dense).rotation)
        assert np.max(off) < 1.5
        # A joint that follows one joint has its key times, and more only between them.
        hand, own = thin.skeleton.index("LeftForearm"), keyed.body.find("left forearm")
        assert own is not None
        wanted = {round(t) for c in thin.turns_of(hand) for t in thin.curves[c].time}
        for track in keyed.turns_of(own):
            if keyed.curves[track].key_count > 2:  # one that stands still needs no more
                assert wanted <= {round(t) for t in keyed.curves[track].time}


def test_a_clip_with_values_on_every_frame_stays_so() -> None:
    source = clean("walk")
    patch = OPERATIONS["retarget"].run(source, inputs={"target": wren_file()})
    assert patch.report["keys_kept"] == patch.report["keys_added"] == 0


def test_retargeting_without_a_skeleton_is_refused() -> None:
    with pytest.raises(BadInput, match="choose a skeleton"):
        OPERATIONS["retarget"].run(clean("walk"))
    with pytest.raises(BadInput, match="no joint named 'Tail'"):
        OPERATIONS["retarget"].run(
            clean("walk"), {"joints": {"Tail": "Hips"}}, inputs={"target": heron_file()}
        )


def with_crate(clip: Clip) -> Clip:
    """The clip with a crate between the hands, and a bollard that stands on the deck."""
    edits = [
        {"do": "add", "name": "crate", "shape": "box", "size": [380, 260, 300],
         "joints": ["LeftHand", "RightHand"]},
        {"do": "add", "name": "bollard", "shape": "cylinder", "size": [200, 500, 200],
         "place": [600.0, 250.0, 1500.0]},
    ]  # fmt: skip
    return apply_patch(clip, OPERATIONS["edit_props"].run(clip, {"edits": edits}))


@pytest.mark.parametrize("target", ["Wren", "Heron"])
def test_a_crate_stays_in_both_hands_and_a_bollard_on_its_deck(target: str) -> None:
    source = with_crate(clean("crate"))
    done = retargeted(source, wren_file() if target == "Wren" else heron_file())
    assert [p.name for p in done.clip.props] == ["crate", "bollard"]
    (hold,) = (t for t in done.touches if t.is_hold)
    span = slice(hold.first, hold.last + 1)
    here, there = worlds(done, source)
    gaps = []
    for clip, standing, motion in (
        (source, done.source, here), (done.clip, done.target, there)
    ):  # fmt: skip
        place = standing.metres * rotation.rotate(standing.to_figure, prop_pose(clip)[1][:, 0])
        palms = [palm(standing, motion, side) for side in ("left", "right")]
        assert palms[0] is not None
        assert palms[1] is not None
        gaps.append([place[span] - p[span] for p in palms])
    for ours, theirs in zip(*gaps, strict=True):
        assert np.max(np.linalg.norm(theirs - ours, axis=1)) * 1000 < 2.0
    # Of the same size in the world, whatever the unit; the bollard in proportion, and still.
    sizes = [np.array(c.props[0].size) * c.reading.metres_per_unit for c in (source, done.clip)]
    assert np.allclose(*sizes)
    stands = prop_pose(done.clip)[1][:, 1] * done.target.metres
    assert np.max(np.ptp(stands, axis=0)) < 1e-9
    assert done.target.leg_length
    assert done.source.leg_length
    scale = done.target.leg_length / done.source.leg_length
    ahead = rotation.rotate(done.target.to_figure, stands[0])
    assert ahead[2] == pytest.approx(1.5 * scale, abs=1e-6)


def test_a_lamp_in_one_hand_goes_along_with_it() -> None:
    source = gangway_take().clip
    done = retargeted(source, heron_file())
    lamp = next(k for k, p in enumerate(done.clip.props) if p.name == "lamp")
    place = prop_pose(done.clip)[1][:, lamp]
    hand = done.target.find("right hand")
    assert hand is not None
    points = evaluate(done.clip).world(done.clip.skeleton)[1][:, hand]
    gap = np.linalg.norm(place - points, axis=1)
    assert np.ptp(gap) * done.clip.millimetres < 5.0


def test_retargeted_onto_itself_a_clip_keeps_its_props_where_they_are() -> None:
    source = with_crate(clean("crate"))
    done = retargeted(source, source)
    assert done.clip.props == source.props
    for ours, theirs in zip(prop_pose(done.clip), prop_pose(source), strict=True):
        assert np.max(np.abs(ours - theirs)) < 1e-6


OF_THE_CAPTURE = {
    "Hips": "Hip", "LowerBack": "", "Spine": "", "Spine1": "SpineF", "Neck": "NeckA",
    "Neck1": "NeckB", "Head": "Head",
    **{
        f"{side}{theirs}": f"{side}{ours}"
        for side in ("Left", "Right")
        for theirs, ours in (
            ("Shoulder", "Collar"), ("Arm", "UpArm"), ("ForeArm", "LowArm"), ("Hand", "Wrist"),
            ("UpLeg", "UpLeg"), ("Leg", "LowLeg"), ("Foot", "Ankle"), ("ToeBase", "Toes"),
        )
    },
    "LThumb": "LeftThumbA", "RThumb": "RightThumbA",
    "LeftFingerBase": "LeftIndexA", "RightFingerBase": "RightIndexA",
}  # fmt: skip
"""Joints of the open capture with those of Heron, by hand; '' is shared along the spine."""


def test_the_open_capture_s_joints_are_mapped_as_a_hand_would(open_capture: Clip) -> None:
    done = retargeted(open_capture, heron_file())
    wanted = {theirs: ours for ours, theirs in OF_THE_CAPTURE.items() if theirs}
    assert rightly_mapped(done, open_capture, wanted) >= 0.95
    left = [done.clip.skeleton.names[x.target] for x in done.links.links if not x.mapped]
    assert all(n.endswith("Twist") for n in left)


def rightly_mapped(done: Retargeted, source: Clip, wanted: dict[str, str]) -> float:
    """The share of target joints, by name, that have their turn from the joint that is wanted: from
    nothing where that is empty, from anywhere along the spine for "spine"."""
    names, own = source.skeleton.names, done.clip.skeleton.names
    spine = {names[j] for role in ("hips", "spine") for j in done.source.body.all(role)}
    right = 0
    for link in done.links.links:
        want = wanted.get(own[link.target])
        given = {names[j] for j in link.sources}
        if want is None:
            continue
        right += given <= spine and bool(given) if want == "spine" else given == ({want} - {""})
    return right / len(wanted)


def of_another_make(name: str) -> Clip:
    """A skeleton of tests/data/skeletons.json, as a file without motion."""
    made = orjson.loads((DATA / "skeletons.json").read_bytes())["skeletons"][name]
    joints = made["joints"]
    skeleton = Skeleton(
        tuple(j["name"] for j in joints),
        tuple(j["parent"] for j in joints),
        tuple(tuple(j["offset"]) for j in joints),
        rests=tuple(tuple(j["rest"]) for j in joints),
    )
    return file_of(skeleton, name, made["metres_per_unit"], "y", "ZXY")


WALKER = {
    "root": "Hips", "lowerback": "spine", "upperback": "spine", "thorax": "spine",
    "lowerneck": "Neck1", "upperneck": "Neck2", "head": "Head",
    **{
        f"{side[0].lower()}{theirs}": f"{side}{ours}" if ours else ""
        for side in ("Left", "Right")
        for theirs, ours in (
            ("hipjoint", ""), ("femur", "Thigh"), ("tibia", "Shin"), ("foot", "Foot"),
            ("toes", "Toe"), ("clavicle", "Clavicle"), ("humerus", "UpperArm"),
            ("radius", "Forearm"), ("wrist", "ForearmTwist"), ("hand", "Hand"),
            ("fingers", "Middle1"), ("thumb", "Thumb1"),
        )
    },
}  # fmt: skip
ROBOT = {
    "root": "Hips", "chest": "spine", "neck": "Head",
    **{
        f"{side.lower()}_{theirs}": f"{side}{ours}"
        for side in ("Left", "Right")
        for theirs, ours in (
            ("hip", "Thigh"), ("knee", "Shin"), ("ankle", "Foot"), ("shoulder", "UpperArm"),
            ("elbow", "Forearm"), ("wrist", "Hand"),
        )
    },
}  # fmt: skip


@pytest.mark.parametrize(("name", "by_hand"), [("walker", WALKER), ("robot", ROBOT)])
def test_skeletons_of_other_makes_are_mapped_as_a_hand_would(
    name: str, by_hand: dict[str, str]
) -> None:
    """A walker whose wrists are twists of its forearms, and a robot that faces X, arms down."""
    source, target = clean("walk"), of_another_make(name)
    assert set(by_hand) == set(target.skeleton.names)
    done = retargeted(source, target)
    assert done.target.is_pose
    assert rightly_mapped(done, source, by_hand) >= 0.95
    # Limbs point where they pointed, and feet stand where they stood.
    limbs = {x.name: x for x in limbs_of(done.target.skeleton, done.target.body)}
    assert len(limbs) == 4
    theirs = limbs_of(source.skeleton, source.body)
    here, there = (evaluate(c).world(c.skeleton)[1] for c in (source, done.clip))
    for limb in theirs:
        other = limbs[limb.name]
        for pair in ((limb.upper, limb.middle), (limb.middle, limb.end)):
            own = [other.joints[limb.joints.index(j)] for j in pair]
            was = rotation.rotate(done.source.to_figure, here[:, pair[1]] - here[:, pair[0]])
            now = rotation.rotate(done.target.to_figure, there[:, own[1]] - there[:, own[0]])
            apart = np.sum(unit(was) * unit(now), axis=1)
            most = 0.1 if not limb.is_leg else 12.0  # legs are led to where the feet stand
            assert np.degrees(np.arccos(np.clip(apart, -1, 1))).max() < most, limb.name
    if done.target.find("left toe") is not None:
        slides, heights = beyond(done, source)
        assert np.percentile(slides, 95) < 0.2
        assert np.percentile(heights, 95) < 2.0
    assert max(done.missed_mm.values()) < 1.0
    assert not [f for f in find(done.clip) if f.kind in ("wrap", "alternate")]


def test_twist_joints_in_line_take_their_share_and_ends_stay_as_they_are() -> None:
    """Heron with a twist joint between its elbow and its hand: the hand is where it is without."""
    source, plain = clean("crate"), heron_file()
    wrist = plain.skeleton.names.index("LeftWrist")
    rolled = twisted_in_line(plain, "LeftWrist", 0.5, np.zeros(1))
    one = retargeted(source, plain)
    other = retargeted(source, rolled, Wishes(joints={"LeftLowArmRoll": ""}))
    twist = other.clip.skeleton.index("LeftLowArmRoll")
    assert other.target.body.joints[twist].role == "left twist"
    here, there = (evaluate(d.clip).world(d.clip.skeleton) for d in (one, other))
    for name in ("LeftLowArm", "LeftWrist", "LeftIndexB", "RightWrist", "LeftAnkle"):
        a, b = (d.clip.skeleton.index(name) for d in (one, other))
        assert np.abs(here[1][:, a] - there[1][:, b]).max() < 1e-6
        assert rotation.geodesic_deg(here[0][:, a], there[0][:, b]).max() < 1e-5
    # Half of what the hand twists by, about the bone.
    bone = unit(rolled.skeleton.offset_array[twist])
    axis = np.broadcast_to(bone, (source.frames, 3))
    local = evaluate(other.clip).rotation[:, twist]
    assert np.abs(np.cross(rotation.log(local), axis)).max() < 1e-6
    whole = twist_of(evaluate(one.clip).rotation[:, wrist], bone)
    half = twist_of(local, bone)
    assert np.ptp(whole) > 5.0
    assert np.abs(half - half[0] - 0.5 * (whole - whole[0])).max() < 1e-6


@pytest.mark.parametrize("target", ["Wren", "Heron"])
def test_the_open_capture_s_feet_slide_no_more_than_they_did(
    open_capture: Clip, target: str
) -> None:
    done = retargeted(open_capture, wren_file() if target == "Wren" else heron_file())
    slides, heights = beyond(done, open_capture)
    assert np.percentile(slides, 95) < 0.2
    assert np.percentile(heights, 95) < 2.0
    held = apply_patch(done.clip, OPERATIONS["plant"].run(done.clip))
    assert foot_slide(open_capture, held) <= 3.0
    assert not done.touches


def creature(count: int, letter: str, length: float, metres: float) -> Skeleton:
    """A creature without legs: joints one behind another, level, of no names that tell a body."""
    step = length / count / metres
    offsets = ((0.0, 20.0 * 0.01 / metres, 0.0), *(((0.0, 0.0, step),) * (count - 1)))
    ends = (EndSite(count - 1, (0.0, 0.0, step), count),)
    names = tuple(f"{letter}{k}" for k in range(count))
    return Skeleton(names, tuple(range(-1, count - 1)), offsets, ends)


def test_chains_set_by_hand_retarget_what_is_no_human_body(tmp_path: Path) -> None:
    """Eight joints of a creature onto five of another, end to end."""
    frames = 120
    made = file_of(creature(8, "segment", 2.4, 0.01), "creature", 0.01, "y", "ZXY")
    t = np.arange(frames) / 60.0
    curves = {}
    for track in made.curves:
        wave = 8.0 * np.sin(3.0 * t - 0.7 * track.joint) if track.name == "ry" else np.zeros(frames)
        if track.name == "tz":
            wave = 80.0 * t
        if track.name == "ty" and made.reading.root_positions != "add":
            wave = wave + 20.0
        curves[track] = SampledCurve(wave)
    source = replace(made, frames=frames, rate=Fraction(60), curves=curves)
    target = file_of(creature(5, "vertebra", 1.2, 1.0), "other", 1.0, "y", "XYZ")
    pair = ChainPair(("segment0", "segment7"), ("vertebra0", "vertebra4"))
    alone = retargeted(source, target)
    assert not any(link.mapped for link in alone.links.links)
    done = retargeted(source, target, Wishes(chains=(pair,)))
    assert all(link.how == "hand" for link in done.links.links)
    here, there = (
        evaluate(source).world(source.skeleton),
        evaluate(done.clip).world(done.clip.skeleton),
    )
    ours, theirs = done.source, done.target
    for one, other in ((0, 0), (7, 4)):
        was = rotation.multiply(ours.to_figure, here[0][:, one])
        now = rotation.multiply(theirs.to_figure, there[0][:, other])
        was = rotation.multiply(was, rotation.conjugate(ours.turns[one]))
        now = rotation.multiply(now, rotation.conjugate(theirs.turns[other]))
        assert rotation.geodesic_deg(was, now).max() < 1e-6
    # Half as long it goes half as far, and its inner joints wave along.
    way = np.linalg.norm(there[1][-1, 0] - there[1][0, 0])
    assert way == pytest.approx(0.5 * 0.8 * t[-1], rel=1e-3)
    assert np.ptp(evaluate(done.clip).rotation[:, 2, 1]) > 0.05

    # Kept in a file, with what fits other skeletons only left out.
    profile = Profile(chains=(pair, ChainPair(("segment0", "segment7"), ("tail0", "tail4"))))
    kept = read_profile(write_profile(profile))
    assert kept == profile
    assert kept.fitting(source.skeleton, target.skeleton).chains == (pair,)


@pytest.mark.parametrize(
    ("chains", "says"),
    [
        ([{"source": ["Hips", "Head"], "target": ["Hip", "none"]}], "no joint named 'none'"),
        (
            [{"source": ["Head", "Hips"], "target": ["Hip", "Head"]}],
            "does not hang on 'Head'",
        ),
        ([{"source": ["Hips"], "target": ["Hip", "Head"]}], "chains.0.source"),
    ],
)
def test_chains_that_are_none_are_told(chains: list[dict[str, list[str]]], says: str) -> None:
    with pytest.raises(BadInput, match=says):
        OPERATIONS["retarget"].run(
            clean("walk"), {"chains": chains}, inputs={"target": heron_file()}
        )


def test_a_map_with_chains_that_are_none_is_refused() -> None:
    bad = b'{"schema":"leancurve.map","schema_version":1,"chains":[{"source":["a"]}]}'
    with pytest.raises(BadInput, match="two joints each"):
        read_profile(bad)


@pytest.mark.parametrize("space", ["world", "chest", "head", "hips", "crate"])
def test_a_hand_told_relative_to_something_is_where_it_was_there_in_proportion(space: str) -> None:
    source = with_crate(clean("crate")) if space == "crate" else clean("walk")
    wishes = Wishes(spaces={"left hand": space})
    # Onto itself any way of telling is the same motion.
    same = retargeted(source, source, wishes)
    a, b = (evaluate(c).world(c.skeleton) for c in (source, same.clip))
    assert np.abs(a[1] - b[1]).max() * source.millimetres < 1e-4
    done = retargeted(source, heron_file(), wishes)
    plain = retargeted(source, heron_file())
    here, there = worlds(done, source)
    mine, its = palm(done.source, here, "left"), palm(done.target, there, "left")
    assert mine is not None
    assert its is not None
    scale = done.target.height / done.source.height
    missed = done.missed_mm["left arm"]
    if space == "world":
        assert done.target.leg_length
        assert done.source.leg_length
        k = done.target.leg_length / done.source.leg_length
        gap = np.linalg.norm((its - k * mine)[:, [0, 2]], axis=1) * 1000
    elif space == "crate":
        props = [prop_pose(c)[1][:, 0] for c in (source, done.clip)]
        places = [
            s.metres * rotation.rotate(s.to_figure, p)
            for s, p in zip((done.source, done.target), props, strict=True)
        ]
        held = slice(200, 1200)
        gap = np.linalg.norm((its - places[1]) - (mine - places[0]), axis=1)[held] * 1000
    else:
        roles = [s.body.all("spine")[-1] if space == "chest" else s.find(space) for s in
                 (done.source, done.target)]  # fmt: skip
        ways = []
        for standing, motion, joint, point in (
            (done.source, here, roles[0], mine), (done.target, there, roles[1], its),
        ):  # fmt: skip
            assert joint is not None
            turn = turned_from_rest(standing, motion, joint)
            ways.append(rotation.rotate(rotation.conjugate(turn), point - motion.points[:, joint]))
        gap = np.linalg.norm(ways[1] - scale * ways[0], axis=1) * 1000
    assert missed < 1.0
    assert np.percentile(gap, 95) < 2.0
    other = [evaluate(d.clip).rotation for d in (plain, done)]
    arm = done.target.find("left upper arm")
    right = done.target.find("right upper arm")
    assert rotation.geodesic_deg(other[0][:, arm], other[1][:, arm]).max() > 0.5
    if space != "crate":  # which both hands hold
        assert rotation.geodesic_deg(other[0][:, right], other[1][:, right]).max() < 1e-6


@pytest.mark.parametrize(
    ("spaces", "says"),
    [
        ({"left foot": "head"}, "'left foot' is not one of left hand, right hand"),
        ({"left hand": "crate"}, "'crate' is not one of world, chest, head, hips"),
    ],
)
def test_spaces_that_are_none_are_told(spaces: dict[str, str], says: str) -> None:
    with pytest.raises(BadInput, match=says):
        OPERATIONS["retarget"].run(
            clean("walk"), {"spaces": spaces}, inputs={"target": heron_file()}
        )
