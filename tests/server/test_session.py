"""Signing in, what belongs to whom, preferences, health, and what the log says."""

from __future__ import annotations

import json
import logging
import os
import subprocess
import sys
from datetime import timedelta
from io import StringIO
from typing import Any

import pytest
from axes.models import AccessAttempt
from django.contrib.auth.models import User
from django.core.management import call_command
from django.test import Client
from django.utils import timezone
from editing import patches
from library.models import Workspace
from plumbing.logs import JsonFormatter

from tests.conftest import PROJECT
from tests.server.conftest import Api


def test_signing_in_and_out(user: User, workspace: Workspace) -> None:
    client = Client(enforce_csrf_checks=True)
    assert client.get("/api/session").json() == {
        "user": None,
        "workspaces": [],
        "runs_studio": False,
        "reads": [],
    }
    token = client.cookies["csrftoken"].value

    def sign_in(password: str, token: str = token) -> object:
        return client.post(
            "/api/session",
            json.dumps({"username": "mate", "password": password}),
            content_type="application/json",
            headers={"X-CSRFToken": token},
        )

    assert sign_in("wrong").status_code == 401
    assert sign_in("a-long-password", token="").status_code == 403
    signed = sign_in("a-long-password")
    assert signed.json()["user"] == "mate"
    crew = {"id": workspace.pk, "name": "Crew", "role": "owner"}
    assert signed.json()["workspaces"] == [crew]
    client.delete("/api/session", headers={"X-CSRFToken": client.cookies["csrftoken"].value})
    assert client.get("/api/session").json()["user"] is None


def test_nothing_answers_without_a_session(take: object, clip: dict, db: None) -> None:
    anonymous = Client()
    for path in ("preferences", f"clips/{clip['id']}", "workspaces/1/takes", "operations"):
        assert anonymous.get(f"/api/{path}").status_code == 401


def test_a_write_without_the_csrf_token_is_refused(api: Api, clip: dict) -> None:
    api.token = ""
    assert api.post(f"clips/{clip['id']}/undo", {"revision": 1}).status_code == 403


def test_somebody_elses_objects_are_not_found(api: Api, take: object, clip: dict) -> None:
    stranger = Api(User.objects.create_user("stranger", password="another-password"))
    revision = clip["head"]["id"]
    job = api.post(
        f"clips/{clip['id']}/deliveries",
        {
            "revision": revision, "rate": [60, 1], "first": 0, "last": 10, "character": "a",
            "action": "b", "version": 1,
        },
    ).json()  # fmt: skip
    reads = [
        f"workspaces/{take.workspace_id}/takes",
        f"workspaces/{take.workspace_id}/jobs",
        f"takes/{take.pk}",
        f"jobs/{job['id']}",
        f"clips/{clip['id']}",
        f"clips/{clip['id']}/history",
        f"clips/{clip['id']}/storage",
        f"clips/{clip['id']}/poses?revision={revision}",
        f"clips/{clip['id']}/curves?revision={revision}&joints=0",
        f"clips/{clip['id']}/findings?revision={revision}",
        f"clips/{clip['id']}/contacts?revision={revision}",
        f"clips/{clip['id']}/body?revision={revision}",
        f"clips/{clip['id']}/orders?revision={revision}&joints=0",
        f"clips/{clip['id']}/recipe?revision={revision}",
        f"clips/{clip['id']}/drift?revision={revision}",
        f"clips/{clip['id']}/deliveries",
    ]
    writes = [
        (f"takes/{take.pk}/clip", {}),
        (f"jobs/{job['id']}/cancel", {}),
        (f"clips/{clip['id']}/undo", {"revision": revision}),
        (f"clips/{clip['id']}/redo", {"revision": revision}),
        (f"clips/{clip['id']}/preview", {"revision": revision, "operation": "unflip"}),
        (f"clips/{clip['id']}/preview/whole", {"revision": revision, "operation": "unflip"}),
    ]
    for path in reads:
        assert api.get(path).status_code == 200, path
        assert stranger.get(path).status_code == 404, path
    for path, body in writes:
        assert stranger.post(path, body).status_code == 404, path
    assert stranger.write(clip, append={"operation": "unflip"}).status_code == 404
    assert stranger.upload(take.workspace, a__bvh=b"x").status_code == 404
    for path in (f"clips/{clip['id']}", f"takes/{take.pk}"):
        assert stranger.call("PATCH", path, {"name": "mine"}).status_code == 404
    profile = {"revision": revision}
    assert stranger.call("PUT", f"clips/{clip['id']}/profile", profile).status_code == 404
    assert stranger.call("DELETE", f"jobs/{job['id']}").status_code == 404


def test_preferences_are_kept_for_each_user(api: Api) -> None:
    wanted = {"theme": "night", "keys": {"play": "K"}, "panes": {"sheet": 320}}
    assert api.call("PUT", "preferences", wanted).status_code == 200
    assert api.get("preferences").json() == wanted
    assert api.call("PUT", "preferences", {"theme": "pink"}).status_code == 422
    other = Api(User.objects.create_user("other", password="another-password"))
    assert other.get("preferences").json()["theme"] is None


def test_health_and_readiness(client: Client, db: None) -> None:
    assert client.get("/healthz").json() == {"ok": True}
    answer = client.get("/readyz")
    assert answer.status_code == 503
    assert answer.json()["database"] == "ok"
    assert answer.json()["migrations"] == "ok"
    assert "no heartbeat" in answer.json()["worker"]


def test_readiness_with_a_worker_alive(client: Client, db: None) -> None:
    from django.db import connection

    with connection.cursor() as cursor:
        cursor.execute("INSERT INTO procrastinate_workers DEFAULT VALUES")
    assert client.get("/readyz").json()["worker"] == "ok"
    assert client.get("/readyz").status_code == 200


def test_log_lines_are_json_with_the_requests_ids(
    api: Api, clip: dict, caplog: pytest.LogCaptureFixture
) -> None:
    lines: list[dict] = []

    class Keep(logging.Handler):
        def emit(self, record: logging.LogRecord) -> None:
            lines.append(json.loads(JsonFormatter().format(record)))

    patches.forget()  # computed in an earlier test, it would not be again
    keep = Keep()
    logging.getLogger().addHandler(keep)
    try:
        done = api.write(clip, append={"operation": "unflip"})
    finally:
        logging.getLogger().removeHandler(keep)
    by_message = {line["message"]: line for line in lines}
    assert by_message["operation"]["operation"] == "unflip"
    assert by_message["operation"]["ms"] > 0
    assert by_message["write"]["revision"] == done.json()["head"]["id"]
    assert by_message["request"]["status"] == 200
    assert len({line["request"] for line in lines}) == 1
    assert lines[0]["request"] == done["X-Request-Id"]


def test_a_browsers_errors_reach_the_log(api: Api, caplog: pytest.LogCaptureFixture) -> None:
    body = {"message": "undefined is not a curve", "stack": "at Sheet", "url": "/clip/1"}
    assert api.post("browser-errors", body).status_code == 204
    record = next(r for r in caplog.records if r.name == "lean.browser")
    assert record.getMessage() == "undefined is not a curve"
    assert record.stack == "at Sheet"


GOOD = {
    "LEAN_BIND": "0.0.0.0", "LEAN_SECRET_KEY": "b6VxkTq0wZ-3nJm7RfYd_LpQe81uGsCa",
    "LEAN_HOSTS": "bench.example", "LEAN_HTTPS": "1",
}  # fmt: skip


@pytest.mark.parametrize(
    ("environment", "says"),
    [
        ({"LEAN_BIND": "127.0.0.1"}, None),
        (GOOD, None),
        *(({**GOOD, name: ""}, "is not loopback") for name in GOOD if name != "LEAN_BIND"),
        ({**GOOD, "LEAN_SECRET_KEY": "x"}, "too easily guessed"),
        ({**GOOD, "LEAN_SECRET_KEY": "k" * 50}, "too easily guessed"),
        ({**GOOD, "LEAN_HOSTS": "*"}, "without *"),
        ({**GOOD, "LEAN_HOSTS": "bench.example,*.example"}, "without *"),
    ],
)
def test_beyond_loopback_needs_a_key_hosts_and_https(environment: dict, says: str | None) -> None:
    clean = {k: v for k, v in os.environ.items() if not k.startswith("LEAN_")}
    done = subprocess.run(
        [sys.executable, "-c", "import config.settings"],
        env={**clean, **environment, "PYTHONPATH": f"{PROJECT}/server:{PROJECT}/core"},
        capture_output=True,
        text=True,
    )
    assert (done.returncode == 0) == (says is None)
    assert (says or "") in done.stderr


def test_the_apis_description_is_for_those_who_signed_in(api: Api) -> None:
    assert api.get("openapi.json").status_code == 200
    assert Client().get("/api/openapi.json").status_code == 401


def test_migrations_are_complete(db: None) -> None:
    call_command("makemigrations", check=True, dry_run=True, verbosity=0)


def test_the_browsers_types_are_those_of_the_api(tmp_path: object) -> None:
    """Stale types would let the two sides drift apart: ./lean types regenerates them."""
    from api.management.commands.openapi_types import FILE, description

    web = PROJECT / "web"
    assert (web / FILE).read_text() == description()
    fresh = tmp_path / "schema.d.ts"
    subprocess.run(
        ["node_modules/.bin/openapi-typescript", FILE, "-o", fresh],
        cwd=web, check=True, capture_output=True,
    )  # fmt: skip
    assert (web / FILE.parent / "schema.d.ts").read_text() == fresh.read_text()


def test_the_demo_command_loads_its_takes_and_characters_once(db: None) -> None:
    from library.models import Take

    for _ in range(2):
        call_command("load_demo", verbosity=0, stdout=StringIO())
    assert Take.objects.count() == 7
    assert {t.name.split(",")[0] for t in Take.objects.all()} == {
        "Mooring line", "Crate over the coaming", "Rolling deck walk", "Signal lamp",
        "Gangway watch", "Heron", "Wren",
    }  # fmt: skip
    assert User.objects.get(username="deckhand").check_password("harbour-light")


def test_a_user_can_be_added_with_a_decent_password_only(db: None) -> None:
    from django.core.management.base import CommandError

    with pytest.raises(CommandError, match="too short"):
        call_command("add_user", "mate", password="short")
    call_command("add_user", "mate", password="a-long-password", stdout=StringIO())
    assert User.objects.get(username="mate").workspaces.get().name == "mate's workspace"
    with pytest.raises(CommandError, match="already"):
        call_command("add_user", "mate", password="a-long-password")


HEADERS = {
    "X-Content-Type-Options": "nosniff",
    "X-Frame-Options": "DENY",
    "Referrer-Policy": "same-origin",
    "Cross-Origin-Opener-Policy": "same-origin",
}


@pytest.mark.django_db
@pytest.mark.parametrize(
    ("path", "status"),
    [
        ("/", 200),
        ("/healthz", 200),
        ("/api/session", 200),
        ("/api/clips/1", 401),
        ("/api/nothing", 404),
        ("/api/clips/99999999999999999999", 422),
        ("/static/nothing.js", 404),
    ],
)
def test_every_answer_has_the_headers_that_protect(path: str, status: int) -> None:
    answer = Client().get(path)
    assert answer.status_code in (status, 503)  # the page is not built everywhere
    for name, value in HEADERS.items():
        assert answer.headers[name] == value
    assert "default-src 'self'" in answer.headers["Content-Security-Policy"]
    assert "frame-ancestors 'none'" in answer.headers["Content-Security-Policy"]


def test_whoever_guesses_passwords_has_to_wait(user: User) -> None:
    def attempt(name: str, password: str, address: str = "10.0.0.1") -> Any:
        body = {"username": name, "password": password}
        return Client(REMOTE_ADDR=address).post(
            "/api/session", body, content_type="application/json"
        )

    for _ in range(8):
        assert attempt("mate", "a guess").status_code in (401, 429)
    refused = attempt("mate", "a-long-password")
    assert refused.status_code == 429
    assert "wait 5 minutes" in refused.json()["detail"]
    # Others, and the same person from elsewhere, do not wait for it.
    assert attempt("mate", "a-long-password", "10.0.0.2").status_code == 200
    assert attempt("somebody else", "a guess").status_code == 401
    AccessAttempt.objects.update(attempt_time=timezone.now() - timedelta(minutes=6))
    assert attempt("mate", "a-long-password").status_code == 200
