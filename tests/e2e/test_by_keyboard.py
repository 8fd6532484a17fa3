"""The keyboard all the way: joints, findings, what is pressed, what is undone; where one was."""

from __future__ import annotations

import re

from leancurve.demo import TAKES, captured
from leancurve.formats.bvh import write_bvh
from playwright.sync_api import Page, expect

from tests.e2e.conftest import clip_now, frame_now, open_take, settled
from tests.e2e.takes import bring_in

LAMP = "Signal lamp, take 01"


def joints(page: Page) -> list[str]:
    chosen = page.locator("[aria-selected=true][data-joint]").all_inner_texts()
    return [text.split("\n")[0] for text in chosen]


def has_the_keyboard(page: Page) -> str:
    return str(page.evaluate("document.activeElement.textContent")).strip()


def test_joints_are_found_walked_and_folded_without_running_a_command(page: Page) -> None:
    open_take(page, LAMP)
    page.keyboard.press("/")
    expect(page.get_by_label("Find a joint")).to_be_focused()
    page.keyboard.type("hand")
    page.keyboard.press("Enter")
    assert joints(page) == ["LeftHand"]
    page.keyboard.press("ArrowLeft")  # folded, so that the next row is a joint's
    page.keyboard.press("ArrowDown")
    assert joints(page) == ["RightHand"]
    # Into its channels, back to the joint, folded.
    page.keyboard.press("ArrowRight")
    assert "turn" in has_the_keyboard(page)
    page.keyboard.press("Enter")
    expect(page.locator("[role=treeitem][aria-level='2'][aria-selected=true]")).to_have_count(1)
    page.keyboard.press("ArrowLeft")
    assert has_the_keyboard(page).startswith("RightHand")
    row = page.locator("[aria-selected=true][data-joint]")
    expect(row).to_have_attribute("aria-expanded", "true")
    page.keyboard.press("ArrowLeft")
    expect(row).to_have_attribute("aria-expanded", "false")
    page.get_by_label("Find a joint").focus()
    page.keyboard.press("Escape")
    expect(page.get_by_label("Find a joint")).to_have_value("")

    # Letters spell a joint's name: T sets no key, Space does not play, S walks no channel.
    head = clip_now(page)["head"]["number"]
    page.keyboard.press("ArrowDown")
    page.keyboard.type("rightthi")
    assert joints(page) == ["RightThigh"]
    assert clip_now(page)["head"]["number"] == head
    page.keyboard.press("Home")
    assert joints(page) == ["Hips"]
    # Whoever presses a joint has the bench's keys: an arrow steps, a letter runs its command.
    page.locator("[data-joint]").nth(3).click()
    page.keyboard.press("ArrowRight")
    assert frame_now(page) == 1
    page.keyboard.press("b")
    expect(page.get_by_role("region", name="Brush")).to_be_visible()


def test_findings_are_walked_gone_to_and_accepted_from_the_list(page: Page) -> None:
    bring_in(page, "walk_by_keys", write_bvh(captured(TAKES[2]).clip))
    page.keyboard.press("Alt+2")
    page.get_by_role("button", name=re.compile(r"^spikes \d+")).click()
    items = page.locator("[data-finding]")
    count = items.count()
    items.first.focus()
    page.keyboard.press("ArrowDown")
    second = has_the_keyboard(page)
    page.keyboard.press("Enter")
    expect(items.nth(1)).to_have_attribute("aria-current", "true")
    assert second.startswith(joints(page)[0])
    # Accepted, it goes, and the keyboard stays where it was: on what came in its place.
    third = items.nth(2).inner_text()
    page.keyboard.press("a")
    expect(items).to_have_count(count - 1)
    settled(page)
    assert page.evaluate("document.activeElement.innerText") == third
    page.keyboard.press("m")
    expect(page.get_by_role("region", name="Despike", exact=True)).to_be_visible()

    # The jump to the next finding marks its entry and selects its joint.
    page.keyboard.press("Alt+2")
    page.locator("h1").click()
    page.get_by_test_id("frame").fill("0")
    page.keyboard.press("Enter")
    page.keyboard.press("Alt+d")
    page.keyboard.press("Alt+d")
    page.get_by_role("button", name=re.compile(r"^all but idle")).click()
    at = page.locator("[data-finding][aria-current=true]")
    expect(at).to_have_count(1)
    assert at.inner_text().split("\n")[0].split(" ")[0] == joints(page)[0]
    assert re.search(rf"\b{frame_now(page)}\b", at.inner_text())


def test_escape_puts_the_brush_down_and_undo_takes_an_unkeyed_pose_back_first(page: Page) -> None:
    open_take(page, LAMP)
    page.keyboard.press("b")
    expect(page.get_by_role("region", name="Brush")).to_be_visible()
    page.keyboard.press("Escape")
    expect(page.get_by_role("region", name="Brush")).to_be_hidden()

    page.keyboard.press("Alt+8")
    page.get_by_role("tab", name="Pose").click()
    page.keyboard.press("j")
    number = clip_now(page)["head"]["number"]
    field = page.get_by_label("turn by, Y")
    field.fill("20")
    field.press("Enter")
    page.get_by_role("region", name="Unkeyed change").wait_for()
    page.locator("h1").click()
    page.keyboard.press("Control+z")
    expect(page.get_by_role("region", name="Unkeyed change")).to_be_hidden()
    assert clip_now(page)["head"]["number"] == number
    page.keyboard.press("j")


def test_a_reload_and_the_shelf_and_back_go_on_where_it_was_left(page: Page) -> None:
    open_take(page, LAMP)
    page.keyboard.press("Alt+5")
    page.get_by_label("Find a joint").fill("rightforearm")
    page.keyboard.press("Enter")
    page.get_by_role("treeitem", name="turn Y").click()
    for end, at in (("First", 60), ("Last", 180)):
        field = page.get_by_label(f"{end} frame of the range")
        field.fill(str(at))
        field.press("Enter")
    page.get_by_test_id("frame").fill("97")
    page.keyboard.press("Enter")
    page.keyboard.press("z")
    page.get_by_label("Timing sheet", exact=True).wait_for()
    page.keyboard.press("z")

    def is_as_it_was() -> None:
        settled(page)
        expect(page.get_by_role("heading", name="Thin")).to_be_visible()
        assert joints(page) == ["RightForearm"]
        expect(page.get_by_role("treeitem", name="turn Y")).to_have_attribute(
            "aria-selected", "true"
        )
        assert frame_now(page) == 97
        expect(page.get_by_label("First frame of the range")).to_have_value("60")
        expect(page.get_by_label("Last frame of the range")).to_have_value("180")

    settled(page)
    page.reload()
    page.get_by_role("heading", level=1, name=LAMP).wait_for()
    is_as_it_was()
    page.get_by_role("link", name="Shelf").click()
    open_take(page, LAMP)
    is_as_it_was()


def test_what_is_typed_pasted_and_pressed_does_what_it_says(page: Page) -> None:
    open_take(page, LAMP)
    page.get_by_label("Find a joint").fill("rightforearm")
    page.keyboard.press("Enter")
    page.get_by_role("treeitem", name="turn Y").click()
    settled(page)
    page.keyboard.press("Control+a")
    settled(page)
    before = page.get_by_label("Value of the selected keys").get_attribute("placeholder")
    assert before == "several"
    page.keyboard.press("Control+c")
    # Beyond the end: what does not fit is counted.
    page.get_by_test_id("frame").fill("290")
    page.keyboard.press("Enter")
    page.locator("h1").click()
    page.keyboard.press("Control+v")
    expect(page.get_by_text(re.compile(r"pasted; \d+ would lie beyond the end"))).to_be_visible()
    settled(page)
    page.keyboard.press("Control+z")
    settled(page)

    # "+5" adds to each of several.
    page.get_by_test_id("frame").fill("0")
    page.keyboard.press("Enter")
    page.locator("h1").click()
    page.keyboard.press("d")
    page.keyboard.press("d")
    value = page.get_by_label("Value of the selected keys")
    was = float(value.input_value())
    value.fill("+5")
    value.press("Enter")
    settled(page)
    assert abs(float(value.input_value()) - was - 5) < 1e-3

    # Delete takes out the contact that was pressed last, and a bar dragged over another joins it.
    page.keyboard.press("Alt+2")
    page.get_by_role("tab", name="Contacts").click()
    rows = page.get_by_role("list", name="Contacts").get_by_role("button")
    count = rows.count()
    rows.first.click()
    page.locator("h1").click()
    page.keyboard.press("Delete")
    expect(rows).to_have_count(count - 1)
