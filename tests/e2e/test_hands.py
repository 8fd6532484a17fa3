"""What hands do without meaning to, and what they look for: nothing misleads."""

from __future__ import annotations

import re
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from leancurve.curves.curve import KeyedCurve, keyed
from leancurve.demo import TAKES, captured
from leancurve.demo.defects import Capture
from leancurve.formats.bvh import write_bvh
from playwright.sync_api import Page, expect

from tests.e2e.conftest import clip_now, is_open, open_take, settled, to_shelf
from tests.e2e.takes import bring_in, bring_walk, store
from tests.e2e.test_cleaning import revision
from tests.e2e.test_shaping import RY, curve_of, drag, figure, pick_channel, place
from tests.e2e.test_shaping import bring_in as bring_figure
from tests.e2e.test_the_whole_job import box


def test_the_history_opened_by_keyboard_bins_nothing(page: Page) -> None:
    bring_walk(page, "walk_kept")
    address = page.url
    page.get_by_role("button", name=re.compile("^History")).focus()
    page.keyboard.press("Enter")
    page.keyboard.press("Enter")
    settled(page)
    expect(page.get_by_label("History").last).to_be_visible()
    assert page.url == address

    # Binned on purpose, the shelf says so and puts it back in one press.
    page.get_by_role("button", name="Put this clip in the bin").click()
    told = page.get_by_role("status").filter(has_text="walk_kept is in the bin")
    expect(told).to_contain_text("its take stays")
    told.get_by_role("button", name="Put it back").click()
    page.wait_for_url(address)
    is_open(page, "walk_kept")


def test_a_key_close_to_its_handle_is_what_is_dragged(page: Page) -> None:
    curve = keyed([0, 98, 100, 102, 200], [0, 5, 10, 5, 0])
    bring_figure(page, "close_handles", figure(Arm_ry=curve))
    pick_channel(page, "turn Y")
    page.mouse.click(*place(page, 100, 10))
    settled(page)
    # Its handles end within a few pixels of it.
    start = place(page, 100, 10)
    drag(page, start, (start[0], start[1] + 60))
    revision(page, 2)
    settled(page)
    moved = curve_of(page, "Arm", RY)
    assert isinstance(moved, KeyedCurve)
    assert moved.value[2] < 9
    assert np.array_equal(moved.slope_out, curve.slope_out) or moved.handle[2] != 5
    # The handle itself is drawn longer, and grabbed there.
    at = place(page, 100, float(moved.value[2]))
    drag(page, (at[0] + 12, at[1]), (at[0] + 30, at[1] - 30))
    revision(page, 3)
    settled(page)
    turned = curve_of(page, "Arm", RY)
    assert isinstance(turned, KeyedCurve)
    assert turned.value[2] == moved.value[2]
    assert turned.slope_out[2] > 0


def test_nudges_in_a_row_are_one_revision_and_one_undo(page: Page) -> None:
    bring_figure(page, "nudged", figure(Arm_ry=keyed([0, 100, 200], [0, 10, 0])))
    pick_channel(page, "turn Y")
    page.mouse.click(*place(page, 100, 10))
    before = curve_of(page, "Arm", RY)
    for _ in range(30):
        page.keyboard.press("Control+ArrowUp")
    settled(page)
    after = curve_of(page, "Arm", RY)
    assert isinstance(after, KeyedCurve)
    assert isinstance(before, KeyedCurve)
    assert after.value[1] == pytest.approx(before.value[1] + 30 * 0.5)
    assert len(clip_now(page)["head"]["recipe"]) == 2
    page.get_by_role("button", name="Undo").click()
    settled(page)
    assert clip_now(page)["head"]["number"] == 1
    back = curve_of(page, "Arm", RY)
    assert isinstance(back, KeyedCurve)
    assert np.array_equal(back.value, before.value)


def test_a_take_is_swapped_by_a_button_after_its_price_is_told(page: Page) -> None:
    bring_walk(page, "walk_swapped")
    store("walk_other", write_bvh(TAKES[2].clean()), "bvh")
    page.reload()
    is_open(page, "walk_swapped")
    page.keyboard.press("Alt+1")
    settled(page)
    head = clip_now(page)["head"]["number"]
    beneath = page.get_by_label("Take beneath the clip")
    beneath.focus()
    page.keyboard.press("ArrowDown")
    settled(page)
    assert clip_now(page)["head"]["number"] == head
    beneath.select_option(label="walk_other")
    expect(page.get_by_text("Every line and every edit has its place on it.")).to_be_visible()
    page.get_by_role("button", name="Swap the take").click()
    revision(page, head + 1)
    assert clip_now(page)["take_name"] == "walk_other"


def test_a_figure_out_of_view_is_pointed_at_and_brought_back(page: Page) -> None:
    bring_walk(page, "walk_away")
    back = page.get_by_test_id("bring-back")
    expect(back).to_be_hidden()
    stage = box(page, "view-one")
    middle = (stage["x"] + stage["width"] / 2, stage["y"] + stage["height"] / 2)
    # Shoved aside until nothing of it is seen.
    for _ in range(3):
        page.mouse.move(*middle)
        page.mouse.down(button="right")
        page.mouse.move(middle[0] + 420, middle[1], steps=4)
        page.mouse.up(button="right")
    expect(back).to_be_visible()
    back.click()
    expect(back).to_be_hidden()


def test_joints_are_selected_in_ranges_and_by_parts_of_the_body(page: Page) -> None:
    bring_walk(page, "walk_tree")
    rows = page.locator("[data-joint]")
    chosen = page.locator("[aria-selected=true][data-joint]")
    rows.nth(1).click()
    rows.nth(4).click(modifiers=["Shift"])
    expect(chosen).to_have_count(4)
    rows.nth(2).click(modifiers=["Control"])
    expect(chosen).to_have_count(3)
    page.get_by_label("Find a joint").fill("left arm")
    page.get_by_role("button", name="left arm", exact=True).click()
    page.get_by_label("Find a joint").fill("")
    names = {text.split("\n")[0] for text in chosen.all_inner_texts()}
    assert {"LeftUpperArm", "LeftForearm"} <= names

    # A channel is pressed: what is open stays open, and its row where it is.
    rows.nth(0).click()
    rows.nth(1).click(modifiers=["Control"])
    channel = page.get_by_role("treeitem", name="turn Y").last
    was = channel.bounding_box()
    channel.click()
    settled(page)
    assert channel.bounding_box() == was
    expect(chosen).to_have_count(2)


def test_the_shelf_shows_the_work_beside_the_take(page: Page) -> None:
    bring_walk(page, "walk_worked")
    page.keyboard.press("Alt+0")
    page.get_by_label("Recipe to apply").select_option(label="All of it, feet planted")
    page.get_by_role("button", name="Apply recipe").click()
    expect(page.get_by_role("progressbar", name="Recipe")).to_be_visible()
    revision(page, 2)
    settled(page)
    now = clip_now(page)
    assert now["plants"]
    to_shelf(page)
    card = page.get_by_role("listitem").filter(has=page.get_by_role("heading", name="walk_worked"))
    expect(card).to_contain_text(f"now: {now['head']['keys']:,} keys · revision 2")


def test_the_name_of_a_file_is_seen_while_its_pattern_is_typed(page: Page) -> None:
    bring_walk(page, "walk_named")
    page.keyboard.press("Alt+9")
    name = page.get_by_test_id("file-name")
    page.get_by_label("Character").fill("wren")
    page.get_by_label("Action").fill("walk")
    expect(name).to_have_text("wren_walk_v001.bvh")
    page.get_by_label("Name pattern").fill("{action}-{version}")
    expect(name).to_have_text("walk-1.bvh")
    page.get_by_label("Format").select_option("json")
    expect(name).to_have_text("walk-1.json")
    page.get_by_label("Name pattern").fill("{nobody}")
    expect(name).to_contain_text("nobody")


ABOUT_ONE = re.compile(
    r"^(Accept|Mend|Reopen|Delete line|Delete the|Take .* off|Mute |Unmute |Solo |Lock |Unlock |"
    r"Put |Change |Paste|\d|left |right |all but|gaps|spikes|in \d|.*\d$)"
)
"""Buttons of one row of a list: the row is what is meant, not the button."""
STAND = {
    # Choices that stand beside what they choose, and commands of the keyboard's own table.
    "Keys", "Layers", "Time", "Amount", "Spacing", "Pose", "All", "Invert", "Along channels",
    "At these times", "In the range", "Copy", "Set", "now", "first", "last", "opposite side",
    "Turn", "Move", "Pull", "Own axes", "World", "Figure", "Copy pose", "Key the pose", "Set key",
    "Preview", "Apply", "Discard", "Keep recipe", "Choose a skeleton", "Begin", "All joints",
    "Front", "Side", "Beside", "Over it",
}  # fmt: skip


def test_what_a_panels_button_does_is_in_the_list_of_commands(page: Page) -> None:
    bring_walk(page, "walk_commands")
    page.keyboard.press("Alt+6")
    page.get_by_role("button", name="Plant the feet").click()
    page.get_by_role("region", name="Plant the feet").get_by_role("button", name="Apply").click()
    revision(page, 2)
    page.keyboard.press("Alt+8")
    page.get_by_role("tab", name="Layers").click()
    page.get_by_label("Name of a new layer").fill("arm")
    page.keyboard.press("Enter")
    revision(page, 3)
    settled(page)

    page.keyboard.press("Control+k")
    listed = page.get_by_role("option").all_inner_texts()
    page.keyboard.press("Escape")
    known = {text.split("·", 1)[1].strip().split("\n")[0] for text in listed}
    table = Path("web/src/commands/panelCommands.ts").read_text()
    buttons = set(re.findall(r"button: '([^']+)'", table))

    clip = clip_now(page)
    body = page.request.get(f"/api/clips/{clip['id']}/body?revision={clip['head']['id']}").json()
    names = (
        {j["name"] for j in clip["joints"]}
        | set(body["groups"])
        | set(body["own_groups"])
        | {"arm", "clip curves"}
    )
    missing: dict[str, str] = {}
    for step in "1234567890":
        page.keyboard.press(f"Alt+{step}")
        settled(page)
        tabs = page.locator("[data-panel] [role=tab]").all_inner_texts() or [""]
        for tab in tabs:
            if tab:
                page.locator("[data-panel] [role=tab]", has_text=tab).first.click()
                settled(page)
            for text in page.locator("[data-panel] button:visible:not([role=tab])").evaluate_all(
                "all => all.map(b => (b.ariaLabel ?? b.textContent).trim())"
            ):
                plain = re.sub(r"\s*\d+$", "", text)
                there = plain in known | STAND | names or ABOUT_ONE.match(text)
                if not there and not any(plain.startswith(b) for b in buttons):
                    missing[text] = f"step {step} {tab}"
    assert not missing, "; ".join(f"{k} ({v})" for k, v in missing.items())


@pytest.mark.parametrize(
    ("asked", "comes"),
    [
        (
            "layer new",
            lambda page: expect(page.get_by_label("Name of a new layer")).to_be_focused(),
        ),
        ("flatten all", lambda page: expect(page.get_by_role("status").last).to_be_attached()),
        ("apply a recipe", lambda page: revision(page, 2)),
    ],
    ids=["layer", "flatten", "recipe"],
)
def test_commands_are_found_by_their_words_and_do_it(
    page: Page, asked: str, comes: Callable[[Page], None]
) -> None:
    bring_walk(page, f"walk_asked_{asked.split()[0]}")
    page.keyboard.press("Control+k")
    page.keyboard.type(asked)
    page.keyboard.press("Enter")
    comes(page)
    settled(page)


@pytest.mark.parametrize("size", [(1280, 800), (1024, 700), (853, 533)])
def test_nothing_scrolls_sideways_or_is_cut_off(page: Page, size: tuple[int, int]) -> None:
    open_take(page, "Signal lamp, take 01")
    page.set_viewport_size({"width": size[0], "height": size[1]})
    stage = box(page, "stage")
    assert stage["height"] >= 150
    for step in "1234567890":
        page.keyboard.press(f"Alt+{step}")
        settled(page)
        for tab in page.locator("[data-panel] [role=tab]").all():
            tab.click()
            settled(page)
            wide = page.evaluate(
                """() => [...document.querySelectorAll('[data-panel], [data-panel] *')]
                  .filter((e) => ['auto', 'scroll'].includes(getComputedStyle(e).overflowX)
                    && e.scrollWidth > e.clientWidth + 1 && e.clientWidth > 0)
                  .map((e) => [e.className, e.scrollWidth, e.clientWidth])"""
            )
            assert wide == [], (step, tab.inner_text())
    for name in ("Keyboard", "Commands"):
        button = page.get_by_role("button", name=name, exact=True).first.bounding_box()
        assert button is not None
        assert button["x"] + button["width"] <= size[0]


@pytest.fixture(scope="module")
def flipped() -> Capture:
    return captured(TAKES[2])


def test_a_list_of_findings_names_its_joints_in_full(page: Page, flipped: Capture) -> None:
    bring_in(page, "walk_findings", write_bvh(flipped.clip))
    page.keyboard.press("Alt+2")
    settled(page)
    cut = page.locator("[data-finding] span.truncate").evaluate_all(
        "all => all.filter(e => e.scrollWidth > e.clientWidth).map(e => e.textContent)"
    )
    shown = page.locator("[data-finding]").count()
    assert shown > 20
    # Where a channel is named too its end may be cut: the joint never is.
    assert [text for text in cut if " " not in text] == []


def test_selected_keys_outside_the_view_are_pointed_to(page: Page) -> None:
    bring_figure(page, "outside", figure(Arm_ry=keyed([0, 60, 120, 200], [0, 10, -5, 0])))
    pick_channel(page, "turn Y")
    sheet = page.get_by_test_id("sheet")
    page.keyboard.press("Control+a")
    settled(page)
    expect(sheet).to_have_attribute("data-outside", "")
    page.get_by_test_id("frame").fill("60")
    page.keyboard.press("Enter")
    page.get_by_role("button", name="Around now").click()
    settled(page)
    expect(sheet).to_have_attribute("data-outside", re.compile(r"← 1 → 2"))
