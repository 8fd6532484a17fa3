"""A day delivered by pointer: clips chosen on the shelf, in two forms at once, unpacked and read by
others."""

from __future__ import annotations

import hashlib
import io
import json
import re
import zipfile
from functools import cache
from pathlib import Path

import numpy as np
from leancurve.demo import crate_take
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.formats.bvh import read_bvh
from leancurve.formats.clipjson import read_clip, write_clip
from leancurve.numbers import rotation
from leancurve.operations import OPERATIONS, apply_patch
from leancurve.time.resample import resampled
from playwright.sync_api import Page, expect
from pxr import Usd, UsdSkel

from tests.core.in_node import three_sees
from tests.core.usd_files import queried
from tests.e2e.application import Application
from tests.e2e.conftest import WAITS_MS, is_open, settled, to_shelf
from tests.e2e.takes import bring_in, store
from tests.e2e.test_shaping import figure

LOOK = """
    const row = {}
    gltf.scene.traverse((node) => {
      if (node.isBone) row[node.name] = node.getWorldPosition(new Vector3()).toArray()
    })
    out.push(row)
"""
"""Where each bone is, by its name."""


@cache
def cut(k: int) -> Clip:
    """Two thirds of a second of the crate being carried, thinned."""
    clip = resampled(crate_take().clip, first=100 + 40 * k, last=180 + 40 * k)
    return apply_patch(clip, OPERATIONS["thin"].run(clip))


def day(page: Page, *names: str) -> None:
    """Clips of the test's own on the shelf."""
    for k, name in enumerate(names):
        bring_in(page, name, cut(k))
        settled(page)


def choose(page: Page, *names: str) -> None:
    for name in names:
        page.get_by_label(f"Choose {name}", exact=True).check()


def downloaded(page: Page, to: Path) -> Path:
    with page.expect_download() as download:
        page.get_by_role("link", name="All of it as a zip").click()
    download.value.save_as(to)
    return to


def test_three_clips_are_delivered_at_once_and_read_by_others(page: Page, tmp_path: Path) -> None:
    names = ("day_a", "day_b", "day_c")
    day(page, *names)
    to_shelf(page)
    choose(page, *names)
    page.get_by_role("button", name="Deliver 3").click()
    dialog = page.get_by_role("dialog")
    expect(dialog.get_by_role("button", name="Choose a form")).to_be_disabled()
    dialog.get_by_label("GLB, root on the floor").check()
    dialog.get_by_label("USD", exact=True).check()
    dialog.get_by_role("button", name="Deliver 6 files").click()
    expect(page.get_by_role("status")).to_have_text("3 done")
    expect(page.get_by_role("row")).to_have_count(4)
    delivery = page.url
    with zipfile.ZipFile(downloaded(page, tmp_path / "day.zip")) as file:
        file.extractall(tmp_path / "day")
    told = json.loads((tmp_path / "day/manifest.json").read_text())
    assert [c["clip"] for c in told["clips"]] == list(names)
    for k, clip in enumerate(told["clips"]):
        own = cut(k)
        _, places = evaluate(own).world(own.skeleton)
        places = own.reading.metres_per_unit * places
        height = own.reading.metres_per_unit * own.skeleton.rest_height
        frames = np.unique(np.linspace(0, own.frames - 1, 20).astype(int))
        for file in clip["files"]:
            path = tmp_path / "day" / file["name"]
            assert hashlib.sha256(path.read_bytes()).hexdigest() == file["sha256"]
        glb, crate = (tmp_path / "day" / f["name"] for f in clip["files"])
        rows = three_sees("day", glb, [float(f / own.rate) for f in frames], LOOK)
        for row, frame in zip(rows, frames, strict=True):
            assert "Root" in row
            for joint, name in enumerate(own.skeleton.names):
                assert np.abs(np.array(row[name]) - places[frame, joint]).max() < 1e-4 * height
        stage = Usd.Stage.Open(str(crate))
        (prim,) = (p for p in stage.Traverse() if p.IsA(UsdSkel.Skeleton))
        found = list(queried(stage, UsdSkel.Skeleton(prim), frames).values())
        for joint, matrices in enumerate(found):
            theirs = own.reading.metres_per_unit * matrices[:, 3, :3]
            assert np.abs(theirs - places[frames, joint]).max() < 1e-4 * height

    # One is changed and all are delivered again: it alone is made anew.
    page.get_by_role("row").filter(has_text="day_b").get_by_role("link", name="Open").click()
    is_open(page, "day_b")
    page.keyboard.press("Alt+5")
    page.get_by_role("button", name=re.compile("^Apply")).first.click()
    expect(page.get_by_text("revision 2")).to_be_visible()
    settled(page)
    page.keyboard.press("Alt+9")
    expect(page.get_by_text(re.compile("^changed after delivery")).first).to_be_visible()
    to_shelf(page)
    choose(page, *names)
    page.get_by_role("button", name="Deliver 3").click()
    page.get_by_label("GLB, root on the floor").check()
    page.get_by_role("button", name="Deliver 3 files").click()
    expect(page.get_by_role("status")).to_have_text("1 done, 2 unchanged")
    assert page.url != delivery
    changed = page.get_by_role("row").filter(has_text="day_b")
    expect(changed.get_by_role("link", name=re.compile(r"_v002\.glb$"))).to_be_visible()
    expect(page.get_by_role("row").filter(has_text="day_a")).to_contain_text("unchanged since")
    # Sorted by a column, one way and the other.
    page.get_by_role("button", name="clip", exact=True).click()
    expect(page.get_by_role("row").nth(1)).to_contain_text("day_a")
    page.get_by_role("button", name="clip", exact=True).click()
    expect(page.get_by_role("row").nth(1)).to_contain_text("day_c")
    # The report opens by itself.
    with page.expect_popup() as popup:
        changed.get_by_role("link", name="Report").click()
    report = popup.value
    expect(report.get_by_role("heading", name="day_b")).to_be_visible()
    expect(report.get_by_role("heading", name="What was done")).to_be_visible()
    assert report.evaluate("document.styleSheets.length") == 1
    report.close()


def test_a_preset_is_kept_and_what_deviates_is_marked(page: Page, tmp_path: Path) -> None:
    day(page, "preset_a")
    page.keyboard.press("Alt+9")
    name = page.get_by_test_id("file-name")
    expect(name).to_contain_text("_v001.bvh")
    page.get_by_label("Preset", exact=True).select_option(label="GLB, fitted splines")
    expect(name).to_contain_text("_v001.glb")
    expect(page.get_by_text("differs", exact=True)).to_have_count(0)
    page.get_by_label("Root").select_option("floor")
    expect(page.get_by_text("differs", exact=True)).to_have_count(1)
    page.get_by_label("ends", exact=True).check()
    page.get_by_label("Name of a new preset").fill("Engine of preset_a")
    page.get_by_role("button", name="Keep as a preset").click()
    expect(page.get_by_label("Preset", exact=True).locator("option:checked")).to_have_text(
        "Engine of preset_a"
    )
    expect(page.get_by_text("differs", exact=True)).to_have_count(0)
    page.get_by_role("button", name="Deliver", exact=True).last.click()
    link = page.get_by_role("link", name=re.compile(r"\.glb$"))
    expect(link).to_be_visible()
    expect(page.get_by_text(re.compile("read back within .*mm"))).to_be_visible()
    # In another form: clip JSON and BVH hold the same motion.
    files = {}
    for kind in ("json", "bvh"):
        page.get_by_label("Preset", exact=True).select_option(
            label={"json": "Clip JSON, curves kept", "bvh": "BVH, a key on each frame"}[kind]
        )
        expect(name).to_contain_text(f".{kind}")
        page.get_by_role("button", name="Deliver", exact=True).last.click()
        link = page.get_by_role("link", name=re.compile(rf"\.{kind}$"))
        with page.expect_download() as download:
            link.click()
        files[kind] = tmp_path / f"x.{kind}"
        download.value.save_as(files[kind])
    kept = read_clip(files["json"].read_bytes()).clip
    plain = read_bvh(files["bvh"].read_bytes()).clip
    off = rotation.geodesic_deg(
        evaluate(kept).rotation, evaluate(plain).rotation[:, : len(kept.skeleton)]
    )
    assert off.max() < 1e-6
    # The preset is still there when one comes back, and can be deleted.
    page.reload()
    is_open(page, "preset_a")
    page.keyboard.press("Alt+9")
    page.get_by_label("Preset", exact=True).select_option(label="Engine of preset_a")
    expect(page.get_by_label("Root")).to_have_value("floor")
    page.get_by_role("button", name="Delete the preset").click()
    gone = page.get_by_label("Preset", exact=True).locator("option", has_text="Engine of preset_a")
    expect(gone).to_have_count(0)


def test_a_worker_killed_in_the_middle_leaves_nothing_half_or_twice(
    page: Page, application: Application
) -> None:
    names = [f"killed_{k:02}" for k in range(20)]
    takes = [store(name, write_clip(figure()), "json") for name in names]
    to_shelf(page)
    choose(page, *names)
    page.get_by_role("button", name="Deliver 20").click()
    page.get_by_label("USD", exact=True).check()
    page.get_by_role("button", name="Deliver 20 files").click()
    # One is there and others are being made.
    expect(page.get_by_role("link", name=re.compile(r"\.usdc$")).first).to_be_visible()
    application.kill(application.worker)
    application.start_worker()
    # Ten times as much as one wait is for.
    expect(page.get_by_role("status")).to_have_text("20 done", timeout=10 * WAITS_MS)
    files = page.get_by_role("link", name=re.compile(r"\.usdc$"))
    expect(files).to_have_count(20)
    assert len(set(files.all_inner_texts())) == len(takes)
    number = page.url.rpartition("/")[2]
    whole = page.request.get(f"/api/handovers/{number}/zip").body()
    with zipfile.ZipFile(io.BytesIO(whole)) as file:
        told = json.loads(file.read("manifest.json"))
        for clip in told["clips"]:
            (one,) = clip["files"]
            assert hashlib.sha256(file.read(one["name"])).hexdigest() == one["sha256"]
