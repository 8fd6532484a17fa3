"""Plants by pointer: a slide's remedy, an ease on the strip, hips dragged, a place moved, muted."""

from __future__ import annotations

import re
import time
from pathlib import Path

import numpy as np
from leancurve.curves.curve import KeyedCurve, stored_curve
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.formats.bvh import read_bvh
from leancurve.numbers.arrays import Floats
from PIL import Image
from playwright.sync_api import Page, expect
from safetensors.numpy import load

from tests.e2e.conftest import clip_now, delivered, settled
from tests.e2e.takes import bring_walk, short_walk
from tests.e2e.test_cleaning import LANE, RULER, STRIP_LABELS, STRIP_LEFT, card, revision
from tests.e2e.test_shaping import drag, place
from tests.e2e.test_the_whole_job import box, stage_picture
from tests.e2e.test_timing import gizmo
from tests.pace import patient

PLANTS_LANE = 2  # below keys and contacts, lanes folded


def world_now(page: Page, clip: Clip, frame: int) -> Floats:
    """Where the joints are on a frame of the clip's head, asked of the server."""
    address = page.url.replace("/clip/", "/api/clips/")
    head = page.request.get(address).json()["head"]["id"]
    arrays = load(page.request.get(f"{address}/poses?revision={head}").body())
    pose = evaluate(clip, np.array([float(frame)]))
    pose.rotation[0] = arrays["rotation"][frame]
    pose.translation[0][arrays["moving"]] = arrays["translation"][frame]
    return pose.world(clip.skeleton)[1][0]


def places(page: Page) -> dict[str, tuple[float, float]]:
    """Where plants' places are on the page, by part."""
    pane = page.get_by_test_id("view-one")
    told = pane.get_attribute("data-places") or ""
    at = box(page, "view-one")
    found = re.findall(r"([a-z ]+):(-?[\d.]+),(-?[\d.]+)", told)
    return {part.strip(): (at["x"] + float(x), at["y"] + float(y)) for part, x, y in found}


def strip_x(page: Page, frame: float, frames: int) -> float:
    at = box(page, "strip")
    return at["x"] + STRIP_LEFT + frame / (frames - 1) * (at["width"] - STRIP_LEFT - STRIP_LABELS)


def around(page: Page, point: tuple[float, float], half: int, path: Path) -> np.ndarray:
    x, y = point
    clip = {"x": x - half, "y": y - half, "width": 2 * half, "height": 2 * half}
    page.screenshot(path=path, clip=clip)
    return np.asarray(Image.open(path).convert("L"), dtype=float)


def test_a_slide_is_planted_from_its_finding_and_worked_on_by_hand(
    page: Page, tmp_path: Path
) -> None:
    walk = short_walk()
    bring_walk(page, "walk_to_plant")
    page.keyboard.press("Alt+2")
    page.get_by_role("button", name=re.compile(r"^slides \d+")).click()
    page.get_by_role("button", name=re.compile("^Mend slide")).first.click()

    # The remedy opens on the slide's span and joint, and says what it would do.
    plant = card(page, "Plant the feet")
    expect(page.get_by_role("heading", name="Plant", exact=True)).to_be_visible()
    plant.get_by_role("button", name="Preview").click()  # type: ignore[attr-defined]
    numbers = page.get_by_test_id("preview-numbers")
    expect(numbers.locator("div", has_text="Foot slide").first).to_contain_text("→")
    slides = numbers.locator("div", has_text="Findings: slides").locator("dd")
    before, after = (int(n) for n in re.findall(r"\d+", slides.inner_text()))
    assert after == before - 1
    plant.get_by_role("button", name="Apply").click()  # type: ignore[attr-defined]
    revision(page, 2)
    settled(page)
    planted = clip_now(page)["plants"]
    assert 1 <= len(planted) <= 2
    assert {p["part"].split()[0] for p in planted} == {planted[0]["part"].split()[0]}

    # All of the feet; the list has them with what they did.
    plant.get_by_label("Which frames").select_option("whole clip")  # type: ignore[attr-defined]
    plant.get_by_label("Which joints").select_option("whole body")  # type: ignore[attr-defined]
    plant.get_by_role("button", name="Apply").click()  # type: ignore[attr-defined]
    revision(page, 3)
    settled(page)
    expect(page.get_by_test_id("plant-figures")).to_contain_text("Foot slide")
    every = clip_now(page)["plants"]
    listed = page.get_by_role("list", name="Plants").get_by_role("listitem")
    expect(listed).to_have_count(len(every))
    card(page, "Plant the feet").get_by_role("button", name="Plant the feet").first.click()  # type: ignore[attr-defined]

    # An ease is dragged by the far end of its ramp on the strip.
    heel = next(p for p in every if p["part"] == "left heel" and p["first"] > 200)
    y = box(page, "strip")["y"] + RULER + (PLANTS_LANE + 0.3) * LANE
    end = heel["last"] + heel["ease_out"]
    start = strip_x(page, end, walk.frames)
    number = clip_now(page)["head"]["number"]
    page.mouse.move(start, y)
    strip = page.get_by_test_id("strip")
    assert strip.evaluate("canvas => canvas.style.cursor") == "col-resize"
    page.mouse.down()
    page.mouse.move(strip_x(page, end - 15, walk.frames), y, steps=4)
    page.mouse.up()
    revision(page, number + 1)
    settled(page)
    eased = next(
        p for p in clip_now(page)["plants"]
        if p["part"] == "left heel" and p["first"] == heel["first"]
    )  # fmt: skip
    assert abs(eased["ease_out"] - (heel["ease_out"] - 15)) <= 3

    # The hips are dragged: what is planted stays, in the picture and when it is kept.
    held = (heel["first"] + heel["last"]) // 2
    field = page.get_by_test_id("frame")
    field.fill(str(held))
    field.press("Enter")
    settled(page)
    page.get_by_role("button", name="Look there").wait_for()
    stood = places(page)
    assert "left heel" in stood
    before_world = world_now(page, walk, held)
    page.locator("[data-joint]", has_text="Hips").first.click()
    page.get_by_role("button", name="Pose", exact=True).click()
    page.get_by_role("button", name="Move", exact=True).click()
    settled(page)
    foot = around(page, stood["left toe"], 7, tmp_path / "a.png")
    whole = around(page, gizmo(page, "x"), 30, tmp_path / "b.png")
    x, y = gizmo(page, "x")
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x + 14, y, steps=6)

    def moved() -> tuple[float, float]:
        """How unlike the pictures around the foot and around the hips are to those before."""
        toe = around(page, stood["left toe"], 7, tmp_path / "a.png")
        hips = around(page, (x, y), 30, tmp_path / "b.png")
        return float(np.mean(np.abs(toe - foot))), float(np.mean(np.abs(hips - whole)))

    until = time.monotonic() + patient(10)
    while not (now := moved())[0] < 12 or not now[1] > 3:
        assert time.monotonic() < until, now
        page.wait_for_timeout(100)
    page.mouse.up()
    page.get_by_role("region", name="Unkeyed change").get_by_role(
        "button", name="Soft offset"
    ).click()
    settled(page)
    after_world = world_now(page, walk, held)
    hips, ankle = walk.skeleton.index("Hips"), walk.body.find("left foot")
    assert np.linalg.norm(after_world[hips] - before_world[hips]) * walk.millimetres > 5
    assert np.linalg.norm(after_world[ankle] - before_world[ankle]) * walk.millimetres < 1
    page.keyboard.press("Control+z")
    settled(page)
    page.get_by_role("button", name="Pose", exact=True).click()

    # A place is dragged over the floor, and the foot goes along.
    x, y = places(page)["left heel"]
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x + 12, y, steps=4)
    page.mouse.up()
    settled(page)
    moved = next(
        p for p in clip_now(page)["plants"]
        if p["part"] == "left heel" and p["first"] == heel["first"]
    )  # fmt: skip
    away = np.linalg.norm(np.array(moved["place"]) - heel["place"]) * walk.millimetres
    assert away > 5
    assert moved["place"][1] == heel["place"][1]
    page.keyboard.press("Control+z")
    settled(page)

    # Muted, the capture is seen again; undone, all of it.
    page.get_by_role("button", name="Mute all").click()
    settled(page)
    captured_foot = evaluate(walk).world(walk.skeleton)[1][held, ankle]
    assert np.abs(world_now(page, walk, held)[ankle] - captured_foot).max() < 1e-3
    page.keyboard.press("Control+z")
    settled(page)

    # What is delivered is the planted motion.
    page.keyboard.press("Alt+9")
    back = read_bvh(delivered(page, tmp_path / "delivered.bvh")).clip
    at = evaluate(back).world(back.skeleton)[1][held, ankle]
    assert np.linalg.norm(at - np.array(heel["place"])) * walk.millimetres < 0.1

    for _ in range(4):
        page.keyboard.press("Control+z")
        settled(page)
    assert clip_now(page)["plants"] == []


def end_place(page: Page) -> list[float]:
    fields = [page.get_by_label(f"Place of the end, {axis}") for axis in "XYZ"]
    return [float(f.input_value()) for f in fields]


def test_a_hand_is_pulled_by_its_limb_and_with_the_body_and_led_over_a_span(page: Page) -> None:
    walk = short_walk()
    bring_walk(page, "walk_to_pull")
    page.keyboard.press("Alt+8")
    page.get_by_role("tab", name="Pose").click()
    field = page.get_by_test_id("frame")
    field.fill("400")
    field.press("Enter")
    page.keyboard.press("j")
    page.get_by_label("Find a joint").fill("RightHand")
    page.keyboard.press("Enter")
    page.get_by_role("button", name="Pull", exact=True).last.click()
    page.get_by_role("button", name="World", exact=True).last.click()
    settled(page)
    hand = walk.body.find("right hand")
    start = evaluate(walk).world(walk.skeleton)[1][400, hand] * walk.millimetres / 10
    expect(page.get_by_label("Place of the end, X")).to_have_value(
        re.compile(rf"^{start[0]:.1f}$".replace(".0$", r"(\.0)?$"))
    )

    # By number, the limb alone: arm, forearm and hand are turned, nothing else.
    up = page.get_by_label("Place of the end, Y")
    up.fill(f"{start[1] + 12:.1f}")
    up.press("Enter")
    told = page.get_by_role("region", name="Unkeyed change")
    expect(told).to_contain_text("Not keyed: 3 joints at frame 400")
    settled(page)
    assert abs(end_place(page)[1] - (start[1] + 12)) < 0.11
    assert abs(end_place(page)[0] - start[0]) < 0.11
    told.get_by_role("button", name="Put back").click()

    # With the body, by the gizmo: hips and spine go along, and the hand is where it was led.
    page.get_by_label("How much of the way the body goes along").fill("0.8")
    x, y = gizmo(page, "y")
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x, y - 40, steps=4)
    said = page.get_by_test_id("posing-readout")
    expect(said).to_contain_text(re.compile(r"pull Y \+[\d.]+ cm"))
    led = float(re.findall(r"[\d.]+", said.inner_text())[0])
    page.mouse.up()
    settled(page)
    assert abs(end_place(page)[1] - (start[1] + led)) < 0.15
    assert int(re.findall(r"(\d+) joints", told.inner_text())[0]) > 5

    # Escape restores what stood before a drag; putting back, all of it.
    x, y = gizmo(page, "y")
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x, y + 60, steps=3)
    page.keyboard.press("Escape")
    page.mouse.up()
    settled(page)
    assert abs(end_place(page)[1] - (start[1] + led)) < 0.15
    told.get_by_role("button", name="Put back").click()
    page.get_by_label("How much of the way the body goes along").fill("0")

    # An elbow swings about its limb: the hand stays.
    page.get_by_label("Find a joint").fill("RightForearm")
    page.keyboard.press("Enter")
    settled(page)
    elbow = end_place(page)
    side = page.get_by_label("Place of the end, X")
    side.fill(f"{elbow[0] - 6:.1f}")
    side.press("Enter")
    settled(page)
    assert abs(end_place(page)[0] - elbow[0]) > 1
    page.get_by_label("Find a joint").fill("RightHand")
    page.keyboard.press("Enter")
    settled(page)
    assert np.abs(np.array(end_place(page)) - start).max() < 0.15
    told.get_by_role("button", name="Put back").click()

    # The hand that misses by four centimetres for a second is led there over a span.
    for label, frame in (("First", 380), ("Last", 440)):
        end = page.get_by_label(f"{label} frame of the range")
        end.fill(str(frame))
        end.press("Enter")
    pull = card(page, "Pull an end")
    pull.get_by_label("Y").fill("40")  # type: ignore[attr-defined]
    pull.get_by_label("Y").press("Enter")  # type: ignore[attr-defined]
    expect(page.get_by_test_id("preview-numbers")).to_contain_text("Missed")
    pull.get_by_role("button", name="Apply").click()  # type: ignore[attr-defined]
    revision(page, 2)
    settled(page)
    truth = evaluate(walk).world(walk.skeleton)[1]
    moved = (world_now(page, walk, 410)[hand] - truth[410, hand]) * walk.millimetres
    assert np.allclose(moved, [0, 40, 0], atol=0.1)
    assert np.abs(world_now(page, walk, 370)[hand] - truth[370, hand]).max() < 1e-3


def test_a_clip_goes_into_the_bin_and_its_take_is_opened_anew(page: Page) -> None:
    bring_walk(page, "walk_gone")
    page.keyboard.press("Alt+6")
    page.get_by_role("button", name="Hold it here").click()
    revision(page, 2)
    settled(page)
    page.get_by_role("button", name="History").click()
    page.get_by_role("button", name="Put this clip in the bin").click()
    page.get_by_role("button", name="Open: walk_gone").wait_for()
    page.get_by_role("button", name=re.compile("^Bin")).click()
    binned = page.get_by_role("dialog").get_by_role("listitem").filter(has_text="walk_gone")
    expect(binned.first).to_contain_text("clip")
    binned.first.get_by_role("button", name=re.compile("Put back")).click()
    page.keyboard.press("Escape")
    page.get_by_role("button", name="Go on: walk_gone").click()
    revision(page, 2)


def test_a_crate_is_made_between_two_hands_that_hold_on_to_it_and_is_delivered(
    page: Page, tmp_path: Path
) -> None:
    bring_walk(page, "walk_with_crate")
    page.keyboard.press("Alt+6")
    page.get_by_label("Find a joint").fill("hand")
    page.locator("[data-joint]", has_text="LeftHand").first.click()
    page.locator("[data-joint]", has_text="RightHand").first.click(modifiers=["Control"])
    page.get_by_role("button", name="Make one").click()
    revision(page, 2)
    settled(page)
    (prop,) = clip_now(page)["props"]
    assert (prop["name"], prop["shape"]) == ("box 1", "box")
    page.get_by_role("region", name="Props of the clip").get_by_role(
        "button", name="Change"
    ).click()
    name = page.get_by_label("Name of the prop")
    name.fill("crate")
    name.press("Enter")
    revision(page, 3)
    settled(page)

    # A hand is held, then held with the crate; the list of what it is held with knows it.
    page.get_by_label("Part to hold").select_option("left hand")
    page.get_by_role("button", name="Hold it here").click()
    revision(page, 4)
    settled(page)
    page.get_by_label("What it is held with").select_option("prop:crate")
    settled(page)
    (plant,) = clip_now(page)["plants"]
    assert plant["with_prop"] == "crate"

    # Delivered as a joint of its own root, where the hands have it.
    page.keyboard.press("Alt+9")
    page.get_by_label("Props as joints of their own roots").check()
    back = read_bvh(delivered(page, tmp_path / "crate.bvh")).clip
    assert back.skeleton.names[-1] == "crate"
    at = evaluate(back).world(back.skeleton)[1]
    hands = [back.skeleton.index(h) for h in ("LeftHand", "RightHand")]
    middle = at[:, hands].mean(axis=1)
    free = np.r_[0 : plant["first"] - plant["ease_in"], plant["last"] + plant["ease_out"] + 1 : 560]
    assert np.abs(at[free, -1] - middle[free]).max() < 0.01


def test_another_figures_hand_is_followed_and_held(page: Page) -> None:
    """By pointer: it stands beside this one, where it is laid; a point goes with its hand, and a
    hand is planted with that."""
    bring_walk(page, "walk_to_meet")
    page.keyboard.press("Alt+6")
    settled(page)
    alone = stage_picture(page)
    page.get_by_label("Add a partner").select_option(label="walk_to_meet")
    other = page.get_by_role("region", name="Partners")
    expect(other.get_by_label("Joint of the partner")).to_have_value("RightHand")
    for k, (label, value) in enumerate(
        (
            ("The partner plays later, frames", "20"),
            ("The partner is moved along X, cm", "60"),
            ("The partner is turned, degrees", "10"),
        )
    ):
        field = other.get_by_label(label)
        field.fill(value)
        field.press("Enter")
        revision(page, 3 + k)
    settled(page)
    assert stage_picture(page) != alone
    other.get_by_role("button", name="Follow the joint").click()
    revision(page, 6)
    settled(page)
    clip = clip_now(page)
    (prop,) = clip["props"]
    line = clip["head"]["recipe"][-1]
    assert len(line["inputs"]["others"]) == 1
    (edit,) = line["params"]["edits"]
    assert (edit["later"], edit["moved"], edit["turned"]) == (20, [600, 0, 0], 10)
    page.get_by_label("Part to hold").select_option("left hand")
    page.get_by_role("button", name="Hold it here").click()
    revision(page, 7)
    settled(page)
    page.get_by_label("What it is held with").select_option(f"prop:{prop['name']}")
    settled(page)
    (plant,) = clip_now(page)["plants"]
    assert plant["with_prop"] == prop["name"]


def prop_curve(page: Page, channel: str) -> KeyedCurve:
    """A curve of the clip's only prop, as the server has it."""
    clip = page.url.replace("/clip/", "/api/clips/")
    head = page.request.get(clip).json()["head"]["id"]
    arrays = load(page.request.get(f"{clip}/curves?revision={head}&others=true").body())
    prefix = f"prop/0/{channel}/"
    own = {n.removeprefix(prefix): a for n, a in arrays.items() if n.startswith(prefix)}
    curve = stored_curve(own)
    assert isinstance(curve, KeyedCurve)
    return curve


def test_a_props_curves_are_worked_on_in_the_sheets(page: Page) -> None:
    bring_walk(page, "walk_beside_a_box")
    page.keyboard.press("Alt+6")
    page.get_by_label("Find a joint").fill("hand")
    page.locator("[data-joint]", has_text="LeftHand").first.click()
    page.locator("[data-joint]", has_text="RightHand").first.click(modifiers=["Control"])
    page.get_by_role("button", name="Make one").click()
    revision(page, 2)
    settled(page)
    props = page.get_by_role("region", name="Props of the clip")
    props.get_by_role("button", name="box 1", exact=False).first.click()
    settled(page)
    assert page.get_by_test_id("sheet").get_attribute("data-arrived") == "true"
    # Led by hands it has a value on every frame: few keys in their place, near to where it was.
    page.get_by_role("button", name="Thin to keys").click()
    revision(page, 3)
    settled(page)
    led = short_walk()
    at = evaluate(led).world(led.skeleton)[1]
    middle = at[:, [led.skeleton.index(h) for h in ("LeftHand", "RightHand")]].mean(axis=1)
    before = prop_curve(page, "ty")
    assert 2 < before.key_count < led.frames / 4
    assert np.abs(before.at(np.arange(led.frames)) - middle[:, 1]).max() <= 0.1 + 1e-9  # cm

    # One channel alone; one of its keys dragged up, and the whole undone.
    page.get_by_role("button", name="move Y").click()
    settled(page)
    page.get_by_role("button", name="Frame all").click()
    settled(page)
    # The key with the most room about it: its handles are not in the way.
    k = int(np.argmax(np.minimum(np.diff(before.time)[:-1], np.diff(before.time)[1:]))) + 1
    start = place(page, before.time[k], before.value[k])
    page.mouse.click(*start)
    expect(page.get_by_test_id("key-count")).to_have_text("1 key")
    drag(page, start, (start[0], start[1] - 40))
    revision(page, 4)
    settled(page)
    after = prop_curve(page, "ty")
    moved = np.flatnonzero(after.value != before.value)
    assert moved.tolist() == [k]
    assert after.value[k] > before.value[k]
    page.keyboard.press("Control+ArrowRight")
    revision(page, 5)
    settled(page)
    assert prop_curve(page, "ty").time[k] == before.time[k] + 1

    # On the timing sheet its keys stand below the body's.
    page.get_by_role("button", name="Timing", exact=True).click()
    rows = page.get_by_role("tree", name="Rows")
    rows.get_by_role("treeitem", name="props").get_by_role("button", name="Open props").click()
    expect(rows.get_by_role("treeitem", name="box 1")).to_be_visible()
    page.reload()
    settled(page)
    page.get_by_role("button", name="Curves", exact=True).click()
    expect(props.get_by_role("button", name="move Y")).to_have_attribute("aria-pressed", "true")
    page.keyboard.press("Control+z")
    revision(page, 4)
    settled(page)
    assert prop_curve(page, "ty").time[k] == before.time[k]
