"""Clips joined by pointer: on the bench, in the picture of all pairs, and from the shelf."""

from __future__ import annotations

import re
from dataclasses import replace
from typing import Any

import pytest
from leancurve.curves.curve import keyed
from leancurve.formats.clipjson import write_clip
from playwright.sync_api import Page, expect

from tests.e2e import takes
from tests.e2e.conftest import settled, to_shelf
from tests.e2e.test_cleaning import RULER, revision
from tests.e2e.test_planting import strip_x
from tests.e2e.test_shaping import bring_in, drag, figure
from tests.e2e.test_the_whole_job import box, stage_picture


def test_a_clip_is_joined_after_this_one_and_the_join_changed(page: Page) -> None:
    """By pointer: found, blended, feet held; then mirrored and entered elsewhere, then undone."""
    takes.bring_walk(page, "walk_second")
    second = page.request.get(page.url.replace("/clip/", "/api/clips/")).json()["frames"]
    to_shelf(page)
    takes.bring_walk(page, "walk_first")
    clip = page.url.replace("/clip/", "/api/clips/")

    def now() -> dict[str, Any]:
        return dict(page.request.get(clip).json())

    first = now()["frames"]
    page.keyboard.press("Alt+J")
    page.get_by_label("Clip to join").select_option(label="walk_second")
    follows = page.get_by_role("list", name="Clips that follow")
    expect(follows.get_by_role("listitem", name="walk_second")).to_be_visible(timeout=60_000)
    page.get_by_role("button", name="Join them").click()
    revision(page, 2)
    settled(page)
    joined = now()
    (seam,) = joined["head"]["report"]["seams"]
    assert joined["frames"] == seam["at"] - seam["enter"] + second > first
    assert seam["slide_mm"] <= 2.0
    assert joined["plants"]
    line = joined["head"]["recipe"][-1]
    assert (line["operation"], len(line["inputs"]["parts"])) == ("join", 1)

    part = follows.get_by_role("listitem", name="walk_second")
    part.get_by_label("mirrored").check()
    part.get_by_label("walk_second is entered at", exact=True).fill("100")
    part.get_by_label("walk_second is entered at", exact=True).press("Enter")
    page.get_by_role("button", name="Change the join").click()
    revision(page, 3)
    settled(page)
    changed = now()
    assert [x["operation"] for x in changed["head"]["recipe"]].count("join") == 1
    (seam,) = changed["head"]["report"]["seams"]
    assert seam["enter"] == 100
    assert changed["frames"] == seam["at"] - 100 + second
    page.get_by_role("button", name="Undo", exact=True).click()
    settled(page)
    assert now()["frames"] == joined["frames"]
    expect(part.get_by_label("mirrored")).not_to_be_checked()


def test_a_seam_is_chosen_in_the_picture_of_all_pairs_and_the_clip_laid_by_hand(
    page: Page,
) -> None:
    """By pointer: the stage follows over the picture; a press chooses; the figure is dragged, and
    the part's beginning on the strip."""
    takes.bring_walk(page, "walk_then")
    to_shelf(page)
    takes.bring_walk(page, "walk_here")
    clip = page.url.replace("/clip/", "/api/clips/")
    page.keyboard.press("Alt+J")
    page.get_by_label("Clip to join").select_option(label="walk_then")
    page.get_by_role("button", name="Seams to walk_then").click()
    picture = page.get_by_test_id("pairs")
    expect(picture).to_be_visible(timeout=60_000)
    settled(page)
    best = page.get_by_role("list", name="Best seams").get_by_role("button")
    expect(best).to_have_count(3)
    alone = stage_picture(page)
    seen = box(page, "pairs")
    page.mouse.move(seen["x"] + 0.9 * seen["width"], seen["y"] + 0.3 * seen["height"])
    expect(page.get_by_text(re.compile(r"^\d+ to \d+: about \d+ mm apart$"))).to_be_visible()
    settled(page)
    assert stage_picture(page) != alone

    left = page.get_by_label("walk_here is left at", exact=True)
    entered = page.get_by_label("walk_then is entered at", exact=True)
    page.mouse.click(seen["x"] + 0.9 * seen["width"], seen["y"] + 0.3 * seen["height"])
    frames = page.request.get(clip).json()["frames"]
    assert int(left.input_value()) == pytest.approx(0.9 * frames, abs=3)
    assert int(entered.input_value()) == pytest.approx(0.3 * frames, abs=3)
    best.nth(1).click()
    leave, enter = re.findall(r"\d+", best.nth(1).inner_text())
    assert (left.input_value(), entered.input_value()) == (leave, enter)

    # The lighter figure stands at the seam as the other does: taken by the same place, it is moved.
    settled(page)
    stage = box(page, "stage")
    middle = stage["x"] + stage["width"] / 2, stage["y"] + stage["height"] / 2
    for dx in (0, -20, 20, -40, 40):
        page.mouse.move(middle[0] + dx, middle[1])
        page.mouse.down()
        page.mouse.move(middle[0] + dx + 60, middle[1] + 10, steps=4)
        page.mouse.up()
        if page.get_by_label("Laid by").input_value() == "hand":
            break
    expect(page.get_by_label("Laid by")).to_have_value("hand")
    # Escape in the middle of a drag: it stands where it stood.
    held = middle[0] + dx + 60, middle[1] + 10
    along = page.get_by_label("Moved along X, cm")
    settled(page)
    laid = along.input_value()
    page.mouse.move(*held)
    page.mouse.down()
    page.mouse.move(held[0] - 80, held[1] + 15, steps=4)
    expect(along).not_to_have_value(laid)
    page.keyboard.press("Escape")
    page.mouse.up()
    expect(along).to_have_value(laid)
    page.get_by_label("Turned, degrees").fill("15")
    page.get_by_label("Turned, degrees").press("Enter")
    page.get_by_role("button", name="Preview").click()
    expect(page.get_by_text(re.compile(r"entered at \d+: \d+ mm apart"))).to_be_visible(
        timeout=120_000
    )
    page.get_by_role("button", name="Join them").click()
    revision(page, 2)
    settled(page)
    (seam,) = page.request.get(clip).json()["head"]["report"]["seams"]
    assert (seam["leave"], seam["enter"], seam["turned_deg"]) == (int(leave), int(enter), 15)

    # Trimmed on the strip: what follows is entered later.
    frames = page.request.get(clip).json()["frames"]
    lane = box(page, "strip")["y"] + RULER + 8
    at, there = (strip_x(page, seam["first"] + by, frames) for by in (0, 30))
    stands = page.get_by_text(re.compile(r"entered at \d+: \d+ mm apart"))
    expect(stands).to_be_visible()
    page.mouse.move(at, lane)
    page.mouse.down()
    page.mouse.move(there, lane, steps=4)
    expect(entered).not_to_have_value(enter)
    expect(stands).to_be_hidden()
    page.keyboard.press("Escape")
    page.mouse.up()
    expect(entered).to_have_value(enter)
    expect(stands, "as it stood, laid by hand").to_be_visible()
    drag(page, (at, lane), (there, lane))
    expect(entered).not_to_have_value(enter)
    assert int(entered.input_value()) > int(enter)


DROP = """([type, name, text]) => {
  const carried = new DataTransfer()
  if (type === 'file') carried.items.add(new File([text], name))
  else carried.setData(type, text)
  const stage = document.querySelector('[data-testid="view-one"]')
  for (const what of ['dragover', 'drop'])
    stage.dispatchEvent(new DragEvent(what, {
      dataTransfer: carried, bubbles: true, cancelable: true,
    }))
}"""


def test_what_is_dropped_on_the_stage_is_asked_after(page: Page) -> None:
    """A file comes in and is joined after this clip; a card of the shelf is laid onto a layer."""
    bring_in(page, "stays", figure(Arm_ry=keyed([0, 200], [0, 40])))
    clip = page.url.replace("/clip/", "/api/clips/")
    after = write_clip(
        replace(figure(Arm_ry=keyed([0, 200], [40, 0])), name="comes_after")
    ).decode()
    page.evaluate(DROP, ["file", "comes_after.json", after])
    asked = page.get_by_role("dialog", name="comes_after")
    asked.get_by_role("button", name="After this clip").click(timeout=60_000)
    follows = page.get_by_role("list", name="Clips that follow")
    expect(follows.get_by_role("listitem", name="comes_after")).to_be_visible()

    workspace = page.request.get(clip).json()["workspace"]
    takes_here = page.request.get(f"/api/workspaces/{workspace}/takes").json()
    (take,) = (t["id"] for t in takes_here if t["name"] == "comes_after")
    page.evaluate(DROP, ["text/x-lean-take", "", str(take)])
    asked.get_by_role("button", name="Onto a layer").click()
    revision(page, 2)
    assert [x["name"] for x in page.request.get(clip).json()["layers"]] == ["comes_after"]
    page.evaluate(DROP, ["text/x-lean-take", "", "999999"])
    expect(page.get_by_text("That take is not in this workspace")).to_be_visible()


def test_takes_are_joined_in_the_order_of_the_shelf(page: Page) -> None:
    """Chosen one after the other: the second comes after the first, as a clip of its own."""
    for name in ("walk_after", "walk_before"):
        takes.bring_walk(page, name)
        to_shelf(page)
    for name in ("walk_before", "walk_after"):
        page.get_by_label(f"Choose {name}", exact=True).check()
    page.get_by_role("button", name="Join 2 in this order").click()
    made = page.get_by_role("heading", name="walk_before, then walk_after")
    expect(made).to_be_visible(timeout=120_000)
    page.get_by_role("button", name="walk_before, then walk_after").last.click()
    page.wait_for_url("**/clip/*")
    settled(page)
    clip = page.request.get(page.url.replace("/clip/", "/api/clips/")).json()
    assert [x["operation"] for x in clip["head"]["recipe"]] == ["read", "join"]
    assert clip["head"]["report"]["seams"][0]["name"] == "walk_after"


def test_a_clip_is_trimmed_from_the_shelf(page: Page) -> None:
    takes.bring_walk(page, "walk_long")
    clip = page.url.replace("/clip/", "/api/clips/")
    to_shelf(page)
    page.get_by_role("button", name="Trim walk_long").click()
    asked = page.get_by_role("dialog", name="Trim walk_long")
    expect(asked.get_by_role("button", name="Trim", exact=True)).to_be_disabled()
    for label, frame in (("First", "100"), ("Last", "399")):
        field = asked.get_by_label(f"{label} frame that is kept")
        field.fill(frame)
        field.press("Enter")
    expect(asked.get_by_text("The take stays as it is.")).to_contain_text("4.98 s of 9.98 s")
    asked.get_by_role("button", name="Trim", exact=True).click()
    expect(asked).to_be_hidden()
    card = page.get_by_role("listitem").filter(has=page.get_by_role("heading", name="walk_long"))
    expect(card).to_contain_text("now: 4.98 s · 300 frames")
    told = page.request.get(clip).json()
    assert told["frames"] == 300
    assert [line["operation"] for line in told["head"]["recipe"]] == ["read", "trim"]
    assert told["can_undo"]
