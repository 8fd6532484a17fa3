"""Layers by pointer: made, keyed, weighed, muted, put in order, flattened, delivered."""

from __future__ import annotations

import re
from pathlib import Path

import numpy as np
from leancurve.document.evaluation import evaluate
from leancurve.formats.bvh import read_bvh
from leancurve.numbers import rotation
from playwright.sync_api import Page, expect
from safetensors.numpy import load

from tests.e2e.conftest import clip_now, delivered, open_take, settled
from tests.e2e.takes import bring_walk, short_walk
from tests.e2e.test_cleaning import revision
from tests.e2e.test_shaping import pick_joint
from tests.e2e.test_timing import gizmo


def joint(page: Page, name: str) -> None:
    page.get_by_label("Find a joint").fill(name)
    pick_joint(page, name)


def typed(page: Page, label: str, value: str) -> None:
    field = page.get_by_label(label, exact=True)
    field.fill(value)
    field.press("Enter")


def new_layer(page: Page, name: str) -> None:
    page.get_by_label("Name of a new layer").fill(name)
    page.get_by_role("button", name="New layer").click()
    expect(page.get_by_role("listitem", name=f"Layer {name}")).to_be_visible()
    settled(page)


def test_corrections_are_laid_over_a_walk_weighed_flattened_and_delivered(
    page: Page, tmp_path: Path
) -> None:
    bring_walk(page, "walk_to_correct")
    page.keyboard.press("Alt+8")
    page.get_by_role("tab", name="Layers").click()

    # The head a little to the left, from frame 300 for a while.
    new_layer(page, "head to the left")
    joint(page, "Head")
    page.get_by_test_id("frame").fill("300")
    page.keyboard.press("Enter")
    settled(page)
    typed(page, "Ramp in, frames", "40")
    typed(page, "Hold, frames", "60")
    typed(page, "Ramp out, frames", "40")
    typed(page, "head to the left: Head turn Y", "25")
    revision(page, 3)
    settled(page)
    row = page.get_by_role("listitem", name="Layer head to the left")
    expect(row).to_contain_text("up to 25.00°")
    # Its curves stand in the sheet, and half of it is half of it.
    page.get_by_role("button", name="Layer curves").click()
    settled(page)
    assert page.get_by_test_id("sheet").get_attribute("data-arrived") == "true"
    typed(page, "Weight of head to the left, percent", "50")
    revision(page, 4)
    settled(page)
    expect(row).to_contain_text("up to 12.50°")

    # A second one on the forearm lies above, goes below, is muted and unmuted again.
    new_layer(page, "arm closer")
    joint(page, "LeftForearm")
    typed(page, "arm closer: LeftForearm turn Z", "18.5")
    revision(page, 6)
    settled(page)
    page.get_by_role("button", name="Put arm closer one lower").click()
    revision(page, 7)
    settled(page)
    assert [x["name"] for x in clip_now(page)["layers"]] == ["arm closer", "head to the left"]
    page.get_by_role("button", name="Mute arm closer").click()
    revision(page, 8)
    settled(page)
    expect(page.get_by_text("arm closer is muted: what is keyed").first).to_be_visible()
    page.get_by_role("button", name="Undo").click()
    revision(page, 7)
    settled(page)

    # It is all there after a reload, and what is flattened is the motion as it was.
    page.reload()
    settled(page)
    page.get_by_role("tab", name="Layers").click()
    expect(page.get_by_role("listitem", name="Layer arm closer")).to_be_visible()
    page.get_by_role("button", name="Flatten all").click()
    settled(page)
    assert clip_now(page)["layers"] == []
    expect(page.get_by_role("listitem", name="Layer arm closer")).to_have_count(0)

    page.keyboard.press("Alt+9")
    back = read_bvh(delivered(page, tmp_path / "corrected.bvh")).clip
    before = short_walk()
    gap = rotation.geodesic_deg(evaluate(back).rotation, evaluate(before).rotation)
    head, arm = (before.skeleton.index(n) for n in ("Head", "LeftForearm"))
    assert np.abs(gap[300:361, head] - 12.5).max() < 0.01
    assert max(gap[:260, head].max(), gap[401:, head].max()) < 0.01
    assert np.abs(gap[:, arm] - 18.5).max() < 0.01
    others = [j for j in range(len(before.skeleton)) if j not in (head, arm)]
    assert gap[:, others].max() < 0.01


def turned(page: Page, frame: int) -> np.ndarray:
    """The local rotations of a frame of the clip's head, asked of the server."""
    address = page.url.replace("/clip/", "/api/clips/")
    head = clip_now(page)["head"]["id"]
    poses = load(page.request.get(f"{address}/poses?revision={head}").body())
    return np.asarray(poses["rotation"][frame])


def angle(page: Page, frame: int, of: int, before: np.ndarray) -> float:
    return float(rotation.geodesic_deg(turned(page, frame)[of], before[of]))


def swing(page: Page, axis: str, by: int) -> None:
    x, y = gizmo(page, axis)
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x + by, y + 3, steps=5)


def test_joints_are_posed_on_the_stage_onto_the_layer_that_is_chosen(page: Page) -> None:
    bring_walk(page, "walk_to_pose")
    page.keyboard.press("Alt+8")
    page.get_by_role("tab", name="Layers").click()
    new_layer(page, "head")
    stage = page.get_by_role("region", name="Stage")
    active = stage.get_by_label("Active layer").locator("option:checked")
    expect(active).to_have_text("head")
    joint(page, "Head")
    at = short_walk().skeleton.index("Head")
    frames = {f: turned(page, f) for f in (200, 300, 400)}
    page.get_by_test_id("frame").fill("300")
    page.keyboard.press("Enter")
    page.get_by_role("button", name="Pose", exact=True).click()

    # By hand: shown, not keyed, there again after a reload, put back or keyed.
    swing(page, "y", 40)
    expect(page.get_by_test_id("posing-readout")).to_contain_text("turn Y")
    page.mouse.up()
    unkeyed = page.get_by_role("region", name="Unkeyed change")
    expect(unkeyed).to_contain_text("1 joint at frame 300 on head")
    assert angle(page, 300, at, frames[300]) < 1e-4
    page.reload()
    settled(page)
    expect(unkeyed).to_contain_text("1 joint at frame 300 on head")
    unkeyed.get_by_role("button", name="Set keys").click()
    revision(page, 3)
    settled(page)
    expect(unkeyed).to_have_count(0)
    first = angle(page, 300, at, frames[300])
    assert first > 5
    # The only key of its curve: the correction is there from the first frame to the last.
    assert abs(angle(page, 400, at, frames[400]) - first) < 1e-3

    # With auto key each change is one; a key elsewhere of no correction ends it there.
    page.get_by_role("tab", name="Layers").click()
    page.get_by_role("listitem", name="Layer head").get_by_role(
        "button", name="head", exact=True
    ).click()
    page.get_by_test_id("frame").fill("200")
    page.keyboard.press("Enter")
    page.get_by_role("button", name="End correction here").click()
    revision(page, 4)
    settled(page)
    assert angle(page, 200, at, frames[200]) < 1e-4
    page.get_by_role("button", name="Pose", exact=True).click()
    page.get_by_role("button", name="Auto key", exact=True).click()
    page.get_by_test_id("frame").fill("400")
    page.keyboard.press("Enter")
    settled(page)
    before = turned(page, 400)
    swing(page, "x", 30)
    page.mouse.up()
    revision(page, 5)
    settled(page)
    assert angle(page, 400, at, before) > 3
    page.get_by_role("button", name="Auto key", exact=True).click()

    # In the sheet its own curves stand, with the result of all behind on request.
    assert page.evaluate("document.querySelector('[data-testid=key-count]')") is None
    sheet = page.get_by_label("Curves of the selected joints")
    sheet.select_option("layer curves, result ghosted")
    settled(page)
    page.get_by_label("Active layer").first.select_option("none: clip curves")
    expect(sheet).to_have_count(0)
    expect(active).to_have_text("none: clip curves")

    # Locked, it refuses in one sentence.
    page.get_by_label("Active layer").first.select_option("head")
    page.get_by_role("button", name="Lock head").click()
    revision(page, 6)
    settled(page)
    swing(page, "y", 30)
    page.mouse.up()
    expect(page.get_by_role("status").filter(has_text="head is locked")).to_be_visible()
    expect(unkeyed).to_have_count(0)


def test_work_is_lifted_off_into_a_layer_and_another_take_loaded_onto_one(page: Page) -> None:
    bring_walk(page, "walk_to_lift")
    before = clip_now(page)
    joint(page, "LeftForearm")
    page.keyboard.press("Alt+8")
    page.get_by_role("tab", name="Amount").click()
    page.get_by_role("button", name="Gain", exact=True).click()
    page.get_by_role("region", name="Gain").get_by_role("button", name="Apply").click()
    revision(page, 2)
    settled(page)
    page.get_by_role("tab", name="Layers").click()
    page.get_by_role("button", name="Extract edits to a layer").click()
    revision(page, 3)
    settled(page)
    row = page.get_by_role("listitem", name="Layer by hand")
    expect(row).to_contain_text("left arm")
    # Muted, the take is there again.
    page.get_by_role("button", name="Mute by hand").click()
    revision(page, 4)
    settled(page)
    drift = page.request.get(
        f"{page.url.replace('/clip/', '/api/clips/')}/drift?revision={clip_now(page)['head']['id']}"
        f"&baseline={before['head']['id']}"
    ).json()
    assert drift["max_deg"] < 1e-6

    page.get_by_role("button", name="Load onto a layer").click()
    card = page.get_by_role("region", name="Load onto a layer")
    expect(card.get_by_role("button", name="Apply")).to_be_disabled()
    card.get_by_label("Clip to load").select_option(label="Signal lamp, take 01")
    card.get_by_label("Which joints").select_option("right arm")
    card.get_by_role("button", name="Apply").click()
    revision(page, 5)
    settled(page)
    expect(page.get_by_role("listitem", name="Layer loaded")).to_contain_text("right arm")
    assert [x["kind"] for x in clip_now(page)["layers"]] == ["additive", "override"]


def arm(page: Page, side: str, frame: int) -> np.ndarray:
    return turned(page, frame)[short_walk().skeleton.index(f"{side}UpperArm")]


def at(page: Page, frame: int) -> None:
    page.get_by_test_id("frame").fill(str(frame))
    page.keyboard.press("Enter")
    settled(page)


def test_a_stored_pose_is_taken_by_a_share_and_on_the_other_side(page: Page) -> None:
    bring_walk(page, "walk_to_store")
    page.keyboard.press("Alt+8")
    page.get_by_role("tab", name="Layers").click()
    new_layer(page, "arms")
    page.get_by_role("tab", name="Pose").click()
    page.get_by_role("checkbox", name="Auto key").click()
    joint(page, "LeftUpperArm")
    at(page, 120)
    stored = page.get_by_role("region", name="Stored poses")
    typed(page, "Name of what is kept", "arm out")
    typed(page, "Words to find it by", "deck, arm")
    stored.get_by_role("button", name="Keep the pose").click()
    expect(stored.get_by_role("img")).to_have_count(1)

    # By two fifths to the left arm, onto the layer that takes keys.
    kept, was = arm(page, "Left", 120), arm(page, "Left", 300)
    far = float(rotation.geodesic_deg(kept, was))
    assert far > 3
    at(page, 300)
    slider = stored.get_by_role("slider")
    slider.focus()
    for _ in range(6):
        slider.press("PageDown")
    expect(stored.get_by_label("Share of the pose, percent")).to_have_value("40")
    settled(page)
    now = arm(page, "Left", 300)
    assert abs(float(rotation.geodesic_deg(now, was)) - 0.4 * far) < 0.02
    assert abs(float(rotation.geodesic_deg(now, kept)) - 0.6 * far) < 0.02

    # Mirrored to the right one, wholly.
    joint(page, "RightUpperArm")
    stored.get_by_role("checkbox", name="mirrored").click()
    slider.press("End")
    settled(page)
    rest = short_walk().skeleton.rest_rotations
    left, right = (short_walk().skeleton.index(f"{s}UpperArm") for s in ("Left", "Right"))
    as_far = float(rotation.geodesic_deg(kept, rest[left]))
    assert abs(float(rotation.geodesic_deg(arm(page, "Right", 300), rest[right])) - as_far) < 0.05
    assert set(clip_now(page)["layers"][0]["channels"]) == {str(left), str(right)}

    # A range as a motion is there to be loaded; what is deleted lies in the bin.
    page.get_by_label("First frame of the range").fill("200")
    page.get_by_label("First frame of the range").press("Enter")
    typed(page, "Name of what is kept", "some steps")
    stored.get_by_role("button", name="Keep the motion").click()
    expect(stored.get_by_role("button", name="some steps")).to_be_visible()
    stored.get_by_role("button", name="Load onto a layer").click()
    card = page.get_by_role("region", name="Load onto a layer")
    card.get_by_label("Clip to load").select_option(label="stored: some steps")
    card.get_by_role("button", name="Apply").click()
    expect(page.get_by_role("listitem", name="Layer loaded")).to_be_visible()
    settled(page)
    page.get_by_role("tab", name="Pose").click()
    stored.get_by_role("button", name="arm out").click()
    stored.get_by_role("button", name="Delete").click()
    expect(stored.get_by_role("button", name="arm out")).to_have_count(0)


def test_the_clip_is_placed_muted_and_delivered_where_it_stands(page: Page, tmp_path: Path) -> None:
    bring_walk(page, "walk_to_place")
    page.keyboard.press("Alt+8")
    page.get_by_role("tab", name="Layers").click()
    page.get_by_role("button", name="Placement where").click()
    typed(page, "Turn the clip, degrees", "90")
    revision(page, 2)
    typed(page, "Move the clip, X", "120")
    revision(page, 3)
    settled(page)
    page.get_by_role("button", name="Mute the placement").click()
    revision(page, 4)
    page.get_by_role("button", name="Unmute the placement").click()
    revision(page, 5)
    settled(page)
    page.keyboard.press("Alt+9")
    back = read_bvh(delivered(page, tmp_path / "placed.bvh")).clip
    before = short_walk()
    there, was = (evaluate(c).world(c.skeleton)[1][:, 0] for c in (back, before))
    # A quarter turn about Y takes Z to X.
    away = was - [was[0, 0], 0, was[0, 2]]
    wanted = np.stack([away[:, 2], away[:, 1], -away[:, 0]], axis=-1)
    wanted += [was[0, 0] + 120, 0, was[0, 2]]
    assert np.abs(there - wanted).max() < 0.01


def test_layers_are_merged_split_brought_to_another_clip_and_a_line_becomes_one(
    page: Page,
) -> None:
    bring_walk(page, "walk_to_get")
    page.get_by_role("link", name="Shelf").click()
    bring_walk(page, "walk_to_split")
    before = {f: turned(page, f) for f in (100, 500)}
    page.keyboard.press("Alt+8")
    page.get_by_role("tab", name="Layers").click()
    new_layer(page, "arm")
    joint(page, "LeftForearm")
    typed(page, "arm: LeftForearm turn Z", "18.5")
    settled(page)
    new_layer(page, "head")
    joint(page, "Head")
    typed(page, "head: Head turn Y", "20")
    settled(page)
    laid = {f: turned(page, f) for f in before}
    page.get_by_role("button", name="Merge down").click()
    merged = page.get_by_role("listitem", name="Layer arm, merged")
    expect(merged).to_be_visible()
    settled(page)
    assert [x["name"] for x in clip_now(page)["layers"]] == ["arm, merged"]
    for f, was in laid.items():
        assert rotation.geodesic_deg(turned(page, f), was).max() < 1e-3

    # Split by joints, and from a frame on.
    page.get_by_role("button", name="Split off joints").click()
    settled(page)
    names = [x["name"] for x in clip_now(page)["layers"]]
    assert names == ["arm, merged", "arm, merged, split"]
    at(page, 300)
    page.get_by_role("button", name="Split at now").click()
    settled(page)
    page.get_by_role("button", name="Delete", exact=True).click()
    settled(page)
    head = short_walk().skeleton.index("Head")
    assert angle(page, 100, head, before[100]) > 19
    assert angle(page, 500, head, before[500]) < 1e-3

    # To another clip of the shelf: a change of that one.
    page.get_by_role("button", name="arm, merged", exact=True).click()
    other = page.get_by_label("Copy arm, merged to another clip")
    other.select_option(label="walk_to_get")
    expect(page.get_by_role("status").filter(has_text="lies over walk_to_get")).to_be_visible()

    # What a line of the recipe changed, in a layer of its own in its place.
    page.get_by_label("Active layer").first.select_option("none: clip curves")
    joint(page, "LeftForearm")
    page.get_by_role("tab", name="Amount").click()
    page.get_by_role("button", name="Gain", exact=True).click()
    page.get_by_role("region", name="Gain").get_by_role("button", name="Apply").click()
    settled(page)
    shown = {f: turned(page, f) for f in before}
    page.get_by_role("button", name="Recipe").click()
    page.get_by_role("button", name=re.compile("^[0-9]+ ?Gain")).click()
    page.get_by_role("button", name="Into a layer").click()
    expect(page.get_by_role("button", name=re.compile("^[0-9]+ ?Gain"))).to_have_count(0)
    settled(page)
    assert clip_now(page)["layers"][-1]["name"].startswith("Gain")
    for f, was in shown.items():
        assert rotation.geodesic_deg(turned(page, f), was).max() < 1e-2


def test_the_mooring_line_with_three_layers_is_flattened_delivered_and_compared(
    page: Page, tmp_path: Path
) -> None:
    """Head, hands and a loaded motion over the thinned take, weights keyed, in another order."""
    open_take(page, "Mooring line, take 04")
    page.keyboard.press("Alt+5")
    page.get_by_role("button", name="Apply").first.click()
    settled(page)
    page.keyboard.press("Alt+8")
    page.get_by_role("tab", name="Layers").click()
    new_layer(page, "head")
    joint(page, "Head")
    at(page, 200)
    typed(page, "head: Head turn Y", "-15")
    settled(page)
    new_layer(page, "hands")
    joint(page, "LeftForearm")
    typed(page, "hands: LeftForearm turn Z", "8")
    settled(page)
    page.get_by_role("button", name="Load onto a layer").click()
    card = page.get_by_role("region", name="Load onto a layer")
    card.get_by_label("Clip to load").select_option(label="Signal lamp, take 01")
    card.get_by_label("Which joints").select_option("right arm")
    card.get_by_role("button", name="Apply").click()
    expect(page.get_by_role("listitem", name="Layer loaded")).to_be_visible()
    settled(page)

    # The head's weight is a curve: nothing at 100, all of it at 300.
    page.get_by_role("button", name="head", exact=True).click()
    page.get_by_role("button", name="Weight curve").click()
    settled(page)
    for frame, share in ((100, 0), (300, 1)):
        at(page, frame)
        page.get_by_role("tab", name="Keys").click()
        page.get_by_role("button", name="Set key").click()
        settled(page)
        typed(page, "Amount to type", str(share))
        page.get_by_role("button", name="Set", exact=True).click()
        settled(page)
        page.get_by_role("tab", name="Layers").click()
    page.get_by_role("button", name="Put hands one lower").click()
    settled(page)
    page.get_by_role("button", name="Mute hands").click()
    settled(page)
    page.get_by_role("button", name="Undo").click()
    settled(page)
    page.reload()
    settled(page)
    assert [x["name"] for x in clip_now(page)["layers"]] == ["hands", "head", "loaded"]
    frames = (0, 100, 200, 300, 450)
    shown = {f: turned(page, f) for f in frames}
    page.get_by_role("tab", name="Layers").click()
    # To a value on every frame: to keys it would be within a quarter of a degree.
    page.get_by_label("Flatten and merge to keys").click()
    page.get_by_role("button", name="Flatten all").click()
    settled(page)
    assert clip_now(page)["layers"] == []
    page.keyboard.press("Alt+9")
    back = evaluate(read_bvh(delivered(page, tmp_path / "haul.bvh")).clip).rotation
    for f, was in shown.items():
        assert rotation.geodesic_deg(back[f], was).max() < 0.02


def test_a_layer_is_seen_alone_and_the_clip_stays_as_it_is(page: Page) -> None:
    bring_walk(page, "walk_to_see")
    page.keyboard.press("Alt+8")
    page.get_by_role("tab", name="Layers").click()
    for name, part, turn in (("head", "Head", "20"), ("arm", "LeftForearm", "15")):
        new_layer(page, name)
        joint(page, part)
        typed(page, f"{name}: {part} turn Y", turn)
        settled(page)
    before = clip_now(page)["head"]["number"]
    with page.expect_response(lambda r: "/poses" in r.url and "solo=" in r.url):
        page.get_by_role("button", name="Solo head").click()
    told = page.get_by_role("status").filter(has_text="Solo: head")
    expect(told).to_be_visible()
    page.get_by_role("button", name="arm", exact=True).click()
    with page.expect_response(lambda r: "/poses" in r.url and "solo=" not in r.url):
        page.get_by_role("button", name="End solo").click()
    expect(told).to_have_count(0)
    settled(page)
    assert clip_now(page)["head"]["number"] == before
