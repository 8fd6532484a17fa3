"""While something moves the stage is drawn without WebGL: as WebGL draws it, and until it rests."""

from __future__ import annotations

import base64
from pathlib import Path

import numpy as np
import pytest
from leancurve.curves.curve import keyed
from PIL import Image
from playwright.sync_api import Page, expect

from tests.e2e.conftest import still
from tests.e2e.test_shaping import bring_in, figure
from tests.e2e.test_the_whole_job import box, stage_picture
from tests.e2e.test_timing import gizmo, go_to

LISTEN = """() => {
  const sketch = document.querySelector('[data-testid=sketch]')
  window.seen = []
  new MutationObserver(() => window.seen.push(!sketch.hidden))
    .observe(sketch, { attributes: true, attributeFilter: ['hidden'] })
}"""


def dark(picture: bytes, folder: Path) -> np.ndarray:
    """Where a picture has lines: pixels ``(height, width)``, nothing drawn being light."""
    (folder / "picture.png").write_bytes(picture)
    rgba = np.asarray(Image.open(folder / "picture.png").convert("RGBA"), dtype=float) / 255
    opacity = rgba[..., 3:]
    return (rgba[..., :3] * opacity + (1 - opacity)).mean(axis=-1) < 0.6


def widened(spots: np.ndarray, by: int) -> np.ndarray:
    out = spots.copy()
    for down in range(-by, by + 1):
        for right in range(-by, by + 1):
            out |= np.roll(spots, (down, right), (0, 1))
    return out


@pytest.mark.parametrize("split", [False, True], ids=["one view", "two views"])
def test_a_gizmo_is_dragged_over_a_sketch_that_is_as_the_picture_at_rest(
    page: Page, split: bool, tmp_path: Path
) -> None:
    turns = {f"Arm_r{a}": keyed([0, 200], [0, 0]) for a in "xyz"}
    bring_in(page, f"sketched {split}", figure(**turns))
    go_to(page, 100)
    if split:
        page.get_by_role("button", name="Split").click()
    page.keyboard.press("j")
    at = box(page, "view-one")
    page.mouse.move(at["x"] + at["width"] / 2, at["y"] + at["height"] / 2)
    page.mouse.wheel(0, 500)
    x, y = gizmo(page, "z")
    still(page)
    page.evaluate(LISTEN)
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x + 22, y + 26, steps=12)
    still(page)
    # It was shown while it moved, and went where it rested.
    assert page.evaluate("window.seen") == [True, False]
    expect(page.get_by_test_id("sketch")).to_be_hidden()
    url = page.evaluate("document.querySelector('[data-testid=sketch]').toDataURL()")
    sketched = dark(base64.b64decode(url.split(",")[1]), tmp_path)
    drawn = dark(stage_picture(page), tmp_path)
    page.mouse.up()
    assert sketched.shape == drawn.shape
    # What lies over the stage is in one of both pictures alone.
    for bar in (60, -70):
        for spots in (sketched, drawn):
            spots[:bar] = False if bar > 0 else spots[:bar]
            spots[bar:] = False if bar < 0 else spots[bar:]
    assert sketched.sum() > 1500
    assert (sketched & widened(drawn, 2)).sum() > 0.97 * sketched.sum()
    assert (drawn & widened(sketched, 2)).sum() > 0.97 * drawn.sum()
    page.get_by_role("button", name="Put back").click()


def test_a_view_is_turned_with_webgl(page: Page) -> None:
    bring_in(page, "turned", figure())
    still(page)
    page.evaluate(LISTEN)
    stage = box(page, "stage")
    x, y = stage["x"] + stage["width"] / 2, stage["y"] + stage["height"] / 2
    page.mouse.move(x, y)
    page.mouse.down()
    before = stage_picture(page)
    page.mouse.move(x + 60, y, steps=6)
    assert stage_picture(page) != before
    page.mouse.up()
    assert page.evaluate("window.seen") == []
