"""Deliveries as others read them: the standard's validator, three.js, usd-core, a parser of BVH."""

from __future__ import annotations

import json
import tempfile
from pathlib import Path
from typing import Any

import numpy as np
import pybvh
import pytest
from leancurve.delivery.making import made
from leancurve.delivery.preset import preset_of
from leancurve.demo.bodies import made_body
from leancurve.demo.characters import heron_file
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.numbers.arrays import Floats
from pxr import Usd, UsdSkel

from tests.core.in_node import in_node, three_sees
from tests.core.test_delivery import example, hauled
from tests.core.test_gltf_written import in_metres, validated
from tests.core.test_usd_written import opened
from tests.core.usd_files import queried

FORMS: dict[str, dict[str, Any]] = {
    "as it is": {},
    "on the floor": {"root": "floor", "without": ["ends"]},
    "in splines": {"within_deg": 0.25, "body": "figure"},
    "in few splines, fewer joints": {
        "within_deg": 0.5, "fewest": True, "root": "floor", "without": ["fingers", "twists"],
        "body": "figure", "prefix": "Dock ",
    },
    "as text": {"format": "gltf", "body": "figure"},
}  # fmt: skip


def files(folder: Path) -> dict[str, tuple[Path, Clip]]:
    out = {}
    for clip_name, clip in (("crate", example("crate")), ("haul", hauled())):
        for name, asked in FORMS.items():
            preset = preset_of({"format": "glb", **asked})
            file = made(clip, preset)
            path = folder / f"{clip_name} {name}{preset.ending}"
            path.write_bytes(file.data)
            out[path.stem] = (path, file.clip)
    tall = heron_file()
    file = made(tall, preset_of({"format": "glb", "root": "floor"}), skin=made_body(tall.skeleton))
    (folder / "tall.glb").write_bytes(file.data)
    out["tall"] = (folder / "tall.glb", file.clip)
    return out


def test_the_standards_validator_has_nothing_to_say(tmp_path: Path) -> None:
    """npm's gltf-validator: no errors, and no warnings."""
    written = files(tmp_path)
    found = validated([path for path, _ in written.values()])
    for name, issues in zip(written, found, strict=True):
        messages = [m for m in issues["messages"] if m["severity"] < 2]
        assert (issues["numErrors"], issues["numWarnings"]) == (0, 0), (name, messages[:3])


NODES = """
    const row = {}
    gltf.parser.json.nodes.forEach((node, k) => {
      const made = [...gltf.parser.associations].find(([thing, at]) =>
        at?.nodes === k && thing.isObject3D && at.meshes === undefined)
      if (made) row[node.name] = made[0].getWorldPosition(new Vector3()).toArray()
    })
    out.push(row)
"""


@pytest.mark.parametrize("name", ["on the floor", "in splines", "in few splines, fewer joints"])
def test_three_sees_the_motion(name: str, tmp_path: Path) -> None:
    """three.js' GLTFLoader and its mixer, at twenty frames and between them."""
    clip = hauled()
    preset = preset_of({"format": "glb", **FORMS[name]})
    file = made(clip, preset)
    path = tmp_path / "x.glb"
    path.write_bytes(file.data)
    # At its very end the mixer begins anew.
    frames = np.linspace(0, clip.frames - 1.5, 20)
    if preset.within_deg is None:
        frames = np.unique(frames.astype(int)).astype(float)
    rows = three_sees("form", path, [float(f / float(clip.rate)) for f in frames], NODES)
    _, places = evaluate(file.clip, frames).world(file.clip.skeleton)
    height = file.clip.skeleton.rest_height
    # What splines may be off adds up along the arm.
    allowed = 1e-4 if preset.within_deg is None else 2e-2
    for k, row in enumerate(rows):
        for joint, told in enumerate(file.clip.skeleton.names):
            theirs = np.array(row[told]) / file.clip.reading.metres_per_unit
            assert np.abs(theirs - places[k, joint]).max() < allowed * height, (told, frames[k])


BVH = """
import { readFileSync } from 'node:fs'
import { AnimationMixer, Vector3 } from 'three'
import { BVHLoader } from 'three/examples/jsm/loaders/BVHLoader.js'
const { skeleton, clip } = new BVHLoader().parse(readFileSync(process.argv[2], 'utf8'))
const root = skeleton.bones[0]
const mixer = new AnimationMixer(root)
mixer.clipAction(clip).play()
const out = []
for (const t of JSON.parse(process.argv[3])) {
  mixer.setTime(t)
  root.updateMatrixWorld(true)
  out.push(skeleton.bones.filter((b) => b.name !== 'ENDSITE')
    .map((b) => [b.name, b.getWorldPosition(new Vector3()).toArray()]))
}
console.log(JSON.stringify(out))
"""


@pytest.mark.parametrize("asked", [{}, {"root": "floor", "without": ["fingers"], "up_axis": "z"}])
def test_three_reads_the_bvh(asked: dict[str, Any], tmp_path: Path) -> None:
    """three.js' BVHLoader; it reads one root."""
    clip = hauled()
    file = made(clip, preset_of({"format": "bvh", "props": False, **asked}))
    path = tmp_path / "x.bvh"
    path.write_bytes(file.data)
    frames = np.unique(np.linspace(0, clip.frames - 2, 20).astype(int))
    seconds = json.dumps([float(f / clip.rate) for f in frames])
    rows = in_node("bvh", BVH, str(path), seconds)
    _, places = evaluate(file.clip).world(file.clip.skeleton)
    by = {n: k for k, n in enumerate(file.clip.skeleton.names)}
    for row, frame in zip(rows, frames, strict=True):
        assert {name for name, _ in row} == set(by)
        for name, place in row:
            off = np.abs(np.array(place) - places[frame, by[name]]).max()
            assert off < 1e-4 * file.clip.skeleton.rest_height


@pytest.mark.parametrize("asked", [{}, {"root": "floor", "up_axis": "z", "unit": "m"}])
def test_usds_own_queries_see_the_motion(asked: dict[str, Any]) -> None:
    clip = example("crate")
    file = made(clip, preset_of({"format": "usdc", **asked}))
    stage: Usd.Stage = opened(file.data)
    (prim,) = (p for p in stage.Traverse() if p.IsA(UsdSkel.Skeleton))
    frames = np.unique(np.linspace(0, file.clip.frames - 1, 20).astype(int))
    found = list(queried(stage, UsdSkel.Skeleton(prim), frames).values())
    _, placed = evaluate(file.clip).world(file.clip.skeleton)
    height = file.clip.skeleton.rest_height
    for joint, matrices in enumerate(found):
        assert np.abs(matrices[:, 3, :3] - placed[frames, joint]).max() < 1e-4 * height
    assert in_metres(clip)[1].shape[1] == len(clip.skeleton)


def parsed(data: bytes) -> tuple[list[str], Floats]:
    """Joints and world places of a BVH by a parser of its own kind: the registry's pybvh."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder, "x.bvh")
        path.write_bytes(data)
        read = pybvh.read_bvh_file(path)
    return list(read.joint_names), np.asarray(read.joint_positions())


def test_an_independent_parser_agrees() -> None:
    """It knows position channels of roots alone."""
    asked = {"format": "bvh", "up_axis": "z", "without": ["fingers"], "props": False}
    file = made(hauled(), preset_of(asked))
    names, places = parsed(file.data)
    _, ours = evaluate(file.clip).world(file.clip.skeleton)
    for joint, name in enumerate(file.clip.skeleton.names):
        off = np.abs(places[:, names.index(name)] - ours[:, joint]).max()
        assert off < 1e-4 * file.clip.skeleton.rest_height
