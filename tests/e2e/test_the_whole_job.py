"""Bring in, look, unflip, thin, deliver, read the delivered file back: with mouse and keyboard."""

from __future__ import annotations

import re
from pathlib import Path

import numpy as np
import pybvh
from leancurve.demo import TAKES, captured
from leancurve.document.clip import Clip
from leancurve.document.evaluation import effective, evaluate
from leancurve.formats.bvh import read_bvh, write_bvh
from leancurve.measures.drift import drift
from leancurve.numbers import rotation
from leancurve.operations import OPERATIONS, apply_patch
from playwright.sync_api import Page, expect
from scipy.spatial.transform import Rotation

from tests.core.test_bvh import ROW, file
from tests.e2e.application import Application
from tests.e2e.conftest import frame_now, open_take, settled, still, to_shelf


def box(page: Page, test_id: str) -> dict[str, float]:
    found = page.get_by_test_id(test_id).bounding_box()
    assert found is not None
    return found


def inked(page: Page, selector: str) -> int:
    """How many pixels of a 2D canvas are drawn on."""
    return page.evaluate(
        """(selector) => {
          const canvas = document.querySelector(selector)
          const { data } = canvas.getContext('2d').getImageData(0, 0, canvas.width, canvas.height)
          let count = 0
          for (let i = 3; i < data.length; i += 4) if (data[i] > 0) count++
          return count
        }""",
        selector,
    )


def stage_picture(page: Page) -> bytes:
    still(page)
    return page.get_by_test_id("stage").screenshot()


def unflip(page: Page) -> None:
    page.keyboard.press("Alt+3")
    page.get_by_role("button", name="Preview").click()
    after = page.locator("dl div", has_text="Flips after")
    expect(after.locator("dd")).to_have_text("0")
    row = page.locator("dl div", has_text="Drift, largest")
    expect(row.locator("dd")).to_have_text("0°")
    page.get_by_role("button", name="Apply unflip").click()
    expect(page.get_by_text("No flips: every rotation channel is continuous")).to_be_visible()


def keys_shown(page: Page) -> tuple[int, int]:
    numbers = page.get_by_test_id("thin-numbers")
    expect(numbers).to_have_attribute("aria-busy", "false")
    text = numbers.locator("dd").first.inner_text()
    before, after = (int(n.replace(",", "")) for n in re.findall(r"[\d,]+", text))
    return before, after


def same_poses(path: Path, clip: Clip, times: np.ndarray, most_deg: float) -> None:
    """The delivered file by an independent parser (pybvh) and SciPy against the core's poses."""
    theirs = pybvh.read_bvh_file(path)
    assert theirs.frame_count == len(times)
    ours = evaluate(clip, times).rotation
    for joint, name in enumerate(clip.skeleton.names):
        angles = np.degrees(theirs.joint_angles[:, theirs.joint_names.index(name)])
        q = Rotation.from_euler(clip.order(joint), angles, degrees=True).as_quat()
        assert rotation.geodesic_deg(ours[:, joint], q).max() < most_deg


def test_a_demo_take_from_the_shelf_to_a_clean_file(page: Page, tmp_path: Path) -> None:
    # The shelf: name, length, rate, joints, findings, a picture.
    to_shelf(page)
    card = page.get_by_role("listitem").filter(has_text="Rolling deck walk, take 07")
    expect(card).to_contain_text("15.58 s · 936 frames at 60 / s")
    expect(card).to_contain_text("Deckhand suit · 65 joints · 185,328 keys")
    expect(card).to_contain_text("14 alternates")
    expect(card.get_by_role("img")).to_be_visible()
    open_take(page, "Rolling deck walk, take 07")

    # The stage draws a figure, turns with the mouse, and looks from the front.
    still = stage_picture(page)
    stage = box(page, "stage")
    x, y = stage["x"] + stage["width"] / 2, stage["y"] + stage["height"] / 2
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x + 120, y + 20, steps=4)
    page.mouse.up()
    turned = stage_picture(page)
    assert turned != still
    page.mouse.wheel(0, 300)
    assert stage_picture(page) != turned
    page.get_by_role("button", name="Front").click()
    front = stage_picture(page)
    page.get_by_role("button", name="Side").click()
    assert stage_picture(page) != front

    # Time: typed, stepped, scrubbed on the strip, dragged in the sheet, played.
    page.get_by_test_id("frame").fill("300")
    page.keyboard.press("Enter")
    expect(page.get_by_test_id("timecode")).to_have_text("00:05.000")
    page.keyboard.press("ArrowRight")
    assert frame_now(page) == 301
    strip = box(page, "strip")
    page.mouse.click(strip["x"] + 14 + (strip["width"] - 106) / 2, strip["y"] + 8)
    assert abs(frame_now(page) - 467) < 6
    sheet = box(page, "sheet")
    ruler = sheet["y"] + sheet["height"] - 8
    page.mouse.move(sheet["x"] + 200, ruler)
    page.mouse.down()
    page.mouse.move(sheet["x"] + 400, ruler, steps=5)
    page.mouse.up()
    dragged = frame_now(page)
    page.mouse.move(sheet["x"] + 300, sheet["y"] + 100)
    page.keyboard.press("Space")
    expect(page.get_by_test_id("play")).to_have_text("Pause")
    settled(page)
    page.keyboard.press("Space")
    assert frame_now(page) > dragged

    # Curves of a joint picked in the tree; the read-out says what is under the pointer.
    page.locator("[data-joint]", has_text="RightUpperArm").first.click()
    expect(page.get_by_text("turn X", exact=True)).to_be_visible()
    page.keyboard.press("1")
    settled(page)
    assert inked(page, "section[aria-label='Curve sheet'] canvas") > 4000

    unflip(page)

    # Thin: the numbers follow the slider; degrees are per channel and say so.
    page.get_by_role("button", name="Thin").click()
    expect(page.get_by_text("Degrees are per channel")).to_be_visible()
    before, tight = keys_shown(page)
    assert before == 936 * 198
    slider = page.get_by_role("slider", name="Stay within, per channel")
    slider.focus()
    for _ in range(3):
        page.keyboard.press("ArrowRight")
    expect(slider).to_have_attribute("aria-valuetext", "0.5°")
    _, loose = keys_shown(page)
    assert loose < tight < before / 25
    tolerance = float(slider.get_attribute("aria-valuetext").rstrip("°"))
    page.get_by_role("button", name="Apply thinning").click()
    expect(page.get_by_text("revision 3")).to_be_visible()
    expect(page.get_by_test_id("drift")).to_contain_text("mm")
    page.keyboard.press("Control+z")
    expect(page.get_by_text("revision 2")).to_be_visible()
    page.keyboard.press("Control+Shift+z")
    expect(page.get_by_text("revision 3")).to_be_visible()

    # Reload: everything acknowledged is there.
    page.reload()
    expect(page.get_by_text("revision 3")).to_be_visible()

    # Deliver at another rate and range; the server reads it back; download.
    page.keyboard.press("Alt+9")
    first = page.get_by_label("First frame of the range")
    first.fill("100")
    first.press("Enter")
    page.get_by_label("Frames a second").select_option("30")
    page.get_by_label("Character").fill("deckhand")
    page.get_by_label("Action").fill("rolling walk")
    page.get_by_role("button", name="Deliver", exact=True).last.click()
    link = page.get_by_role("link", name="deckhand_rolling_walk_v001.bvh")
    expect(link).to_be_visible()
    report = page.get_by_role("listitem").filter(has=link)
    expect(report).to_contain_text("418 frames at 30 / s")
    expect(report).to_contain_text("read back within 0° and 0 mm")
    with page.expect_download() as download:
        link.click()
    delivered = tmp_path / download.value.suggested_filename
    download.value.save_as(delivered)

    # The same work by the core alone gives the same poses as the file has.
    clip = captured(TAKES[2]).clip
    clip = apply_patch(clip, OPERATIONS["unflip"].run(clip))
    source = clip
    clip = apply_patch(clip, OPERATIONS["thin"].run(clip, {"tolerance_deg": tolerance}))
    times = 100.0 + 2 * np.arange(418)
    same_poses(delivered, clip, times, 1e-6)
    values, true = effective(clip, times), effective(source, times)
    worst = max(np.abs(values[c] - true[c]).max() for c in clip.channels if c.turns)
    assert 0 < worst <= tolerance


def test_uploaded_files_come_in_each_by_itself(
    page: Page, application: Application, tmp_path: Path, open_capture: Clip
) -> None:
    to_shelf(page)
    bad = file([ROW, ROW.replace("20", "nan")])
    good = write_bvh(open_capture)
    page.get_by_label("Files to bring in").set_input_files(
        [
            {"name": "harbour_jumps.bvh", "mimeType": "text/plain", "buffer": good},
            {"name": "broken.bvh", "mimeType": "text/plain", "buffer": bad},
        ]
    )
    wrong = page.get_by_role("alert").filter(has_text="broken.bvh")
    expect(wrong).to_have_text("broken.bvh, line 20: expected a finite number, found 'nan'")
    card = page.get_by_role("heading", name="harbour_jumps")
    expect(card).to_be_visible()
    page.reload()
    expect(wrong).to_be_visible()
    page.get_by_role("button", name="Dismiss broken.bvh").click()
    expect(wrong).to_be_hidden()

    # It is read, its unit is said, unflipped, thinned, and delivered as clip JSON and BVH.
    open_take(page, "harbour_jumps")
    page.keyboard.press("Alt+1")
    expect(page.get_by_text("the figure stands 1.70 m tall")).to_be_visible()
    expect(page.get_by_text("it is not one of m, cm, mm, inch")).to_be_visible()
    page.keyboard.press("Alt+5")
    before, after = keys_shown(page)
    assert before == 2752 * 96
    assert after < before / 10
    page.get_by_role("button", name="Apply thinning").click()
    expect(page.get_by_text("revision 2")).to_be_visible()

    # Both processes crash; what was acknowledged is there when they are back.
    application.kill(application.web)
    application.kill(application.worker)
    application.start_web()
    application.start_worker()
    page.reload()
    expect(page.get_by_text("revision 2")).to_be_visible()
    page.keyboard.press("Alt+9")
    page.get_by_role("button", name="Deliver", exact=True).last.click()
    link = page.get_by_role("link", name=re.compile(r"\.bvh$"))
    # A worker that has just started loads its kernels first.
    expect(link).to_be_visible()
    with page.expect_download() as download:
        link.click()
    delivered = tmp_path / "delivered.bvh"
    download.value.save_as(delivered)
    back = read_bvh(delivered.read_bytes()).clip
    patch = OPERATIONS["thin"].run(open_capture)
    assert drift(back, apply_patch(open_capture, patch)).max_deg < 1e-6
    assert 0 < drift(back, open_capture).max_deg < 1.0
