"""USD read: against usd-core's own queries, files it writes and files nobody should."""

from __future__ import annotations

import io
import json
import multiprocessing
import zipfile
from concurrent.futures import ProcessPoolExecutor
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from leancurve.cli import main
from leancurve.curves.curve import KeyedCurve
from leancurve.document.evaluation import evaluate
from leancurve.document.track import base_track
from leancurve.errors import BadInput
from leancurve.formats.choices import Choices
from leancurve.formats.files import READ, read_takes
from leancurve.formats.usd import opening
from leancurve.formats.usd.reading import read_usd
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats
from pxr import Gf, Usd, UsdGeom, UsdSkel, Vt
from scipy.spatial.transform import Rotation

from tests.core.refusals import is_refused
from tests.core.usd_files import (
    HUMAN,
    OFFSETS,
    add_animation,
    add_skeleton,
    bind,
    matrix,
    new_stage,
    queried,
    written,
)

F = 61
CODES = np.arange(F, dtype=float)
T = CODES / 30
WAVE = rotation.from_euler(np.stack([20 * np.sin(3 * T), 50 * np.cos(T), 70 * T], -1), "XYZ")
STEPS = np.stack([T, 0.9 + 0 * T, T * T], -1)


def moved(joints: int = 4) -> tuple[Floats, Floats]:
    places = np.tile(OFFSETS[:joints], (F, 1, 1))
    places[:, 0] = STEPS
    turns = np.tile([0.0, 0, 0, 1], (F, joints, 1))
    turns[:, 1] = WAVE
    turns[:, 2] = WAVE[::-1]
    return places, turns


def walking(**how: Any) -> tuple[Usd.Stage, UsdSkel.Skeleton]:
    stage = new_stage(**how)
    skeleton = add_skeleton(stage)
    animation = add_animation(stage, "/Root/walk", HUMAN, CODES, *moved(), np.ones((F, 4, 3)))
    bind(skeleton, animation)
    return stage, skeleton


def height_of(worlds: dict[str, Floats]) -> float:
    cloud = np.stack([m[0, 3, :3] for m in worlds.values()])
    return float(np.ptp(cloud, axis=0).max())


def agrees(take: Any, stage: Usd.Stage, skeleton: UsdSkel.Skeleton, codes: Floats) -> None:
    """Joints stand and are turned as usd-core's queries say: within 1e-5 of the height."""
    clip = take.clip
    worlds = queried(stage, skeleton, codes)
    frames = (codes / stage.GetTimeCodesPerSecond()) * float(clip.rate)
    turned, placed = evaluate(clip, frames).world(clip.skeleton)
    height = max(height_of(worlds), 1.0)
    for path, theirs in worlds.items():
        joint = clip.skeleton.names.index(path.rsplit("/", 1)[-1])
        assert np.abs(placed[:, joint] - theirs[:, 3, :3]).max() < 1e-5 * height
        ways = theirs[:, :3, :3] / np.linalg.norm(theirs[:, :3, :3], axis=-1, keepdims=True)
        apart = (
            Rotation.from_matrix(ways.transpose(0, 2, 1))
            * Rotation.from_quat(turned[:, joint]).inv()
        )
        assert np.degrees(apart.magnitude()).max() < 1e-3


@pytest.mark.parametrize("ending", [".usda", ".usdc", ".usd"])
def test_an_animation_is_a_take_as_usd_core_sees_it(ending: str) -> None:
    stage, skeleton = walking()
    (take,) = read_takes(written(stage, ending), f"crew{ending}")
    clip = take.clip
    assert (clip.name, clip.frames, clip.rate) == ("walk", F, Fraction(30))
    assert clip.skeleton.names == ("Hips", "Spine", "Head", "Leg")
    agrees(take, stage, skeleton, CODES)
    assert any("20 frames" in n and "0.001 mm" in n for n in take.notes)
    assert any("as the stage says; 30 time codes a second" in n for n in take.notes)


def test_unit_axis_and_time_codes_are_the_stages() -> None:
    stage, skeleton = walking(metres=0.01, up="Z", codes=60.0)
    (take,) = read_usd(written(stage))
    reading = take.clip.reading
    assert (reading.metres_per_unit, reading.up_axis, take.clip.rate) == (0.01, "z", 60)
    agrees(take, stage, skeleton, CODES)
    bare, _ = walking(metres=None)
    (take,) = read_usd(written(bare))
    # USD's own default (UsdGeom, Encoding Stage Linear Units).
    assert take.clip.reading.metres_per_unit == 0.01
    assert any("as a stage that says nothing has" in n for n in take.notes)


def test_what_stands_and_moves_above_is_folded_in() -> None:
    stage, skeleton = walking()
    root = UsdGeom.Xformable(stage.GetPrimAtPath("/Root"))
    turn = rotation.from_euler(np.array([10.0, 20.0, 30.0]), "XYZ")
    root.AddTransformOp().Set(matrix((1, 2, 3), turn, 0.5))
    slide = UsdGeom.Xformable(skeleton.GetPrim()).AddTranslateOp()
    for code in CODES:
        slide.Set(Gf.Vec3d(0.1 * code, 0.0, 0.0), float(code))
    (take,) = read_usd(written(stage))
    # What moves above one skeleton is a joint of it.
    assert take.clip.skeleton.names[0] == "Rig"
    agrees(take, stage, skeleton, CODES)


def test_joints_may_stand_in_any_order_and_an_animation_may_move_some() -> None:
    stage = new_stage()
    shuffled = (2, 0, 3, 1)
    skeleton = add_skeleton(
        stage, joints=[HUMAN[k] for k in shuffled], offsets=OFFSETS[list(shuffled)]
    )
    places, turns = moved()
    bind(skeleton, add_animation(
        stage, "/Root/walk", [HUMAN[2], HUMAN[0]], CODES, places[:, [2, 0]], turns[:, [2, 0]],
    ))  # fmt: skip
    (take,) = read_usd(written(stage))
    names = take.clip.skeleton.names
    assert set(names) == {"Hips", "Spine", "Head", "Leg"}
    assert names[0] == "Hips"
    pose = evaluate(take.clip)
    head = pose.rotation[:, names.index("Head")]
    assert rotation.geodesic_deg(head, WAVE[::-1]).max() < 1e-4
    assert np.abs(pose.translation[:, 0] - STEPS).max() < 1e-6
    assert any("has no scales" in n for n in take.notes)


def test_samples_between_frames_are_as_usd_core_interpolates_them() -> None:
    stage = new_stage()
    skeleton = add_skeleton(stage)
    places, turns = moved()
    some = np.array([0, 7, 30, 60])
    animation = add_animation(
        stage, "/Root/walk", HUMAN, CODES[some], places[some], turns[some], np.ones((4, 4, 3))
    )
    bind(skeleton, animation)
    (take,) = read_usd(written(stage), choices=Choices(rate=Fraction(30)))
    assert isinstance(take.clip.curves[base_track(0, "tx")], KeyedCurve)
    agrees(take, stage, skeleton, CODES)


def test_arrays_that_are_missing_blocked_or_too_short_are_the_rests() -> None:
    stage = new_stage()
    skeleton = add_skeleton(stage)
    _, turns = moved()
    animation = add_animation(stage, "/Root/walk", HUMAN, CODES, None, turns, np.ones((F, 4, 3)))
    bind(skeleton, animation)
    animation.CreateTranslationsAttr().Set(Vt.Vec3fArray(2), 0.0)
    animation.GetScalesAttr().Block()
    (take,) = read_usd(written(stage))
    assert np.abs(evaluate(take.clip).world(take.clip.skeleton)[1][:, 0] - OFFSETS[0]).max() < 1e-6
    told = " ".join(take.notes)
    assert "walk has no translations" in told
    assert "walk has no scales" in told
    assert rotation.geodesic_deg(evaluate(take.clip).rotation[:, 1], WAVE).max() < 1e-4


def test_animations_that_no_skeleton_follows_are_offered_by_their_joints() -> None:
    stage, _ = walking()
    places, turns = moved()
    add_animation(stage, "/Root/nod", HUMAN[:3], CODES[:20], places[:20, :3], turns[:20, :3])
    add_animation(stage, "/Root/other", ["Wheel"], CODES[:20], places[:20, :1], turns[:20, :1])
    takes = read_usd(written(stage))
    assert [(t.clip.name, t.clip.frames) for t in takes] == [("walk", F), ("nod", 20)]


def test_two_skeletons_and_one_without_motion() -> None:
    stage, _ = walking()
    add_skeleton(stage, "/Root/Wheel", ["Hub", "Hub/Rim"], OFFSETS[:2])
    takes = read_usd(written(stage), "crew")
    assert [(t.clip.name, t.clip.frames) for t in takes] == [("walk, Hips", F), ("crew, Hub", 1)]


def test_instances_repeat_a_skeleton_once() -> None:
    stage, _ = walking()
    for k in range(3):
        copy = stage.DefinePrim(f"/Copy{k}")
        copy.GetReferences().AddInternalReference("/Root")
        copy.SetInstanceable(True)
    # The original, and one for all that are instances of it.
    assert len(read_usd(written(stage))) == 2


def test_bind_transforms_stand_in_for_rests_and_may_differ() -> None:
    stage = new_stage()
    skeleton = add_skeleton(stage)
    skeleton.GetRestTransformsAttr().Clear()
    worlds = [matrix(p) for p in ((0, 0.9, 0), (0, 1.2, 0), (0, 1.6, 0.1), (0.1, 0.8, 0))]
    skeleton.CreateBindTransformsAttr(Vt.Matrix4dArray(worlds))
    (take,) = read_usd(written(stage), "figure")
    assert take.clip.skeleton.offset_array == pytest.approx(OFFSETS)
    assert any("tells no rest" in n for n in take.notes)


def test_what_moves_beside_a_skeleton_is_a_prop() -> None:
    stage, _ = walking()
    crate = UsdGeom.Cube.Define(stage, "/Crate")
    crate.CreateSizeAttr(2.0)
    crate.CreateExtentAttr(Vt.Vec3fArray([Gf.Vec3f(-1, -1, -1), Gf.Vec3f(1, 1, 1)]))
    slide = UsdGeom.Xformable(crate.GetPrim()).AddTranslateOp()
    for code in CODES:
        slide.Set(Gf.Vec3d(0.1 * code, 1.0, 0.0), float(code))
    (take,) = read_usd(written(stage))
    (prop,) = take.clip.props
    assert (prop.name, prop.size) == ("Crate", (2.0, 2.0, 2.0))
    x = take.clip.curves[prop.tracks[0]].values  # type: ignore[union-attr]
    assert x == pytest.approx(0.1 * CODES)


def package(layer: bytes, name: str = "crew.usdc", **how: Any) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", **how) as z:
        z.writestr(name, layer)
        z.writestr("skin.png", b"\x89PNG")
    return out.getvalue()


def test_a_package_is_read_by_its_first_layer() -> None:
    stage, skeleton = walking()
    (take,) = read_takes(package(written(stage, ".usdc")), "crew.usdz")
    agrees(take, stage, skeleton, CODES)


# --- there and back ---------------------------------------------------------------------------


@st.composite
def rigs(draw: st.DrawFn) -> tuple[Usd.Stage, UsdSkel.Skeleton, int]:
    random = np.random.default_rng(draw(st.integers(0, 2**32)))
    count, frames = draw(st.integers(1, 40)), draw(st.integers(2, 20))
    paths = ["J0"]
    for j in range(1, count):
        paths.append(f"{paths[int(random.integers(0, j))]}/J{j}")
    rests = Rotation.random(count, random_state=random).as_quat()
    stage = new_stage()
    skeleton = add_skeleton(
        stage, joints=paths, offsets=random.normal(size=(count, 3)), turns=rests
    )
    turns = Rotation.random(count * frames, random_state=random).as_quat()
    animation = add_animation(
        stage, "/Root/x", paths, np.arange(frames, dtype=float),
        random.normal(size=(frames, count, 3)), turns.reshape(frames, count, 4),
        np.ones((frames, count, 3)),
    )  # fmt: skip
    bind(skeleton, animation)
    return stage, skeleton, frames


@settings(max_examples=15, deadline=None)
@given(rigs())
def test_any_rig_stands_as_usd_core_says(made: tuple[Usd.Stage, UsdSkel.Skeleton, int]) -> None:
    stage, skeleton, frames = made
    (take,) = read_usd(written(stage, ".usdc"))
    assert take.clip.frames == frames
    agrees(take, stage, skeleton, np.arange(frames, dtype=float))


# --- files that are wrong ---------------------------------------------------------------------

TEXT = written(walking()[0]).decode()
CRATE = written(walking()[0], ".usdc")
HEAD = "#usda 1.0\n"


def edited(old: str, new: str) -> bytes:
    assert old in TEXT, old
    return TEXT.replace(old, new, 1).encode()


def within(root: str, text: str) -> bytes:
    """The good file with more written into one of its prims."""
    return edited(f'"{root}"\n', f'"{root}"{text}\n')


def doubled(depth: int) -> str:
    """Each prim takes over the one before it twice."""
    out = HEAD + 'def "P0" {}\n'
    for k in range(1, depth):
        arcs = "".join(f'def "{c}" (references = </P{k - 1}>) {{}}\n' for c in "ab")
        out += f'def "P{k}" {{\n{arcs}}}\n'
    return out


def skeleton_says(attribute: str, value: Any) -> bytes:
    stage, skeleton = walking()
    skeleton.GetPrim().GetAttribute(attribute).Set(value)
    return written(stage)


def animation_says(attribute: str, value: Any, time: float = 0.0) -> bytes:
    stage, _ = walking()
    at = Usd.TimeCode.Default() if attribute == "joints" else Usd.TimeCode(time)
    stage.GetPrimAtPath("/Root/walk").GetAttribute(attribute).Set(value, at)
    return written(stage)


def many(joints: list[str]) -> Vt.Matrix4dArray:
    return Vt.Matrix4dArray([Gf.Matrix4d(1.0)] * len(joints))


FLAT, MIRROR = Gf.Matrix4d().SetScale(Gf.Vec3d(1, 0, 1)), Gf.Matrix4d().SetScale(Gf.Vec3d(-1, 1, 1))
NAN = float("nan")
CLIPS = "(clips = {dictionary default = {asset[] assetPaths = [@x.usd@]}})"
WRONG: dict[str, tuple[bytes, str]] = {
    "empty": (b"", "its first bytes"),
    "text that is none": (b"hello", "its first bytes"),
    "a crate's name alone": (b"PXR-USDC", "not valid USD"),
    "a crate cut short": (CRATE[: len(CRATE) // 2], "not valid USD"),
    "a crate without its table": (CRATE[:88] + b"\0" * 400, "not valid USD"),
    "a crate's table far away": (CRATE[:16] + b"\xff" * 8 + CRATE[24:], "not valid USD"),
    "text cut short": (TEXT[: len(TEXT) // 2].encode(), "not valid USD"),
    "a version to come": (b"#usda 9.9\n", "not valid USD"),
    "a header alone": (HEAD.encode(), "it holds no skeleton"),
    "no brackets' ends": ((HEAD + 'def "A" {').encode(), "not valid USD"),
    "deep brackets": ((HEAD + 'def "A" {\n' * 20_000).encode(), "nested more than 100 deep"),
    "deep lists": ((HEAD + 'def "A" { int[] a = ' + "[" * 20_000).encode(), "nested more than 100"),
    "many prims": (
        (HEAD + "".join(f'def "P{k}" {{}}\n' for k in range(50_001))).encode(),
        "more than 50,000 prims",
    ),
    "bytes that are no text": (b"#usda 1.0\ndef \"\xff\xfe\" {}", "not valid USD"),
    "a sublayer": (
        (HEAD + "(subLayers = [@other.usda@])\n").encode(), "refers to other.usda, outside of what",
    ),
    "a reference": (within("Root", " (references = @../secret.usd@)"), "refers to ../secret.usd"),
    "an absolute reference": (within("Root", " (references = @/etc/passwd@</A>)"), "/etc/passwd"),
    "the network": (within("Root", " (payload = @http://a/b.usd@)"), "refers to http://a/b.usd"),
    "a payload": (within("Root", " (payload = @x.usdc@)"), "refers to x.usdc"),
    "a reference in a variant": (
        (HEAD + 'def "A" (variants = {string v = "a"}; prepend variantSets = "v") {\n'
         'variantSet "v" = { "a" (references = @hidden.usd@) { } }\n}').encode(),
        "refers to hidden.usd",
    ),
    "value clips": (within("walk", " " + CLIPS), "takes its values from other files"),
    "a circle": (
        (HEAD + 'def "A" (references = </B>) {}\ndef "B" (references = </A>) {}').encode(),
        "refers to itself",
    ),
    "a circle through itself": (
        (HEAD + 'def "A" (references = </A/B>) {\ndef "B" (references = </A>) {}\n}').encode(),
        "refers to itself",
    ),
    "an inherited circle": (
        (HEAD + 'def "A" (inherits = </B>) {}\nclass "B" (inherits = </A>) {}').encode(),
        "refers to itself",
    ),
    "a bomb of references": (doubled(18).encode(), "references make more than 50,000 prims"),
    "no joints": (skeleton_says("joints", Vt.TokenArray()), "has no joints"),
    "a joint twice": (
        skeleton_says("joints", Vt.TokenArray(["Hips", "Hips", "Head", "Leg"])), "a joint twice",
    ),
    "a joint without a name": (
        skeleton_says("joints", Vt.TokenArray(["Hips", "", "Head", "Leg"])), "has no path",
    ),
    "a joint's path without end": (
        skeleton_says("joints", Vt.TokenArray(["Hips", "a/" * 3_000, "Head", "Leg"])), "no path",
    ),
    "too many joints": (
        skeleton_says("joints", Vt.TokenArray([f"J{k}" for k in range(6_000)])), "6,000 joints",
    ),
    "no rest and no bind": (
        skeleton_says("restTransforms", Vt.Matrix4dArray()), "neither how its joints rest",
    ),
    "a rest that is not finite": (
        skeleton_says("restTransforms", Vt.Matrix4dArray([Gf.Matrix4d(NAN)] * 4)), "not finite",
    ),
    "a rest that is mirrored": (
        skeleton_says("restTransforms", Vt.Matrix4dArray([MIRROR] * 4)), "is mirrored",
    ),
    "a rest that is flat": (skeleton_says("restTransforms", Vt.Matrix4dArray([FLAT] * 4)), "flat"),
    "rotations that are none": (
        animation_says("rotations", Vt.QuatfArray([Gf.Quatf(NAN, 0, 0, 0)] * 4)), "not a finite",
    ),
    "rotations of no length": (
        animation_says("rotations", Vt.QuatfArray([Gf.Quatf(0, 0, 0, 0)] * 4)), "has no length",
    ),
    "places without end": (
        animation_says("translations", Vt.Vec3fArray([Gf.Vec3f(float("inf"))] * 4)), "not a finite",
    ),
    "scales of nothing": (
        animation_says("scales", Vt.Vec3hArray([Gf.Vec3h(0, 0, 0)] * 4)), "mirrored or flattened",
    ),
    "samples a year apart": (
        animation_says("translations", Vt.Vec3fArray(4), 1e9), "frames; at most 500,000",
    ),
    "an animation's joint twice": (
        animation_says("joints", Vt.TokenArray(["Hips", "Hips", "A", "B"])), "lists a joint twice",
    ),
    "no unit": (edited("metersPerUnit = 1", "metersPerUnit = 0"), "0 m is no unit"),
    "a unit that is none": (edited("metersPerUnit = 1", "metersPerUnit = nan"), "is no unit|not"),
    "no time codes": (
        edited("timeCodesPerSecond = 30", "timeCodesPerSecond = 0"), "time codes a second are no",
    ),
    "an empty package": (b"PK\x03\x04" + package(b"")[-22:], "package is empty|damaged"),
    "a package cut short": (package(CRATE)[:2_000], "package is damaged"),
    "a package that is compressed": (
        package(CRATE, compression=zipfile.ZIP_DEFLATED), "stores them as they are",
    ),
    "a package of pictures": (package(b"\x89PNG", "skin.png"), "begins with skin.png"),
    "a package of packages": (package(package(CRATE), "inner.usda"), "its first bytes"),
}  # fmt: skip


@pytest.mark.parametrize("name", WRONG)
def test_a_wrong_file_is_refused_with_one_sentence(name: str) -> None:
    is_refused(*WRONG[name], "character.usd")


def test_text_of_too_many_values_is_not_parsed(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(opening, "MOST_SIGNS", 1_000)
    with pytest.raises(BadInput, match="more than thirty million values"):
        read_usd(TEXT.encode())


def changed(count: int) -> tuple[int, int]:
    """How many files with changed bytes were refused, and how many read."""
    random = np.random.default_rng(11)
    refused = read = 0
    for k in range(count):
        data = bytearray(CRATE if k % 2 else TEXT.encode())
        for _ in range(int(random.integers(1, 6))):
            data[int(random.integers(12, len(data)))] = int(random.integers(256))
        try:
            read_takes(bytes(data), "changed.usd")
            read += 1
        except BadInput:
            refused += 1
    return refused, read


def test_files_with_changed_bytes_are_read_or_refused_and_end_no_process() -> None:
    """In a process of their own: what reads them is not ours."""
    with ProcessPoolExecutor(1, multiprocessing.get_context("spawn")) as pool:
        refused, read = pool.submit(changed, 120).result()
    assert refused > 30
    assert refused + read == 120


# --- the command line -------------------------------------------------------------------------


def test_the_command_line_lists_and_converts_usd(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    source = tmp_path / "crew.usdc"
    source.write_bytes(CRATE)
    assert main(["inspect", str(source), "--json"]) == 0
    (take,) = json.loads(capsys.readouterr().out)["takes"]
    assert (take["name"], take["frames"], take["rate"]) == ("walk", F, 30)
    assert (take["metres_per_unit"], take["up_axis"]) == (1.0, "y")
    out = tmp_path / "walk.bvh"
    assert main(["convert", str(source), str(out)]) == 0
    (back,) = read_takes(out.read_bytes(), "walk.bvh")
    assert rotation.geodesic_deg(evaluate(back.clip).rotation[:, 1], WAVE).max() < 1e-4
    assert {".usda", ".usdc", ".usd", ".usdz"} < set(READ)
