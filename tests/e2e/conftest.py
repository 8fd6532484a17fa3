"""A running application and a signed-in page; console errors fail the test that caused them."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import (
    Browser,
    BrowserContext,
    ConsoleMessage,
    Page,
    ViewportSize,
    expect,
)

from tests.e2e.application import BROWSER_FLAGS, CHROMIUM, Application
from tests.pace import patient

WAITS_MS = patient(60_000)
"""How long a page may take for anything: what is waited for longer than that does not come."""

expect.set_options(timeout=WAITS_MS)

NOWHERE = "/healthz"
"""Where a page is before a test: the application's own, so that its process stays, without it."""

SIZE: ViewportSize = {"width": 1280, "height": 800}


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    for item in items:
        if "e2e" in str(item.path):
            item.add_marker("e2e")


@pytest.fixture(scope="session")
def application(
    tmp_path_factory: pytest.TempPathFactory, django_db_blocker: Any
) -> Iterator[Application]:
    # One application and one database for each process that runs tests.
    worker = os.environ.get("PYTEST_XDIST_WORKER", "alone")
    running = Application(tmp_path_factory.mktemp("application"), f"lean_e2e_{worker}")
    running.orm_allowed = django_db_blocker.unblock
    # Several share the machine: each child process fewer is one that need not be loaded.
    running.environment.setdefault("LEAN_COMPUTERS", "1")
    Application.of_tests = running
    try:
        yield running.start()
    finally:
        running.stop()


@pytest.fixture(scope="session")
def browser_type_launch_args(browser_type_launch_args: dict[str, Any]) -> dict[str, Any]:
    return {**browser_type_launch_args, "executable_path": CHROMIUM, "args": BROWSER_FLAGS}


def sign_in(page: Page, application: Application) -> None:
    page.set_default_timeout(WAITS_MS)
    page.goto(application.url)
    page.get_by_label("Name").fill("deckhand")
    page.get_by_label("Password").fill("harbour-light")
    page.get_by_role("button", name="Sign in").click()
    page.get_by_role("heading", name="Mooring line, take 04").wait_for()


@pytest.fixture(scope="session")
def signed_in(browser: Browser, application: Application) -> Any:
    """Cookies of somebody who signed in through the page, once for all tests."""
    context = browser.new_context()
    sign_in(context.new_page(), application)
    state = context.storage_state()
    context.close()
    return state


def as_at_first(context: BrowserContext, application: Application) -> None:
    """Forget what tests before have chosen of the bench: it is remembered for who is signed in."""
    token = next(c["value"] for c in context.cookies() if c["name"] == "csrftoken")
    address = f"{application.url}/api/preferences"
    kept = context.request.put(address, data={}, headers={"X-CSRFToken": token})
    assert kept.ok, kept.text()


@pytest.fixture(scope="session")
def window(browser: Browser, application: Application, signed_in: Any) -> Iterator[Page]:
    """One for all tests of a process: in a new one the whole application is loaded anew."""
    context = browser.new_context(viewport=SIZE, storage_state=signed_in, base_url=application.url)
    page = context.new_page()
    page.set_default_timeout(WAITS_MS)
    page.goto(NOWHERE)
    yield page
    context.close()


@pytest.fixture
def page(window: Page, application: Application) -> Iterator[Page]:
    """The window as if it had just been opened; nothing of a test is left for the next one."""
    as_at_first(window.context, application)
    troubles: list[str] = []

    def hear(message: ConsoleMessage) -> None:
        # A refusal (4xx) or "not now" (503) is an answer that the interface shows, and tests kill
        # the server.
        answers = "status of 4" in message.text or "status of 503" in message.text
        expected = answers or "net::ERR_" in message.text
        if message.type == "error" and not expected:
            troubles.append(message.text)

    def fail(error: Any) -> None:
        troubles.append(str(error))

    window.on("console", hear)
    window.on("pageerror", fail)
    yield window
    window.unroute_all(behavior="ignoreErrors")
    window.goto(NOWHERE)
    window.remove_listener("console", hear)
    window.remove_listener("pageerror", fail)
    window.evaluate("() => { localStorage.clear(); sessionStorage.clear() }")
    window.set_viewport_size(SIZE)
    assert not troubles


def to_shelf(page: Page) -> None:
    page.goto("/")
    page.get_by_role("heading", name="Mooring line, take 04").wait_for()


def drop(page: Page, name: str, data: bytes, folder: Path) -> None:
    """A file brought in on the shelf."""
    (folder / name).write_bytes(data)
    to_shelf(page)
    page.get_by_label("Files to bring in").set_input_files(folder / name)


def open_take(page: Page, name: str) -> None:
    """A take of the shelf; a page that is nowhere yet goes there first."""
    if page.url.endswith(NOWHERE):
        to_shelf(page)
    page.get_by_role("button", name=re.compile(f"^(Open|Go on): {re.escape(name)}$")).click()
    is_open(page, name)


def is_open(page: Page, name: str) -> None:
    """Until a clip of that name is on the bench, with its numbers."""
    page.get_by_role("heading", level=1, name=name).wait_for()
    drift = "document.querySelector('[data-testid=drift]')?.textContent"
    loaded = f"() => /largest change \\d/.test({drift})"
    page.wait_for_function(loaded)


# An answer is drawn, and what follows from what was drawn is asked for, within two pictures.
SETTLED = """(most) => new Promise((done) => {
  let calm = 0
  const began = performance.now()
  const look = () => {
    const { asking = '0' } = document.documentElement.dataset
    const saving = document.querySelector('[data-testid=saved]')?.textContent === 'saving …'
    calm = asking === '0' && !saving ? calm + 1 : 0
    if (calm > 2) done('')
    else if (performance.now() - began > most) done(`${asking} answers are awaited`)
    else requestAnimationFrame(look)
  }
  look()
})"""


def settled(page: Page) -> None:
    """Until nothing is asked of the server any more, nothing is being saved, and it is drawn."""
    assert page.evaluate(SETTLED, WAITS_MS) == ""


def still(page: Page) -> None:
    """Until the stage shows the picture that stays: one made by the processor is smoothed once it
    rests."""
    settled(page)
    page.locator("[data-testid=stage][data-still=true]").wait_for()


def unfold_lanes(page: Page) -> None:
    """All lanes of the time strip, which folds them until somebody asks for more."""
    lanes = page.get_by_role("button", name="All lanes")
    lanes.click()
    expect(lanes).to_have_attribute("aria-pressed", "true")
    settled(page)


def clip_now(page: Page) -> dict:
    out: dict = page.request.get(page.url.replace("/clip/", "/api/clips/")).json()
    return out


def frame_now(page: Page) -> int:
    return int(page.get_by_test_id("frame").input_value())


def delivered(page: Page, to: Path) -> bytes:
    """Deliver the clip as the panel stands, fetch the BVH as a file, and read it."""
    page.get_by_role("button", name="Deliver", exact=True).last.click()
    link = page.get_by_role("link", name=re.compile(r"\.bvh$"))
    expect(link).to_be_visible()
    with page.expect_download() as download:
        link.click()
    download.value.save_as(to)
    return to.read_bytes()
