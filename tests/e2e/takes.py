"""Takes of a test's own on the running application: put there at once, without a file dropped on
the shelf and a worker that reads it. A test of dropping drops its files itself."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from functools import cache

from leancurve.document.clip import Clip
from leancurve.formats.clipjson import write_clip
from leancurve.operations import OPERATIONS, apply_patch
from playwright.sync_api import Page

from tests.core.test_planting import calmed
from tests.e2e.application import Application
from tests.e2e.conftest import is_open
from tests.made import looked_at


@contextmanager
def inside(application: Application) -> Iterator[None]:
    """The ORM of this process on a running application's database."""
    from django.db import connection

    ours = connection.settings_dict["NAME"]
    with application.orm_allowed():
        connection.close()
        connection.settings_dict["NAME"] = application.database
        try:
            yield
        finally:
            connection.close()
            connection.settings_dict["NAME"] = ours


def store(name: str, data: bytes, ending: str) -> int:
    """A take in the demo's workspace, as its file would be read; its number."""
    with inside(Application.of_tests):
        from library.intake import store_take
        from library.management.commands.load_demo import WORKSPACE
        from library.models import StoredFile, Workspace

        workspace = Workspace.objects.get(name=WORKSPACE)
        file = StoredFile.objects.create(
            workspace=workspace, name=f"{name}.{ending}", data=data, size=len(data)
        )
        take = store_take(workspace, file, looked_at(data, f"take.{ending}"), name)
        return int(take.pk)


def bring_in(page: Page, name: str, clip: Clip | bytes) -> None:
    """A take of the test's own, and its clip opened: what others do to the demo's takes does not
    matter. Bytes are a BVH's."""
    if isinstance(clip, bytes):
        take = store(name, clip, "bvh")
    else:
        take = store(name, write_clip(clip), "json")
    token = next(c["value"] for c in page.context.cookies() if c["name"] == "csrftoken")
    made = page.request.post(f"/api/takes/{take}/clip", headers={"X-CSRFToken": token}, data={})
    assert made.ok, made.text()
    page.goto(f"/clip/{made.json()['id']}")
    is_open(page, name)


@cache
def short_walk() -> Clip:
    """The first ten seconds of the deck walk, cleaned; its feet still slide."""
    whole = calmed(2)
    return apply_patch(whole, OPERATIONS["trim"].run(whole, {"first": 0, "last": 599}))


def bring_walk(page: Page, name: str) -> None:
    bring_in(page, name, short_walk())
