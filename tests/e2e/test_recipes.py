"""Recipes and batches on screen, and Thin's other ways, with the mouse."""

from __future__ import annotations

import re
from pathlib import Path

import numpy as np
from leancurve.demo import TAKES, captured
from leancurve.formats.bvh import write_bvh
from leancurve.formats.files import read_take
from leancurve.time.resample import resampled
from playwright.sync_api import Page, expect

from tests.e2e.conftest import clip_now, frame_now, open_take, settled, to_shelf, unfold_lanes
from tests.e2e.takes import bring_in
from tests.e2e.test_cleaning import revision
from tests.e2e.test_the_whole_job import box, keys_shown


def short(seed: int) -> bytes:
    """Five seconds of a captured walk, its calibration pose included: quick to work on."""
    return write_bvh(resampled(captured(TAKES[2], seed).clip, first=0, last=300))


def lines(page: Page) -> list[str]:
    items = page.get_by_role("list", name="Lines of the recipe").get_by_role("listitem")
    return [t.split("\n")[1] for t in items.all_inner_texts()]


def test_all_of_it_in_a_few_clicks_then_changed_line_by_line(page: Page) -> None:
    """From the shelf: Open, Recipe, Apply recipe."""
    bring_in(page, "quick_one", short(11))
    page.get_by_role("button", name="Recipe").click()
    page.get_by_role("button", name="Apply recipe").click()
    revision(page, 2)
    expect(page.get_by_role("list", name="Lines of the recipe")).to_contain_text("Thin within")
    assert lines(page) == [
        "Read the take", "Tidy keys", "Trim the calibration pose", "Put back dropped frames",
        "Unflip", "Mend snaps", "Fill gaps", "Despike", "Smooth, adaptive",
        "Keep feet above the floor", "Find contacts", "Drop idle channels", "Thin within 0.25°",
        "Check what is left",
    ]  # fmt: skip
    expect(page.get_by_label("Last frame of the range")).to_have_value("264")

    # A line is opened, its numbers are there, its parameter is changed: all after it follows.
    keys = page.get_by_role("listitem").filter(has_text="Thin within").locator(".num").last
    before = keys.inner_text()
    page.get_by_role("button", name=re.compile("Smooth, adaptive")).first.click()
    recipe = page.get_by_role("list", name="Lines of the recipe").get_by_role("listitem")
    smooth = recipe.filter(has_text="Smooth, adaptive")
    expect(smooth).to_contain_text("Jitter")
    strength = smooth.get_by_label("Strength")
    strength.fill("0.2")
    strength.press("Enter")
    expect(page.get_by_test_id("preview-numbers")).to_contain_text("Peak loss")
    page.get_by_role("button", name="Change the line").click()
    revision(page, 3)
    expect(page.get_by_role("list", name="Lines of the recipe")).to_contain_text("adaptive, 20%")
    expect(keys).not_to_have_text(before)

    # One is deleted; the rest is kept by name.
    page.get_by_role("button", name=re.compile("^Delete line 10")).click()
    revision(page, 4)
    expect(page.get_by_role("list", name="Lines of the recipe")).not_to_contain_text("Keep feet")
    page.get_by_label("Name of the recipe").fill("ferry day 2")
    page.get_by_role("button", name="Keep recipe").click()
    expect(page.get_by_text("Kept as the recipe ferry day 2.")).to_be_visible()

    # Another take beneath the same lines, and back.
    bring_in(page, "quick_two", short(12))
    to_shelf(page)
    open_take(page, "quick_one")
    page.keyboard.press("Alt+1")
    page.get_by_label("Take beneath the clip").select_option(label="quick_two")
    page.get_by_role("button", name="Swap the take").click()
    revision(page, 5)
    page.keyboard.press("Alt+0")
    recipe = page.get_by_role("list", name="Lines of the recipe").get_by_role("listitem")
    expect(recipe).to_have_count(13)
    page.keyboard.press("Control+z")
    revision(page, 4)


def test_a_recipe_runs_on_many_takes_with_one_table(page: Page, tmp_path: Path) -> None:
    for name, seed in (("batch_a", 21), ("batch_b", 22)):
        bring_in(page, name, short(seed))
        to_shelf(page)
    for name in ("batch_a", "batch_b"):
        page.get_by_label(f"Choose {name}").check()
    page.get_by_role("button", name="Run a recipe on 2").click()
    dialog = page.get_by_role("dialog")
    expect(dialog).to_contain_text("Trim the calibration pose")
    dialog.get_by_role("button", name="Run the recipe").click()
    expect(page.get_by_role("heading", name="Recipe All of it on 2 takes")).to_be_visible()
    page.reload()
    expect(page.get_by_role("status")).to_have_text("2 done, 0 failed, 0 cancelled")
    row = page.get_by_role("row").filter(has_text="batch_a")
    found, left = map(int, re.findall(r"\d+", row.get_by_role("cell").nth(1).inner_text()))
    assert left < found / 4
    row.get_by_role("link", name="Open").click()
    revision(page, 2)

    # Delivered and read back, as after any work by hand.
    page.keyboard.press("Alt+9")
    page.get_by_label("Format").select_option("json")
    page.get_by_role("button", name="Deliver", exact=True).last.click()
    link = page.get_by_role("link", name=re.compile(r"\.json$"))
    with page.expect_download() as download:
        link.click()
    path = tmp_path / "delivered.json"
    download.value.save_as(path)
    clip = read_take(path.read_bytes(), "delivered.json").clip
    assert clip.frames == 265
    assert clip.key_count < 265 * 198 / 20


def test_thin_by_poses_within_millimetres_and_with_a_key_where_it_is_off(page: Page) -> None:
    bring_in(page, "posed", write_bvh(resampled(TAKES[2].clean(), first=0, last=299)))
    page.keyboard.press("Alt+5")
    _, fewest = keys_shown(page)
    page.get_by_label("The tolerance holds for").select_option("ends")
    _, by_ends = keys_shown(page)
    assert by_ends != fewest
    ends = page.locator("dl div", has_text="At the ends, largest").locator("dd")
    assert float(ends.first.inner_text().split()[0]) <= 5.0
    page.get_by_label("Key times").select_option("pose")
    _, posed = keys_shown(page)
    assert posed > by_ends
    page.get_by_label("Or by a budget").select_option("poses")
    page.get_by_label("How many poses").fill("20")
    page.get_by_label("How many poses").press("Enter")
    keys_shown(page)
    poses = page.locator("dl div", has_text="Key poses").locator("dd")
    assert 12 <= int(poses.inner_text()) <= 20
    page.get_by_role("button", name="Apply thinning").click()
    revision(page, 2)

    # The drift lane shows where it is off; pressing it sets a key there in every channel.
    settled(page)
    expect(page.get_by_test_id("drift")).to_contain_text("largest change")
    unfold_lanes(page)
    strip = box(page, "strip")
    page.mouse.click(strip["x"] + 14 + (strip["width"] - 106) * 0.37, strip["y"] + 18 + 11 + 6)
    revision(page, 3)
    frame = frame_now(page)
    expect(page.get_by_text(f"A key at frame {frame}.")).to_be_visible()
    expect(page.get_by_text("key in every channel")).to_be_visible()
    assert abs(frame - 0.37 * 299) < 4


def test_speed_and_acceleration_are_read_beside_the_channels(page: Page) -> None:
    bring_in(page, "read_out", write_bvh(resampled(TAKES[2].clean(), first=0, last=299)))
    page.locator("[data-joint]", has_text="LeftFoot").first.click()
    page.get_by_role("button", name="Traces").click()
    page.get_by_label("Read out of the world").select_option("speed")
    page.keyboard.press("5")
    settled(page)
    sheet = box(page, "sheet")
    readout = page.get_by_test_id("readout")
    seen = set()
    for y in np.linspace(sheet["y"] + 40, sheet["y"] + sheet["height"] - 30, 60):
        page.mouse.move(sheet["x"] + sheet["width"] / 2, float(y))
        seen.add(readout.inner_text().split(" · ")[0])
    assert "LeftFoot speed" in seen


def test_where_one_paints_thinning_keeps_closer_and_the_fewest_keys_are_a_job(page: Page) -> None:
    bring_in(page, "to_paint", write_bvh(resampled(TAKES[2].clean(), first=0, last=299)))
    page.get_by_label("Find a joint").fill("leftforearm")
    page.keyboard.press("Enter")
    page.keyboard.press("Alt+5")
    numbers = page.get_by_test_id("thin-numbers")
    keys = numbers.locator("div", has_text="Keys").locator("b").first
    expect(keys).to_have_text(re.compile(r"\d+"))
    settled(page)
    before = int(keys.inner_text().replace(",", ""))
    page.get_by_role("button", name="Paint on the curves").click()
    sheet = box(page, "sheet")
    page.mouse.move(sheet["x"] + 200, sheet["y"] + 60)
    page.mouse.down()
    page.mouse.move(sheet["x"] + 380, sheet["y"] + 80, steps=4)
    page.mouse.up()
    expect(page.get_by_text("left arm, 0.25 of the tolerance")).to_be_visible()
    expect(keys).not_to_have_text(f"{before:,}")
    settled(page)
    page.keyboard.press("Escape")
    expect(page.get_by_role("button", name="Paint on the curves")).to_have_attribute(
        "aria-pressed", "false"
    )
    page.get_by_label("Delete left arm").click()
    settled(page)

    # The longer search runs as a job; it is taken up again after a reload, and then applied.
    page.get_by_label("Keys are looked for").select_option("fewest keys")
    settled(page)
    usual = int(keys.inner_text().replace(",", ""))
    page.get_by_role("button", name="Apply thinning").click()
    expect(page.get_by_role("status").filter(has_text="%")).to_be_visible()
    page.reload()
    expect(page.get_by_text("revision 2", exact=True)).to_be_visible()
    settled(page)
    assert clip_now(page)["head"]["keys"] <= usual
    assert clip_now(page)["head"]["recipe"][-1]["params"]["search"] == "fewest keys"
