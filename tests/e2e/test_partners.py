"""Two figures in one scene by pointer: a partner stands beside, is met half way, and delivered."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from leancurve.demo.characters import heron
from leancurve.formats.bvh import read_bvh
from playwright.sync_api import Page, expect

from tests.e2e import takes
from tests.e2e.conftest import delivered, settled, to_shelf
from tests.e2e.test_cleaning import revision
from tests.e2e.test_the_whole_job import stage_picture


def told(page: Page, clip: str) -> dict[str, Any]:
    return dict(page.request.get(clip).json())


def post(page: Page, path: str, data: dict[str, Any]) -> None:
    token = next(c["value"] for c in page.context.cookies() if c["name"] == "csrftoken")
    answer = page.request.post(path, data=data, headers={"X-CSRFToken": token})
    assert answer.ok, answer.text()


def test_a_partner_stands_beside_is_met_half_way_and_goes_along(page: Page) -> None:
    takes.bring_walk(page, "walk_mate")
    mate = page.url.replace("/clip/", "/api/clips/")
    to_shelf(page)
    takes.bring_walk(page, "walk_meets")
    clip = page.url.replace("/clip/", "/api/clips/")
    page.keyboard.press("Alt+6")
    settled(page)
    alone = stage_picture(page)
    page.get_by_label("Add a partner").select_option(label="walk_mate")
    row = page.get_by_role("region", name="Partners").get_by_role("listitem")
    expect(row).to_have_count(1)
    along = page.get_by_label("The partner is moved along X, cm")
    along.fill("50")
    along.press("Enter")
    revision(page, 3)
    settled(page)
    (partner,) = told(page, clip)["partners"]
    assert (partner["name"], partner["moved"]) == ("walk_mate", [500, 0, 0])
    beside = stage_picture(page)
    assert beside != alone, "it is drawn"

    row.get_by_role("button", name="Mute walk_mate").click()
    revision(page, 4)
    settled(page)
    assert stage_picture(page) == alone
    page.get_by_role("button", name="Undo", exact=True).click()
    settled(page)
    assert stage_picture(page) == beside

    # With trails, the way of its joint that the row names is drawn, and of no other.
    page.keyboard.press("Shift+X")
    settled(page)
    trailed = stage_picture(page)
    assert trailed != beside
    page.get_by_label("Joint of the partner").select_option(label="LeftHand")
    settled(page)
    assert stage_picture(page) not in (trailed, beside)
    page.keyboard.press("Shift+X")
    settled(page)
    assert stage_picture(page) == beside

    page.get_by_role("button", name="Meet half way, 0 – 30").click()
    revision(page, 7)
    settled(page)
    met, other = told(page, clip), told(page, mate)
    assert [(p["part"], p["first"], p["last"]) for p in met["plants"]] == [("right hand", 0, 30)]
    assert [(p["part"], p["first"], p["last"]) for p in other["plants"]] == [("left hand", 0, 30)]
    assert met["partners"][0]["digest"] == other["head"]["state"]
    expect(row.get_by_text("has changed since")).to_have_count(0)

    # The partner's clip goes on: it says so here, and is taken over in one press.
    line = {"operation": "reverse", "params": {}}
    asked = {"revision": other["head"]["id"], "request_id": "6f0f4a4e-8a50-4d0e-9a7a-0d9a1c5d6a01"}
    post(page, f"{mate}/writes", {**asked, "append": line})
    page.reload()
    page.get_by_role("button", name="Update walk_mate").click()
    expect(row.get_by_text("has changed since")).to_have_count(0)
    settled(page)
    assert told(page, clip)["partners"][0]["digest"] == told(page, mate)["head"]["state"]

    page.keyboard.press("Alt+9")
    page.get_by_label("Partners as figures of their own").check()
    page.get_by_role("button", name="Delete partner walk_mate").wait_for(state="hidden")
    page.keyboard.press("Alt+6")
    page.get_by_role("button", name="Delete partner walk_mate").click()
    expect(row).to_have_count(0)
    settled(page)
    assert told(page, clip)["partners"] == []


def test_a_prop_changes_hands_at_now(page: Page) -> None:
    takes.bring_walk(page, "walk_hands_over")
    clip = page.url.replace("/clip/", "/api/clips/")
    page.keyboard.press("Alt+6")
    page.get_by_role("button", name="Make one").click()
    revision(page, 2)
    page.get_by_role("button", name="box 1").first.click()
    page.get_by_label("Joint it is handed over to").select_option(label="LeftHand")
    for _ in range(5):
        page.keyboard.press("ArrowRight")
    page.get_by_role("button", name="Hand over at").click()
    revision(page, 3)
    (line,) = [x for x in told(page, clip)["head"]["recipe"] if x["params"].get("edits")][1:]
    assert line["params"]["edits"][0]["do"] == "hand_over"
    assert line["params"]["edits"][0]["joints"] == ["LeftHand"]


def test_a_scene_from_two_takes_to_heron(page: Page, tmp_path: Path) -> None:
    """One day by pointer: joined and mirrored, kept in place, met by a partner, looped, delivered
    on another skeleton, and read back."""
    takes.bring_walk(page, "scene_mate")
    to_shelf(page)
    takes.bring_walk(page, "scene_walk")
    clip = page.url.replace("/clip/", "/api/clips/")
    page.keyboard.press("Alt+J")
    page.get_by_label("Clip to join").select_option(label="scene_mate")
    part = page.get_by_role("list", name="Clips that follow").get_by_role("listitem")
    part.get_by_label("mirrored").check()
    page.get_by_role("button", name="Join them").click()
    revision(page, 2)
    settled(page)
    (seam,) = told(page, clip)["head"]["report"]["seams"]
    assert seam["slide_mm"] <= 2.0

    page.keyboard.press("Alt+8")
    page.get_by_role("tab", name="Time").click()
    loops = page.get_by_role("region", name="Loops")
    loops.get_by_role("button", name="Find loops").click()
    loops.get_by_role("button", name="Make").first.click()
    expect(loops.get_by_role("link", name="loop of")).to_be_visible()
    for end, frame in (("First", "120"), ("Last", "150")):
        field = page.get_by_label(f"{end} frame of the range")
        field.fill(frame)
        field.press("Enter")
    page.get_by_role("button", name="Travel", exact=True).click()
    travel = page.get_by_role("region", name="Travel", exact=True)
    travel.get_by_label("Which frames").select_option("range")
    travel.get_by_role("button", name="Apply").click()
    revision(page, 3)
    settled(page)
    page.keyboard.press("Alt+6")
    page.get_by_label("Add a partner").select_option(label="scene_mate")
    along = page.get_by_label("The partner is moved along X, cm")
    along.fill("50")
    along.press("Enter")
    revision(page, 5)
    settled(page)
    page.get_by_role("button", name="Meet half way, 120 – 150").click()
    revision(page, 8)
    settled(page)
    met = told(page, clip)
    assert ("right hand", 120, 150) in {(p["part"], p["first"], p["last"]) for p in met["plants"]}

    page.keyboard.press("Alt+7")
    page.get_by_label("Skeleton to retarget onto").select_option(label="Heron, 64 joints")
    expect(page.get_by_test_id("retarget-numbers")).to_be_visible()
    settled(page)
    page.get_by_role("button", name="Retarget to Heron").click()
    made = page.get_by_role("link", name="scene_walk · Heron")
    expect(made).to_be_visible()
    made.click()
    page.get_by_role("heading", level=1, name="scene_walk · Heron").wait_for()
    settled(page)
    page.keyboard.press("Alt+9")
    back = read_bvh(delivered(page, tmp_path / "scene.bvh")).clip
    assert [n for n in back.skeleton.names if n in heron().names] == list(heron().names)
    assert back.frames == met["frames"]
