"""A take read again with other choices and swapped in, and a table read onto a skeleton."""

from __future__ import annotations

from pathlib import Path

from leancurve.formats.files import read_takes
from leancurve.formats.table import write_table
from playwright.sync_api import Page, expect

from tests.core.test_choices import few_keys
from tests.e2e.conftest import clip_now, drop, is_open, open_take, settled


def test_a_take_is_read_again_at_another_rate_and_swapped_in(page: Page, tmp_path: Path) -> None:
    drop(page, "windlass.glb", few_keys(), tmp_path)
    open_take(page, "turn")
    is_open(page, "turn")
    page.keyboard.press("Alt+1")
    again = page.get_by_role("button", name="Read again")
    expect(again).to_be_disabled()
    page.get_by_label("Frames a second").select_option("60")
    page.get_by_label("Rotation order").select_option("XZY")
    page.get_by_label("An order for one joint").select_option("Head")
    page.get_by_label("Order of Head").select_option("YXZ")
    page.get_by_label("Rotation between keys").select_option("few keys, within 0.1°")
    again.click()
    swap = page.get_by_role("button", name="Swap the take")
    swap.click()
    expect(page.get_by_text("rate 60 a second, as chosen")).to_be_visible()
    expect(page.get_by_text("now XZY; Head in YXZ")).to_be_visible()
    settled(page)
    clip = clip_now(page)
    assert (clip["frames"], clip["rate"]) == (121, [60, 1])
    assert clip["head"]["keys"] < 9 * 121
    expect(page.get_by_label("Take beneath the clip").locator("option:checked")).to_have_text(
        "turn (60 / s, XZY, Head YXZ, keyed within 0.1°)"
    )
    # How it was read is what the choices begin with.
    expect(page.get_by_label("Frames a second").locator("option:checked")).to_have_text("60")


def test_a_table_of_channels_comes_in_onto_a_skeleton_that_is_chosen(
    page: Page, tmp_path: Path
) -> None:
    drop(page, "capstan.glb", few_keys().replace(b'"turn"', b'"luff"'), tmp_path)
    card = page.get_by_role("listitem").filter(has_text="luff")
    expect(card).to_be_visible()
    (take,) = read_takes(few_keys(), "turn.glb")
    drop(page, "by hand.csv", write_table(take.clip), tmp_path)
    dialog = page.get_by_role("dialog", name="A skeleton for 1 table")
    dialog.get_by_label("Channels of").select_option("Hips, 3 joints")
    dialog.get_by_role("button", name="Bring in").click()
    card = page.get_by_role("listitem").filter(has_text="by hand")
    expect(card).to_contain_text(f"{take.clip.frames} frames")
    open_take(page, "by hand")
    page.keyboard.press("Alt+1")
    expect(page.get_by_text("read onto the skeleton of")).to_be_visible()
