"""Time and poses by hand on the bench: the timing sheet, time pins, gaps, the gizmo, review."""

from __future__ import annotations

import struct
import time
from pathlib import Path

import numpy as np
import pytest
from leancurve.curves.curve import KeyedCurve, keyed
from leancurve.demo.defects import captured
from leancurve.demo.takes import TAKES
from leancurve.formats.bvh import write_bvh
from leancurve.numbers import rotation
from playwright.sync_api import Page, expect
from safetensors.numpy import load

from tests.e2e import takes
from tests.e2e.conftest import clip_now, frame_now, open_take, settled, still
from tests.e2e.test_cleaning import card, revision
from tests.e2e.test_shaping import bring_in, count, curve_of, drag, figure, pick_joint
from tests.e2e.test_the_whole_job import box
from tests.pace import patient

LAMP = "Signal lamp, take 01"


def rotations(page: Page) -> np.ndarray:
    """Local rotations of all joints on all frames, as the head has them."""
    clip = page.url.replace("/clip/", "/api/clips/")
    answer = page.request.get(f"{clip}/poses?revision={clip_now(page)['head']['id']}")
    return load(answer.body())["rotation"].astype(np.float64)


def keys_now(page: Page) -> dict[str, np.ndarray]:
    """Times of all keyed channels, by joint and channel."""
    clip = page.url.replace("/clip/", "/api/clips/")
    answer = page.request.get(f"{clip}/keys?revision={clip_now(page)['head']['id']}")
    arrays = load(answer.body())
    return {n.removesuffix("/time"): a for n, a in arrays.items() if n.endswith("/time")}


def set_range(page: Page, first: int, last: int) -> None:
    for end, frame in (("First", first), ("Last", last)):
        field = page.get_by_label(f"{end} frame of the range")
        field.fill(str(frame))
        field.press("Enter")


def go_to(page: Page, frame: int) -> None:
    page.get_by_test_id("frame").fill(str(frame))
    page.get_by_test_id("frame").press("Enter")


def on_strip(page: Page, frame: float, lane: int) -> tuple[float, float]:
    """A frame's place in a lane of the time strip: 0 is that of the keys."""
    at = box(page, "strip")
    width = at["width"] - 14 - 92
    x = at["x"] + 14 + frame / (clip_now(page)["frames"] - 1) * width
    return x, at["y"] + 18 + 11 * lane + 5


def on_timing(page: Page, row: str, frame: float) -> tuple[float, float]:
    """A frame's place in a row of the timing sheet."""
    canvas = page.get_by_test_id("timing")
    page.wait_for_timeout(100)
    t0, t1, left, width = map(float, (canvas.get_attribute("data-view") or "").split())
    name = page.locator(f'[data-row="{row}"]').bounding_box()
    at = canvas.bounding_box()
    assert name is not None
    assert at is not None
    x = at["x"] + left + (frame - t0) / (t1 - t0) * width
    return x, name["y"] + name["height"] / 2


def test_the_time_of_the_crates_step_is_halved_with_pins(page: Page) -> None:
    takes.bring_in(page, "crate_pinned", write_bvh(captured(TAKES[1]).clip))
    page.keyboard.press("Alt+8")
    page.get_by_role("tab", name="Time").click()
    before = rotations(page)
    frames = clip_now(page)["frames"]
    set_range(page, 480, 760)
    page.get_by_role("button", name="Pin the range").click()
    for frame in (560, 640):
        go_to(page, frame)
        page.get_by_role("button", name="Pin now").click()
    page.get_by_role("button", name="broken").click()
    go_to(page, 599)
    settled(page)
    still = page.get_by_test_id("stage").screenshot()
    page.mouse.move(*on_strip(page, 640, 1))
    page.mouse.down()
    page.mouse.move(*on_strip(page, 600, 1), steps=5)
    settled(page)
    # The stage shows it while the pin is still held.
    assert page.get_by_test_id("stage").screenshot() != still
    page.mouse.up()
    pin = page.get_by_label("Frame at which 640 shall come")
    pin.fill("600")
    pin.press("Enter")
    expect(page.get_by_test_id("preview-numbers")).to_be_visible()
    page.get_by_role("button", name="Apply pins").click()
    revision(page, 2)
    after = rotations(page)
    assert clip_now(page)["frames"] == frames
    rest = np.r_[0:481, 760:frames]
    assert np.array_equal(after[rest], before[rest])
    step = rotation.geodesic_deg(after[560:601], before[560:641:2])
    assert step.max() < 0.01
    assert page.get_by_role("button", name="Pin the range").is_visible()


def test_a_body_parts_keys_come_three_frames_later(page: Page) -> None:
    open_take(page, LAMP)
    page.keyboard.press("z")
    page.get_by_text("Loading keys").wait_for(state="hidden")
    before = keys_now(page)
    row = "part left arm"
    last = clip_now(page)["frames"] - 1
    start, end = on_timing(page, row, -3), on_timing(page, row, last + 3)
    drag(page, (start[0], start[1] - 6), (end[0], end[1] + 6))
    body = page.request.get(
        page.url.replace("/clip/", "/api/clips/") + f"/body?revision={clip_now(page)['head']['id']}"
    ).json()
    arm = {k: t for k, t in before.items() if int(k.split("/")[1]) in body["groups"]["left arm"]}
    expect(count(page)).to_have_text(f"{sum(map(len, arm.values()))} keys")
    times = np.unique(np.concatenate(list(arm.values())))
    middle = float(times[np.argmin(np.abs(times - last / 2))])
    go_to(page, int(middle))
    page.get_by_label("Timing sheet", exact=True).get_by_role("button", name="Around now").click()
    page.mouse.move(*on_timing(page, row, middle))
    page.mouse.down()
    page.mouse.move(*on_timing(page, row, middle + 1.2), steps=3)
    page.mouse.move(*on_timing(page, row, middle + 3), steps=3)
    page.mouse.up()
    assert frame_now(page) == round(middle) + 3
    settled(page)
    after = keys_now(page)
    assert arm
    for key, old in before.items():
        assert np.allclose(after[key], old + 3 if key in arm else old), key
    # The row above shows what is below it, and nothing else.
    page.keyboard.press("Control+z")
    settled(page)
    undone = keys_now(page)
    assert all(np.array_equal(undone[k], t) for k, t in before.items())


def test_a_gap_is_closed(page: Page) -> None:
    curve = keyed([0, 60, 140, 200], [0, 10, 40, 10])
    bring_in(page, "gap", figure(Arm_ry=curve))
    page.get_by_role("tab", name="Time").click()
    set_range(page, 61, 160)
    closing = card(page, "Remove a span")
    expect(closing.get_by_text("Frames 61 – 160")).to_be_visible()
    closing.get_by_label("Seam blended over").fill("0")
    closing.get_by_label("Seam blended over").press("Enter")
    closing.get_by_role("button", name="Apply").click()
    revision(page, 2)
    assert clip_now(page)["frames"] == 101
    after = curve_of(page, "Arm", "ry")
    frames = np.arange(101.0)
    expected = np.concatenate([curve.at(frames[:61]), curve.at(np.arange(161.0, 201.0))])
    assert after.at(frames) == pytest.approx(expected)


def test_a_doubled_key_is_found_by_its_mark_and_mended(page: Page) -> None:
    curve = keyed([0, 40, 40.2, 120, 200], [0, 30, -30, 10, 0])
    bring_in(page, "doubled", figure(Arm_ry=curve))
    page.keyboard.press("z")
    page.get_by_role("button", name="Open all").click()
    row = "base/2/ry"
    page.locator(f'[data-row="{row}"]').scroll_into_view_if_needed()
    # Its finding leads there on the timing sheet as well.
    page.keyboard.press("Alt+2")
    found = page.get_by_role("list", name="Findings").get_by_role("button", name="Arm").first
    found.click()
    settled(page)
    assert abs(frame_now(page) - 40) <= 1
    page.mouse.move(*on_timing(page, row, 40.22))
    expect(page.get_by_test_id("timing-readout")).to_contain_text("40.2, between frames")
    # Seen from the whole body's row as well: nothing below hides it.
    page.mouse.move(*on_timing(page, "body", 40.22))
    expect(page.get_by_test_id("timing-readout")).to_contain_text("40.2, between frames")
    page.mouse.click(*on_timing(page, row, 40.22))
    expect(count(page)).to_have_text("1 key")
    page.keyboard.press("Delete")
    revision(page, 2)
    after = curve_of(page, "Arm", "ry")
    assert isinstance(after, KeyedCurve)
    assert after.time.tolist() == [0, 40, 120, 200]


def test_keys_ride_are_muted_and_copied_on_the_timing_sheet(page: Page) -> None:
    bring_in(page, "riding", figure(Arm_ry=keyed([0, 50, 100, 200], [0, 10, 30, 0])))
    page.keyboard.press("z")
    page.get_by_role("button", name="Open all").click()
    row = "base/2/ry"
    page.locator(f'[data-row="{row}"]').scroll_into_view_if_needed()
    page.mouse.click(*on_timing(page, row, 50))
    page.get_by_role("button", name="Keep relative timing", exact=True).click()
    revision(page, 2)
    page.mouse.click(*on_timing(page, row, 100))
    field = page.get_by_label("Frame of the selected keys")
    field.fill("160")
    field.press("Enter")
    revision(page, 3)
    assert curve_of(page, "Arm", "ry").columns["time"].tolist() == [0, 80, 160, 200]
    page.get_by_role("button", name="Mute", exact=True).click()
    revision(page, 4)
    curve = curve_of(page, "Arm", "ry")
    assert abs(curve.at(np.array([160.0]))[0] - 30) > 3
    # A copy is dragged off with Ctrl; what it was made of stays.
    page.mouse.move(*on_timing(page, row, 200))
    page.keyboard.down("Control")
    page.mouse.down()
    page.mouse.move(*on_timing(page, row, 180), steps=4)
    page.mouse.up()
    page.keyboard.up("Control")
    revision(page, 5)
    assert 200 in curve_of(page, "Arm", "ry").columns["time"]
    assert curve_of(page, "Arm", "ry").key_count == 5


def test_a_stretch_of_keys_is_worked_on_in_the_time_strip(page: Page) -> None:
    bring_in(page, "stretch", figure(Arm_ry=keyed([0, 50, 70, 90, 200], [0, 10, 30, 20, 0])))
    drag(page, on_strip(page, 45, 0), on_strip(page, 95, 0))
    expect(count(page)).to_have_text("3 keys")
    drag(page, on_strip(page, 70, 0), on_strip(page, 100, 0))
    revision(page, 2)
    settled(page)
    moved = curve_of(page, "Arm", "ry").columns["time"]
    assert np.diff(moved).tolist()[1:3] == [20, 20]
    assert moved[1] == pytest.approx(80, abs=2)
    drag(page, on_strip(page, moved[3], 0), on_strip(page, moved[1] + 20, 0))
    revision(page, 3)
    settled(page)
    scaled = curve_of(page, "Arm", "ry").columns["time"]
    assert scaled[3] - scaled[1] == pytest.approx(20, abs=2)
    page.keyboard.press("Delete")
    revision(page, 4)
    assert curve_of(page, "Arm", "ry").columns["time"].tolist() == [0, 200]


def gizmo(page: Page, axis: str, view: str = "view-one") -> tuple[float, float]:
    """Where an axis' letter is on the page."""
    settled(page)
    told = page.get_by_test_id(view).get_attribute("data-gizmo") or ""
    places = dict(part.split(":") for part in told.split())
    x, y = map(float, places[axis].split(","))
    at = box(page, view)
    return at["x"] + x, at["y"] + y


def turn(page: Page, axis: str, view: str = "view-one") -> None:
    # From further away, so that no ring lies under a button.
    at = box(page, view)
    page.mouse.move(at["x"] + at["width"] / 2, at["y"] + at["height"] / 2)
    page.mouse.wheel(0, 500)
    x, y = gizmo(page, axis, view)
    drag(page, (x, y), (x + 22, y + 26))


def test_an_arm_is_posed_in_three_views_with_auto_key_off_and_on(page: Page) -> None:
    turns = {f"Arm_r{a}": keyed([0, 200], [0, 0]) for a in "xyz"}
    bring_in(page, "three views", figure(**turns))
    go_to(page, 100)
    page.keyboard.press("j")
    page.get_by_role("button", name="Front").click()
    turn(page, "z")
    told = page.get_by_role("region", name="Unkeyed change")
    expect(told).to_contain_text("Not keyed: 1 joint at frame 100")
    assert clip_now(page)["head"]["number"] == 1
    # It cannot be lost silently: not by scrubbing, nor by posing elsewhere, nor by a reload.
    go_to(page, 20)
    expect(told.get_by_role("button", name="Go there")).to_be_visible()
    turn(page, "z")
    expect(page.get_by_text("not keyed yet: key it or put it back")).to_be_visible()
    page.reload()
    expect(told).to_contain_text("frame 100")
    # Whatever is selected, it can be gone to and keyed.
    told.get_by_role("button", name="Go there").click()
    assert frame_now(page) == 100
    told.get_by_role("button", name="Set keys").click()
    revision(page, 2)
    expect(told).to_be_hidden()
    page.keyboard.press("Alt+8")
    pick_joint(page, "Arm")
    keyed_now = curve_of(page, "Arm", "rz")
    assert 100 in keyed_now.columns["time"]
    assert abs(keyed_now.at(np.array([100.0]))[0]) > 5
    # From the side and from the top keys are set as soon as the gizmo is let go of.
    page.keyboard.press("j")
    page.keyboard.press("Shift+J")
    page.get_by_role("button", name="Side", exact=True).click()
    turn(page, "x")
    revision(page, 3)
    page.get_by_role("button", name="Top", exact=True).click()
    turn(page, "y")
    revision(page, 4)
    expect(told).to_be_hidden()
    # One frame alone is another pose; the ends of the clip stand as they stood.
    ends = rotations(page)[[0, 200], 2]
    assert np.allclose(np.abs(ends[:, 3]), 1, atol=1e-6)
    assert rotation.geodesic_deg(rotations(page)[100, 2], ends[0]) > 10
    # In two views the second one poses as well.
    page.keyboard.press("Alt+s")
    turn(page, "y", "view-two")
    revision(page, 5)


def test_on_dense_channels_a_pose_is_led_to_softly(page: Page) -> None:
    takes.bring_in(page, "soft", write_bvh(captured(TAKES[2]).clip))
    page.keyboard.press("Alt+8")
    page.get_by_role("tab", name="Pose").click()
    page.locator("[data-joint]", has_text="LeftForearm").first.click()
    settled(page)
    go_to(page, 400)
    before = rotations(page)
    field = page.get_by_label("turn by, Y")
    field.fill("30")
    field.press("Enter")
    told = page.get_by_role("region", name="Unkeyed change")
    expect(told).to_contain_text("value on every frame")
    expect(told.get_by_role("button", name="Thin first")).to_be_visible()
    told.get_by_role("button", name="Soft offset").click()
    revision(page, 2)
    expect(told).to_be_hidden()
    moved = rotation.geodesic_deg(rotations(page), before).max(axis=1)
    assert moved[400] == pytest.approx(30, abs=0.01)
    assert moved[[387, 413]].max() < 1e-3
    assert np.abs(np.diff(moved)).max() < 5


def test_a_pose_is_copied_mirrored_and_keyed_on_a_part_of_the_body(page: Page) -> None:
    open_take(page, LAMP)
    page.keyboard.press("Alt+8")
    page.get_by_role("tab", name="Pose").click()
    names = [j["name"] for j in clip_now(page)["joints"]]
    left, right = names.index("LeftForearm"), names.index("RightForearm")
    page.locator("[data-joint]", has_text="LeftForearm").first.click()
    settled(page)
    go_to(page, 120)
    page.get_by_role("button", name="Copy pose").click()
    if not page.get_by_label("Auto key: set keys").is_checked():
        page.get_by_label("Auto key: set keys").check()
    go_to(page, 200)
    page.get_by_role("button", name="Paste mirrored").click()
    settled(page)
    after = rotations(page)
    expected = after[120, left] * np.array([1, -1, -1, 1])
    assert rotation.geodesic_deg(after[200, right], expected) < 0.05
    page.get_by_label("Part of the body to key").select_option("right leg")
    go_to(page, 222)
    page.get_by_role("button", name="Key the pose").click()
    expect(page.get_by_text("keys set at frame 222")).to_be_visible()
    thigh = names.index("RightThigh") if "RightThigh" in names else names.index("RightUpperLeg")
    assert any(222 in t for k, t in keys_now(page).items() if k.startswith(f"base/{thigh}/"))


def png_size(path: Path) -> tuple[int, int]:
    data = path.read_bytes()
    assert data[:8] == b"\x89PNG\r\n\x1a\n"
    width, height = struct.unpack(">II", data[16:24])
    return width, height


def test_a_range_is_reviewed_and_pictures_of_it_are_kept(page: Page) -> None:
    open_take(page, LAMP)
    set_range(page, 100, 160)
    page.keyboard.press("Shift+Space")
    here = page.get_by_role("region", name="Review")
    expect(here).to_contain_text("range 100 – 160, true speed")
    view = box(page, "stage")
    assert (view["width"], view["height"]) == (1280, 800)
    seen: set[int] = set()
    until = time.monotonic() + patient(10)
    while len(seen) <= 3 and time.monotonic() < until:
        text = page.get_by_test_id("review-now").inner_text()
        seen.add(int(text.split()[1]))
        page.wait_for_timeout(60)
    assert len(seen) > 3
    assert seen <= set(range(100, 161))
    with page.expect_download() as still:
        here.get_by_role("button", name="Save a still").click()
    assert png_size(still.value.path()) == (1920, 1080)
    here.get_by_label("Poses of the strip").fill("8")
    here.get_by_label("Poses of the strip").press("Enter")
    with page.expect_download() as strip:
        here.get_by_role("button", name="Save a strip").click()
    assert png_size(strip.value.path()) == (6 * 320, 2 * 346)
    assert strip.value.suggested_filename.endswith("frames 100 to 160.png")
    page.keyboard.press("Escape")
    expect(here).to_be_hidden()
    assert box(page, "stage")["height"] < 500


def test_a_camera_is_placed_and_looked_through_again(page: Page) -> None:
    open_take(page, LAMP)
    page.get_by_role("button", name="Camera").click()
    page.get_by_role("button", name="Place it where this view stands").click()
    fov = page.get_by_label("Field of view, degrees")
    fov.fill("55")
    fov.press("Enter")
    page.get_by_label("Camera position X, metres").fill("3.5")
    page.get_by_label("Camera position X, metres").press("Enter")
    settled(page)
    placed = clip_now(page)["camera"]
    assert placed["fov"] == 55
    assert placed["position"][0] == 3.5
    page.keyboard.press("Escape")
    still(page)
    seen = page.get_by_test_id("view-one").screenshot()
    page.get_by_role("button", name="Side", exact=True).click()
    settled(page)
    page.get_by_role("button", name="Camera").click()
    page.get_by_role("button", name="Look through the placed camera").click()
    page.keyboard.press("Escape")
    still(page)
    assert page.get_by_test_id("view-one").screenshot() == seen
