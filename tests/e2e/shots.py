"""``./lean shots``: the pictures in docs/screenshots/, from the demo's data."""

from __future__ import annotations

from playwright.sync_api import Page

from tests.conftest import PROJECT
from tests.e2e.application import Application
from tests.e2e.conftest import open_take, sign_in
from tests.e2e.conftest import settled as at_rest
from tests.e2e.page import page_of_an_application

FOLDER = PROJECT / "docs/screenshots"
TAKE = "Mooring line, take 04"


def shot(page: Page, name: str) -> None:
    page.wait_for_timeout(1500)  # the stage smooths its picture once it rests
    page.screenshot(path=FOLDER / f"{name}.png")
    print(f"docs/screenshots/{name}.png")


def settled(page: Page) -> None:
    page.wait_for_function(
        "() => document.querySelector('[data-testid=thin-numbers]').ariaBusy === 'false'"
    )


def shaping(page: Page) -> None:
    """The thinned clip in Shape: keys with their handles."""
    page.keyboard.press("Alt+8")
    page.wait_for_timeout(500)
    page.get_by_test_id("frame").fill("1750")
    page.keyboard.press("Enter")
    for name, value in (("First", "1690"), ("Last", "1810")):
        field = page.get_by_label(f"{name} frame of the range")
        field.fill(value)
        field.press("Enter")
    page.keyboard.press("3")
    page.get_by_label("Find a joint").fill("rightupperarm turn")
    page.get_by_role("treeitem", name="turn Y").click()
    page.get_by_role("button", name="In the range").click()
    page.keyboard.press("Shift+X")
    page.keyboard.press("3")
    shot(page, "bench-shape")
    page.keyboard.press("Escape")
    page.keyboard.press("Shift+X")
    page.get_by_label("Find a joint").fill("")
    page.keyboard.press("Escape")
    page.locator("[data-joint]", has_text="RightUpperArm").first.click()
    page.get_by_label("Last frame of the range").fill("2100")
    page.get_by_label("Last frame of the range").press("Enter")


def timing(page: Page) -> None:
    """The timing sheet with a part's keys selected, then time pins on a span."""
    page.keyboard.press("z")
    page.get_by_label("Open right arm").click()
    page.get_by_label("Open RightUpperArm", exact=True).click()
    for name, value in (("First", "1690"), ("Last", "1810")):
        field = page.get_by_label(f"{name} frame of the range")
        field.fill(value)
        field.press("Enter")
    page.keyboard.press("3")
    page.wait_for_timeout(500)
    canvas = page.get_by_test_id("timing").bounding_box()
    row = page.locator('[data-row="part right arm"]').bounding_box()
    assert canvas is not None
    assert row is not None
    page.mouse.move(canvas["x"] + 60, row["y"] + 3)
    page.mouse.down()
    page.mouse.move(canvas["x"] + 560, row["y"] + 21, steps=4)
    page.mouse.up()
    shot(page, "bench-timing")
    page.keyboard.press("Escape")
    page.keyboard.press("z")
    page.keyboard.press("Alt+8")


def posing(page: Page) -> None:
    """An arm posed and not keyed yet, in two views; then a review of the range."""
    page.get_by_role("tab", name="Pose").click()
    page.keyboard.press("j")
    page.keyboard.press("Alt+s")
    page.get_by_role("button", name="Show", exact=True).click()
    page.get_by_label("A person’s outline").check()
    page.keyboard.press("Escape")
    page.get_by_test_id("view-one").click(position={"x": 20, "y": 60})
    page.get_by_role("button", name="¾ view").click()
    field = page.get_by_label("turn by, Z")
    field.fill("-20")
    field.press("Enter")
    shot(page, "bench-pose")
    page.get_by_role("button", name="Put back").click()
    page.keyboard.press("Alt+s")
    page.keyboard.press("j")
    page.get_by_role("button", name="Review").click()
    page.wait_for_timeout(1200)
    page.get_by_role("region", name="Review").get_by_role("button", name="Pause").click()
    shot(page, "review")
    page.keyboard.press("Escape")


def planting(page: Page, application: Application) -> None:
    """A walk on nearly straight legs, its feet planted, one plant in its editor."""
    page.goto(application.url)
    open_take(page, "Gangway watch, take 03")
    page.keyboard.press("Alt+6")
    card = page.get_by_role("region", name="Plant the feet")
    card.get_by_role("button", name="Plant the feet").first.click()
    card.get_by_role("button", name="Apply").click()
    page.get_by_text("revision 2").wait_for()
    page.wait_for_timeout(1500)
    card.get_by_role("button", name="Plant the feet").first.click()
    page.get_by_role("list", name="Plants").get_by_role("listitem").nth(4).get_by_role(
        "button"
    ).first.click()
    page.get_by_role("button", name="¾ view").click()
    page.get_by_role("group", name="Plant of left heel").scroll_into_view_if_needed()
    shot(page, "bench-plant")


def layering(page: Page) -> None:
    """Two corrections over the planted walk, one of them with a ramp; in the night theme."""
    page.keyboard.press("Control+Shift+l")
    page.keyboard.press("Alt+8")
    page.get_by_role("tab", name="Layers").click()
    for layer, joint, turn, ramp in (
        ("arm closer", "LeftUpperArm", "14", ""),
        ("head to the left", "Head", "25", "40"),
    ):
        page.get_by_label("Name of a new layer").fill(layer)
        page.get_by_role("button", name="New layer").click()
        page.get_by_role("listitem", name=f"Layer {layer}").wait_for()
        page.get_by_label("Find a joint").fill(joint)
        page.locator("[data-joint]", has_text=joint).first.click()
        at_rest(page)
        for label in ("Ramp in", "Hold", "Ramp out"):
            if ramp:
                field = page.get_by_label(f"{label}, frames")
                field.fill(ramp)
                field.press("Enter")
        field = page.get_by_label(f"{layer}: {joint} turn Y")
        field.fill(turn)
        field.press("Enter")
        page.get_by_role("listitem", name=f"Layer {layer}").get_by_text("up to").wait_for()
        at_rest(page)
    page.get_by_role("button", name="Layer curves").click()
    page.get_by_role("button", name="¾ view").click()
    at_rest(page)
    shot(page, "bench-layers")
    page.keyboard.press("Control+Shift+l")


def retargeting(page: Page) -> None:
    """The planted walk retargeted to Heron, who stands beside it, with the map of joints."""
    page.keyboard.press("Alt+7")
    page.get_by_label("Skeleton to retarget onto").select_option(label="Heron, 64 joints")
    page.get_by_test_id("retarget-numbers").wait_for()
    page.get_by_test_id("frame").fill("430")
    page.keyboard.press("Enter")
    page.get_by_role("button", name="¾ view").click()
    at_rest(page)
    shot(page, "bench-retarget")


def take_pictures(page: Page, application: Application) -> None:
    page.goto(application.url)
    sign_in(page, application)
    shot(page, "shelf")
    page.get_by_role("link", name="The studio").click()
    page.get_by_role("heading", name="What failed").wait_for()
    shot(page, "studio")
    page.get_by_role("link", name="Shelf").click()
    open_take(page, TAKE)
    page.locator("[data-joint]", has_text="RightUpperArm").first.click()
    page.get_by_test_id("frame").fill("1940")
    page.keyboard.press("Enter")
    page.keyboard.press("Alt+1")
    shot(page, "bench-bring-in")
    page.keyboard.press("Alt+2")
    page.get_by_role("button", name="spikes").click()
    page.get_by_role("list", name="Findings").get_by_role("button").nth(9).click()
    shot(page, "bench-inspect")
    page.locator("[data-joint]", has_text="RightUpperArm").first.click()
    page.keyboard.press("1")
    page.keyboard.press("Alt+3")
    page.get_by_role("button", name="Preview").click()
    page.get_by_text("Flips after").wait_for()
    page.wait_for_timeout(2500)
    shot(page, "bench-unflip")
    page.get_by_role("button", name="Apply unflip").click()
    page.get_by_text("revision 2").wait_for()
    page.keyboard.press("Alt+4")
    page.get_by_role("button", name="Smooth").click()
    page.get_by_role("button", name="Preview").click()
    page.get_by_test_id("preview-numbers").wait_for()
    page.get_by_test_id("frame").fill("1220")
    page.keyboard.press("Enter")
    page.locator("[data-joint]", has_text="RightHand").first.click()
    page.wait_for_timeout(1500)
    page.keyboard.press("4")
    shot(page, "bench-calm")
    page.keyboard.press("Alt+0")
    page.get_by_role("button", name="Apply recipe").click()
    page.get_by_text("revision 3").wait_for()
    page.get_by_text("Thin within").first.wait_for()
    page.wait_for_timeout(1500)
    shot(page, "bench-recipe")
    page.keyboard.press("Alt+5")
    page.get_by_label("Key times").select_option("pose")
    page.locator("[data-joint]", has_text="RightUpperArm").first.click()
    page.wait_for_timeout(500)
    settled(page)
    for name, value in (("First", "1400"), ("Last", "2100")):
        field = page.get_by_label(f"{name} frame of the range")
        field.fill(value)
        field.press("Enter")
    page.keyboard.press("3")
    shot(page, "bench-thin")
    shaping(page)
    timing(page)
    posing(page)
    page.keyboard.press("Alt+9")
    page.get_by_label("Preset", exact=True).select_option(label="GLB, fitted splines")
    page.get_by_role("button", name="Deliver", exact=True).last.click()
    page.get_by_text("read back within").wait_for()
    page.wait_for_timeout(6500)
    shot(page, "bench-deliver")
    planting(page, application)
    retargeting(page)
    layering(page)
    page.goto(application.url)
    for name in ("Crate over the coaming", "Rolling deck walk", "Signal lamp"):
        page.get_by_label(f"Choose {name}").check()
    page.get_by_role("button", name="Run a recipe on 3").click()
    page.get_by_role("button", name="Run the recipe").click()
    page.get_by_text("3 done").wait_for()
    shot(page, "batch")
    delivering(page, application)
    joining(page, application)


def delivering(page: Page, application: Application) -> None:
    """Three clips in two forms."""
    page.goto(application.url)
    for name in ("Crate over the coaming", "Rolling deck walk", "Signal lamp"):
        page.get_by_label(f"Choose {name}").check()
    page.get_by_role("button", name="Deliver 3").click()
    page.get_by_label("GLB, root on the floor").check()
    page.get_by_label("USD", exact=True).check()
    page.get_by_role("button", name="Deliver 6 files").click()
    page.get_by_text("3 done").wait_for()
    shot(page, "delivery")


def joining(page: Page, application: Application) -> None:
    """Two takes, and all pairs of frames at which they may meet."""
    page.goto(application.url)
    open_take(page, "Rolling deck walk, take 07")
    page.keyboard.press("Alt+J")
    page.get_by_label("Clip to join").select_option(label="Crate over the coaming, take 02")
    page.get_by_role("button", name="Seams to").click()
    page.get_by_test_id("pairs").wait_for()
    page.get_by_role("list", name="Best seams").get_by_role("button").first.click()
    at_rest(page)
    page.wait_for_timeout(1500)
    shot(page, "bench-join")


def main() -> None:
    FOLDER.mkdir(parents=True, exist_ok=True)
    with page_of_an_application("lean_shots") as (page, application, _):
        take_pictures(page, application)


if __name__ == "__main__":
    main()
