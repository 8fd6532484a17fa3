"""People in one workspace: let in, seen on a clip, followed, made viewers; and the bin."""

from __future__ import annotations

import re
from collections.abc import Iterator

import pytest
from leancurve.curves.curve import keyed
from leancurve.demo import TAKES, captured
from leancurve.formats.bvh import write_bvh
from playwright.sync_api import Browser, Page, expect

from tests.e2e.application import Application
from tests.e2e.conftest import WAITS_MS, clip_now, open_take, settled, to_shelf
from tests.e2e.takes import store
from tests.e2e.test_shaping import bring_in, figure

WALK = "Rolling deck walk, take 07"


@pytest.fixture
def mate(page: Page, browser: Browser, application: Application) -> Iterator[Page]:
    """Somebody else, let in on the page of whoever runs the studio."""
    to_shelf(page)
    page.get_by_role("link", name="The studio").click()
    row = page.get_by_role("row", name=re.compile("^second mate"))
    page.get_by_role("heading", name="People").wait_for()
    settled(page)
    if not row.count():
        page.get_by_label("Name of somebody new").fill("second mate")
        page.get_by_label("Their password").fill("rope-and-fender")
        page.get_by_label("Their workspace").select_option("Ferry crew, day 2")
        page.get_by_role("button", name="Add").click()
    expect(row).to_contain_text("Ferry crew, day 2 (editor)")
    page.get_by_role("link", name="Shelf").click()
    context = browser.new_context(viewport={"width": 1280, "height": 800})
    other = context.new_page()
    other.set_default_timeout(WAITS_MS)
    other.goto(application.url)
    other.get_by_label("Name").fill("second mate")
    other.get_by_label("Password").fill("rope-and-fender")
    other.get_by_role("button", name="Sign in").click()
    other.get_by_role("heading", name=WALK, exact=True).wait_for()
    # Nobody but whoever runs the studio is led to its page.
    assert not other.get_by_role("link", name="The studio").count()
    yield other
    context.close()


def test_another_persons_change_is_told_and_followed_without_a_reload(
    page: Page, mate: Page
) -> None:
    bring_in(page, "followed", figure(Arm_ry=keyed([0, 50, 100, 200], [0, 10, -4, 0])))
    mate.reload()
    open_take(mate, "followed")
    expect(page.get_by_test_id("company")).to_have_text("with second mate")
    expect(mate.get_by_test_id("company")).to_have_text("with deckhand")
    assert clip_now(page)["head"]["number"] == 1
    mate.keyboard.press("Alt+5")
    mate.get_by_role("button", name="Apply thinning").click()
    expect(page.get_by_role("status").filter(has_text="Second mate: Thin")).to_be_visible()
    settled(page)
    expect(page.get_by_text("revision 2", exact=True)).to_be_visible()
    # And what is shown is what they made.
    page.keyboard.press("Alt+0")
    expect(page.locator("aside")).to_contain_text("Thin")


def test_a_viewer_looks_on(page: Page, mate: Page) -> None:
    page.get_by_role("button", name="People").click()
    page.get_by_label("Role of second mate").select_option(label="viewer: sees, plays, downloads")
    settled(page)
    page.keyboard.press("Escape")
    try:
        mate.reload()
        expect(mate.get_by_text("viewing", exact=True)).to_be_visible()
        assert not mate.get_by_role("button", name="Bring in files").count()
        assert not mate.get_by_role("button", name=re.compile("^Delete ")).count()
        open_take(page, WALK)
        before = clip_now(page)["head"]["id"]
        open_take(mate, WALK)
        expect(mate.get_by_text("viewing", exact=True)).to_be_visible()
        mate.keyboard.press("Alt+4")
        mate.get_by_role("button", name="Smooth").first.click()
        mate.get_by_role("button", name=re.compile("^Apply|^Smooth$")).last.click()
        told = mate.get_by_role("status").filter(has_text="you are a viewer")
        expect(told).to_be_visible()
        assert clip_now(page)["head"]["id"] == before
    finally:
        to_shelf(page)
        page.get_by_role("button", name="People").click()
        page.get_by_label("Role of second mate").select_option(label="editor: works")
        settled(page)


def test_what_was_deleted_lies_in_the_bin_and_comes_back(page: Page) -> None:
    crate = "crate to be deleted"
    store(crate, write_bvh(captured(TAKES[1]).clip), "bvh")
    to_shelf(page)
    page.get_by_role("button", name=f"Delete {crate}").click()
    expect(page.get_by_role("heading", name=crate, exact=True)).to_be_hidden()
    page.get_by_role("button", name="Open the bin").click()
    bin_ = page.get_by_role("dialog", name="Bin")
    expect(bin_).to_contain_text(re.compile(r"take · \d+\.\d MB · goes for good on \d+ \w+ 20\d\d"))
    bin_.get_by_role("button", name="Empty the bin").click()
    expect(bin_).to_contain_text("This goes for good.")
    bin_.get_by_role("button", name="Keep").click()
    bin_.get_by_role("button", name=f"Put back: {crate}").click()
    expect(bin_).to_contain_text("The bin is empty.")
    page.keyboard.press("Escape")
    expect(page.get_by_role("heading", name=crate, exact=True)).to_be_visible()
