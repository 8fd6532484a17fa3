"""A GLB of two animations, a body and a prop comes in, is cleaned, and is retargeted onto a
character that came as USD: both are seen in their own bodies."""

from __future__ import annotations

import re
from dataclasses import replace
from functools import cache
from pathlib import Path

import numpy as np
from leancurve.curves.curve import SampledCurve
from leancurve.demo.bodies import made_body
from leancurve.demo.characters import heron
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.document.prop import Prop
from leancurve.figure.skeleton import Skeleton
from leancurve.figure.skin import Skin
from leancurve.formats.bvh import read_bvh
from leancurve.formats.gltf.writing import write_gltf
from playwright.sync_api import Page, expect
from pxr import Gf, UsdGeom, UsdSkel, Vt

from tests.core.usd_files import add_skeleton, matrix, new_stage, written
from tests.e2e.conftest import clip_now, delivered, drop, is_open, settled, still
from tests.e2e.takes import short_walk
from tests.e2e.test_the_whole_job import stage_picture


@cache
def hauling() -> tuple[bytes, Clip]:
    """Ten seconds of the deck walk, twice, with a bollard that is pushed along; and the clip."""
    walk = short_walk()
    bollard = Prop(0, "Bollard", "box", (40.0, 60.0, 40.0))
    curves = dict(walk.curves)
    for track in bollard.tracks:
        at = {"tx": np.linspace(80, 180, walk.frames), "ty": 30.0}.get(track.name, 0.0)
        curves[track] = SampledCurve(np.zeros(walk.frames) + at)
    haul = replace(walk, name="haul", curves=curves, props=(bollard,))
    return write_gltf([haul, replace(haul, name="pull back")], made_body(walk.skeleton)), haul


def in_usd(skeleton: Skeleton, skin: Skin) -> bytes:
    """A character standing, as a USD crate: centimetres, its body bound to its skeleton."""
    stage = new_stage(metres=0.01)
    paths: list[str] = []
    for joint, name in enumerate(skeleton.names):
        up = skeleton.parents[joint]
        paths.append(name if up < 0 else f"{paths[up]}/{name}")
    made = add_skeleton(
        stage, joints=paths, offsets=skeleton.offset_array, turns=skeleton.rest_rotations
    )
    turned, placed = skeleton.rest_world
    worlds = [matrix(p, q) for p, q in zip(placed, turned, strict=True)]
    made.CreateBindTransformsAttr(Vt.Matrix4dArray(worlds))
    mesh = UsdGeom.Mesh.Define(stage, "/Root/Body")
    mesh.CreatePointsAttr(Vt.Vec3fArray([Gf.Vec3f(*map(float, p)) for p in skin.points]))
    mesh.CreateFaceVertexCountsAttr(Vt.IntArray([3] * len(skin.triangles)))
    mesh.CreateFaceVertexIndicesAttr(Vt.IntArray([int(i) for i in skin.triangles.ravel()]))
    api = UsdSkel.BindingAPI.Apply(mesh.GetPrim())
    api.CreateSkeletonRel().SetTargets([made.GetPath()])
    width = skin.joints.shape[1]
    api.CreateJointIndicesPrimvar(False, width).Set(
        Vt.IntArray([int(j) for j in skin.joints.ravel()])
    )
    api.CreateJointWeightsPrimvar(False, width).Set(
        Vt.FloatArray([float(w) / 65_535 for w in skin.weights.ravel()])
    )
    return written(stage, ".usdc")


def test_a_glb_is_cleaned_and_retargeted_onto_a_usd_character_and_both_bodies_are_seen(
    page: Page, tmp_path: Path
) -> None:
    data, haul = hauling()
    drop(page, "hauling.glb", data, tmp_path)
    of_one_file = page.get_by_role("list", name="Takes in hauling.glb").get_by_role("listitem")
    expect(of_one_file).to_have_count(2)
    card = of_one_file.filter(has=page.get_by_role("heading", name="pull back"))
    expect(card).to_contain_text("body, 31,548 triangles")
    tall = heron()
    drop(page, "tall.usdc", in_usd(tall, made_body(tall)), tmp_path)
    expect(page.get_by_role("heading", name="tall", exact=True)).to_be_visible()

    page.get_by_role("button", name="Open: haul", exact=True).click()
    is_open(page, "haul")
    page.keyboard.press("Alt+1")
    for told in (
        "its body: 31,548 triangles",
        "kept as props: Bollard",
        "joints are within 0.001 mm",
    ):
        expect(page.get_by_text(told)).to_be_visible()
    clip = clip_now(page)
    assert [p["name"] for p in clip["props"]] == ["Bollard"]
    body = page.get_by_role("button", name="Body", exact=True)
    expect(body).to_have_attribute("aria-pressed", "true")
    still(page)
    own = stage_picture(page)
    page.get_by_role("button", name="Figure", exact=True).click()
    still(page)
    drawn = stage_picture(page)
    page.get_by_role("button", name="Lines", exact=True).click()
    still(page)
    assert len({own, drawn, stage_picture(page)}) == 3
    body.click()
    still(page)
    assert stage_picture(page) == own

    # Cleaned: thinned to keys.
    page.keyboard.press("Alt+5")
    page.get_by_role("button", name=re.compile("^Apply")).click()
    page.get_by_text("revision 2").wait_for()
    settled(page)

    page.keyboard.press("Alt+7")
    chosen = page.get_by_label("Skeleton to retarget onto")
    option = chosen.locator("option", has_text="64 joints").filter(has_text="tall")
    chosen.select_option(value=option.get_attribute("value"))
    expect(page.get_by_test_id("retarget-numbers")).to_contain_text("Slide in contact")
    still(page)
    both = stage_picture(page)
    page.get_by_role("button", name="Figure", exact=True).click()
    still(page)
    assert stage_picture(page) != both
    body.click()
    page.get_by_role("button", name=re.compile("^Retarget to")).click()
    page.get_by_role("link", name=re.compile(r"^haul · ")).click()
    is_open(page, "haul ·")
    # What was made stands in the character's body.
    expect(body).to_have_attribute("aria-pressed", "true")
    made = clip_now(page)
    assert made["skin"]["triangles"] > 20_000
    assert [j["name"] for j in made["joints"]] == list(tall.names)
    page.keyboard.press("Alt+9")
    back = read_bvh(delivered(page, tmp_path / "tall.bvh")).clip
    assert back.frames == haul.frames
    assert np.isfinite(evaluate(back).rotation).all()
