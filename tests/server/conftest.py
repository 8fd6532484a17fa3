"""A signed-in client, a workspace with a take in it, and ways to speak with the API."""

from __future__ import annotations

import json
import os
import uuid
from collections.abc import Iterator
from typing import Any

import pytest
from django.contrib.auth.models import User
from django.core.files.uploadedfile import SimpleUploadedFile
from django.db import connection, transaction
from django.test import Client
from django.utils.module_loading import autodiscover_modules
from leancurve.document.clip import Clip as Document
from leancurve.formats.bvh import write_bvh
from library.intake import store_take
from library.models import StoredFile, Take, Workspace
from safetensors.numpy import load

from tests import prepared
from tests.made import looked_at

autodiscover_modules("tasks")  # every kind of job


@pytest.fixture(scope="module")
def made_once(
    django_db_setup: None, django_db_blocker: Any, monkeypatch_module: pytest.MonkeyPatch
) -> Iterator[None]:
    """A transaction around a module's tests: what is made in it stands for each of them, and what
    one of them does is rolled back to it. Not for tests that commit."""
    with django_db_blocker.unblock(), transaction.atomic():
        # Each test would end with the connection closed, and the transaction with it.
        monkeypatch_module.setattr(connection, "close", lambda: None)
        yield
        transaction.set_rollback(True)


@pytest.fixture(scope="module")
def monkeypatch_module() -> Iterator[pytest.MonkeyPatch]:
    with pytest.MonkeyPatch.context() as patch:
        yield patch


class Api:
    """The API as one user's browser calls it."""

    def __init__(self, user: User) -> None:
        self.client = Client(enforce_csrf_checks=True)
        self.client.force_login(user)
        self.client.get("/api/session")
        self.token = self.client.cookies["csrftoken"].value

    def call(self, method: str, path: str, body: Any = None) -> Any:
        return self.client.generic(
            method,
            f"/api/{path}",
            b"" if body is None else json.dumps(body),
            content_type="application/json",
            headers={"X-CSRFToken": self.token},
        )

    def get(self, path: str) -> Any:
        return self.call("GET", path)

    def post(self, path: str, body: Any = None) -> Any:
        return self.call("POST", path, {} if body is None else body)

    def upload(self, workspace: Workspace, onto: int | None = None, **files: bytes) -> Any:
        return self.client.post(
            f"/api/workspaces/{workspace.pk}/files",
            ({} if onto is None else {"onto": onto})
            | {"files": [SimpleUploadedFile(n.replace("__", "."), d) for n, d in files.items()]},
            headers={"X-CSRFToken": self.token},
        )

    def write(self, clip: dict, **change: Any) -> Any:
        body = {"revision": clip["head"]["id"], "request_id": str(uuid.uuid4()), **change}
        return self.post(f"clips/{clip['id']}/writes", body)

    def apply(self, clip: dict, operation: str, **params: Any) -> dict:
        done = self.write(clip, append={"operation": operation, "params": params})
        assert done.status_code == 200, done.content
        return done.json()


def arrays(response: Any) -> dict:
    assert response.status_code == 200, response.content
    return load(response.content)


def about(response: Any) -> dict:
    length = int.from_bytes(response.content[:8], "little")
    header = json.loads(response.content[8 : 8 + length])
    return json.loads(header["__metadata__"]["about"])


@pytest.fixture(scope="session")
def django_db_setup(django_test_environment: None, django_db_blocker: Any) -> Iterator[None]:
    """This process's database: a copy of one that was brought up once for all."""
    name = f"test_lean_{os.environ.get('PYTEST_XDIST_WORKER', 'alone')}"
    prepared.copy(prepared.with_tables(), name)
    with django_db_blocker.unblock():
        connection.close()
        connection.settings_dict["NAME"] = name
    yield
    with django_db_blocker.unblock():
        connection.close()
    # A thread of a test may still hold a connection of its own.
    prepared.drop(name)


@pytest.fixture(scope="session")
def short_file(captured_walk: Any) -> bytes:
    """The captured deck walk's first 200 frames as BVH: flips and all, and quick to work on."""
    from fractions import Fraction

    from leancurve.time.resample import resampled

    return write_bvh(resampled(captured_walk.clip, Fraction(60), 400, 599))


def somebody() -> User:
    return User.objects.create_user("mate", password="a-long-password")


def a_workspace(user: User) -> Workspace:
    workspace = Workspace.objects.create(name="Crew")
    workspace.members.add(user, through_defaults={"role": "owner"})
    return workspace


@pytest.fixture
def user(db: None) -> User:
    return somebody()


@pytest.fixture
def workspace(user: User) -> Workspace:
    return a_workspace(user)


@pytest.fixture
def api(user: User, workspace: Workspace) -> Api:
    return Api(user)


def a_take(workspace: Workspace, short_file: bytes) -> Take:
    stored = StoredFile.objects.create(
        workspace=workspace, name="walk.bvh", data=short_file, size=len(short_file)
    )
    return store_take(workspace, stored, looked_at(short_file, "walk.bvh"))


@pytest.fixture
def take(workspace: Workspace, short_file: bytes) -> Take:
    return a_take(workspace, short_file)


@pytest.fixture
def clip(api: Api, take: Take) -> dict:
    return api.post(f"takes/{take.pk}/clip").json()


@pytest.fixture
def document(clip: dict) -> Document:
    from documents.store import load_clip
    from editing.models import Clip

    return load_clip(Clip.objects.get(pk=clip["id"]).head.state)
