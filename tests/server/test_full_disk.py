"""A disk that is full, and a database that is away: said as what they are, and nothing is lost.

PostgreSQL says a full disk with SQLSTATE 53100 (its manual, appendix A): a trigger says the same.
"""

from __future__ import annotations

import errno
from typing import Any

import pytest
from django.db import connection
from django.db.utils import OperationalError
from django.test import Client
from library import kinds
from library.models import Job, Pulse, Workspace
from plumbing.troubles import FULL, is_full, passing

from tests.server.conftest import Api


def fill(table: str) -> None:
    """From now on nothing fits into a table."""
    with connection.cursor() as cursor:
        cursor.execute(
            "CREATE OR REPLACE FUNCTION disk_full() RETURNS trigger AS $$ BEGIN "
            "RAISE EXCEPTION 'could not extend file: No space left on device' "
            "USING ERRCODE = '53100'; END $$ LANGUAGE plpgsql"
        )
        cursor.execute(
            f"CREATE TRIGGER no_room BEFORE INSERT OR UPDATE ON {table} "
            "FOR EACH ROW EXECUTE FUNCTION disk_full()"
        )


def make_room(table: str) -> None:
    with connection.cursor() as cursor:
        cursor.execute(f"DROP TRIGGER no_room ON {table}")


def test_a_write_is_refused_for_now_and_works_once_there_is_room(api: Api, clip: dict) -> None:
    api.client.raise_request_exception = False
    fill("editing_revision")
    refused = api.write(clip, append={"operation": "unflip", "params": {}})
    assert refused.status_code == 503
    assert refused.json() == {"detail": FULL}
    assert "Retry-After" not in refused.headers  # the browser says so at once, and holds the edit
    make_room("editing_revision")
    assert api.write(clip, append={"operation": "unflip", "params": {}}).status_code == 200


def test_it_is_ready_only_while_writing_works(db: None) -> None:
    Pulse.beat()
    assert Client().get("/readyz").json()["disk"] == "ok"
    fill("library_pulse")
    answer = Client().get("/readyz")
    assert answer.status_code == 503
    assert answer.json()["disk"] == "full"
    assert answer.json()["ready"] is False
    assert Client().get("/healthz").status_code == 200


def test_a_job_says_so(workspace: Workspace) -> None:
    job = Job.objects.create(workspace=workspace, kind="full", title="full")

    def work(_job: Job, _report: Any) -> dict[str, Any]:
        raise OSError(errno.ENOSPC, "No space left on device")

    kinds.job_kind("full")(work)
    kinds.run(job.pk)
    job.refresh_from_db()
    assert (job.state, job.message) == (Job.State.FAILED, FULL)


def test_what_passes_by_itself_is_told_from_what_does_not() -> None:
    assert passing(OperationalError("connection refused")) == (
        "The database cannot be reached just now."
    )
    assert passing(ValueError("ours")) is None
    assert is_full(OSError(errno.ENOSPC, "")) is True
    assert is_full(OSError(errno.ENOENT, "")) is False


@pytest.mark.django_db
def test_what_was_not_foreseen_is_named_as_in_the_log(
    api: Api, clip: dict, monkeypatch: pytest.MonkeyPatch
) -> None:
    def broken(*_: Any) -> None:
        raise RuntimeError("not foreseen")

    monkeypatch.setattr("api.clips.clip_out", broken)
    api.client.raise_request_exception = False
    answer = api.get(f"clips/{clip['id']}")
    assert answer.status_code == 500
    assert answer.headers["X-Request-Id"] in answer.json()["detail"]
    assert "Content-Security-Policy" in answer.headers
