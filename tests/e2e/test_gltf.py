"""A glTF file dropped on the shelf: its animations are takes that are worked on like any."""

from __future__ import annotations

from pathlib import Path

from leancurve.formats.bvh import read_bvh
from leancurve.numbers import rotation
from playwright.sync_api import Page, expect

from tests.core.test_gltf import WAVE, T, local, walking
from tests.e2e.conftest import delivered, open_take, to_shelf


def test_two_animations_of_one_file_are_two_takes(page: Page, tmp_path: Path) -> None:
    b, at = walking()
    b.move(b.animation("look about"), at["Head"], "rotation", T[:40], WAVE[:40])
    to_shelf(page)
    expect(page.get_by_text("Drop BVH, glTF, USD or clip JSON files here")).to_be_visible()
    file = {"name": "crew.glb", "mimeType": "model/gltf-binary", "buffer": b.glb()}
    page.get_by_label("Files to bring in").set_input_files([file])
    of_one_file = page.get_by_role("list", name="Takes in crew.glb").get_by_role("listitem")
    expect(of_one_file).to_have_count(2)
    card = of_one_file.filter(has_text="look about")
    expect(card).to_contain_text("40 frames at 30 / s")
    open_take(page, "look about")
    page.keyboard.press("Alt+1")
    expect(page.get_by_text("unit m, Y up, as glTF is")).to_be_visible()
    expect(page.get_by_text("joints are within 0.001 mm")).to_be_visible()
    page.keyboard.press("Alt+9")
    back = read_bvh(delivered(page, tmp_path / "look.bvh")).clip
    assert back.frames == 40

    class Read:
        clip = back

    assert rotation.geodesic_deg(local(Read, "Head"), WAVE[:40]).max() < 1e-4
