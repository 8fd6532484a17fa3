"""A take retargeted to another character by pointer: mapped, shaped, worked on, read back."""

from __future__ import annotations

import re
from pathlib import Path

import numpy as np
from leancurve.cleaning.contacts import contacts_of
from leancurve.demo.characters import heron
from leancurve.document.evaluation import evaluate
from leancurve.formats.bvh import read_bvh
from playwright.sync_api import Page, expect

from tests.e2e.conftest import clip_now, delivered, settled
from tests.e2e.takes import bring_walk
from tests.e2e.test_cleaning import revision
from tests.e2e.test_planting import places

RETARGETED = "walk_to_retarget · Heron"


def link_row(page: Page, joint: str) -> object:
    return page.get_by_label(f"{joint} has its turn from")


def test_a_take_is_retargeted_to_heron_shaped_worked_on_and_delivered(
    page: Page, tmp_path: Path
) -> None:
    bring_walk(page, "walk_to_retarget")
    page.keyboard.press("Alt+7")
    expect(page.get_by_role("button", name="Choose a skeleton")).to_be_disabled()
    page.get_by_label("Skeleton to retarget onto").select_option(label="Heron, 64 joints")
    numbers = page.get_by_test_id("retarget-numbers")
    expect(numbers).to_contain_text("Slide in contact")
    settled(page)
    expect(page.get_by_text("64 of 64 joints mapped")).to_be_visible()

    # One joint of the map by hand: it says so, and what was found is one choice away.
    page.get_by_role("button", name="All joints").click()
    head = link_row(page, "Head")
    head.select_option("Neck2")  # type: ignore[attr-defined]
    settled(page)
    row = page.get_by_role("listitem").filter(has=page.get_by_label("Head has its turn from"))
    expect(row).to_contain_text("by hand")
    head.select_option(label="as it was found")  # type: ignore[attr-defined]
    settled(page)
    expect(row).to_contain_text("sure")
    # The toes follow their feet.
    for toe in ("LeftToes", "RightToes"):
        link_row(page, toe).select_option(label="unmapped")  # type: ignore[attr-defined]
    settled(page)
    expect(page.get_by_text("62 of 64 joints mapped")).to_be_visible()

    # An arm turned at rest, hands to half.
    page.get_by_label("Turn by hand at rest").select_option("LeftUpArm")
    turn = page.get_by_label("Turn of LeftUpArm about forward, degrees")
    turn.fill("6")
    turn.press("Enter")
    hands = page.get_by_role("slider", name="Hands to what they hold and touch")
    hands.focus()
    for _ in range(10):
        hands.press("ArrowLeft")
    settled(page)
    expect(hands).to_have_attribute("aria-valuetext", "50 %")

    page.get_by_role("button", name="Retarget to Heron").click()
    made = page.get_by_role("link", name=RETARGETED)
    expect(made).to_be_visible()
    made.click()
    page.get_by_role("heading", level=1, name=RETARGETED).wait_for()
    settled(page)
    clip = clip_now(page)
    assert [j["name"] for j in clip["joints"]] == list(heron().names)
    line = clip["head"]["recipe"][1]
    assert line["operation"] == "retarget"
    assert line["params"]["hands"] == 0.5
    assert line["params"]["rest"] == {"LeftUpArm": [0, 0, 6]}
    assert line["params"]["joints"] == {"LeftToes": "", "RightToes": ""}
    assert clip["plants"]
    expect(page.get_by_text("Retargeted from")).to_be_visible()

    # Feet are held by plants, which are dragged on the stage as any.
    plant = next(p for p in clip["plants"] if p["part"].endswith("heel"))
    page.keyboard.press("Alt+6")
    frame = (plant["first"] + plant["last"]) // 2
    page.get_by_test_id("frame").fill(str(frame))
    page.keyboard.press("Enter")
    page.get_by_role("button", name=re.compile(rf"^{plant['part']}\s+{plant['first']}–")).click()
    page.get_by_test_id("frame").fill(str(frame))
    page.keyboard.press("Enter")
    page.get_by_role("button", name="Top", exact=True).click()
    settled(page)
    before = clip["head"]["number"]
    x, y = places(page)[plant["part"]]
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x + 20, y + 10, steps=4)
    page.mouse.up()
    revision(page, before + 1)
    settled(page)
    moved = clip_now(page)
    now = next(
        p for p in moved["plants"] if (p["part"], p["first"]) == (plant["part"], plant["first"])
    )
    assert np.linalg.norm(np.array(now["place"]) - plant["place"]) > 0.005  # metres

    page.keyboard.press("Alt+9")
    back = read_bvh(delivered(page, tmp_path / "heron.bvh")).clip
    assert back.skeleton.names == heron().names
    at = evaluate(back).world(back.skeleton)[1][frame]
    heel = at[back.skeleton.index("LeftAnkle" if "left" in plant["part"] else "RightAnkle")]
    # The toe is held as well, so the heel goes as far towards its new place as the foot is long.
    toward = np.array(now["place"]) - plant["place"]
    assert (heel - np.array(plant["place"])) @ toward > 0.1 * (toward @ toward)
    assert contacts_of(back)


def test_the_source_goes_on_and_the_retargeted_clip_is_retargeted_again(page: Page) -> None:
    bring_walk(page, "walk_that_goes_on")
    source = page.url
    page.keyboard.press("Alt+7")
    page.get_by_label("Skeleton to retarget onto").select_option(label="Wren, 52 joints")
    expect(page.get_by_test_id("retarget-numbers")).to_be_visible()
    settled(page)
    page.get_by_role("button", name="Retarget to Wren").click()
    made = page.get_by_role("link", name="walk_that_goes_on · Wren")
    expect(made).to_be_visible()
    page.keyboard.press("Alt+4")
    page.get_by_role("button", name="Smooth", exact=True).first.click()
    page.get_by_role("button", name="Apply", exact=True).first.click()
    revision(page, 2)
    settled(page)

    page.keyboard.press("Alt+7")
    made.click()
    page.get_by_role("heading", level=1, name="· Wren").wait_for()
    settled(page)
    expect(page.get_by_text("The source has gone on since.")).to_be_visible()
    page.get_by_role("button", name="Retarget again").click()
    revision(page, 3)
    settled(page)
    expect(page.get_by_text("The source has gone on since.")).to_have_count(0)
    assert clip_now(page)["retargeted"]["newest"] is None

    # The way it is retargeted is changed in its line; the way back leads to the source.
    page.get_by_role("slider", name="Collar bones turn along").focus()
    page.keyboard.press("Home")
    page.get_by_role("button", name="Change how it is retargeted").click()
    revision(page, 4)
    settled(page)
    assert clip_now(page)["head"]["recipe"][1]["params"]["clavicles"] == 0
    page.get_by_label("Where it comes from").get_by_role("link").click()
    page.get_by_role("heading", level=1, name="walk_that_goes_on").wait_for()
    assert page.url == source


def test_chosen_takes_are_retargeted_onto_a_character_from_the_shelf(page: Page) -> None:
    for name in ("one_to_retarget", "two_to_retarget"):
        bring_walk(page, name)
        page.get_by_role("link", name="Shelf").click()
        page.get_by_label(f"Choose {name}").wait_for()
    for name in ("one_to_retarget", "two_to_retarget"):
        page.get_by_label(f"Choose {name}", exact=True).check()
    page.get_by_role("button", name="Retarget 2 onto a character").click()
    page.get_by_label("Onto").select_option(label="Wren")
    page.get_by_role("button", name="Retarget", exact=True).click()
    for name in ("one_to_retarget", "two_to_retarget"):
        card = page.get_by_role("heading", name=f"{name} · Wren", exact=True)
        expect(card).to_be_visible()
    page.get_by_role("button", name=re.compile("^(Open|Go on): two_to_retarget · Wren")).click()
    page.get_by_role("heading", level=1, name="two_to_retarget · Wren").wait_for()
    settled(page)
    assert len(clip_now(page)["joints"]) == 52


def test_a_rest_is_dragged_a_chain_set_and_parts_of_another_take_brought_over(page: Page) -> None:
    bring_walk(page, "walk_that_borrows")
    page.keyboard.press("Alt+7")
    page.get_by_label("Skeleton to retarget onto").select_option(label="Heron, 64 joints")
    expect(page.get_by_test_id("retarget-numbers")).to_be_visible()
    settled(page)

    # The left arm's bone pulled down in the picture, seen from the front: about forward alone.
    page.get_by_label("Turn by hand at rest").select_option("LeftUpArm")
    # As it was kept for the two skeletons, if it was.
    begun = float(page.get_by_label("Turn of LeftUpArm about forward, degrees").input_value())
    settled(page)
    bone = page.get_by_test_id("swing-LeftLowArm")
    bone.hover()
    settled(page)
    box = bone.bounding_box()
    assert box is not None
    x, y = box["x"] + 0.9 * box["width"], box["y"] + 0.5 * box["height"]
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x, y + 4, steps=2)
    # Numbers above the picture arrive meanwhile: the bone goes with the pointer all the same.
    page.get_by_test_id("retarget-numbers").evaluate("(e) => { e.style.marginTop = '30px' }")
    page.mouse.move(x, y + 8, steps=2)
    page.mouse.up()
    settled(page)
    turns = [
        float(page.get_by_label(f"Turn of LeftUpArm about {axis}, degrees").input_value())
        for axis in ("left", "up", "forward")
    ]
    assert turns[:2] == [0, 0]
    assert -60 < turns[2] - begun < -2  # the left arm goes down
    page.get_by_role("button", name="Rest as it was found").click()

    # The spine set by hand to follow the neck's two joints: both ends say so.
    page.get_by_role("button", name="Set a chain by hand").click()
    page.get_by_label("Last joint of the chain, this clip").select_option("Neck2")
    page.get_by_label("First joint of the chain, this clip").select_option("Neck1")
    page.get_by_label("Last joint of the chain, the other").select_option("SpineF")
    page.get_by_label("First joint of the chain, the other").select_option("SpineD")
    page.get_by_role("button", name="Let it follow").click()
    settled(page)
    expect(page.get_by_text("SpineD … SpineF follows Neck1 … Neck2")).to_be_visible()
    for joint, source in (("SpineD", "Neck1"), ("SpineF", "Neck2")):
        row = page.get_by_role("listitem").filter(
            has=page.get_by_label(f"{joint} has its turn from")
        )
        expect(row).to_contain_text("by hand")
        expect(page.get_by_label(f"{joint} has its turn from")).to_have_value(source)
    page.get_by_role("button", name="Delete the chain onto SpineD to SpineF").click()
    settled(page)

    # The left arm of another take in this one, previewed and kept.
    page.get_by_role("button", name="Bring parts over").click()
    card = page.get_by_role("region", name="Bring parts over")
    expect(card.get_by_role("button", name="Preview")).to_be_disabled()
    card.get_by_label("Clip to bring parts of").select_option(label="Signal lamp, take 01")
    card.get_by_label("Which joints").select_option("left arm")
    card.get_by_role("button", name="Preview").click()
    expect(card).to_contain_text("Most turned")
    before = clip_now(page)
    card.get_by_role("button", name="Apply").click()
    revision(page, 2)
    settled(page)
    after = clip_now(page)
    line = after["head"]["recipe"][-1]
    assert line["operation"] == "bring_over"
    assert line["scope"]["groups"] == ["left arm"]
    assert line["inputs"]["source"]
    assert after["frames"] == before["frames"]
