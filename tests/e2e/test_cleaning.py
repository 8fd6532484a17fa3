"""Inspect, put contacts right, mend and calm a capture with the mouse."""

from __future__ import annotations

import re

from leancurve.demo import TAKES, captured, lamp_take
from leancurve.formats.bvh import write_bvh
from playwright.sync_api import Page, expect

from tests.e2e.conftest import clip_now, frame_now, settled, to_shelf, unfold_lanes
from tests.e2e.takes import bring_in
from tests.e2e.test_the_whole_job import box

STRIP_LEFT, STRIP_LABELS, RULER, LANE = 14, 92, 18, 11


def revision(page: Page, number: int) -> None:
    expect(page.get_by_text(f"revision {number}", exact=True)).to_be_visible()


def findings(page: Page) -> int:
    tab = page.get_by_role("tab", name=re.compile(r"Findings \d+"))
    return int(tab.inner_text().split()[1])


def card(page: Page, title: str) -> object:
    """An operation's card, opened."""
    found = page.get_by_role("region", name=title, exact=True)
    head = found.get_by_role("button", name=title).first
    if head.get_attribute("aria-expanded") == "false":
        head.click()
    return found


def test_a_capture_is_inspected_and_cleaned_step_by_step(page: Page) -> None:
    bring_in(page, "crate_own", write_bvh(captured(TAKES[1]).clip))
    page.keyboard.press("Alt+2")
    before = findings(page)
    listed = page.get_by_role("list", name="Findings").get_by_role("listitem")
    expect(listed.filter(has_text="calibration poses")).to_have_count(1)

    # A kind is chosen, the worst first; a click goes to its place and selects its joint.
    page.get_by_role("button", name=re.compile(r"^spikes \d+")).click()
    page.get_by_label("Order of the findings").select_option("size")
    first = listed.first
    joint, at = first.inner_text().split("\n")[0], first.locator("button").first
    frame = int(re.findall(r"\d+", first.inner_text().split("\n")[-1])[0])
    at.click()
    assert frame_now(page) == frame
    assert page.locator("[aria-selected=true][data-joint]").inner_text().startswith(joint)

    # It is meant: it counts no more, and stays in the list of what was accepted.
    listed.first.get_by_role("button", name=re.compile("^Accept spike")).click()
    revision(page, 2)
    expect(page.get_by_role("tab", name=f"Findings {before - 1}")).to_be_visible()
    page.get_by_label("accepted too").check()
    expect(page.get_by_role("button", name=re.compile("^Reopen spike"))).to_have_count(1)
    page.get_by_label("accepted too").uncheck()

    # Its remedy: the card of Despike opens in Calm on its joint and frames, previews in numbers,
    # is widened to all of the clip, and is applied.
    listed.first.get_by_role("button", name=re.compile("^Mend spike")).click()
    despike = page.get_by_role("region", name="Despike", exact=True)
    expect(despike.get_by_label("Which joints").locator("option:checked")).to_have_text(
        page.locator("[aria-selected=true][data-joint]").inner_text().split("\n")[0]
    )
    frames = despike.get_by_label("Which frames").locator("option:checked")
    expect(frames).to_have_text(re.compile(rf"^frames {frame_now(page)} – \d+$"))
    despike.get_by_role("button", name="Preview").click()
    numbers = page.get_by_test_id("preview-numbers")
    left = numbers.locator("div", has_text="Findings: spikes").locator("dd")
    expect(left).to_have_text(re.compile(r"^(\d+) → \d+$"))
    was, now = (int(n) for n in re.findall(r"\d+", left.inner_text()))
    assert now == was - 1
    despike.get_by_label("Which joints").select_option("whole body")
    despike.get_by_label("Which frames").select_option("whole clip")
    expect(left).to_have_text(re.compile(r"^\d+ → 0$"))
    despike.get_by_role("button", name="Apply").click()
    revision(page, 3)

    # The calibration pose is trimmed: time and range follow.
    trim = card(page, "Trim")
    trim.get_by_role("button", name="Apply").click()
    revision(page, 4)
    expect(page.get_by_label("Last frame of the range")).to_have_value("1439")

    # Smoothing for the arms only, by a method of one's own choice.
    smooth = card(page, "Smooth")
    smooth.get_by_label("Which joints").select_option("left arm")
    smooth.get_by_label("Method").select_option("savitzky-golay")
    expect(smooth.get_by_label("Window")).to_be_visible()
    expect(smooth.get_by_label("Cut-off")).to_be_hidden()
    expect(numbers.locator("div", has_text="Jitter").locator("dd").first).to_have_text(
        re.compile("° → .*°")
    )
    smooth.get_by_role("button", name="Apply").click()
    revision(page, 5)
    page.keyboard.press("Control+z")
    revision(page, 4)
    page.keyboard.press("Alt+2")
    expect(page.get_by_role("tab", name=re.compile("Findings"))).to_be_visible()
    page.wait_for_function("n => !document.body.innerText.includes('Looking the clip over')", arg=0)
    settled(page)
    assert findings(page) < before - 10


def test_contacts_are_dragged_split_joined_and_deleted(page: Page) -> None:
    bring_in(page, "walk_own", write_bvh(captured(TAKES[2]).clip))
    page.keyboard.press("Alt+2")
    page.get_by_role("tab", name="Contacts").click()
    expect(page.get_by_text("Found by height and speed")).to_be_visible()
    row = page.get_by_role("list", name="Contacts").get_by_role("button").filter(
        has_text="left heel"
    )  # fmt: skip
    rows = row.count()
    first, last = map(int, row.nth(1).inner_text().split("\n")[1].split("–"))

    # The bar's end is dragged on the strip: the first lane of contacts, its upper half.
    unfold_lanes(page)
    strip = box(page, "strip")
    width = strip["width"] - STRIP_LEFT - STRIP_LABELS
    frames = 935

    def x(frame: float) -> float:
        return strip["x"] + STRIP_LEFT + frame / frames * width

    y = strip["y"] + RULER + LANE + 3
    page.mouse.move(x(last), y)
    page.mouse.down()
    page.mouse.move(x(last - 20), y, steps=4)
    page.mouse.up()
    revision(page, 2)
    end = page.get_by_label("Last frame of the contact")
    assert abs(int(end.input_value()) - (last - 20)) <= 2
    expect(page.get_by_text("Kept in the clip as they were set")).to_be_visible()

    # Split at now, joined again, deleted; every one a change that can be undone.
    middle = (first + last - 20) // 2
    page.get_by_test_id("frame").fill(str(middle))
    page.keyboard.press("Enter")
    page.get_by_role("button", name="Split at now").click()
    expect(row).to_have_count(rows + 1)
    page.get_by_role("button", name="Join with the next").click()
    expect(row).to_have_count(rows)
    page.get_by_role("button", name="Delete", exact=True).click()
    expect(row).to_have_count(rows - 1)
    page.keyboard.press("Control+z")
    expect(row).to_have_count(rows)
    page.get_by_label("Limb of a new contact").select_option("left hand")
    page.get_by_role("button", name="Add from now").click()
    expect(page.get_by_role("list", name="Contacts")).to_contain_text("left hand")


def test_roles_are_corrected_on_the_body_and_kept_as_a_profile(page: Page) -> None:
    bring_in(page, "lamp_of_its_own", lamp_take().clip)
    page.keyboard.press("Alt+2")
    page.get_by_role("tab", name="Body").click()
    # The picture is the figure's own; a part says what it is taken for, and how surely.
    page.get_by_role("button", name="LeftForearm: left forearm, sure").first.click()
    chosen = page.locator("[aria-selected=true][data-joint]")
    expect(chosen).to_have_count(1)
    expect(chosen).to_contain_text("LeftForearm")
    page.get_by_role("button", name="right leg").click()
    expect(chosen).to_have_count(6)
    was = clip_now(page)["head"]["number"]
    page.get_by_label("Role of LeftPalm").select_option("helper")
    revision(page, was + 1)
    row = page.get_by_role("list", name="Roles of the joints").get_by_role("listitem")
    expect(row.filter(has=page.get_by_label("Role of LeftPalm"))).to_contain_text("set")
    page.get_by_label("Name of a new group").fill("standing leg")
    page.get_by_role("button", name="Keep group").click()
    expect(page.get_by_text("Kept for skeletons like Deckhand suit")).to_be_visible()
    page.reload()
    page.get_by_role("button", name="Frame figure").wait_for()
    page.keyboard.press("Alt+2")
    page.get_by_role("tab", name="Body").click()
    page.get_by_role("button", name="standing leg").click()
    expect(chosen).to_have_count(6)


def test_orders_are_rated_and_changed_without_moving_anything(page: Page) -> None:
    bring_in(page, "clean_own", write_bvh(TAKES[2].clean()))
    page.keyboard.press("Alt+3")
    expect(page.get_by_text("No flips: every rotation channel is continuous")).to_be_visible()
    page.locator("[data-joint]", has_text="LeftShin").first.click()
    orders = card(page, "Change rotation orders")
    table = orders.get_by_role("table")
    expect(table).to_contain_text("LeftShin")
    expect(table.get_by_role("row")).to_have_count(7)
    orders.get_by_label("Which joints").select_option("selected")
    orders.get_by_label("Rotation order").select_option("XYZ")
    numbers = page.get_by_test_id("preview-numbers")
    expect(numbers.locator("div", has_text="Drift, largest").locator("dd")).to_have_text("0°")
    orders.get_by_role("button", name="Apply").click()
    revision(page, 2)
    expect(table.get_by_role("row").filter(has_text="now")).to_contain_text("XYZ")


def test_the_shelf_sorts_by_what_needs_work_most(page: Page) -> None:
    bring_in(page, "clean_walk", write_bvh(TAKES[2].clean()))
    bring_in(page, "rough_walk", write_bvh(captured(TAKES[2]).clip))
    to_shelf(page)
    page.get_by_label("Sort").select_option("most work first")
    expect(page.get_by_role("heading", name="clean_walk", exact=True)).to_be_visible()
    names = page.locator("main h2").all_inner_texts()
    assert names.index("rough_walk") < names.index("clean_walk")
    page.get_by_label("Sort").select_option("by name")
    assert page.locator("main h2").all_inner_texts() == sorted(names, key=str.casefold)
