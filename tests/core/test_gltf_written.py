"""GLB written: by the standard's own validator, and read back in metres, Y up."""

from __future__ import annotations

import json
from fractions import Fraction
from itertools import pairwise
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from leancurve.cli import main
from leancurve.demo import crate_take
from leancurve.demo.bodies import made_body
from leancurve.demo.characters import heron, heron_file, heron_in_his_body, wren_file
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.errors import BadInput
from leancurve.formats.clipjson import read_clip, write_clip
from leancurve.formats.files import read_take, read_takes
from leancurve.formats.gltf.writing import write_gltf
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats

from tests.core.gltf_files import Built
from tests.core.in_node import in_node
from tests.core.laden import laden
from tests.core.test_gltf import GOOD
from tests.core.test_skins import FRAMES, fleshed, posed

VALIDATE = """
import { readFileSync } from 'node:fs'
import validator from 'gltf-validator'
const out = []
for (const path of process.argv.slice(2))
  out.push((await validator.validateBytes(new Uint8Array(readFileSync(path)))).issues)
console.log(JSON.stringify(out))
"""


def validated(files: list[Path]) -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = in_node("validate", VALIDATE, *map(str, files))
    return found


def in_metres(clip: Clip) -> tuple[Floats, Floats]:
    """World rotations and places, metres, Y up."""
    turned, placed = evaluate(clip).world(clip.skeleton)
    axis = {"x": ("Z", 90.0), "y": ("X", 0.0), "z": ("X", -90.0)}[clip.reading.up_axis]
    up = rotation.from_axis(axis[0], np.array(axis[1]))
    metres = clip.reading.metres_per_unit
    return rotation.multiply(up, turned), metres * rotation.rotate(up, placed)


def stands_alike(clip: Clip, back: Clip) -> None:
    height = clip.reading.metres_per_unit * clip.skeleton.rest_height
    (turned, placed), (theirs, there) = in_metres(clip), in_metres(back)
    by = [back.skeleton.names.index(n) for n in clip.skeleton.names]
    assert rotation.geodesic_deg(turned, theirs[:, by]).max() < 1e-4
    assert np.abs(placed - there[:, by]).max() < 2e-6 * height


def all_clips() -> dict[str, Clip]:
    take = read_take(fleshed()[0].glb(), "walk.glb").clip
    return {
        "walk": take, "crate": crate_take().clip, "laden": laden(), "wren": wren_file(),
        "heron": heron_file(),
    }  # fmt: skip


def test_what_is_written_has_no_errors_and_no_warnings(tmp_path: Path) -> None:
    """The standard's validator: npm's gltf-validator."""
    clips = all_clips()
    files = {name: write_gltf([clip]) for name, clip in clips.items()}
    (fleshy,) = read_takes(fleshed(8)[0].glb(), "walk.glb")
    files["with a body"] = write_gltf([fleshy.clip], fleshy.skin)
    files["in his body"] = heron_in_his_body()
    files["two"] = write_gltf([clips["walk"], clips["walk"]])
    paths = []
    for name, data in files.items():
        paths.append(tmp_path / f"{name}.glb")
        paths[-1].write_bytes(data)
    for name, issues in zip(files, validated(paths), strict=True):
        found = [m for m in issues["messages"] if m["severity"] < 2]
        assert (issues["numErrors"], issues["numWarnings"]) == (0, 0), (name, found[:3])


@pytest.mark.parametrize("name", ["walk", "crate", "laden", "wren", "heron"])
def test_it_comes_back_as_it_plays(name: str) -> None:
    clip = all_clips()[name]
    (take,) = read_takes(write_gltf([clip]), "back.glb")
    assert take.clip.frames == clip.frames
    # Roots that hang on nothing hang on what holds the figure.
    held = {"Figure"} if len(clip.skeleton.roots) > 1 else set()
    assert set(take.clip.skeleton.names) == set(clip.skeleton.names) | held
    stands_alike(clip, take.clip)
    ends = {(clip.skeleton.names[e.parent], np.linalg.norm(e.offset)) for e in clip.skeleton.ends}
    back = take.clip.skeleton
    there = {(back.names[e.parent], np.linalg.norm(e.offset)) for e in back.ends}
    assert {n for n, _ in ends} == {n for n, _ in there}
    metres = clip.reading.metres_per_unit
    assert sorted(v for _, v in there) == pytest.approx(sorted(metres * v for _, v in ends))
    if clip.frames > 1:
        assert take.clip.rate == clip.rate
    assert {p.name for p in take.clip.props} == {p.name for p in clip.props}
    for mine, theirs in zip(clip.props, take.clip.props, strict=True):
        size = metres * np.array(mine.size)
        assert theirs.size == pytest.approx(size, rel=1e-5, abs=1e-6)


def test_several_clips_are_animations_of_one_file() -> None:
    (walk,) = read_takes(GOOD, "walk.glb")
    fast = Clip(
        walk.clip.skeleton, walk.clip.layout, walk.clip.curves, Fraction(60), 61,
        walk.clip.reading, "walk fast",
    )  # fmt: skip
    takes = read_takes(write_gltf([walk.clip, fast]), "both.glb")
    assert [(t.clip.name, t.clip.rate) for t in takes] == [("walk", 30), ("walk fast", 60)]
    with pytest.raises(BadInput, match="on another skeleton than"):
        write_gltf([walk.clip, heron_file()])


def test_a_body_comes_back_as_it_was() -> None:
    (take,) = read_takes(fleshed(8)[0].glb(), "walk.glb")
    (back,) = read_takes(write_gltf([take.clip], take.skin), "back.glb")
    assert take.skin is not None
    assert back.skin is not None
    assert np.array_equal(take.skin.triangles, back.skin.triangles)
    for frame in FRAMES:
        away = posed(take.skin, take.clip, frame) - posed(back.skin, back.clip, frame)
        assert np.abs(away).max() < 1e-5


def test_the_demos_body_is_closed_and_stands_about_its_bones() -> None:
    suit = heron()
    skin = made_body(suit)
    skin.require_sound(len(suit))
    edges = np.sort(skin.triangles[:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2), axis=1)
    _, count = np.unique(edges, axis=0, return_counts=True)
    # Where two sheets meet in a cell, four triangles share an edge.
    assert set(count % 2) == {0}
    assert (count == 2).mean() > 0.999
    turned, placed = suit.rest_world
    points = skin.posed(turned, placed)
    assert np.abs(points - skin.points).max() < 1e-3
    near = np.linalg.norm(points[:, None] - placed[None], axis=-1).min(axis=1)
    assert near.max() < 0.16 * suit.rest_height


def test_the_command_line_writes_glb(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    source, out = tmp_path / "heron.glb", tmp_path / "again.glb"
    source.write_bytes(heron_in_his_body())
    assert main(["inspect", str(source), "--json"]) == 0
    (told,) = json.loads(capsys.readouterr().out)["takes"]
    assert told["mesh_triangles"] > 20_000
    assert main(["convert", str(source), str(out)]) == 0
    assert len(read_take(out.read_bytes(), "again.glb").clip.skeleton) == 64


def test_joints_have_their_own_names_again_when_they_are_written() -> None:
    """Also after the clip went through clip JSON, and was worked on."""
    given = ["Hüfte", "", "Arm", "Arm", "é" * 300, "a\nb", "腕"]
    b = Built()
    at = [b.node(name or None, translation=(0, 0.2, 0)) for name in given]
    for above, below in pairwise(at):
        b.hang(above, below)
    b.skin(*at)
    b.move(b.animation("wave"), at[2], "rotation", [0, 1], np.eye(4)[[3, 2]])
    (take,) = read_takes(b.glb(), "wave.glb")
    assert len(set(take.clip.skeleton.names)) == len(given)
    through = read_clip(write_clip(take.clip)).clip
    assert through.reading == take.clip.reading
    data = write_gltf([through])
    document = json.loads(data[20 : 20 + int.from_bytes(data[12:16], "little")])
    (skin,) = document["skins"]
    assert [document["nodes"][n].get("name", "") for n in skin["joints"]] == given
    (back,) = read_takes(data, "back.glb")
    assert back.clip.skeleton.names == take.clip.skeleton.names
