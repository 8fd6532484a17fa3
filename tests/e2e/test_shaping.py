"""Curves by hand in the sheet: real tasks with the pointer, and some without one."""

from __future__ import annotations

import re
from fractions import Fraction

import numpy as np
import pytest
from leancurve.curves.curve import Curve, KeyedCurve, SampledCurve, keyed, stored_curve
from leancurve.document.clip import Clip
from leancurve.document.track import TrackId, base_track
from leancurve.figure.skeleton import Skeleton
from playwright.sync_api import Locator, Page, expect
from safetensors.numpy import load

from tests.e2e import takes
from tests.e2e.conftest import frame_now, settled
from tests.e2e.test_cleaning import card, revision
from tests.e2e.test_the_whole_job import box, stage_picture

RX, RY, RZ = ("rx", "ry", "rz")
JOINTS = ("Hips", "Spine", "Arm", "Hand")
FRAMES = np.arange(201, dtype=np.float64)


def figure(**curves: Curve) -> Clip:
    """Four joints in a chain, 201 frames at 60 a second; ``Arm_ry=…`` gives a channel a curve."""
    skeleton = Skeleton(JOINTS, (-1, 0, 1, 2), ((0, 90, 0), (0, 40, 0), (20, 0, 0), (30, 0, 0)))
    layout = (("tx", "ty", "tz", RX, RY, RZ), (RX, RY, RZ), (RX, RY, RZ), (RX, RY, RZ))
    made: dict[TrackId, Curve] = {
        base_track(j, c): keyed([0, 200], [0, 0]) for j, names in enumerate(layout) for c in names
    }
    for name, curve in curves.items():
        joint, channel = name.split("_")
        made[base_track(JOINTS.index(joint), channel)] = curve
    return Clip(skeleton, layout, made, Fraction(60), 201, name="figure")


def bring_in(page: Page, name: str, clip: Clip, joint: str = "Arm") -> None:
    """A take of the test's own, at Shape with one of its joints selected."""
    takes.bring_in(page, name, clip)
    page.keyboard.press("Alt+8")
    pick_joint(page, joint)


def pick_joint(page: Page, joint: str, add: bool = False) -> None:
    row = page.locator("[data-joint]", has_text=joint).first
    row.click(modifiers=["Control"] if add else [])
    settled(page)
    page.locator("[data-testid=sheet][data-arrived=true]").wait_for()


def pick_channel(page: Page, channel: str) -> None:
    page.get_by_role("treeitem", name=re.compile(f"{channel}$")).first.click()
    page.mouse.move(5, 5)
    settled(page)
    page.locator("[data-testid=sheet][data-arrived=true]").wait_for()


def curve_of(page: Page, joint: str, channel: str) -> Curve:
    """A curve of the clip's head, asked of the server."""
    clip = page.url.replace("/clip/", "/api/clips/")
    head = page.request.get(clip).json()["head"]["id"]
    j = JOINTS.index(joint)
    answer = page.request.get(f"{clip}/curves?revision={head}&joints={j}")
    arrays = load(answer.body())
    prefix = f"base/{j}/{channel}/"
    return stored_curve(
        {n.removeprefix(prefix): a for n, a in arrays.items() if n.startswith(prefix)}
    )


def place(page: Page, frame: float, value: float) -> tuple[float, float]:
    """Where a frame and a value are on the page, at the sheet's present view."""
    sheet = page.get_by_test_id("sheet")
    t0, t1, v0, v1, left, top, width, height = map(
        float, (sheet.get_attribute("data-view") or "").split()
    )
    at = box(page, "sheet")
    x = at["x"] + left + (frame - t0) / (t1 - t0) * width
    y = at["y"] + top + (1 - (value - v0) / (v1 - v0)) * height
    return x, y


def drag(page: Page, start: tuple[float, float], end: tuple[float, float]) -> None:
    page.mouse.move(*start)
    page.mouse.down()
    page.mouse.move((start[0] + end[0]) / 2, (start[1] + end[1]) / 2, steps=3)
    page.mouse.move(*end, steps=3)
    page.mouse.up()


def select_box(page: Page, low: tuple[float, float], high: tuple[float, float]) -> None:
    drag(page, place(page, *low), place(page, *high))


def count(page: Page) -> Locator:
    return page.get_by_test_id("key-count")


def test_an_apex_is_raised_with_pull_and_its_fall_off(page: Page) -> None:
    curve = keyed([0, 40, 60, 80, 100, 120, 200], [0, 5, 20, 30, 20, 5, 0])
    bring_in(page, "apex", figure(Arm_ry=curve))
    pick_channel(page, "turn Y")
    page.keyboard.press("b")
    page.get_by_label("Brush radius, frames").fill("50")
    page.get_by_label("Brush radius, frames").press("Enter")
    page.get_by_test_id("frame").fill("80")
    page.keyboard.press("Enter")
    settled(page)
    still = page.get_by_test_id("stage").screenshot()
    page.mouse.move(*place(page, 80, 30))
    page.mouse.down()
    page.mouse.move(*place(page, 80, 40), steps=5)
    settled(page)
    # The pose follows while the button is held, before anything is kept.
    assert page.get_by_test_id("stage").screenshot() != still
    assert curve_of(page, "Arm", RY).value[3] == 30  # type: ignore[union-attr]
    page.mouse.up()
    revision(page, 2)
    raised = curve_of(page, "Arm", RY)
    away = raised.value - curve.value  # type: ignore[union-attr]
    expected = 10 * (1 - np.clip(np.abs(curve.time - 80) / 50, 0, 1) ** 2) ** 2
    assert away == pytest.approx(expected, abs=0.15)
    assert away[[0, -1]].tolist() == [0, 0]
    # One drag is one step back.
    page.keyboard.press("Escape")
    page.keyboard.press("Control+z")
    expect(page.get_by_text("revision 1", exact=True)).to_be_visible()
    assert curve_of(page, "Arm", RY).value.tolist() == curve.value.tolist()  # type: ignore[union-attr]


def test_a_step_is_mended_by_pulling_the_keys_before_it(page: Page) -> None:
    time = np.arange(101.0)
    value = 8 * np.sin(time / 25) + np.where(time > 53, 6.0, 0.0)
    curve = keyed(time, value)
    bring_in(page, "step", figure(Arm_ry=curve))
    pick_channel(page, "turn Y")
    for name, frame in (("First", "28"), ("Last", "53")):
        field = page.get_by_label(f"{name} frame of the range")
        field.fill(frame)
        field.press("Enter")
    page.get_by_role("button", name="In the range").click()
    expect(count(page)).to_have_text("26 keys")
    page.keyboard.press("b")
    page.get_by_label("Brush radius, frames").fill("26")
    page.get_by_label("Brush radius, frames").press("Enter")
    expect(page.get_by_text("on 26 selected keys only")).to_be_visible()
    gap = value[54] - value[53] - (value[53] - value[52])
    drag(page, place(page, 53, value[53]), place(page, 53, value[53] + gap))
    revision(page, 2)
    mended = curve_of(page, "Arm", RY)
    assert isinstance(mended, KeyedCurve)
    others = (time < 28) | (time > 53)
    assert np.array_equal(mended.value[others], value[others])
    steps = np.abs(np.diff(mended.value))
    assert np.abs(np.diff(value))[53] > 5
    assert steps.max() < 1.2


def test_a_motion_is_made_to_start_at_once_by_its_handle(page: Page) -> None:
    bring_in(page, "start", figure(Arm_ry=keyed([0, 100, 200], [0, 30, 30])))
    pick_channel(page, "turn Y")
    page.mouse.click(*place(page, 0, 0))
    expect(count(page)).to_have_text("1 key")
    assert frame_now(page) == 0
    # The handle reaches a third of the segment, flat; it is drawn up, and longer.
    drag(page, place(page, 100 / 3, 0), place(page, 50, 25))
    revision(page, 2)
    after = curve_of(page, "Arm", RY)
    assert isinstance(after, KeyedCurve)
    assert after.slope_out[0] == pytest.approx(0.5, abs=0.02)
    assert after.length_out[0] == pytest.approx(0.5, abs=0.02)
    assert after.at(np.array([10.0]))[0] > 4
    expect(page.get_by_label("Handles of the selected keys")).to_have_value("free")
    # Escape puts back what a drag has changed; a kind is chosen from the list.
    page.mouse.move(*place(page, 50, 25))
    page.mouse.down()
    page.mouse.move(*place(page, 60, 5), steps=3)
    page.keyboard.press("Escape")
    page.mouse.up()
    assert curve_of(page, "Arm", RY).slope_out[0] == after.slope_out[0]  # type: ignore[union-attr]
    page.get_by_label("Handles of the selected keys").select_option("flat")
    revision(page, 3)
    assert curve_of(page, "Arm", RY).slope_out[0] == 0  # type: ignore[union-attr]


def test_a_move_takes_half_the_time_by_the_scale_box(page: Page) -> None:
    turn = keyed([0, 60, 140, 200], [0, 25, -10, 12])
    swing = keyed([0, 90, 200], [5, -20, 0])
    bring_in(page, "half", figure(Arm_ry=turn, Arm_rz=swing))
    page.keyboard.press("Control+a")
    expect(count(page)).to_have_text("9 keys")
    # The grip on the right side stands 12 pixels outside of the last key, half way up the box.
    x, _ = place(page, 200, 0)
    _, top = place(page, 0, 25)
    _, bottom = place(page, 0, -20)
    to, _ = place(page, 100, 0)
    middle = (top + bottom) / 2
    drag(page, (x + 12, middle), (to, middle))
    revision(page, 2)
    for channel, before in ((RY, turn), (RZ, swing)):
        after = curve_of(page, "Arm", channel)
        assert after.time.tolist() == (before.time / 2).tolist()  # type: ignore[union-attr]
        t = np.linspace(0, 100, 101)
        assert after.at(t) == pytest.approx(before.at(2 * t), abs=1e-9)


def test_a_hold_is_levelled_and_a_loop_closed_with_their_numbers(page: Page) -> None:
    held = keyed([0, 40, 70, 100, 200], [0, 20, 20.6, 19.8, 3], [0, 0.3, -0.2, 0.1, 0.4])
    bring_in(page, "level", figure(Arm_ry=held))
    page.get_by_role("tab", name="Pose").click()
    level = card(page, "Level holds")
    level.get_by_role("button", name="Preview").click()  # type: ignore[attr-defined]
    numbers = page.get_by_test_id("preview-numbers")
    expect(numbers.locator("div", has_text="Holds").locator("dd")).to_have_text("1")
    level.get_by_role("button", name="Apply").click()  # type: ignore[attr-defined]
    revision(page, 2)
    after = curve_of(page, "Arm", RY)
    assert np.ptp(after.at(np.linspace(40, 100, 61))) == 0
    assert after.at(np.array([200.0]))[0] == 3
    page.get_by_role("tab", name="Time").click()
    loop = card(page, "Close the loop")
    loop.get_by_role("button", name="Preview").click()  # type: ignore[attr-defined]
    gap = numbers.locator("div", has_text=re.compile("^Gap")).first.locator("dd")
    expect(gap).to_have_text(re.compile(r"^3\.\d+° → 0"))
    loop.get_by_role("button", name="Apply").click()  # type: ignore[attr-defined]
    revision(page, 3)
    closed = curve_of(page, "Arm", RY)
    assert isinstance(closed, KeyedCurve)
    assert closed.value[-1] == pytest.approx(closed.value[0], abs=1e-6)
    assert closed.slope_in[-1] == pytest.approx(closed.slope_out[0], abs=1e-6)


def test_another_figures_curve_is_matched_over_its_guide(page: Page) -> None:
    theirs = keyed([0, 100, 200], [0, 24, 0])
    bring_in(page, "leader", figure(Arm_ry=theirs))
    page.get_by_role("link", name="Shelf").click()
    bring_in(page, "follower", figure(Arm_ry=keyed([0, 100, 200], [0, 4, 0])))
    pick_channel(page, "turn Y")
    page.get_by_role("button", name="Traces").click()
    page.get_by_label("Guide clip").select_option(label="leader")
    expect(page.get_by_label("Guide channel")).to_have_value(RY)
    settled(page)
    page.keyboard.press("Escape")
    # The key goes up to where the guide passes; the view is made to show both.
    page.mouse.move(*place(page, 150, 2))
    box_ = box(page, "sheet")
    page.mouse.move(box_["x"] + 30, box_["y"] + 120)
    page.mouse.wheel(0, 1500)
    settled(page)
    drag(page, place(page, 100, 4), place(page, 100, 24))
    revision(page, 2)
    mine = curve_of(page, "Arm", RY)
    assert np.abs(mine.at(FRAMES) - theirs.at(FRAMES)).max() < 0.6
    page.get_by_role("button", name="Traces").click()
    page.get_by_role("button", name="Drop").last.click()
    expect(page.get_by_label("Guide clip")).to_have_value("")


def test_keys_of_two_joints_are_edited_by_typing(page: Page) -> None:
    clip = figure(Arm_ry=keyed([0, 50, 200], [0, 8, 0]), Hand_ry=keyed([0, 50, 200], [0, -6, 2]))
    bring_in(page, "typing", clip)
    pick_joint(page, "Hand", add=True)
    page.get_by_test_id("frame").fill("50")
    page.keyboard.press("Enter")
    page.get_by_role("button", name="At these times").click()
    expect(count(page)).to_have_text("2 keys")
    expect(page.get_by_label("Frame of the selected keys")).to_have_value("50")
    expect(page.get_by_label("Value of the selected keys")).to_have_attribute(
        "placeholder", "several"
    )
    page.get_by_label("Frame of the selected keys").fill("62.5")
    page.keyboard.press("Enter")
    revision(page, 2)
    page.get_by_label("How to change it").select_option("multiply by")
    page.get_by_label("Amount to type").fill("1.5")
    page.keyboard.press("Enter")
    page.get_by_role("group", name=re.compile("Type for")).get_by_role("button", name="Set").click()
    revision(page, 3)
    arm, hand = curve_of(page, "Arm", RY), curve_of(page, "Hand", RY)
    assert (arm.time[1], arm.value[1]) == (62.5, 12)  # type: ignore[union-attr]
    assert (hand.time[1], hand.value[1]) == (62.5, -9)  # type: ignore[union-attr]


def test_keys_are_edited_without_a_pointer_and_said_aloud(page: Page) -> None:
    bring_in(page, "keyboard", figure(Arm_ry=keyed([0, 50, 200], [0, 8, 0])))
    spoken = page.get_by_test_id("spoken")
    page.keyboard.press("s")
    expect(spoken).to_have_text(re.compile("^Arm turn Y, key 1 of 3, frame 0, 0 degrees, eased"))
    page.keyboard.press("d")
    expect(spoken).to_have_text(re.compile("key 2 of 3, frame 50, 8 degrees"))
    assert frame_now(page) == 50
    page.keyboard.press("Control+ArrowRight")
    revision(page, 2)
    page.keyboard.press("Control+ArrowUp")
    revision(page, 3)
    expect(spoken).to_have_text(re.compile("frame 51, 8.5 degrees"))
    page.keyboard.press("g")
    page.keyboard.type("11")
    page.keyboard.press("Enter")
    revision(page, 4)
    page.keyboard.press("Shift+6")
    expect(spoken).to_have_text(re.compile("frame 51, 11 degrees, flat"))
    # A key is set at now, copied, pasted elsewhere, deleted.
    page.get_by_test_id("frame").fill("120")
    page.keyboard.press("Enter")
    pick_channel(page, "turn Y")
    page.keyboard.press("t")
    expect(spoken).to_have_text(re.compile("key 3 of 4, frame 120"))
    page.keyboard.press("Control+c")
    page.get_by_test_id("frame").fill("160")
    page.keyboard.press("Enter")
    page.keyboard.press("Control+v")
    expect(spoken).to_have_text(re.compile("key 4 of 5, frame 160"))
    page.keyboard.press("Delete")
    expect(spoken).to_have_text(re.compile("4 keys$"))
    revision(page, 8)
    curve = curve_of(page, "Arm", RY)
    assert curve.time.tolist() == [0, 51, 120, 200]  # type: ignore[union-attr]
    # The history is a list to be jumped in, branches that were left included.
    page.get_by_role("button", name="History").click()
    page.get_by_role("list", name="History").get_by_role("button").last.click()
    expect(page.get_by_text("revision 1", exact=True)).to_be_visible()
    assert curve_of(page, "Arm", RY).key_count == 3
    page.get_by_role("list", name="History").get_by_role("button").first.click()
    page.keyboard.press("Escape")
    expect(page.get_by_text("revision 8", exact=True)).to_be_visible()
    assert curve_of(page, "Arm", RY).key_count == 4


def test_seeing_marks_traces_trails_and_channels_left_out(page: Page) -> None:
    moving = figure(
        Hips_tx=keyed([0, 200], [0, 20]), Arm_ry=keyed([0, 60, 120, 200], [0, 60, -40, 0])
    )
    bring_in(page, "seeing", moving)

    page.get_by_test_id("frame").fill("60")
    page.keyboard.press("Enter")
    bare = stage_picture(page)
    # A channel that is hovered shows its direction; trails show the way of the hand.
    page.get_by_role("treeitem", name=re.compile("turn Y$")).first.hover()
    pointed = stage_picture(page)
    assert pointed != bare
    page.mouse.move(5, 5)
    assert stage_picture(page) == bare
    page.keyboard.press("Shift+X")
    assert stage_picture(page) != bare
    page.keyboard.press("Shift+X")
    # Played without a channel the arm stays as it is at the range's first frame.
    pick_channel(page, "turn Y")
    page.keyboard.press("m")
    muted = stage_picture(page)
    assert muted != bare
    page.keyboard.press("m")
    assert stage_picture(page) == bare
    # Pose to pose: frame 90 shows the pose of the key at 60.
    page.keyboard.press("h")
    held = stage_picture(page)
    page.keyboard.press("h")
    page.get_by_test_id("frame").fill("60")
    page.keyboard.press("Enter")
    assert stage_picture(page) == held
    # A copy is kept, the curve changed, the two swapped and swapped back.
    page.keyboard.press("k")
    page.mouse.click(*place(page, 60, 60))
    page.get_by_label("Value of the selected keys").fill("20")
    page.keyboard.press("Enter")
    revision(page, 2)
    page.keyboard.press("Shift+K")
    expect(page.get_by_text("revision 1", exact=True)).to_be_visible()
    page.keyboard.press("Shift+K")
    revision(page, 2)
    # Marks: made, named, made the range of.
    page.get_by_role("button", name="Marks").click()
    page.get_by_role("button", name="Mark now").click()
    name = page.get_by_label("Name of mark 1")
    name.fill("arm up")
    name.press("Enter")
    expect(page.get_by_label("Name of arm up")).to_be_visible()
    page.keyboard.press("Escape")
    strip = box(page, "strip")
    scale = (strip["width"] - 14 - 92) / 200
    at = (strip["x"] + 14 + 60 * scale, strip["y"] + 18 + 11 + 5)
    drag(page, at, (at[0] + 20 * scale, at[1]))
    page.get_by_role("button", name="Marks").click()
    expect(page.get_by_role("button", name="80", exact=True)).to_be_visible()
    page.keyboard.press("Escape")
    # Pinned channels stay while another joint is picked; hidden ones go.
    page.get_by_label("Pin the shown channels").click()
    pick_joint(page, "Spine")
    page.mouse.move(*place(page, 0, 0))
    page.keyboard.press("Control+a")
    expect(count(page)).to_have_text("10 keys")


def test_a_key_set_by_a_double_press_changes_no_shape_and_a_segment_springs(page: Page) -> None:
    before = keyed([0, 100, 200], [0, 30, -10])
    bring_in(page, "insert", figure(Arm_ry=before))
    pick_channel(page, "turn Y")
    page.mouse.dblclick(*place(page, 40, float(before.at(np.array([40.0]))[0])))
    revision(page, 2)
    after = curve_of(page, "Arm", RY)
    assert isinstance(after, KeyedCurve)
    assert np.abs(after.at(FRAMES) - before.at(FRAMES)).max() < 1e-9
    assert after.key_count == 4
    page.get_by_label("What follows the selected keys").select_option("spring")
    revision(page, 3)
    page.get_by_label("How often it swings past").fill("3")
    page.keyboard.press("Enter")
    revision(page, 4)
    sprung = curve_of(page, "Arm", RY)
    assert isinstance(sprung, KeyedCurve)
    k = int(np.flatnonzero(sprung.segment == 3)[0])
    assert (sprung.swings[k], sprung.time[k]) == (3, after.time[k])
    page.get_by_label("After the last key").select_option("repeat_offset")
    revision(page, 5)
    assert curve_of(page, "Arm", RY).extend[1] == 3  # type: ignore[union-attr]


def test_a_keys_menu_holds_what_is_done_to_keys_and_fits_handles_again(page: Page) -> None:
    """A key between two is taken out by its menu; what is left is fitted to what was thinned."""
    t = np.arange(201.0)
    bring_in(page, "to_fit", figure(Arm_ry=SampledCurve(20 * np.sin(t / 25) + 4 * np.sin(t / 9))))
    page.keyboard.press("Alt+5")
    page.get_by_role("button", name="Apply thinning").click()
    revision(page, 2)
    page.keyboard.press("Alt+8")
    pick_channel(page, "turn Y")
    settled(page)
    curve = curve_of(page, "Arm", RY)
    assert isinstance(curve, KeyedCurve)
    page.mouse.click(*place(page, curve.time[1], curve.value[1]), button="right")
    menu = page.get_by_role("menu")
    expect(menu).to_contain_text("1 key")
    expect(menu.get_by_role("menuitem", name=re.compile("Handles: flat"))).to_be_visible()
    expect(menu.get_by_role("menuitem", name=re.compile("Bands|Play"))).to_have_count(0)
    menu.get_by_role("menuitem", name=re.compile("Delete")).click()
    settled(page)
    left = curve_of(page, "Arm", RY)
    assert isinstance(left, KeyedCurve)
    assert len(left.time) == len(curve.time) - 1
    truth = 20 * np.sin(t / 25) + 4 * np.sin(t / 9)
    page.get_by_role("tab", name="Keys").click()
    page.get_by_role("button", name="Of all keys shown").click()
    said = page.get_by_text(re.compile(r"handles of \d+ keys? follow the motion again"))
    expect(said).to_be_visible()
    settled(page)
    fitted = curve_of(page, "Arm", RY)
    assert isinstance(fitted, KeyedCurve)
    assert list(fitted.time) == list(left.time)
    off = [float(np.sqrt(np.mean((c.at(t) - truth) ** 2))) for c in (left, fitted)]
    assert off[1] < 0.8 * off[0]
    # Beside a key the menu is the sheet's own.
    page.mouse.click(*place(page, 100, 12), button="right")
    expect(menu.get_by_role("menuitem", name=re.compile("Around now"))).to_be_visible()


def test_the_whole_performance_is_mirrored(page: Page) -> None:
    """Not the shown channels alone: the figure with its contacts, and back by a second time."""
    takes.bring_walk(page, "walk_mirrored")

    def contacts() -> set[tuple[str, int, int]]:
        clip = page.url.replace("/clip/", "/api/clips/")
        head = page.request.get(clip).json()["head"]["id"]
        found = page.request.get(f"{clip}/contacts?revision={head}").json()["contacts"]
        return {(c["limb"], c["first"], c["last"]) for c in found}

    before = contacts()
    page.keyboard.press("Alt+8")
    page.get_by_role("tab", name="Pose").click()
    page.get_by_role("button", name="Mirror", exact=True).click()
    mirror = page.get_by_role("region", name="Mirror", exact=True)
    expect(mirror.get_by_label("Which joints")).to_have_value("all")
    apply = mirror.get_by_role("button", name="Apply")
    apply.click()
    revision(page, 2)
    settled(page)
    other = {"left": "right", "right": "left"}
    swapped = {(" ".join(other.get(w, w) for w in limb.split()), a, b) for limb, a, b in before}
    assert contacts() == swapped != before
    apply.click()
    revision(page, 3)
    settled(page)
    assert contacts() == before


def test_a_loop_is_found_made_a_clip_and_kept_in_place(page: Page) -> None:
    """By pointer: find it, make it a clip, open that, begin it elsewhere, keep it in place."""
    takes.bring_walk(page, "walk_looped")
    page.keyboard.press("Alt+8")
    page.get_by_role("tab", name="Time").click()
    loops = page.get_by_role("region", name="Loops")
    loops.get_by_role("button", name="Find loops").click()
    found = loops.get_by_role("list", name="Loops found").get_by_role("listitem")
    expect(found.first).to_contain_text("mm apart", timeout=60_000)
    expect(found.first).to_contain_text("each round")
    loops.get_by_role("button", name="Range").first.click()
    first, last = (
        int(page.get_by_label(f"{end} frame of the range").input_value())
        for end in ("First", "Last")
    )
    assert 20 < last - first < 300
    loops.get_by_role("button", name="Make").first.click()
    made = loops.get_by_role("link", name=f"loop of {first} – {last}")
    expect(made).to_be_visible(timeout=60_000)
    made.click()
    page.wait_for_url("**/clip/*")
    settled(page)
    clip = page.url.replace("/clip/", "/api/clips/")
    assert page.request.get(clip).json()["frames"] == last - first + 1

    page.get_by_role("button", name="1×", exact=True).click()
    page.get_by_role("button", name="Rounds go on").click()
    page.keyboard.press("Escape")
    page.get_by_test_id("play").click()
    page.wait_for_timeout(4_000)
    page.get_by_test_id("play").click()
    expect(page.get_by_role("button", name="Bring the figure back into view")).to_be_hidden()

    page.keyboard.press("Alt+8")
    page.get_by_role("tab", name="Time").click()
    page.get_by_test_id("frame").fill("20")
    page.get_by_test_id("frame").press("Enter")
    page.get_by_role("button", name="Begin the loop elsewhere").click()
    begin = page.get_by_role("region", name="Begin the loop elsewhere")
    expect(begin).to_contain_text("At frame 20, now.")
    before = page.request.get(clip).json()["head"]["number"]
    begin.get_by_role("button", name="Apply").click()
    revision(page, before + 1)
    settled(page)

    page.get_by_role("button", name="Travel", exact=True).click()
    travel = page.get_by_role("region", name="Travel", exact=True)
    expect(travel.get_by_label("Which frames")).to_have_value("all")
    expect(travel.get_by_label("Which joints")).to_have_count(0)
    expect(travel.get_by_role("button", name="Y", exact=True)).to_have_count(0)
    travel.get_by_role("button", name="Z", exact=True).click()
    expect(travel.get_by_test_id("preview-numbers")).to_contain_text("Most moved", timeout=60_000)
    travel.get_by_role("button", name="Apply").click()
    revision(page, before + 2)
    settled(page)
    line = page.request.get(clip).json()["head"]["recipe"][-1]
    assert line["operation"] == "travel"
    assert line["params"]["axes"] == ["z"]
    assert page.request.get(clip).json()["head"]["report"]["most_moved_mm"] > 300.0


def test_a_clip_is_split_at_now(page: Page) -> None:
    takes.bring_walk(page, "walk_split")
    clip = page.url.replace("/clip/", "/api/clips/")
    frames = page.request.get(clip).json()["frames"]
    page.keyboard.press("Alt+8")
    page.get_by_role("tab", name="Time").click()
    page.get_by_test_id("frame").fill("120")
    page.get_by_test_id("frame").press("Enter")
    parts = page.get_by_role("region", name="Parts of the clip")
    parts.get_by_role("button", name="Split at now").click()
    links = parts.get_by_role("link")
    expect(links).to_have_count(2, timeout=60_000)
    names = ["walk_split, 0 – 120", f"walk_split, 120 – {frames - 1}"]
    assert links.all_inner_texts() == names
    page.keyboard.press("Alt+1")
    page.get_by_role("button", name="Make the next version").click()
    expect(page.get_by_text("Made: walk_split, version 2.")).to_be_visible()
    page.keyboard.press("Alt+8")
    page.get_by_role("tab", name="Time").click()
    parts.get_by_role("button", name="Range as a clip").click()
    expect(links).to_have_count(1)
    links.first.click()
    page.wait_for_url("**/clip/*")
    settled(page)
    there = page.request.get(page.url.replace("/clip/", "/api/clips/")).json()
    assert there["frames"] == frames
    assert there["head"]["recipe"][-1]["operation"] == "trim"
