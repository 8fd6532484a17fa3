"""glTF read: against the specification's formulas, matrices of the file's nodes, and three.js."""

from __future__ import annotations

import base64
import json
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from leancurve.cli import main
from leancurve.curves.curve import KeyedCurve, SampledCurve, Segment
from leancurve.demo.suit import deckhand
from leancurve.document.evaluation import evaluate
from leancurve.document.track import base_track
from leancurve.errors import BadInput
from leancurve.formats.choices import Choices
from leancurve.formats.files import read_takes
from leancurve.formats.gltf.reading import read_gltf
from leancurve.formats.orders import SINES, best_orders
from leancurve.formats.scene.scene import unlike
from leancurve.formats.times import KNOWN, told_by
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats
from scipy.spatial.transform import Rotation

from tests.core.gltf_files import Built, glb
from tests.core.in_node import three_sees
from tests.core.refusals import is_refused

T = np.arange(61) / 30
WAVE = rotation.from_euler(np.stack([20 * np.sin(3 * T), 50 * np.cos(T), 70 * T], -1), "XYZ")
STEPS = np.stack([T, 0.95 + 0 * T, T * T], -1)


def standing(**hips: Any) -> tuple[Built, dict[str, int]]:
    """A chain of three joints in a skin under a node that is none."""
    b = Built()
    at = {
        "Hips": b.node("Hips", translation=(0, 0.95, 0), **hips),
        "Spine": b.node("Spine", translation=(0, 0.3, 0), rotation=(0, 0.6, 0, 0.8)),
        "Head": b.node("Head", translation=(0, 0.4, 0.1)),
        "Armature": b.node("Armature"),
    }
    b.hang(at["Armature"], at["Hips"])
    b.hang(at["Hips"], at["Spine"])
    b.hang(at["Spine"], at["Head"])
    b.skin(at["Hips"], at["Spine"], at["Head"])
    return b, at


def walking() -> tuple[Built, dict[str, int]]:
    b, at = standing()
    a = b.animation("walk")
    b.move(a, at["Hips"], "translation", T, STEPS)
    b.move(a, at["Spine"], "rotation", T, WAVE)
    return b, at


def local(take: Any, joint: str) -> Floats:
    clip = take.clip
    return np.asarray(evaluate(clip).rotation[:, clip.skeleton.names.index(joint)])


def places(take: Any) -> Floats:
    clip = take.clip
    return np.asarray(evaluate(clip).world(clip.skeleton)[1])


def test_a_skin_that_moves_is_a_take_with_its_poses() -> None:
    b, _ = walking()
    (take,) = read_gltf(b.glb(), "file")
    clip = take.clip
    assert (clip.name, clip.frames, clip.rate) == ("walk", 61, Fraction(30))
    assert clip.skeleton.names == ("Hips", "Spine", "Head")
    assert (clip.reading.metres_per_unit, clip.reading.up_axis) == (1.0, "y")
    assert rotation.geodesic_deg(local(take, "Spine"), WAVE).max() < 1e-4  # float32
    assert np.abs(places(take)[:, 0] - STEPS).max() < 1e-6
    assert any("20 frames" in n and "0.001 mm" in n for n in take.notes)


def test_each_animation_is_a_take_and_none_is_a_figure_at_rest() -> None:
    b, at = walking()
    a = b.animation("nod")
    b.move(a, at["Head"], "rotation", T[:20], WAVE[:20])
    b.move(b.animation("nod"), at["Head"], "rotation", T[:10] + 5.0, WAVE[:10])
    takes = read_gltf(b.glb(), "file")
    assert [(t.clip.name, t.clip.frames) for t in takes] == [
        ("walk", 61), ("nod", 20), ("nod 2", 10),
    ]  # fmt: skip
    assert len({t.clip.skeleton for t in takes}) == 1
    b, _ = standing()
    (rest,) = read_gltf(b.glb(), "character")
    assert (rest.clip.name, rest.clip.frames) == ("character", 1)
    assert places(rest)[0, 1] == pytest.approx([0, 1.25, 0])


@pytest.mark.parametrize("quarter", ["X", "Z"])
def test_what_stands_above_is_folded_into_the_root(quarter: str) -> None:
    """Against 4 × 4 matrices put together here."""
    b, at = walking()
    turn = rotation.from_axis(quarter, np.array(90.0))
    b.json["nodes"][at["Armature"]] |= {
        "scale": [0.01] * 3, "rotation": turn.tolist(), "translation": [1.0, 2.0, 3.0],
    }  # fmt: skip
    b.json["nodes"][at["Spine"]]["scale"] = [2.0] * 3
    (take,) = read_gltf(b.glb())

    def matrix(place: Any, q: Any, scale: float) -> Floats:
        out = np.eye(4)
        out[:3, :3] = scale * Rotation.from_quat(np.asarray(q)).as_matrix()
        out[:3, 3] = place
        return out

    found = places(take)
    for f in (0, 17, 60):
        above = matrix((1, 2, 3), turn, 0.01)
        hips = above @ matrix(STEPS[f], (0, 0, 0, 1), 1.0)
        spine = hips @ matrix((0, 0.3, 0), WAVE[f], 2.0)
        head = spine @ matrix((0, 0.4, 0.1), (0, 0, 0, 1), 1.0)
        for k, world in enumerate((hips, spine, head)):
            assert np.abs(found[f, k] - world[:3, 3]).max() < 1e-6


def test_scale_that_moves_goes_into_places() -> None:
    b, at = walking()
    sizes = np.repeat(1.0 + 0.25 * np.sin(T)[:, None], 3, axis=1)
    b.move(b.json["animations"][0], at["Spine"], "scale", T, sizes)
    (take,) = read_gltf(b.glb())
    assert take.clip.layout[2][:3] == ("tx", "ty", "tz")
    length = np.linalg.norm(places(take)[:, 2] - places(take)[:, 1], axis=-1)
    assert np.abs(length - np.hypot(0.4, 0.1) * sizes[:, 0]).max() < 1e-6
    b.move(b.animation("uneven"), at["Spine"], "scale", T, sizes * (1.0, 1.2, 1.0))
    assert any("differ by axis by up to 12.9 %" in n for n in read_gltf(b.glb())[1].notes)


# --- accessors --------------------------------------------------------------------------------


def test_quaternions_may_be_normalised_integers_of_either_sign_and_any_length() -> None:
    b, at = standing()
    a = b.animation()
    flipped = WAVE * np.where(np.arange(61) % 3, 1.0, -1.0)[:, None]
    short = np.round(flipped * 32767)
    b.move(a, at["Spine"], "rotation", T, short, dtype="<i2", component=5122, normalized=True)
    b.move(a, at["Head"], "rotation", T, 1.004 * flipped)
    (take,) = read_gltf(b.glb())
    assert rotation.geodesic_deg(local(take, "Spine"), WAVE).max() < 0.01
    assert rotation.geodesic_deg(local(take, "Head"), WAVE).max() < 1e-4
    angles = np.stack([take.clip.curves[t].values for t in take.clip.turns_of(2)])  # type: ignore[union-attr]
    assert np.abs(np.diff(angles)).max() < 15


def test_strided_and_sparse_accessors() -> None:
    b, at = standing()
    a = b.animation()
    mixed = np.zeros((61, 10), "<f4")
    mixed[:, 2:6], mixed[:, 6:9] = WAVE, STEPS
    view = b.view(mixed.tobytes(), byteStride=40)
    places_at = len(b.json["accessors"])
    for start, kind in ((8, "VEC4"), (24, "VEC3")):
        b.json["accessors"].append({
            "bufferView": view, "byteOffset": start, "componentType": 5126, "count": 61,
            "type": kind,
        })  # fmt: skip
    times = b.accessor(T)
    for k, (node, path) in enumerate((("Spine", "rotation"), ("Hips", "translation"))):
        a["samplers"].append({"input": times, "output": places_at + k})
        a["channels"].append({"sampler": k, "target": {"node": at[node], "path": path}})
    ones = b.accessor(np.tile([0.0, 0.0, 0.0, 1.0], (61, 1)))
    changed = b.view(np.array([7, 30], "<u2").tobytes())
    values = b.view(WAVE[[7, 30]].astype("<f4").tobytes())
    b.json["accessors"][ones]["sparse"] = {
        "count": 2, "values": {"bufferView": values},
        "indices": {"bufferView": changed, "componentType": 5123},
    }  # fmt: skip
    a["samplers"].append({"input": times, "output": ones})
    a["channels"].append({"sampler": 2, "target": {"node": at["Head"], "path": "rotation"}})
    (take,) = read_gltf(b.glb())
    assert rotation.geodesic_deg(local(take, "Spine"), WAVE).max() < 1e-4
    assert np.abs(places(take)[:, 0] - STEPS).max() < 1e-6
    head = local(take, "Head")
    assert rotation.geodesic_deg(head[[7, 30]], WAVE[[7, 30]]).max() < 1e-4
    assert rotation.geodesic_deg(np.delete(head, [7, 30], 0), np.array([0, 0, 0, 1.0])).max() == 0


# --- samplers ---------------------------------------------------------------------------------


def test_between_keys_motion_goes_as_the_specification_says() -> None:
    """Slerp by SciPy, the spline by its formula (glTF 2.0, appendix C)."""
    b, at = standing()
    a = b.animation()
    times = np.array([0.0, 0.5, 2.0])
    keys = WAVE[[0, 20, 55]]
    b.move(a, at["Spine"], "rotation", times, keys)
    b.move(a, at["Head"], "translation", times, [[0, 1, 0], [0, 2, 0], [0, 3, 0]], "STEP")
    random = np.random.default_rng(3)
    spline = random.normal(size=(3, 3, 3)).astype("<f4")
    b.move(a, at["Hips"], "translation", times, spline.reshape(9, 3), "CUBICSPLINE")
    b.json["animations"][0]["samplers"].append({"input": b.accessor(T), "output": b.accessor(WAVE)})
    (take,) = read_gltf(b.glb(), choices=Choices(rate=Fraction(30)))
    at_frames = np.arange(61) / 30
    slerp = Rotation.from_quat(keys)
    for f in (0, 4, 14, 15, 33, 60):
        t = at_frames[f]
        k = 0 if t < 0.5 else 1
        share = (t - times[k]) / (times[k + 1] - times[k])
        turn = slerp[k] * Rotation.from_rotvec(share * (slerp[k].inv() * slerp[k + 1]).as_rotvec())
        assert rotation.geodesic_deg(local(take, "Spine")[f], turn.as_quat()) < 1e-4
        d = times[k + 1] - times[k]
        u = share
        expected = (
            (2 * u**3 - 3 * u**2 + 1) * spline[k, 1] + d * (u**3 - 2 * u**2 + u) * spline[k, 2]
            + (3 * u**2 - 2 * u**3) * spline[k + 1, 1] + d * (u**3 - u**2) * spline[k + 1, 0]
        )  # fmt: skip
        assert np.abs(places(take)[f, 0] - expected).max() < 1e-5
    head = evaluate(take.clip).translation[:, 2, 1]
    assert [head[f] for f in (0, 14, 15, 59, 60)] == [1, 1, 2, 2, 3]


def test_channels_may_begin_late_end_early_and_have_one_key() -> None:
    b, at = standing()
    a = b.animation()
    b.move(a, at["Hips"], "translation", T + 1.0, STEPS)
    b.move(a, at["Spine"], "rotation", T[10:20] + 1.0, WAVE[10:20])
    b.move(a, at["Head"], "rotation", [1.7], WAVE[:1])
    (take,) = read_gltf(b.glb())
    assert take.clip.frames == 61
    spine = local(take, "Spine")
    assert rotation.geodesic_deg(spine[:10], WAVE[10]).max() < 1e-4
    assert rotation.geodesic_deg(spine[20:], WAVE[19]).max() < 1e-4
    assert rotation.geodesic_deg(local(take, "Head"), WAVE[0]).max() < 1e-4


@pytest.mark.parametrize("rate", KNOWN, ids=str)
@pytest.mark.parametrize("count", [10, 400, 9000])
def test_the_rate_is_told_by_the_times_of_the_keys(rate: Fraction, count: int) -> None:
    times = (np.arange(count) / float(rate)).astype("<f4").astype(float)
    found = told_by([times, times[::3]])
    # A few frames cannot tell 29.97 from 30: the lower residual of many does.
    if count >= 400 or rate.denominator == 1:
        assert found.rate == rate
        assert (found.frames, found.off) == (count, 0)


def test_a_spacing_of_no_known_rate_is_taken_as_it_is() -> None:
    assert told_by([np.arange(200) / 17.0]).rate == 17
    assert told_by([np.array([0.0])]).frames == 1
    off = np.concatenate([np.arange(100) / 60, [0.5 / 60]])
    assert (told_by([np.sort(off)]).rate, told_by([np.sort(off)]).off) == (60, 1)


# --- which nodes, what they are called --------------------------------------------------------


def test_skins_that_share_joints_are_one_figure_and_others_are_others() -> None:
    b, at = walking()
    tail = b.node("Tail", translation=(0, 0, -0.2))
    b.hang(at["Hips"], tail)
    b.skin(at["Hips"], tail)
    left = b.node("Hinge", translation=(2, 0, 0))
    lid = b.node("Lid", translation=(0, 0.3, 0))
    b.hang(left, lid)
    b.skin(left, lid)
    b.move(b.json["animations"][0], lid, "rotation", T, WAVE)
    takes = read_gltf(b.glb())
    assert [t.clip.skeleton.names for t in takes] == [
        ("Hips", "Spine", "Head", "Tail"), ("Hinge", "Lid"),
    ]  # fmt: skip
    assert [t.clip.name for t in takes] == ["walk, Hips", "walk, Hinge"]


def test_joints_in_no_skin_and_nodes_between_joints_are_joints() -> None:
    b, at = walking()
    between = b.node("Twist", translation=(0, 0.1, 0))
    hand = b.node("Hand", translation=(0.2, 0, 0))
    finger = b.node("Finger", translation=(0.1, 0, 0))
    b.hang(at["Head"], between)
    b.hang(between, hand)
    b.hang(hand, finger)
    b.json["skins"][0]["joints"].append(hand)
    b.move(b.json["animations"][0], finger, "rotation", T, WAVE)
    (take,) = read_gltf(b.glb())
    assert take.clip.skeleton.names[2:] == ("Head", "Twist", "Hand", "Finger")


def test_without_a_skin_nodes_that_move_one_another_are_a_figure() -> None:
    b, _ = walking()
    b.json["skins"] = []
    (take,) = read_gltf(b.glb())
    assert take.clip.skeleton.names == ("Hips", "Spine", "Head")
    alone = Built()
    alone.node("Only")
    with pytest.raises(BadInput, match="no skeleton"):
        read_gltf(alone.glb())


CRATE = [(-0.2, 0.0, -0.1), (0.4, 0.0, -0.1), (-0.2, 0.5, 0.3), (0.4, 0.5, 0.3)]


def test_what_moves_beside_a_figure_is_a_prop_as_large_as_its_mesh() -> None:
    """Against the corners of its mesh, put there by SciPy."""
    b, _ = walking()
    cart = b.node("Cart", scale=(2.0, 2.0, 2.0), translation=(1.0, 0.0, 0.0))
    crate = b.node("Crate", mesh=b.mesh(CRATE, [(0, 1, 2), (1, 2, 3)]))
    marker = b.node("Marker")
    b.hang(cart, crate)
    a = b.json["animations"][0]
    b.move(a, crate, "translation", T, STEPS)
    b.move(a, crate, "rotation", T, WAVE)
    b.move(a, marker, "translation", T[:2], STEPS[:2])
    (take,) = read_gltf(b.glb())
    box, point = take.clip.props
    assert (box.name, box.shape, point.name, point.shape) == ("Crate", "box", "Marker", "point")
    assert box.size == pytest.approx((1.2, 1.0, 0.8), abs=1e-6)
    middle = np.array([0.1, 0.25, 0.1])
    for f in (0, 23, 60):
        read = [take.clip.curves[t].values[f] for t in box.tracks]  # type: ignore[union-attr]
        world = [1, 0, 0] + 2 * (STEPS[f] + Rotation.from_quat(WAVE[f]).apply(middle))
        assert np.abs(np.array(read[:3]) - world).max() < 1e-6
        turned = Rotation.from_euler("ZXY", read[3:], degrees=True)
        assert (turned.inv() * Rotation.from_quat(WAVE[f])).magnitude() < 1e-6
    assert any("kept as props: Crate, Marker" in n for n in take.notes)


def test_a_mesh_that_moves_under_a_joint_is_no_joint() -> None:
    b, at = walking()
    hat = b.node("Hat", mesh=b.mesh(CRATE, [(0, 1, 2)]), translation=(0, 0.2, 0))
    b.hang(at["Head"], hat)
    b.move(b.json["animations"][0], hat, "rotation", T, WAVE)
    (take,) = read_gltf(b.glb())
    assert take.clip.skeleton.names == ("Hips", "Spine", "Head")
    assert [p.name for p in take.clip.props] == ["Hat"]


# --- keys that are kept -----------------------------------------------------------------------


def test_positions_keep_their_keys_and_tangents_to_the_bit() -> None:
    b, at = standing()
    a = b.animation()
    random = np.random.default_rng(7)
    frames = np.array([0, 3, 11, 60])
    straight = random.normal(size=(4, 3)).astype("<f4")
    spline = random.normal(size=(4, 3, 3)).astype("<f4")
    b.move(a, at["Spine"], "rotation", T, WAVE)
    b.move(a, at["Hips"], "translation", frames / 30, spline.reshape(12, 3), "CUBICSPLINE")
    b.move(a, at["Spine"], "translation", frames / 30, straight)
    b.move(a, at["Head"], "translation", frames / 30, straight, "STEP")
    (take,) = read_gltf(b.glb())
    kinds = (Segment.CURVE, Segment.STRAIGHT, Segment.HOLD)
    for joint, expected in enumerate((spline[:, 1], straight, straight)):
        for axis in range(3):
            curve = take.clip.curves[base_track(joint, f"t{'xyz'[axis]}")]
            assert isinstance(curve, KeyedCurve)
            assert curve.time.tolist() == frames.tolist()
            assert curve.value.tolist() == expected[:, axis].tolist()
            assert set(curve.segment.tolist()) == {kinds[joint]}
    hips = take.clip.curves[base_track(0, "ty")]
    assert isinstance(hips, KeyedCurve)
    assert (hips.slope_in * 30).astype("<f4").tolist() == spline[:, 0, 1].tolist()
    assert (hips.slope_out * 30).astype("<f4").tolist() == spline[:, 2, 1].tolist()
    ways = ("curved", "straight", "held")
    told = next(n for n in take.notes if n.startswith("keys are kept as they are: "))
    assert all(f"positions of 1 joint ({way})" in told for way in ways)


def test_what_turns_and_scales_a_figure_from_above_turns_its_keys() -> None:
    """Positions on frames and between them, against the file's formula in its own terms."""
    b, at = standing()
    turn = rotation.from_euler(np.array([10.0, 20.0, 30.0]), "XYZ")
    b.json["nodes"][at["Armature"]] |= {
        "scale": [0.01] * 3, "rotation": turn.tolist(), "translation": [1.0, 2.0, 3.0],
    }  # fmt: skip
    keys = np.random.default_rng(1).normal(size=(4, 3))
    times = np.array([0.0, 0.5, 1.1, 2.0])
    a = b.animation()
    b.move(a, at["Spine"], "rotation", T, WAVE)
    b.move(a, at["Hips"], "translation", times, keys)
    (take,) = read_gltf(b.glb())
    assert take.clip.curves[base_track(0, "tx")].key_count == 4
    at_times = np.array([0.0, 7.0, 14.6, 33.3, 60.0])
    own = np.stack([np.interp(at_times / 30, times, keys[:, k]) for k in range(3)], -1)
    world = [1, 2, 3] + 0.01 * Rotation.from_quat(turn).apply(own)
    found = evaluate(take.clip, at_times).translation[:, 0]
    assert np.abs(found - world).max() < 1e-6


def test_held_rotations_keep_their_keys_and_others_are_sampled() -> None:
    b, at = standing()
    a = b.animation()
    b.move(a, at["Hips"], "translation", T, STEPS)
    b.move(a, at["Spine"], "rotation", T[[0, 10, 60]], WAVE[[0, 10, 60]], "STEP")
    b.move(a, at["Head"], "rotation", T[[0, 10, 60]], WAVE[[0, 10, 60]])
    (take,) = read_gltf(b.glb())
    kinds = [type(take.clip.curves[base_track(j, "rx")]) for j in (1, 2)]
    assert kinds == [KeyedCurve, SampledCurve]
    held = local(take, "Spine")
    expected = WAVE[np.where(np.arange(61) < 10, 0, np.where(np.arange(61) < 60, 10, 60))]
    assert rotation.geodesic_deg(held, expected).max() < 1e-4
    assert any("rotations of 1 joint (held)" in n for n in take.notes)


def test_a_scale_that_moves_above_leaves_no_keys() -> None:
    b, at = walking()
    a = b.json["animations"][0]
    b.move(a, at["Spine"], "scale", T, np.repeat(1.0 + 0.2 * np.sin(T)[:, None], 3, axis=1))
    b.move(a, at["Head"], "translation", [0.0, 2.0], [[0, 0.4, 0.1], [0, 0.5, 0.1]])
    (take,) = read_gltf(b.glb())
    assert isinstance(take.clip.curves[base_track(2, "ty")], SampledCurve)


# --- the pose at rest -------------------------------------------------------------------------


def bound(knees: float, stretched: float = 1.0) -> Built:
    """The demo's suit in metres: its nodes stand with bent knees, its skin was put on straight."""
    suit = deckhand()
    b = Built()
    for name, offset in zip(suit.names, suit.offsets, strict=True):
        turn = rotation.from_axis("X", np.array(knees if name.endswith("Shin") else 0.0))
        b.node(name, translation=tuple(0.01 * v for v in offset), rotation=tuple(turn))
    for j, parent in enumerate(suit.parents):
        if parent >= 0:
            b.hang(parent, j)
    matrices = np.tile(np.eye(4), (len(suit), 1, 1))
    matrices[:, 3, :3] = -0.01 * stretched * suit.rest_positions  # column by column
    matrices[-1, 3, 1] -= stretched - 1.0
    inverse = b.accessor(matrices.reshape(-1, 16))
    b.skin(*range(len(suit)), inverseBindMatrices=inverse)
    return b


def test_a_body_rests_as_its_skin_was_put_on() -> None:
    (take,) = read_gltf(bound(70.0).glb())
    shin = take.clip.skeleton.names.index("LeftShin")
    assert take.clip.skeleton.rests[shin] == pytest.approx((0, 0, 0, 1))
    assert any("in which its skin was put on" in n for n in take.notes)
    # It stands as its nodes do all the same.
    assert local(take, "LeftShin")[0] == pytest.approx(
        rotation.from_axis("X", np.array(70.0)), abs=1e-6
    )


def test_a_skin_of_other_bones_is_no_pose_at_rest() -> None:
    (take,) = read_gltf(bound(70.0, stretched=1.1).glb())
    shin = take.clip.skeleton.names.index("LeftShin")
    assert take.clip.skeleton.rests[shin][0] == pytest.approx(np.sin(np.radians(35.0)))


def test_a_still_leaf_that_carries_nothing_is_the_tip_of_its_joint() -> None:
    b, at = walking()
    top = b.node("Head_end", translation=(0, 0.2, 0))
    eye = b.node("Eye", translation=(0, 0.1, 0.1), camera=0)
    b.hang(at["Head"], eye, top)
    b.json["nodes"][at["Armature"]]["scale"] = [2.0] * 3
    (take,) = read_gltf(b.glb())
    assert take.clip.skeleton.names == ("Hips", "Spine", "Head")
    (end,) = take.clip.skeleton.ends
    assert (end.parent, end.offset, end.before) == (2, (0, 0.4, 0), 3)


def test_names_are_made_unlike_each_other() -> None:
    long = "é" * 300
    names = unlike(["", "Arm", "Arm", "Arm 1", "腕", long, long, "a\nb"])
    assert len(set(names)) == len(names)
    assert names[:5] == ("joint 0", "Arm", "Arm 2", "Arm 1", "腕")
    assert all(len(n) <= 200 for n in names)
    assert names[7] == "a b"


# --- rotation orders --------------------------------------------------------------------------


@pytest.mark.parametrize("order", SINES)
def test_how_far_an_order_is_from_gimbal_lock(order: str) -> None:
    q = Rotation.random(200, random_state=5).as_quat()
    middle = Rotation.from_quat(q).as_euler(order)[:, 1]
    a, b, sign = SINES[order]
    sine = 2 * (q[:, a] * q[:, b] + sign * q[:, 3 - a - b] * q[:, 3])
    assert np.abs(np.abs(sine) - np.abs(np.sin(middle))).max() < 1e-12


def test_an_order_is_chosen_over_all_animations_where_the_usual_one_locks() -> None:
    calm = np.tile([0.0, 0.0, 0.0, 1.0], (30, 1))
    swing = rotation.from_euler(
        np.stack([np.linspace(-88, 88, 30), 0 * calm[:, 0], 0 * calm[:, 0]], -1), "XYZ"
    )
    assert best_orders([np.stack([calm, calm], 1)]) == ["ZXY", "ZXY"]
    chosen = best_orders([np.stack([calm, calm], 1), np.stack([calm, swing], 1)])
    assert chosen[0] == "ZXY" != chosen[1]


# --- there and back, and a peer ---------------------------------------------------------------


@st.composite
def figures_in_motion(draw: st.DrawFn) -> Built:
    random = np.random.default_rng(draw(st.integers(0, 2**32)))
    count = draw(st.integers(1, 40))
    parents = [-1] + [int(random.integers(0, j)) for j in range(1, count)]
    b = Built()
    for j in range(count):
        rest = Rotation.random(random_state=random).as_quat()
        b.node(f"J{j}", translation=tuple(random.normal(size=3)), rotation=tuple(rest))
    for j, parent in enumerate(parents):
        if parent >= 0:
            b.hang(parent, j)
    b.skin(*range(count))
    a = b.animation("x")
    frames = draw(st.integers(2, 30))
    for j in range(count):
        if random.random() < 0.7:
            turns = Rotation.random(frames, random_state=random).as_quat()
            b.move(a, j, "rotation", np.arange(frames) / 60, turns)
    b.move(a, 0, "translation", np.arange(frames) / 60, random.normal(size=(frames, 3)))
    return b


@settings(max_examples=25, deadline=None)
@given(figures_in_motion())
def test_any_figure_stands_as_its_file_says(b: Built) -> None:
    """Within 1e-5° and 1e-6 of the height: rotations put together by SciPy."""
    (take,) = read_gltf(b.glb())
    clip = take.clip
    turned = evaluate(clip).rotation
    for k, name in enumerate(clip.skeleton.names):
        node = int(name[1:])
        moves = b.json["animations"][0]
        channel = next(
            (c for c in moves["channels"]
             if c["target"] == {"node": node, "path": "rotation"}), None,
        )  # fmt: skip
        if channel is None:
            said = np.tile(b.json["nodes"][node]["rotation"], (clip.frames, 1))
        else:
            told = b.json["accessors"][moves["samplers"][channel["sampler"]]["output"]]
            start = b.json["bufferViews"][told["bufferView"]]["byteOffset"]
            said = np.frombuffer(bytes(b.binary), "<f4", 4 * told["count"], start).reshape(-1, 4)
        apart = Rotation.from_quat(said) * Rotation.from_quat(turned[:, k]).inv()
        assert np.degrees(apart.magnitude()).max() < 1e-5


PLACES = """
    const at = {}
    gltf.scene.traverse((o) => { at[o.name] = o.getWorldPosition(new Vector3()).toArray() })
    out.push(at)
"""


def test_three_js_puts_joints_where_we_do(tmp_path: Path) -> None:
    """three.js' GLTFLoader and AnimationMixer, on twenty frames: within 1e-4 of the height."""
    b, at = walking()
    b.json["nodes"][at["Armature"]] |= {"scale": [0.5] * 3, "rotation": [-0.5, 0.5, 0.5, 0.5]}
    scene = b.document() | {"scenes": [{"nodes": [at["Armature"]]}], "scene": 0}
    path = tmp_path / "walk.glb"
    path.write_bytes(glb(scene, bytes(b.binary)))
    (take,) = read_takes(path.read_bytes(), "walk.glb")
    frames = np.arange(0, 60, 3)
    theirs = three_sees("three-check", path, (frames / 30).tolist(), PLACES)
    ours = places(take)
    for f, there in zip(frames, theirs, strict=True):
        for k, name in enumerate(take.clip.skeleton.names):
            assert np.abs(ours[f, k] - there[name]).max() < 1e-4, (f, name)


# --- the command line -------------------------------------------------------------------------


def test_the_command_line_lists_takes_and_converts_one(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    b, at = walking()
    b.move(b.animation("nod"), at["Head"], "rotation", T[:20], WAVE[:20])
    document = b.document()
    document["buffers"][0]["uri"] = "motion%20data.bin"
    (tmp_path / "two.gltf").write_text(json.dumps(document))
    (tmp_path / "motion data.bin").write_bytes(bytes(b.binary))
    source = str(tmp_path / "two.gltf")
    assert main(["inspect", source, "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert [(t["name"], t["frames"], t["rate"]) for t in told["takes"]] == [
        ("walk", 61, 30), ("nod", 20, 30),
    ]  # fmt: skip
    out = str(tmp_path / "nod.bvh")
    assert main(["convert", source, out, "--take", "nod", "--json"]) == 0
    assert json.loads(capsys.readouterr().out)["frames"] == 20
    (back,) = read_takes(Path(out).read_bytes(), "nod.bvh")
    assert rotation.geodesic_deg(local(back, "Head"), WAVE[:20]).max() < 1e-4
    assert main(["convert", source, out, "--take", "run"]) == 2
    assert "no take is named 'run'; there are walk, nod" in capsys.readouterr().err
    folder = tmp_path / "out"
    (tmp_path / "recipe.json").write_text('[{"operation": "unflip"}]')
    recipe = str(tmp_path / "recipe.json")
    assert main(["batch", "--recipe", recipe, "--out", str(folder), source]) == 0
    assert sorted(p.name for p in folder.iterdir()) == ["two nod.json", "two walk.json"]


# --- files that are wrong ---------------------------------------------------------------------


def wrong(change: Any) -> bytes:
    b, at = walking()
    document = b.document()
    changed = change(document, at)
    return changed if isinstance(changed, bytes) else glb(document, bytes(b.binary))


def _set(*way: Any, to: Any) -> Any:
    def change(document: Any, _: Any) -> None:
        for step in way[:-1]:
            document = document[step]
        document[way[-1]] = to

    return change


GOOD = walking()[0].glb()
WRONG: dict[str, tuple[bytes, str]] = {
    "empty": (b"", "not valid JSON"),
    "a header alone": (GOOD[:12], "ends within its header"),
    "cut": (GOOD[:-40], "bytes, and has"),
    "more at the end": (GOOD + b"more", "bytes, and has"),
    "version 1": (GOOD[:4] + b"\x01\0\0\0" + GOOD[8:], "found version 1"),
    "a chunk past the end": (GOOD[:12] + b"\xff\xff\xff\x7f" + GOOD[16:], "past the end"),
    "a chunk of another kind first": (GOOD[:16] + b"ABCD" + GOOD[20:], "first chunk is not JSON"),
    "no JSON": (glb(b"{,}"), "not valid JSON"),
    "a list": (glb(b"[]"), "expected a JSON object"),
    "deep": (glb(b'{"asset":' + b"[" * 20_000 + b"]" * 20_000 + b"}"), "nested more than 64 deep"),
    "wide": (glb(b'{"asset":[' + b"0," * 2_100_000 + b"0]}"), "more than two million values"),
    "no version": (glb({}), "found version None"),
    "glTF 3": (glb({"asset": {"version": "3.0"}}), "found version '3.0'"),
    "an extension": (
        wrong(_set("extensionsRequired", to=["EXT_meshopt_compression"])), "EXT_meshopt",
    ),
    "nodes that are no list": (wrong(_set("nodes", to={})), "nodes: expected a list"),
    "a node that is no object": (wrong(_set("nodes", 0, to=7)), "nodes: expected a list"),
    "a child out of range": (wrong(_set("nodes", 2, "children", to=[99])), "99 is not one of"),
    "a child below zero": (wrong(_set("nodes", 2, "children", to=[-1])), "whole number"),
    "a child that is true": (wrong(_set("nodes", 2, "children", to=[True])), "whole number"),
    "two parents": (wrong(_set("nodes", 0, "children", to=[1, 2])), "hangs on two others"),
    "a circle": (wrong(_set("nodes", 2, "children", to=[3])), "hangs on itself"),
    "a joint out of range": (wrong(_set("skins", 0, "joints", to=[0, 50])), "50 is not one of"),
    "a rotation of three numbers": (
        wrong(_set("nodes", 0, "rotation", to=[0, 0, 1])), "rotation must be 4 finite numbers",
    ),
    "a rotation of no length": (wrong(_set("nodes", 0, "rotation", to=[0, 0, 0, 0])), "no length"),
    "text in a place": (
        wrong(_set("nodes", 0, "translation", to=["0", 0, 0])), "translation must be",
    ),
    "a place without end": (
        glb(json.dumps(walking()[0].document()).replace("0.95", "1e999").encode()), "finite|JSON",
    ),
    "a mirrored matrix": (
        wrong(_set("nodes", 3, "matrix", to=[-1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1])),
        "mirrored",
    ),
    "a flat scale": (wrong(_set("nodes", 0, "scale", to=[1, 0, 1])), "mirrored or flattened"),
    "a count that is huge": (wrong(_set("accessors", 0, "count", to=2**40)), "too many"),
    "a count past the view": (wrong(_set("accessors", 0, "count", to=62)), "past the end of its"),
    "an unknown component": (wrong(_set("accessors", 0, "componentType", to=9)), "type 9 does not"),
    "times that are VEC3": (wrong(_set("accessors", 0, "type", to="VEC3")), "accessor of SCALAR"),
    "a view past its buffer": (
        wrong(_set("bufferViews", 0, "byteOffset", to=10**7)), "past the end of its buffer",
    ),
    "a stride too short": (wrong(_set("bufferViews", 1, "byteStride", to=4)), "past the end"),
    "a buffer too short": (wrong(_set("buffers", 0, "byteLength", to=10**9)), "bytes of"),
    "a second buffer of nothing": (
        wrong(_set("buffers", to=[{"byteLength": 4}, {"byteLength": 4}])), "no bytes in this file",
    ),
    "a sampler out of range": (
        wrong(_set("animations", 0, "channels", 0, "sampler", to=5)), "5 is not one of",
    ),
    "one property twice": (
        wrong(
            _set("animations", 0, "channels", 1, "target", to={"node": 0, "path": "translation"})
        ),
        "moved twice",
    ),
    "an interpolation": (
        wrong(_set("animations", 0, "samplers", 0, "interpolation", to="SINE")), "does not exist",
    ),
    "a spline of too few": (
        wrong(_set("animations", 0, "samplers", 0, "interpolation", to="CUBICSPLINE")),
        "expected 183 values for 61 keys",
    ),
    "a file outside": (wrong(_set("buffers", 0, "uri", to="../secret.bin")), "outside of what"),
    "an absolute file": (wrong(_set("buffers", 0, "uri", to="/etc/passwd")), "outside of what"),
    "a hidden way out": (wrong(_set("buffers", 0, "uri", to="%2e%2e%2fx.bin")), "outside of what"),
    "the network": (wrong(_set("buffers", 0, "uri", to="http://a/b.bin")), "outside of what"),
    "a file that is not there": (wrong(_set("buffers", 0, "uri", to="b.bin")), "did not come with"),
    "damaged base64": (
        wrong(_set("buffers", 0, "uri", to="data:application/octet-stream;base64,@@@")), "damaged",
    ),
}  # fmt: skip


@pytest.mark.parametrize("name", WRONG)
def test_a_wrong_file_is_refused_with_one_sentence(name: str) -> None:
    is_refused(*WRONG[name], "character.glb")


def test_numbers_that_are_none_and_times_that_do_not_rise_are_refused() -> None:
    for times, values, why in (
        (T, np.where(np.arange(61)[:, None] == 3, np.nan, STEPS), "not a finite number"),
        (T[::-1], STEPS, "do not rise"),
        (np.zeros(61), STEPS, "do not rise"),
    ):
        b, at = standing()
        b.move(b.animation(), at["Hips"], "translation", times, values)
        with pytest.raises(BadInput, match=why):
            read_gltf(b.glb())


def test_a_gltf_may_hold_its_buffer_as_base64() -> None:
    b, _ = walking()
    document = b.document()
    body = base64.b64encode(bytes(b.binary)).decode()
    document["buffers"][0]["uri"] = f"data:application/gltf-buffer;base64,{body}"
    (take,) = read_takes(json.dumps(document).encode(), "walk.gltf")
    assert take.clip.frames == 61


def test_five_hundred_files_with_changed_bytes_are_read_or_refused() -> None:
    random = np.random.default_rng(11)
    refused = 0
    for _ in range(500):
        data = bytearray(GOOD)
        for _ in range(int(random.integers(1, 6))):
            data[int(random.integers(12, len(data)))] = int(random.integers(256))
        try:
            read_takes(bytes(data), "changed.glb")
        except BadInput:
            refused += 1
    assert 100 < refused <= 500
