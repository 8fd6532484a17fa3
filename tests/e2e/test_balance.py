"""Weight in flight by pointer: a jump raised too high is found, balanced, and delivered."""

from __future__ import annotations

import re
from dataclasses import replace
from pathlib import Path

from leancurve.document.clip import Clip
from leancurve.formats.bvh import read_bvh, write_bvh
from leancurve.measures.findings import find
from leancurve.measures.flights import flights_of
from leancurve.operations import OPERATIONS, apply_patch
from playwright.sync_api import Page, expect

from tests.core.test_balance import raised
from tests.e2e.conftest import delivered, settled
from tests.e2e.test_cleaning import card, revision
from tests.e2e.test_shaping import bring_in
from tests.e2e.test_the_whole_job import stage_picture


def one_jump(capture: Clip) -> Clip:
    """A jump of the open capture with something before and after, led higher than it went."""
    part = apply_patch(capture, OPERATIONS["trim"].run(capture, {"first": 700, "last": 960}))
    return replace(raised(part, 0, 120.0), layers=())


def test_a_jump_that_is_too_high_is_found_and_balanced(
    page: Page, open_capture: Clip, tmp_path: Path
) -> None:
    bring_in(page, "too_high", write_bvh(one_jump(open_capture)))
    page.keyboard.press("Alt+2")
    # A finding leads to what mends it.
    found = page.get_by_role("list", name="Findings").get_by_role("listitem")
    page.get_by_role("button", name=re.compile(r"^arcs 1")).click()
    expect(found).to_have_count(1)
    page.keyboard.press("Alt+B")
    expect(page.get_by_role("heading", name="Balance", exact=True)).to_be_visible()
    flights = page.get_by_role("table", name="Flights").get_by_role("row")
    expect(flights).to_have_count(2)
    before = flights.nth(1).inner_text()
    flights.nth(1).get_by_role("button").click()
    settled(page)
    first = page.get_by_test_id("frame").input_value()
    assert first == re.findall(r"\d+", before)[0]
    page.get_by_test_id("frame").fill(str(int(first) + 20))
    page.keyboard.press("Enter")
    settled(page)
    high = stage_picture(page)

    balance = card(page, "Balance flights")
    balance.get_by_role("button", name="Preview").click()
    told = page.get_by_test_id("preview-numbers")
    expect(told).to_contain_text("Findings: arcs")
    expect(told).to_contain_text("1 → 0")
    settled(page)
    assert stage_picture(page) != high
    # The controls are shares: dragged by the keyboard as well, and seen at once.
    balance.get_by_role("slider", name="Path").focus()
    page.keyboard.press("Home")
    expect(told).not_to_contain_text("Findings: arcs")
    page.keyboard.press("End")
    expect(told).to_contain_text("1 → 0")
    balance.get_by_role("button", name="Apply").click()
    revision(page, 2)
    settled(page)
    expect(flights.nth(1)).to_contain_text("< 0.01 mm")
    clip = page.request.get(page.url.replace("/clip/", "/api/clips/")).json()
    assert [layer["name"] for layer in clip["layers"]] == ["weight"]
    # The centre of mass is shown, and hidden again.
    page.keyboard.press("Shift+W")
    alone = stage_picture(page)
    page.keyboard.press("Alt+M")
    settled(page)
    assert stage_picture(page) != alone
    page.keyboard.press("Alt+M")
    settled(page)
    assert stage_picture(page) == alone
    page.keyboard.press("Alt+9")
    back = read_bvh(delivered(page, tmp_path / "balanced.bvh")).clip
    unit = clip["reading"]["metres_per_unit"]
    back = replace(back, reading=replace(back.reading, metres_per_unit=unit))
    assert not find(back, ["arc", "spin"])
    (flight,) = flights_of(back)
    assert abs(flight.gravity - 9.80665) < 0.1
