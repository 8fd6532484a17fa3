"""The bench's parts: keys, commands, hands-free scrub, views that are remembered, access."""

from __future__ import annotations

import re
import time

import numpy as np
import pytest
from playwright.sync_api import Page, expect

from tests.e2e.conftest import frame_now, open_take, settled, to_shelf, unfold_lanes
from tests.e2e.test_the_whole_job import box, inked, stage_picture
from tests.pace import patient

LAMP = "Signal lamp, take 01"


@pytest.mark.parametrize("size", [(1024, 700), (853, 533), (2560, 1440)], ids=str)
def test_everything_can_be_reached_in_a_small_window_and_fills_a_large_one(
    page: Page, size: tuple[int, int]
) -> None:
    """853 × 533 is a window of 1280 × 800 at a zoom of 150 %."""
    wide, high = size
    page.set_viewport_size({"width": wide, "height": high})
    open_take(page, "Rolling deck walk, take 07")
    unfold_lanes(page)
    # It has more lanes than fit below a low stage.
    lanes = page.get_by_role("region", name="Lanes")
    assert lanes.evaluate("e => e.scrollHeight") >= 150
    page.keyboard.press("Alt+5")
    page.keyboard.press("Control+a")
    settled(page)
    outside = page.evaluate(
        """() => [...document.querySelectorAll('main button, header button, main input')]
          .filter((e) => {
            // What a bar cannot show it scrolls to.
            e.scrollIntoView({ block: 'nearest', inline: 'nearest' })
            const box = e.getBoundingClientRect()
            if (!box.width || !e.checkVisibility() || e.closest('[role=tree]')) return false
            const [x, y] = [box.x + box.width / 2, box.y + box.height / 2]
            const there = document.elementFromPoint(x, y)
            return !there || !(e.contains(there) || there.contains(e))
          }).map((e) => e.getAttribute('aria-label') || e.textContent)"""
    )
    assert outside == []
    assert page.evaluate("document.documentElement.scrollWidth") <= wide
    stage, sheet = box(page, "stage"), box(page, "sheet")
    assert stage["height"] > 0.2 * high
    assert sheet["height"] > 0.13 * high
    if wide > 2000:
        assert sheet["width"] > 0.7 * wide
        assert stage["height"] + sheet["height"] > 0.75 * high


def test_commands_are_listed_run_and_given_other_keys(page: Page) -> None:
    open_take(page, LAMP)
    page.keyboard.press("Control+k")
    page.get_by_role("combobox", name="Find a command").fill("one frame on")
    page.keyboard.press("Enter")
    settled(page)
    assert frame_now(page) == 1
    page.keyboard.press("?")
    page.get_by_role("button", name=re.compile("Key of One frame on:")).click()
    page.keyboard.press("Space")
    expect(page.get_by_role("status").filter(has_text="is the key of")).to_be_visible()
    page.get_by_role("button", name=re.compile("Key of One frame on:")).click()
    page.keyboard.press("l")
    settled(page)
    page.keyboard.press("Escape")
    page.keyboard.press("l")
    assert frame_now(page) == 2
    page.keyboard.press("ArrowRight")
    assert frame_now(page) == 2
    # Kept for the person, not for the page.
    settled(page)
    page.reload()
    page.wait_for_function("() => document.querySelector('[data-testid=frame]')?.value === '2'")
    page.get_by_role("heading", level=1, name=LAMP).wait_for()
    page.keyboard.press("l")
    assert frame_now(page) == 3
    page.keyboard.press("?")
    page.get_by_role("button", name="All keys as they were").click()
    settled(page)


def test_the_context_menu_holds_the_same_commands(page: Page) -> None:
    open_take(page, LAMP)
    sheet = box(page, "sheet")
    page.mouse.click(sheet["x"] + 300, sheet["y"] + 120, button="right")
    menu = page.get_by_role("menu")
    expect(menu.get_by_role("menuitem", name=re.compile("Around now"))).to_be_visible()
    menu.get_by_role("menuitem", name=re.compile("One frame on")).click()
    assert frame_now(page) == 1


def test_hands_free_scrub_follows_until_a_click_and_escape_goes_back(page: Page) -> None:
    open_take(page, LAMP)
    page.get_by_test_id("hands-free").click()
    start = box(page, "hands-free")
    x, y = start["x"] + start["width"] / 2, start["y"] + 8
    page.mouse.move(x + 200, y + 200, steps=5)
    assert frame_now(page) == 100
    page.mouse.down()
    page.mouse.up()
    page.mouse.move(x + 300, y, steps=3)
    assert frame_now(page) == 100
    page.get_by_test_id("hands-free").click()
    page.mouse.move(x + 100, y + 300, steps=3)
    assert frame_now(page) == 150
    page.keyboard.press("Escape")
    assert frame_now(page) == 100


def test_keys_are_jumped_between_and_selecting_one_takes_time_to_it(page: Page) -> None:
    open_take(page, LAMP)
    page.locator("[data-joint]", has_text="RightForearm").first.click()
    settled(page)
    page.keyboard.press("e")
    assert frame_now(page) == 6
    page.keyboard.press("e")
    page.keyboard.press("q")
    assert frame_now(page) == 6
    page.keyboard.press("Shift+e")
    assert frame_now(page) == 299


def test_playback_keeps_true_time_and_loops_in_the_range(page: Page) -> None:
    open_take(page, LAMP)
    seconds, frame = np.transpose(page.evaluate(
        """() => new Promise((done) => {
          const field = document.querySelector('[data-testid=frame]')
          const began = performance.now()
          const pictures = []
          document.querySelector('[data-testid=play]').click()
          const look = (now) => {
            pictures.push([(now - began) / 1000, Number(field.value)])
            if (now - began < 3000) requestAnimationFrame(look)
            else done(pictures)
          }
          requestAnimationFrame(look)
        })"""
    ))  # fmt: skip
    # However few pictures there are: each shows the frame of its time, or the one before it does.
    assert len(frame) > 5
    assert np.all(frame[1:] <= 30 * seconds[1:] + 1)
    assert np.all(frame[1:] >= 30 * seconds[:-1] - 1)
    page.keyboard.press("Space")
    for end, value in (("First", "50"), ("Last", "60")):
        field = page.get_by_label(f"{end} frame of the range")
        field.fill(value)
        field.press("Enter")
    page.keyboard.press("Space")
    seen = [frame_now(page)]
    until = time.monotonic() + patient(10)
    # It has come to its end and begun again, and been at some frames between.
    while (len(set(seen)) <= 4 or seen == sorted(seen)) and time.monotonic() < until:
        page.wait_for_timeout(50)
        seen.append(frame_now(page))
    page.keyboard.press("Space")
    assert min(seen) >= 50
    assert max(seen) <= 60
    assert len(set(seen)) > 4
    assert seen != sorted(seen)


def test_the_sheet_zooms_pans_and_remembers_its_view_for_each_selection(page: Page) -> None:
    open_take(page, LAMP)
    page.locator("[data-joint]", has_text="RightForearm").first.click()
    settled(page)
    canvas = page.locator("section[aria-label='Curve sheet'] canvas").first
    sheet = box(page, "sheet")
    x, y = sheet["x"] + 320, sheet["y"] + 140
    fitted = canvas.screenshot()
    page.mouse.move(x, y)
    page.mouse.wheel(0, -600)
    settled(page)
    zoomed = canvas.screenshot()
    assert zoomed != fitted
    page.mouse.down(button="middle")
    page.mouse.move(x + 90, y + 30, steps=4)
    page.mouse.up(button="middle")
    page.mouse.move(x, sheet["y"] - 60)
    settled(page)
    panned = canvas.screenshot()
    assert panned != zoomed
    page.locator("[data-joint]", has_text="RightHand").first.click()
    settled(page)
    page.locator("[data-joint]", has_text="RightForearm").first.click()
    settled(page)
    page.mouse.move(x, sheet["y"] - 60)
    settled(page)
    assert canvas.screenshot() == panned
    page.keyboard.press("1")
    settled(page)
    assert canvas.screenshot() == fitted
    page.keyboard.press("5")
    settled(page)
    assert canvas.screenshot() != fitted
    assert inked(page, "section[aria-label='Curve sheet'] canvas") > 1000
    page.mouse.move(x, y + 60)
    page.mouse.move(x + 1, y + 61)


def test_stage_and_sheet_each_go_full_and_the_choice_is_kept(page: Page) -> None:
    open_take(page, LAMP)
    shared = box(page, "stage")["height"]
    page.keyboard.press("Shift+c")
    expect(page.get_by_test_id("sheet")).to_be_hidden()
    assert box(page, "stage")["height"] > shared + 200
    page.keyboard.press("6")
    expect(page.get_by_test_id("stage")).to_be_hidden()
    assert box(page, "sheet")["height"] > 500
    settled(page)
    page.reload()
    page.get_by_test_id("sheet").wait_for()
    expect(page.get_by_test_id("stage")).to_be_hidden()
    page.get_by_role("button", name="Curve sheet alone").click()
    expect(page.get_by_test_id("stage")).to_be_visible()
    settled(page)


def test_hovering_reads_out_channel_frame_and_value(page: Page) -> None:
    open_take(page, LAMP)
    page.locator("[data-joint]", has_text="RightForearm").first.click()
    settled(page)
    sheet = box(page, "sheet")
    readout = page.get_by_test_id("readout")
    found = ""
    for y in range(40, int(sheet["height"]) - 24, 6):
        page.mouse.move(sheet["x"] + 330, sheet["y"] + y)
        page.wait_for_timeout(30)
        found = readout.inner_text()
        if found:
            break
    assert re.fullmatch(r"RightForearm turn [XYZ] · frame \d+ · [+−][\d.]+°", found)


def test_picking_a_joint_on_the_stage_selects_it(page: Page) -> None:
    open_take(page, LAMP)
    page.get_by_role("button", name="Front").click()
    before = stage_picture(page)
    stage = box(page, "stage")
    expect(page.locator("[data-joint='0'][aria-selected=true]")).to_have_count(1)
    for dy in range(-150, 60, 6):
        page.mouse.click(stage["x"] + stage["width"] / 2, stage["y"] + stage["height"] / 2 + dy)
        if page.locator("[data-joint='0'][aria-selected=true]").count() == 0:
            break
    expect(page.locator("[data-joint='0'][aria-selected=true]")).to_have_count(0)
    assert stage_picture(page) != before


def test_the_history_is_a_list_and_says_what_it_holds(page: Page) -> None:
    open_take(page, "Crate over the coaming, take 02")
    page.get_by_role("button", name="History").click()
    history = page.get_by_role("list", name="History")
    expect(history.get_by_role("listitem").last).to_contain_text("1 Bring in")
    expect(page.get_by_text(re.compile(r"\d+ revisions? holds? [\d.]+ MB"))).to_be_visible()


def test_files_dropped_on_the_shelf_come_in_and_others_are_refused(page: Page) -> None:
    to_shelf(page)
    page.evaluate(
        """() => {
          const data = new DataTransfer()
          data.items.add(new File(['hello'], 'notes.txt', { type: 'text/plain' }))
          data.items.add(new File(['HIERARCHY\\nROOT'], 'cut.bvh', { type: 'text/plain' }))
          const about = { bubbles: true, cancelable: true, dataTransfer: data }
          document.querySelector('main').dispatchEvent(new DragEvent('drop', about))
        }"""
    )
    refused = page.get_by_role("alert").filter(has_text="notes.txt")
    expect(refused).to_contain_text("notes.txt: expected a file ending in .bvh, .json, .glb")
    cut = page.get_by_role("alert").filter(has_text="cut.bvh")
    expect(cut).to_contain_text("cut.bvh, line 2: ROOT has no name")
    page.get_by_role("button", name="Dismiss cut.bvh").click()


def test_what_is_not_there_says_so_and_leads_back(page: Page) -> None:
    page.goto("/clip/99999")
    expect(page.get_by_role("alert")).to_contain_text("not here any more, or it is not yours")
    page.get_by_role("link", name="Back to the shelf").click()
    expect(page.get_by_role("heading", name=LAMP, exact=True)).to_be_visible()


def test_how_a_take_is_read_can_be_changed_and_undone(page: Page) -> None:
    open_take(page, LAMP)
    page.keyboard.press("Alt+1")
    page.get_by_label("One unit of the file is").select_option("inch")
    expect(page.get_by_text("the figure stands 4.", exact=False)).to_be_visible()
    page.get_by_role("button", name="Take Head off the ends").click()
    expect(page.get_by_role("button", name="Take Head off the ends")).to_be_hidden()
    for _ in range(2):
        page.keyboard.press("Control+z")
        settled(page)
    expect(page.get_by_role("button", name="Take Head off the ends")).to_be_visible()


def test_two_tabs_cannot_overwrite_each_other(page: Page) -> None:
    open_take(page, "Crate over the coaming, take 02")
    page.route("**/here", lambda route: route.abort())  # it does not follow the other one
    page.reload()
    settled(page)
    other = page.context.new_page()
    other.goto(page.url)
    other.get_by_role("button", name="Unflip").click()
    page.get_by_role("button", name="Unflip").click()
    other.get_by_role("button", name="Apply unflip").click()
    expect(other.get_by_text("revision 2")).to_be_visible()
    page.get_by_role("button", name="Apply unflip").click()
    refused = page.get_by_role("alertdialog", name="Changed elsewhere")
    expect(refused).to_contain_text("Unflip was not kept")
    expect(page.get_by_text("revision 2", exact=True)).to_be_visible()
    refused.get_by_role("button", name="Keep theirs").click()
    expect(refused).to_be_hidden()
    other.close()


def test_the_stage_and_the_sheet_have_room_and_edges_are_dragged(page: Page) -> None:
    """One line of findings and one of contacts, until the lanes are unfolded: it is remembered."""
    open_take(page, "Mooring line, take 04")
    settled(page)
    lanes = page.get_by_role("button", name="All lanes")
    expect(lanes).to_have_attribute("aria-pressed", "false")
    edge = page.get_by_role("separator", name="Height of the curve sheet")
    edge.dblclick()
    settled(page)
    assert box(page, "stage")["height"] >= 0.42 * 800
    assert int(edge.get_attribute("aria-valuenow") or 0) >= 0.35 * 800
    folded = box(page, "strip")["height"]
    assert folded < 60
    lanes.click()
    page.wait_for_function(
        "h => document.querySelector('[data-testid=strip]').clientHeight > h", arg=folded + 60
    )
    settled(page)
    page.reload()
    expect(page.get_by_role("button", name="All lanes")).to_have_attribute("aria-pressed", "true")
    page.get_by_role("button", name="All lanes").click()
    for name, key, by in (
        ("Height of the curve sheet", "ArrowUp", 16),
        ("Width of the joints", "ArrowRight", 16),
        ("Width of the panel", "ArrowLeft", 16),
    ):
        edge = page.get_by_role("separator", name=name)
        was = int(edge.get_attribute("aria-valuenow") or 0)
        edge.press(key)
        expect(edge).to_have_attribute("aria-valuenow", str(was + by))
        edge.dblclick()
        expect(edge).to_have_attribute("aria-valuenow", str(was))


def test_the_header_says_what_it_cost_and_what_was_mended(page: Page) -> None:
    """Each place in the list leads there; until it is measured anew nothing old is shown."""
    open_take(page, "Crate over the coaming, take 02")
    page.keyboard.press("Alt+4")
    page.get_by_role("region", name="Despike", exact=True).get_by_role("button").first.click()
    despike = page.get_by_role("region", name="Despike", exact=True)
    despike.get_by_role("button", name="Apply").click()
    figure = page.get_by_test_id("drift")
    expect(figure).to_have_text("measuring …")
    expect(figure).to_contain_text(re.compile(r"\d+ fix(es)?, largest \d+"))
    expect(figure).to_contain_text("largest change 0° · 0 mm")
    figure.click()
    told = page.get_by_role("dialog", name="What the recipe did to the motion")
    expect(told.get_by_role("heading", name="Fixes: what was wrong is put right")).to_be_visible()
    place = told.get_by_role("button").filter(has_text=re.compile("frame")).nth(1)
    name, frame = re.match(r"(\w+).*?frames? (\d+)", place.inner_text()).groups()  # type: ignore[union-attr]
    place.click()
    assert page.get_by_test_id("frame").input_value() == frame
    assert name in page.locator("[aria-selected=true][data-joint]").inner_text()
    page.keyboard.press("Escape")
    page.keyboard.press("Control+z")
    expect(figure).to_contain_text("no fixes")
