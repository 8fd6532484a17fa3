"""No edit is ever lost: many at once, with the server gone, in two windows, from clip to clip."""

from __future__ import annotations

import json
import time
from dataclasses import replace
from fractions import Fraction
from typing import Any

import numpy as np
import psycopg
import pytest
from leancurve.curves.curve import KeyedCurve, SampledCurve, keyed
from leancurve.document.clip import Clip
from leancurve.figure.skeleton import Skeleton
from leancurve.formats.clipjson import write_clip
from playwright.sync_api import Browser, Page, expect

from tests.e2e.application import Application
from tests.e2e.conftest import WAITS_MS, open_take, settled
from tests.e2e.takes import store
from tests.e2e.test_shaping import bring_in, curve_of, figure, pick_channel, pick_joint, place
from tests.pace import patient

ARM = keyed([0, 40, 80, 120, 160, 200], [0, 10, -4, 8, 2, 0])


def keyed_now(page: Page, joint: str, channel: str) -> KeyedCurve:
    """A curve of the clip's head, as the server has it."""
    curve = curve_of(page, joint, channel)
    assert isinstance(curve, KeyedCurve)
    return curve


def saved(page: Page) -> None:
    expect(page.get_by_test_id("saved")).to_have_text("saved")


def select_key(page: Page, frame: int, value: float) -> None:
    page.mouse.click(*place(page, frame, value))
    expect(page.get_by_test_id("key-count")).to_have_text("1 key")


def test_a_nudge_held_for_sixty_presses_is_one_step(page: Page) -> None:
    bring_in(page, "nudged", figure(Arm_ry=ARM))
    pick_channel(page, "turn Y")
    select_key(page, 80, -4)
    for _ in range(60):
        page.keyboard.press("Control+ArrowUp")
    saved(page)
    settled(page)
    assert keyed_now(page, "Arm", "ry").value.tolist() == [0, 10, -4 + 60 * 0.5, 8, 2, 0]
    page.get_by_role("button", name="Undo").click()
    expect(page.get_by_text("revision 1", exact=True)).to_be_visible()
    settled(page)
    assert keyed_now(page, "Arm", "ry").value[2] == -4


def test_while_the_server_is_gone_edits_wait_and_are_kept_when_it_is_back(
    page: Page, application: Application
) -> None:
    bring_in(page, "waiting", figure(Arm_ry=ARM))
    pick_channel(page, "turn Y")
    select_key(page, 120, 8)
    application.kill(application.web)
    try:
        for _ in range(4):
            page.keyboard.press("Control+ArrowUp")
        waits = page.get_by_test_id("saved")
        expect(waits).to_contain_text("1 change waits for the server")
        # What was done is seen, and leaving the page would ask.
        assert page.evaluate(
            """() => { const e = new Event('beforeunload', { cancelable: true });
                 dispatchEvent(e); return e.defaultPrevented }"""
        )
        page.keyboard.press("Control+ArrowUp")
        expect(waits).to_contain_text("2 changes wait")
    finally:
        application.start_web()
    saved(page)
    settled(page)
    assert keyed_now(page, "Arm", "ry").value[3] == 8 + 5 * 0.5


def test_a_change_that_is_refused_says_so_and_those_behind_it_go_on(page: Page) -> None:
    bring_in(page, "refused", figure(Arm_ry=ARM))
    pick_channel(page, "turn Y")
    select_key(page, 80, -4)
    turn = {"n": 0}
    second: list[Any] = []

    def answer(route: Any) -> None:
        turn["n"] += 1
        if turn["n"] == 2:
            second.append(route)
        else:
            route.continue_()

    page.route("**/writes", answer)
    with page.expect_response("**/writes"):
        page.keyboard.press("Control+ArrowUp")
    saved(page)
    page.keyboard.press("Control+ArrowUp")
    until = time.monotonic() + patient(30)
    while not second and time.monotonic() < until:
        page.wait_for_timeout(50)
    # Refused once the third one has been made on what was shown.
    page.keyboard.press("Control+ArrowUp")
    body = json.dumps({"detail": "value: not this one"})
    second[0].fulfill(status=422, content_type="application/json", body=body)
    expect(page.get_by_role("status").filter(has_text="was not kept")).to_contain_text(
        "value: not this one"
    )
    saved(page)
    settled(page)
    # Absolute results: the third one stands as it was seen.
    assert keyed_now(page, "Arm", "ry").value[2] == -4 + 3 * 0.5
    assert page.get_by_text("revision 3").is_visible()


@pytest.fixture
def two(page: Page, browser: Browser, signed_in: Any, request: pytest.FixtureRequest) -> Any:
    """Two windows of two people's browsers on one clip."""
    name = request.node.originalname.removeprefix("test_").replace("_", " ")
    bring_in(page, name, figure(Arm_ry=ARM, Hand_ry=ARM))
    context = browser.new_context(viewport={"width": 1280, "height": 800}, storage_state=signed_in)
    other = context.new_page()
    other.set_default_timeout(WAITS_MS)
    # It sees what the first one does when it writes itself: here it does not follow.
    other.route("**/here", lambda route: route.abort())
    other.goto(page.url)
    settled(other)
    other.keyboard.press("Alt+8")
    yield page, other
    context.close()


def test_in_two_windows_disjoint_edits_both_stand(two: tuple[Page, Page]) -> None:
    page, other = two
    pick_channel(page, "turn Y")
    pick_joint(other, "Hand")
    pick_channel(other, "turn Y")
    select_key(page, 80, -4)
    select_key(other, 120, 8)
    for _ in range(3):
        page.keyboard.press("Control+ArrowUp")
        other.keyboard.press("Control+ArrowDown")
    saved(page)
    saved(other)
    page.reload()
    settled(page)
    assert keyed_now(page, "Arm", "ry").value[2] == -4 + 1.5
    assert keyed_now(page, "Hand", "ry").value[3] == 8 - 1.5
    assert not page.get_by_role("alertdialog").count()


def test_in_two_windows_the_same_key_gives_a_plain_choice(two: tuple[Page, Page]) -> None:
    page, other = two
    pick_joint(other, "Arm")
    for window in (page, other):
        pick_channel(window, "turn Y")
        select_key(window, 80, -4)
    page.keyboard.press("Control+ArrowUp")
    saved(page)
    other.keyboard.press("Control+ArrowDown")
    other.keyboard.press("Control+ArrowDown")
    choice = other.get_by_role("alertdialog", name="Changed elsewhere")
    expect(choice).to_contain_text("Arm ry was changed elsewhere")
    settled(other)
    # Theirs is seen until one's own is put over it.
    assert keyed_now(other, "Arm", "ry").value[2] == -3.5
    choice.get_by_role("button", name="Put mine over it").click()
    saved(other)
    settled(other)
    assert keyed_now(other, "Arm", "ry").value[2] == -5.0
    expect(choice).to_be_hidden()


def test_undo_in_one_window_while_the_other_drags(two: tuple[Page, Page]) -> None:
    page, other = two
    pick_channel(page, "turn Y")
    select_key(page, 80, -4)
    page.keyboard.press("Control+ArrowUp")
    saved(page)
    other.reload()
    settled(other)
    pick_joint(other, "Arm")
    pick_channel(other, "turn Y")
    x, y = place(other, 120, 8)
    other.mouse.click(x, y)
    other.mouse.move(x, y)
    other.mouse.down()
    other.mouse.move(x, y - 20, steps=4)
    page.get_by_role("button", name="Undo").click()
    expect(page.get_by_role("button", name="Redo")).to_be_enabled()
    other.mouse.move(x, y - 30, steps=3)
    other.mouse.up()
    # The channel was changed meanwhile, by the undo: a plain choice, and nothing in silence.
    choice = other.get_by_role("alertdialog", name="Changed elsewhere")
    expect(choice).to_be_visible()
    choice.get_by_role("button", name="Put mine over it").click()
    saved(other)
    settled(other)
    now = keyed_now(other, "Arm", "ry")
    assert now.value[2] == -4
    assert now.value[3] > 8.5


HOLD = """() => {
  const real = window.fetch
  const open = new Promise((done) => { window.release = done })
  window.fetch = async (...given) => {
    const url = String(given[0].url ?? given[0])
    if (url.endsWith('/writes')) await open
    return real(...given)
  }
}"""


def test_another_clips_answer_does_not_replace_the_open_one(page: Page) -> None:
    """A write that is answered late, after another clip was opened, belongs to its own."""
    bring_in(page, "second", figure(Arm_ry=ARM))
    page.get_by_role("link", name="Shelf").click()
    bring_in(page, "first", figure(Arm_ry=ARM))
    pick_channel(page, "turn Y")
    select_key(page, 80, -4)
    page.evaluate(HOLD)
    page.keyboard.press("Control+ArrowUp")
    expect(page.get_by_test_id("saved")).to_have_text("saving …")
    page.get_by_role("link", name="Shelf").click()
    open_take(page, "second")
    page.evaluate("() => window.release()")
    page.keyboard.press("Alt+8")
    pick_channel(page, "turn Y")
    expect(page.get_by_role("heading", level=1, name="second")).to_be_visible()
    assert page.get_by_text("revision 1").is_visible()
    select_key(page, 80, -4)
    page.keyboard.press("Control+ArrowDown")
    saved(page)
    settled(page)
    assert keyed_now(page, "Arm", "ry").value[2] == -4.5
    page.get_by_role("link", name="Shelf").click()
    open_take(page, "first")
    page.keyboard.press("Alt+8")
    pick_joint(page, "Arm")
    assert keyed_now(page, "Arm", "ry").value[2] == -3.5


def dense(name: str, arm: float) -> Clip:
    """The four joints on every frame, the forearm so long."""
    clip = figure()
    offsets = ((0, 90, 0), (0, 40, 0), (20, 0, 0), (arm, 0, 0))
    still = SampledCurve(keyed([0, 200], [0, 5]).at(np.arange(201.0)))
    curves = dict.fromkeys(clip.channels, still)
    skeleton = Skeleton(clip.skeleton.names, clip.skeleton.parents, offsets)
    return replace(clip, skeleton=skeleton, curves=curves, rate=Fraction(60), name=name)


def test_a_take_with_other_bones_is_seen_with_its_own(page: Page) -> None:
    for name, arm in (("short arm", 30.0), ("long arm", 60.0)):
        store(name, write_clip(dense(name, arm)), "json")
    open_take(page, "short arm")
    settled(page)
    stage = page.get_by_test_id("stage")
    before = float(stage.get_attribute("data-bones") or 0)
    page.keyboard.press("Alt+1")
    page.get_by_label("Take beneath the clip").select_option(label="long arm")
    page.get_by_role("button", name="Swap the take").click()
    expect(page.get_by_text("revision 2")).to_be_visible()
    settled(page)
    after = float(stage.get_attribute("data-bones") or 0)
    assert after - before == pytest.approx(30.0, abs=0.2)


def test_a_key_that_is_pushed_stops_and_goes_past_where_asked(page: Page) -> None:
    bring_in(page, "pushed", figure(Arm_ry=ARM))
    pick_channel(page, "turn Y")
    select_key(page, 80, -4)
    frame = page.get_by_label("Frame of the selected keys")
    frame.fill("130")
    frame.press("Enter")
    saved(page)
    settled(page)
    assert keyed_now(page, "Arm", "ry").time.tolist() == [0, 40, 119, 120, 160, 200]
    # Nothing left to move: no step of the history is made.
    frame.fill("140")
    frame.press("Enter")
    settled(page)
    assert page.get_by_text("revision 2").is_visible()
    page.get_by_role("button", name="Move past neighbours", exact=True).click()
    frame.fill("140")
    frame.press("Enter")
    saved(page)
    settled(page)
    now = keyed_now(page, "Arm", "ry")
    assert now.time.tolist() == [0, 40, 120, 140, 160, 200]
    assert now.value.tolist() == [0, 10, 8, -4, 2, 0]


def test_on_a_full_disk_changes_are_held_until_there_is_room(
    page: Page, application: Application
) -> None:
    """PostgreSQL says a full disk with SQLSTATE 53100: here a trigger does."""
    bring_in(page, "no room", figure(Arm_ry=ARM))
    pick_channel(page, "turn Y")
    select_key(page, 80, -4)
    with psycopg.connect(application.environment["LEAN_DATABASE_URL"], autocommit=True) as database:
        database.execute(
            "CREATE OR REPLACE FUNCTION disk_full() RETURNS trigger AS $$ BEGIN "
            "RAISE EXCEPTION 'No space left on device' USING ERRCODE = '53100'; "
            "END $$ LANGUAGE plpgsql"
        )
        database.execute(
            "CREATE TRIGGER no_room BEFORE INSERT ON editing_revision "
            "FOR EACH ROW EXECUTE FUNCTION disk_full()"
        )
        try:
            page.keyboard.press("Control+ArrowUp")
            held = page.get_by_test_id("saved").filter(has_text="1 change waits for the server")
            held.hover()
            expect(page.get_by_role("tooltip")).to_contain_text("The server's disk is full")
            assert not page.get_by_role("alertdialog").count()
        finally:
            database.execute("DROP TRIGGER no_room ON editing_revision")
    saved(page)
    settled(page)
    assert keyed_now(page, "Arm", "ry").value[2] == -3.5
