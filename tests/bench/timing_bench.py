"""The timing sheet and time pins in the browser, with software rendering."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction

import numpy as np
from leancurve.curves.curve import Curve, keyed
from leancurve.document.clip import Clip
from leancurve.document.track import TrackId, base_track
from leancurve.figure.skeleton import Skeleton
from leancurve.formats.clipjson import write_clip
from playwright.sync_api import Page

from tests.bench import pictures
from tests.bench.tables import Table
from tests.e2e.conftest import open_take

JOINTS, KEYS, FRAMES = 70, 60, 1200


def many_keys() -> Clip:
    """A figure of 70 joints in ten chains, each of three turning channels with 60 keys."""
    random = np.random.default_rng(5)
    parents = [-1] + [0 if j % 7 == 1 else j - 1 for j in range(1, JOINTS)]
    offsets = [(0.0, 90.0, 0.0)] + [
        (8.0 * (j // 7 - 5), 4.0, 0.0) if p == 0 else (0.0, 9.0, 0.0)
        for j, p in enumerate(parents[1:], start=1)
    ]
    names = tuple(f"Joint{j:02}" for j in range(JOINTS))
    curves: dict[TrackId, Curve] = {}
    for joint in range(JOINTS):
        for name in ("rx", "ry", "rz"):
            inner = random.choice(np.arange(1, FRAMES - 1), KEYS - 2, replace=False)
            time = np.sort(np.concatenate([[0], inner, [FRAMES - 1]])).astype(float)
            curves[base_track(joint, name)] = keyed(time, 8 * np.sin(time / 40 + joint))
    skeleton = Skeleton(names, tuple(parents), tuple(offsets))
    layout = (("rx", "ry", "rz"),) * JOINTS
    return Clip(skeleton, layout, curves, Fraction(60), FRAMES, name="many keys")


def sheet(page: Page, table: Table) -> None:
    """The sheet panned, and all keys at one time dragged from the row of the whole body."""
    page.goto(page.url.split("/clip")[0])
    page.get_by_role("heading", name="Mooring line, take 04").wait_for()
    data = write_clip(replace(many_keys(), name="many keys"))
    file = {"name": "many keys.json", "mimeType": "application/json", "buffer": data}
    page.get_by_label("Files to bring in").set_input_files([file])
    page.get_by_role("heading", name="many keys").wait_for()
    open_take(page, "many keys")
    page.keyboard.press("z")
    page.get_by_role("button", name="Open all").click()
    page.wait_for_function(
        "() => document.querySelectorAll('[data-row]').length > 200"
        " && !document.body.innerText.includes('Loading keys')"
    )
    page.wait_for_timeout(4000)
    what = f"timing sheet, {JOINTS} joints × {KEYS} keys × 3 channels"
    for name, alt in (("panned", True), ("all keys selected and dragged", False)):
        if not alt:
            page.keyboard.press("Control+a")
            page.wait_for_timeout(500)
        pictures.dragged(
            page,
            table,
            f"{what}: {name}",
            "60 / s",
            f"""
              alt = {str(alt).lower()}
              const element = document.querySelector('[data-testid=timing]')
              const [t0, t1, left, w] = element.dataset.view.split(' ').map(Number)
              const x = left + ((0 - t0) / (t1 - t0)) * w
              // The first frame has a key on every channel: the row of the body takes all of them.
              const start = [x, 36]
              const at = (n) => [x + 40 + 30 * Math.sin(n / 9), 36]
            """,
        )
        page.wait_for_timeout(1500)


def pins(page: Page, table: Table) -> None:
    """From a pin's move to the selected joint's curves, on a dense clip of 3,500 frames."""
    page.goto(page.url.split("/clip")[0])
    open_take(page, "dropped")
    page.locator("[data-joint]", has_text="RightUpperArm").first.click()
    page.keyboard.press("Alt+8")
    page.get_by_role("tab", name="Time").click()
    page.get_by_role("button", name="Pin the range").click()
    page.get_by_test_id("frame").fill("1500")
    page.get_by_test_id("frame").press("Enter")
    page.get_by_role("button", name="Pin now").click()
    page.wait_for_timeout(4000)
    taken = []
    for step in range(8):
        page.evaluate("() => performance.clearResourceTimings()")
        pin = page.get_by_label("Frame at which 1500 shall come")
        pin.fill(str(1100 + 37 * step))
        pin.press("Enter")
        page.wait_for_timeout(1800)
        taken += page.evaluate(
            """() => performance.getEntriesByType('resource')
                 .filter((r) => r.name.endsWith('/preview')).slice(0, 1).map((r) => r.duration)"""
        )
    table.add(
        "time pins previewed, the selected joint of a dense clip of 3,500 frames",
        f"{np.median(taken):.0f} ms (slowest {max(taken):.0f} ms)",
        "≤ 150 ms",
    )
