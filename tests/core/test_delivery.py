"""What is delivered: the form that a preset asks for, the file, and the proof of it."""

from __future__ import annotations

import csv
import hashlib
import io
import json
from dataclasses import replace
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np
import orjson
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from leancurve.cli import main
from leancurve.curves.curve import KeyedCurve, SampledCurve
from leancurve.delivery.axes import in_axes
from leancurve.delivery.folder import put
from leancurve.delivery.joints import Structure, names_of, restructured, structure_of
from leancurve.delivery.making import made
from leancurve.delivery.preset import UNITS, Preset, preset_of
from leancurve.delivery.proof import Proof, proven
from leancurve.delivery.rules import broken_rules
from leancurve.demo import TAKES, captured, crate_take, lamp_take
from leancurve.demo.bodies import made_body
from leancurve.demo.characters import heron_file, wren_file
from leancurve.demo.suit import deckhand
from leancurve.document.clip import Clip, Mark
from leancurve.document.evaluation import evaluate
from leancurve.document.placement import placed_props
from leancurve.errors import BadInput
from leancurve.figure.drawn_skin import drawn_skin
from leancurve.figure.skeleton import UPRIGHT, turn_between
from leancurve.figure.skin import Skin
from leancurve.formats.bvh import read_bvh, write_bvh
from leancurve.formats.choices import Choices
from leancurve.formats.clipjson import write_clip
from leancurve.formats.files import read_take, read_takes
from leancurve.formats.gltf.writing import write_gltf
from leancurve.formats.scene.splines import PER_FRAME, spline_of
from leancurve.formats.world import read_world
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats
from leancurve.operations import OPERATIONS, apply_patch
from leancurve.time.resample import resampled
from scipy.interpolate import CubicHermiteSpline

from tests.core.laden import laden
from tests.core.test_gltf import GOOD

FORMATS = ("bvh", "json", "glb", "gltf", "usda", "usdc", "csv", "csv-world")


@cache
def carried() -> Clip:
    return resampled(crate_take().clip, first=300, last=345)


@cache
def hauled() -> Clip:
    """A second of a demo take, thinned."""
    clip = resampled(captured(TAKES[0]).clip, first=200, last=320)
    clip = apply_patch(clip, OPERATIONS["unflip"].run(clip))
    return apply_patch(clip, OPERATIONS["thin"].run(clip))


@cache
def example(name: str) -> Clip:
    if name == "walk":
        return read_takes(GOOD, "walk.glb")[0].clip
    return {"crate": carried, "heron": heron_file, "wren": wren_file, "laden": laden}[name]()


def proof_of(clip: Clip, skin: Skin | None = None, **asked: Any) -> tuple[Proof, Clip | None]:
    """What reading it back shows, and the clip that is in the file."""
    preset = preset_of(asked)
    file = made(clip, preset, skin=skin)
    proof = proven(file.data, f"file{preset.ending}", clip, file.expected)
    if preset.format in ("csv", "csv-world"):
        return proof, None
    return proof, read_takes(file.data, f"file{preset.ending}")[0].clip


@pytest.mark.parametrize("kind", FORMATS)
@pytest.mark.parametrize("name", ["walk", "crate", "heron", "wren", "laden"])
def test_every_format_holds_what_plays(name: str, kind: str) -> None:
    clip = example(name)
    proof, _ = proof_of(clip, format=kind)
    assert proof.frames == clip.frames
    assert proof.max_deg < (1e-3 if kind.startswith("usd") else 2e-4)
    assert proof.max_mm < 0.01
    assert proof.compared == len(clip.skeleton) + (0 if kind == "csv" else len(clip.props))


@pytest.mark.parametrize("kind", ["glb", "usda", "usdc", "bvh", "json"])
def test_a_prop_that_never_moves_is_delivered_too(kind: str) -> None:
    clip = resampled(lamp_take().clip, first=0, last=30)
    at_origin = dict(clip.curves)
    for lamp in (clip, replace(clip, curves=at_origin)):
        proof, back = proof_of(lamp, format=kind)
        assert proof.compared == len(clip.skeleton) + 1
        assert back is not None
        assert kind == "bvh" or [p.name for p in back.props] == ["lamp"]
        for track in clip.props[0].tracks:
            at_origin[track] = SampledCurve(np.zeros(clip.frames))


@pytest.mark.parametrize("kind", FORMATS)
def test_a_form_of_its_own_holds_what_plays_too(kind: str) -> None:
    """Fewer joints, other names, a root on the floor, another rate, axis and unit at once."""
    clip = example("crate")
    free = kind not in ("glb", "gltf")
    proof, _ = proof_of(
        clip, format=kind, root="floor", without=["ends", "fingers"], prefix="Dock:", rate=[30, 1],
        **({"up_axis": "z", "unit": "m"} if free else {}),
    )  # fmt: skip
    assert proof.frames == 12
    assert proof.max_deg < 1e-3
    assert proof.max_mm < 0.01


def world_of(clip: Clip) -> tuple[Floats, Floats]:
    return evaluate(clip).world(clip.skeleton)


@pytest.mark.parametrize("name", ["walk", "heron", "wren", "laden"])
@pytest.mark.parametrize("up", ["x", "y", "z"])
def test_other_axes_and_units_are_the_same_motion(name: str, up: str) -> None:
    clip = resampled(example(name), planted=True)
    other = in_axes(clip, up, 0.001)
    turn = turn_between(clip.reading.up_axis, up)
    factor = clip.reading.metres_per_unit / 0.001
    turns, places = world_of(clip)
    turned, placed = world_of(other)
    assert np.abs(placed - factor * rotation.rotate(turn, places)).max() < 1e-9 * factor * 1e3
    around = rotation.multiply(rotation.multiply(turn, turns), rotation.conjugate(turn))
    assert rotation.geodesic_deg(around, turned).max() < 1e-6
    assert other.reading.up_axis == up
    back = in_axes(other, clip.reading.up_axis, clip.reading.metres_per_unit)
    for track in clip.channels:
        assert np.abs(back.curves[track].at(FEW) - clip.curves[track].at(FEW)).max() < 1e-9
    if clip.props:
        for ours, theirs in zip(placed_props(clip), placed_props(back), strict=True):
            assert np.abs(np.abs(ours) - np.abs(theirs)).max() < 1e-8


FEW = np.arange(5.0)


@pytest.mark.parametrize("take", range(len(TAKES)))
def test_the_root_on_the_floor_carries_travel_and_heading(take: int) -> None:
    """Root after hips is what the hips were; and the heading never jumps."""
    clip = resampled(TAKES[take].clean(), planted=True)
    floored = restructured(clip, Structure(tuple(range(len(clip.skeleton))), "Root"))
    turns, places = world_of(clip)
    turned, placed = world_of(floored)
    off = rotation.multiply(turned[:, 0], evaluate(floored).rotation[:, 1])
    assert np.abs(np.abs(np.sum(off * turns[:, 0], axis=1)) - 1.0).max() < 1e-9
    assert floored.skeleton.names[:2] == ("Root", clip.skeleton.names[0])
    assert rotation.geodesic_deg(turns, turned[:, 1:]).max() < 1e-5
    assert np.abs(places - placed[:, 1:]).max() * clip.millimetres < 1e-6
    up = {"x": 0, "y": 1, "z": 2}[clip.reading.up_axis]
    assert np.abs(placed[:, 0, up]).max() == 0.0
    assert np.abs(placed[:, 0] - places[:, 0])[:, [a for a in range(3) if a != up]].max() < 1e-9
    steps = rotation.geodesic_deg(turned[1:, 0], turned[:-1, 0])
    assert 0.0 < steps.max() < 5.0
    # It turns about the up axis alone.
    assert np.abs(turned[:, 0][:, [a for a in range(3) if a != up]]).max() < 1e-9


def test_a_figure_that_lies_down_keeps_its_heading() -> None:
    """Straight over backwards: where no heading can be told it goes on from before to after."""
    clip = resampled(heron_file())
    frames = 80
    angles = np.zeros((frames, 3))
    angles[:, clip.order(0).index("X")] = np.linspace(0.0, 360.0, frames)
    curves = dict(clip.curves)
    for track in clip.channels:
        curves[track] = SampledCurve(np.zeros(frames))
    for k, track in enumerate(clip.turns_of(0)):
        curves[track] = SampledCurve(angles[:, k])
    roll = replace(clip, curves=curves, frames=frames)
    floored = restructured(roll, Structure(tuple(range(len(clip.skeleton))), "Root"))
    turned, _ = world_of(floored)
    assert rotation.geodesic_deg(turned[1:, 0], turned[:-1, 0]).max() < 5.0
    assert rotation.geodesic_deg(world_of(roll)[0], turned[:, 1:]).max() < 1e-5


@settings(deadline=None, max_examples=40)
@given(data=st.data())
def test_joints_that_are_left_out_change_nothing_of_the_others(data: st.DataObject) -> None:
    clip = resampled(example(data.draw(st.sampled_from(["walk", "crate", "laden"]))), planted=True)
    count = len(clip.skeleton)
    kept = data.draw(st.sets(st.integers(0, count - 1), min_size=1).map(sorted))
    floor = data.draw(st.sampled_from([None, "On the floor"]))
    fewer = restructured(clip, Structure(tuple(kept), floor))
    turns, places = world_of(clip)
    turned, placed = world_of(fewer)
    shift = 1 if floor else 0
    assert rotation.geodesic_deg(turns[:, kept], turned[:, shift:]).max() < 1e-4
    assert np.abs(places[:, kept] - placed[:, shift:]).max() * clip.millimetres < 0.01
    # And so it stands at rest.
    assert np.abs(clip.skeleton.rest_positions[kept] - fewer.skeleton.rest_positions[shift:]).max(
        initial=0.0
    ) < 1e-9 * max(clip.skeleton.rest_height, 1.0)


def test_kinds_of_joints_are_left_out() -> None:
    clip = example("crate")
    assert clip.skeleton.names == deckhand().names
    every = structure_of(clip, Preset()).kept
    assert every == tuple(range(len(clip.skeleton)))
    fewer = structure_of(clip, preset_of({"without": ["fingers"]})).kept
    gone = {clip.body.joints[j].role.split()[-1] for j in set(every) - set(fewer)}
    assert gone <= {"thumb", "index", "middle", "ring", "little"}
    chosen = [clip.skeleton.names[j] for j in (0, 5, 7)]
    assert structure_of(clip, preset_of({"joints": chosen})).kept == (0, 5, 7)
    for asked, told in (
        ({"joints": ["Tail"]}, "none named Tail"),
        ({"root": "floor", "floor_joint": clip.skeleton.names[0]}, "is a joint already"),
        ({"renamed": {"Tail": "x"}}, "no joint named Tail"),
        ({"renamed": {chosen[0]: chosen[1]}}, "two joints would be called"),
    ):
        with pytest.raises(BadInput, match=told):
            made(clip, preset_of(asked))


def test_names_lose_and_gain_what_stands_before_them() -> None:
    clip = example("crate")
    names = tuple(f"rig:{n}" for n in clip.skeleton.names)
    rigged = replace(clip, skeleton=replace(clip.skeleton, names=names))
    told = names_of(rigged, preset_of({"plain_names": True, "renamed": {names[0]: "pelvis"}}))
    assert list(told.values()) == ["pelvis", *clip.skeleton.names[1:]]
    _, back = proof_of(rigged, format="glb", plain_names=True, prefix="hero_")
    assert back is not None
    assert back.skeleton.names == tuple(f"hero_{n}" for n in clip.skeleton.names)


def test_a_preset_says_which_field_is_wrong() -> None:
    for values, told in (
        ({"format": "xls"}, "format"), ({"rate": [0, 1]}, "rate"), ({"colour": 1}, "colour"),
        ({"format": "bvh", "within_deg": 0.2}, "splines are for glTF"),
        ({"format": "glb", "unit": "cm"}, "glTF is in metres"),
        ({"format": "usda", "up_axis": "x"}, "USD has Y or Z up"), (3, "preset"),
    ):  # fmt: skip
        with pytest.raises(BadInput, match=told):
            preset_of(values)


def in_three_or_less(spline: Any, turns: bool) -> Floats:
    """SciPy's cubic Hermite spline of the same keys, at eight points a frame."""
    out = []
    for k in range(len(spline.keys) - 1):
        ends = spline.keys[k : k + 2]
        own = CubicHermiteSpline(
            ends / PER_FRAME, spline.values[k : k + 2],
            np.stack([spline.gives[k], spline.takes[k + 1]]),
        )  # fmt: skip
        out.append(own(np.arange(ends[0], ends[1]) / PER_FRAME))
    out.append(spline.values[-1:])
    made = np.concatenate(out)
    return np.asarray(rotation.normalise(made) if turns else made)


@pytest.mark.parametrize("name", ["haul", "open capture"])
def test_splines_keep_their_bound_between_keys(name: str, open_capture: Clip) -> None:
    """From the clip's own key times, with few more: at most 1.1 times as many at a quarter of a
    degree, and 1.3 at a tenth."""
    clip = hauled()
    if name == "open capture":
        whole = apply_patch(open_capture, OPERATIONS["unflip"].run(open_capture))
        clip = apply_patch(whole, OPERATIONS["thin"].run(whole))
    fine = resampled(clip, PER_FRAME * clip.rate)
    pose = rotation.hemisphere(evaluate(fine).rotation)
    keys, fitted = 0, {0.25: 0, 0.1: 0}
    for joint in range(len(clip.skeleton)):
        curves = [c for t in clip.turns_of(joint) if isinstance(c := clip.curves[t], KeyedCurve)]
        if not curves:
            continue
        times = np.unique(np.concatenate([c.time for c in curves]))
        corners = np.concatenate([c.time[c.slope_in != c.slope_out] for c in curves])
        at, broken = (np.rint(PER_FRAME * t).astype(int) for t in (times, corners))
        keys += len(times)
        for within in fitted:
            spline = spline_of(np.ascontiguousarray(pose[:, joint]), at, broken, within, True)
            off = rotation.geodesic_deg(in_three_or_less(spline, True), pose[:, joint])
            assert off.max() <= within
            assert spline.worst == pytest.approx(off.max(), abs=1e-6)
            fitted[within] += len(spline.keys)
    assert fitted[0.25] <= 1.1 * keys
    assert fitted[0.1] <= 1.3 * keys


@settings(deadline=None, max_examples=30)
@given(seed=st.integers(0, 10_000), within=st.sampled_from([0.05, 0.5, 3.0]))
def test_splines_of_random_turns_and_places_keep_theirs(seed: int, within: float) -> None:
    rng = np.random.default_rng(seed)
    n = int(rng.integers(2, 400))
    rough = rng.choice([0.02, 0.3, 8.0])
    walk = np.cumsum(rng.normal(scale=rough, size=(n, 3)), axis=0)
    jump = rng.integers(0, n)
    walk[jump:] += rng.choice([0.0, 50.0])
    turns = rotation.hemisphere(rotation.exp(walk))
    keys = rng.integers(0, n, size=rng.integers(0, 12))
    for wanted, turned in ((turns, True), (walk, False)):
        spline = spline_of(wanted, keys, keys[:0], within, turned)
        made = in_three_or_less(spline, turned)
        off = (
            rotation.geodesic_deg(made, wanted) if turned else np.linalg.norm(made - wanted, axis=1)
        )
        assert off.max() <= within
        assert set(spline.keys) >= set(keys) | {0, n - 1}


def test_a_glb_of_splines_plays_within_its_bound() -> None:
    clip = hauled()
    dense, _ = proof_of(clip, format="glb")
    proof, back = proof_of(clip, format="glb", within_deg=0.25, within_mm=0.5)
    assert back is not None
    assert 0.0 < proof.max_deg < proof.allowed[0]
    local = rotation.geodesic_deg(evaluate(clip).rotation[:, 1:], evaluate(back).rotation[:, 1:])
    assert local.max() < 0.2501
    assert proof.bytes < dense.bytes
    fewer, _ = proof_of(clip, format="glb", within_deg=0.25, fewest=True)
    assert fewer.bytes < proof.bytes


def test_a_drawn_body_comes_along_where_there_is_no_other() -> None:
    clip = example("crate")
    skin = drawn_skin(clip.skeleton, clip.body)
    skin.require_sound(len(clip.skeleton))
    # Inside out it would be dark: its volume, by the divergence theorem, is that of a person.
    a, b, c = (skin.points[skin.triangles[:, k]].astype(float) for k in range(3))
    litres = np.einsum("ij,ij->", a, np.cross(b, c)) / 6.0 * clip.reading.metres_per_unit**3 * 1000
    assert 20.0 < litres < 120.0
    file = made(clip, preset_of({"format": "glb", "body": "figure"}))
    assert read_takes(file.data, "x.glb")[0].skin is not None
    bare = made(clip, preset_of({"format": "glb"}))
    assert read_takes(bare.data, "x.glb")[0].skin is None


def test_a_body_goes_along_with_fewer_joints_and_other_axes() -> None:
    tall = heron_file()
    body = made_body(tall.skeleton)
    proof, _ = proof_of(tall, body, format="usdc", root="floor", without=["fingers"], up_axis="z")
    assert proof.max_mm < 0.01
    file = made(tall, preset_of({"format": "glb", "root": "floor", "without": ["ends"]}), skin=body)
    (back,) = read_takes(file.data, "x.glb")
    assert back.skin is not None
    rest = replace(back.clip, curves={}, layout=tuple(() for _ in back.clip.layout), frames=1)
    turned, placed = world_of(rest)
    height = tall.reading.metres_per_unit * tall.skeleton.rest_height
    ours = tall.reading.metres_per_unit * rotation.rotate(
        UPRIGHT[tall.reading.up_axis], body.points.astype(float)
    )
    theirs = back.skin.posed(turned[0], placed[0])
    assert len(theirs) == len(ours)
    assert np.abs(theirs - ours).max() < 1e-4 * height


def test_a_table_of_places_says_where_joints_are() -> None:
    clip = example("crate")
    file = made(clip, preset_of({"format": "csv-world", "unit": "m", "up_axis": "z"}))
    head, *rows = csv.reader(io.StringIO(file.data.decode()))
    assert head[:3] == ["frame", "seconds", f"{clip.skeleton.names[0]} x (m)"]
    assert float(rows[5][1]) == pytest.approx(5 / float(clip.rate))
    names, places = read_world(file.data)
    assert names == [*clip.skeleton.names, *(p.name for p in clip.props)]
    _, own = world_of(clip)
    assert places[:, 0, 2] == pytest.approx(own[:, 0, 1] * clip.reading.metres_per_unit)


def test_a_file_that_is_off_is_not_handed_over() -> None:
    clip = example("crate")
    preset = preset_of({"format": "bvh"})
    file = made(clip, preset)
    head, _, rows = file.data.partition(b"Frame Time")
    spoilt = bytearray(rows)
    at = rows.rindex(b"\n", 0, -2) + 1
    words = rows[at:].split()
    words[4] = b"%f" % (float(words[4]) + 0.1)
    spoilt[at:] = b" ".join(words) + b"\n"
    with pytest.raises(BadInput, match=r"0\.100° off at"):
        proven(head + b"Frame Time" + bytes(spoilt), "x.bvh", clip, file.expected)
    with pytest.raises(BadInput, match="reads back as 45 frames, not 46"):
        proven(made(clip, preset, last=44).data, "x.bvh", clip, file.expected)
    fewer = made(clip, preset_of({"format": "bvh", "joints": list(clip.skeleton.names[:-1])}))
    with pytest.raises(BadInput, match=f"without {clip.skeleton.names[-1]}"):
        proven(fewer.data, "x.bvh", clip, file.expected)


def test_rules_that_validators_do_not_see() -> None:
    clip = example("crate")
    text = made(clip, preset_of({"format": "gltf", "body": "figure"})).data
    assert broken_rules(text, "x.gltf") == []

    def spoilt(change: Any) -> list[str]:
        told = orjson.loads(text)
        change(told)
        return broken_rules(orjson.dumps(told), "x.gltf")

    def longer(told: Any) -> None:
        told["nodes"][1]["rotation"] = [0.0, 0.0, 0.0, 1.005]

    def flat(told: Any) -> None:
        told["nodes"][1]["scale"] = [1.0, 0.0, 1.0]

    def bounds(told: Any) -> None:
        next(a for a in told["accessors"] if "min" in a)["max"][0] += 1.0

    assert spoilt(longer) == ["node 1 has a rotation of another length than 1"]
    assert spoilt(flat) == ["node 1 has a scale of 0"]
    assert "larger values" in spoilt(bounds)[0]
    assert UNITS["mm"] == 0.001
    assert read_bvh(made(clip, preset_of({})).data).clip.frames == clip.frames
    assert write_gltf([clip])[:4] == b"glTF"


@pytest.fixture
def crate(tmp_path: Path) -> Path:
    path = tmp_path / "crate.json"
    marked = replace(example("crate"), marks=(Mark(0, 20, "lift"), Mark(21, 45, "set down"),
                                              Mark(7, 7, "now")))  # fmt: skip
    path.write_bytes(write_clip(marked))
    return path


def told_by(capsys: pytest.CaptureFixture[str], *arguments: object) -> Any:
    assert main([*map(str, arguments), "--json"]) == 0
    return json.loads(capsys.readouterr().out)


def test_files_are_delivered_verified_and_never_overwritten(
    crate: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    out = tmp_path / "out"
    for version in (1, 2):
        told = told_by(
            capsys, "deliver", crate, "--out", out, "--format", "glb", "--root", "floor",
            "--rate", 60, "--spline", 0.25,
        )  # fmt: skip
        (file,) = told["files"]
        path = Path(file["path"])
        assert path.name.endswith(f"_v{version:03}.glb")
        assert file["verified"]
        assert file["sha256"] == hashlib.sha256(path.read_bytes()).hexdigest()
        assert file["frames"] == 23
    assert sorted(p.suffix for p in out.iterdir()) == [".glb", ".glb"]

    (plain,) = told_by(capsys, "deliver", crate, "--out", out, "--format", "usdc")["files"]
    found = told_by(capsys, "verify", plain["path"], "--against", crate)
    assert found["compared"] == len(example("crate").skeleton) + 1
    assert found["max_mm"] < 0.01
    # Against another clip it does not hold.
    other = tmp_path / "other.json"
    other.write_bytes(write_clip(resampled(example("crate"), first=1)))
    assert main(["verify", plain["path"], "--against", str(other)]) == 2
    assert "frames" in capsys.readouterr().err


def test_marks_become_files_and_a_clip_that_fails_harms_no_other(
    crate: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    preset = tmp_path / "preset.json"
    preset.write_text(json.dumps({"format": "bvh", "files": "marks", "pattern": "{action}"}))
    bare = tmp_path / "bare.json"
    bare.write_bytes(write_clip(example("crate")))
    told = told_by(capsys, "deliver", bare, crate, "--out", tmp_path / "o", "--preset", preset)
    assert (told["done"], told["failed"]) == (2, 1)
    assert "no named span" in told["files"][0]["failed"]
    names = [Path(f["path"]).name for f in told["files"][1:]]
    assert [n.rpartition("02_")[2] for n in names] == ["lift.bvh", "set_down.bvh"]
    assert [f["frames"] for f in told["files"][1:]] == [21, 25]
    # There is no version to count up.
    again = told_by(capsys, "deliver", crate, "--out", tmp_path / "o", "--preset", preset)
    assert again["failed"] == 2
    assert "is there already" in again["files"][0]["failed"]


def test_clips_on_one_skeleton_are_animations_of_one_file(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    """Each is proven by itself; what stands on another skeleton has a file of its own."""
    sources = []
    for name in ("crate", "haul", "heron"):
        clip = heron_file() if name == "heron" else example("crate")
        clip = resampled(clip, first=5) if name == "haul" else clip
        sources.append(tmp_path / f"{name}.json")
        sources[-1].write_bytes(write_clip(replace(clip, name=name)))
    preset = tmp_path / "preset.json"
    preset.write_text(json.dumps({"format": "glb", "prefix": "hero_", "within_deg": 0.25}))
    told = told_by(
        capsys, "deliver", *sources, "--out", tmp_path / "o", "--preset", preset, "--together"
    )
    both, alone = told["files"]
    assert both["clips"] == ["crate", "haul"]
    assert "crate_and_1_more" in both["path"]
    assert "clips" not in alone
    asked = Choices(rate=example("crate").rate)
    back = read_takes(Path(both["path"]).read_bytes(), "both.glb", choices=asked)
    assert [t.clip.name for t in back] == ["crate", "haul"]
    assert both["frames"] == sum(t.clip.frames for t in back)
    # Each of them is found by its clip's name, its joints by what the preset calls them.
    for source in sources[:2]:
        checked = ("verify", both["path"], "--against", source, "--preset", preset)
        found = told_by(capsys, *checked)
        assert found["max_deg"] < 3.0
        assert found["compared"] == len(example("crate").skeleton) + 1
    assert main(["verify", both["path"], "--against", str(sources[0])]) == 2
    assert "none of its joints" in capsys.readouterr().err
    (bad,) = told_by(
        capsys, "deliver", sources[0], "--out", tmp_path / "o", "--format", "glb", "--together"
    )["files"]
    assert bad["verified"]
    assert main(["deliver", str(sources[0]), "--out", "o", "--format", "bvh", "--together"]) == 2
    assert "only a glTF file holds several clips" in capsys.readouterr().err


def test_no_part_of_a_file_stays_where_a_disk_is_full(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    def full(handle: int) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr("os.fsync", full)
    with pytest.raises(BadInput, match="No space left on device"):
        put(b"x", tmp_path, lambda version: f"x_{version}")
    assert list(tmp_path.iterdir()) == []


@pytest.mark.parametrize("name", ["crate", "haul", "deck walk", "open capture"])
def test_round_trips_from_format_to_format(
    name: str, open_capture: Clip, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    """BVH, GLB, USD and BVH again: within 1e-3 degrees and 0.01 mm."""
    first = tmp_path / "a.bvh"
    clip = {
        "crate": lambda: example("crate"),
        "haul": hauled,
        "deck walk": lambda: resampled(captured(TAKES[2]).clip, first=300, last=420),
        "open capture": lambda: resampled(open_capture, first=900, last=1100),
    }[name]()
    first.write_bytes(write_bvh(clip))
    came = first
    for ending in ("glb", "usdc", "json", "gltf", "usda", "bvh"):
        gone = tmp_path / f"on.{ending}" if ending != "bvh" else tmp_path / "back.bvh"
        assert main(["convert", str(came), str(gone)]) == 0
        came = gone
    capsys.readouterr()
    before, after = read_take(first.read_bytes(), "a.bvh"), read_take(came.read_bytes(), "b.bvh")
    turns, places = world_of(before.clip)
    turned, placed = world_of(after.clip)
    assert rotation.geodesic_deg(turns, turned).max() < 1e-3
    metres = after.clip.reading.metres_per_unit / before.clip.reading.metres_per_unit
    assert np.abs(placed * metres - places).max() * before.clip.millimetres < 0.01


@pytest.mark.parametrize("kind", FORMATS)
def test_hostile_names_lose_nothing(kind: str) -> None:
    odd = (
        "Ünï ☂ 日本", 'a"b,c;d', "x y  z", "l" * 200, "{brace}", "1st", "a/b\\c", "<b>&amp;",
        "dot.", "CHANNELS", "End Site", "OFFSET 1 2 3", "it's",
    )  # fmt: skip
    clip = example("crate")
    names = list(clip.skeleton.names)
    names[1 : 1 + len(odd)] = odd
    told = replace(
        clip,
        skeleton=replace(clip.skeleton, names=tuple(names)),
        reading=replace(clip.reading, ends=()),
    )
    proof, back = proof_of(told, format=kind)
    assert proof.max_mm < 0.01
    if back is not None:
        assert set(odd) <= {*back.skeleton.names, *dict(back.reading.originals).values()}
