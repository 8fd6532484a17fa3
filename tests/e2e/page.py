"""A page on a running application, for what is not a test: pictures and benchmarks."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from playwright.sync_api import Page, sync_playwright

from tests.e2e.application import BROWSER_FLAGS, CHROMIUM, Application


@contextmanager
def page_of_an_application(database: str) -> Iterator[tuple[Page, Application, Path]]:
    """A page of 1280 × 800, its application with the demo's takes, and a folder for files."""
    with tempfile.TemporaryDirectory() as folder:
        application = Application(Path(folder), database=database)
        try:
            application.start()
            with sync_playwright() as playwright:
                browser = playwright.chromium.launch(
                    executable_path=CHROMIUM, headless=True, args=BROWSER_FLAGS
                )
                page = browser.new_page(viewport={"width": 1280, "height": 800})
                page.set_default_timeout(60_000)
                yield page, application, Path(folder)
                browser.close()
        finally:
            application.stop()
