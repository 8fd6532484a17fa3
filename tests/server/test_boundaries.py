"""Who reaches what, and what anybody may ask for: inputs of one's own workspace, little before
signing in, room for every write, an account of one's own."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import threading
import time
from contextlib import suppress
from dataclasses import replace
from datetime import timedelta
from pathlib import Path
from typing import Any

import psycopg
import pytest
from axes.models import AccessAttempt
from django.contrib.auth.models import Group, User
from django.contrib.sessions.models import Session
from django.core.management import CommandError, call_command
from django.db import connection
from django.test import Client, RequestFactory, override_settings
from django.utils import timezone
from documents.store import store_clip
from editing.models import Revision
from leancurve.operations import OPERATIONS
from library import demo_account, jobs
from library.intake import store_take
from library.models import Job, StoredFile, Take, Workspace
from plumbing.addresses import address_of
from procrastinate.contrib.django.models import ProcrastinateJob
from studio import usage
from studio.backup import rename, send_away
from studio.housekeeping import keep_house
from studio.usage import usage_of

from tests.conftest import PROJECT
from tests.made import looked_at
from tests.server.conftest import Api

# --- inputs ---------------------------------------------------------------------------------------


@pytest.fixture
def elsewhere(short_file: bytes, document: Any) -> str:
    """A state that another workspace has, and this one has not."""

    other = Workspace.objects.create(name="Elsewhere")
    data = short_file.replace(b"0.016667", b"0.020000")
    stored = StoredFile.objects.create(workspace=other, name="x.bvh", data=data, size=len(data))
    return store_take(other, stored, looked_at(data, "x.bvh")).state_id


NAMING = ("clip", "hand")
WITH_INPUTS = [
    n for n, kind in OPERATIONS.items() if any(i.kind in NAMING for i in kind.inputs.values())
]


def answers(api: Api, clip: dict, operation: str, digest: str) -> list[tuple[int, Any]]:
    """What every way in says to a line that names a digest."""
    kinds = OPERATIONS[operation].inputs
    inputs = {
        name: digest if declared.kind == "clip" else [digest]
        for name, declared in kinds.items()
        if declared.kind in NAMING
    }
    line = {"operation": operation, "params": {}, "inputs": inputs}
    head = clip["head"]
    asked = [
        api.write(clip, append=line),
        api.write(clip, edit={**line, "line_id": head["recipe"][0]["line_id"]}),
        api.post(f"clips/{clip['id']}/preview", {"revision": head["id"], **line}),
        api.post(f"clips/{clip['id']}/preview/whole", {"revision": head["id"], **line}),
        api.post(f"clips/{clip['id']}/prepare", {"revision": head["id"], "line": line}),
    ]
    return [(a.status_code, a.json() if a.status_code != 200 else None) for a in asked]


@pytest.mark.parametrize("operation", WITH_INPUTS)
def test_what_another_workspace_has_is_answered_as_what_nobody_has(
    api: Api, clip: dict, elsewhere: str, operation: str
) -> None:
    theirs = answers(api, clip, operation, elsewhere)
    nobodys = answers(api, clip, operation, "0" * 64)
    assert theirs == nobodys
    assert {status for status, _ in theirs} == {422}
    assert Revision.objects.filter(clip_id=clip["id"]).count() == 1


def test_what_stood_between_ones_own_lines_may_be_worked_with(api: Api, clip: dict) -> None:
    clip = api.apply(api.apply(clip, "unflip"), "smooth", strength=0.4)
    clip = api.apply(clip, "gain", factor=1.1)
    line = clip["head"]["recipe"][2]["line_id"]
    path = f"clips/{clip['id']}/lines/{line}/states?revision={clip['head']['id']}"
    around = api.get(path).json()
    made = {"operation": "extract", "params": {"name": "smoothed"}, "inputs": around}
    done = api.write(clip, append=made)
    assert done.status_code == 200, done.content


def test_a_state_kept_by_nobody_is_nobodys(api: Api, clip: dict, document: Any) -> None:
    from dataclasses import replace

    state = store_clip(replace(document, name="left over"))
    line = {"operation": "load_layer", "params": {}, "inputs": {"source": state.pk}}
    assert api.write(clip, append=line).status_code == 422


# --- before signing in ----------------------------------------------------------------------------


def test_of_a_stranger_no_more_is_read_than_signing_in_takes(
    db: None, monkeypatch: pytest.MonkeyPatch
) -> None:
    read: list[int] = []
    monkeypatch.setattr(
        "django.http.request.HttpRequest.body", property(lambda r: read.append(1) or b"{}")
    )
    monkeypatch.setattr(
        "django.http.request.HttpRequest._load_post_and_files", lambda r: read.append(2)
    )
    large = json.dumps({"username": "x" * 3_000_000, "password": "x"})
    for path in ("/api/session", "/api/clips/1/writes", "/api/workspaces/1/files", "/"):
        for kind in ("application/json", "multipart/form-data; boundary=x"):
            answer = Client().generic("POST", path, large, content_type=kind)
            assert answer.status_code in (401, 422), (path, kind)
    assert read == []


def test_an_address_that_guesses_under_many_names_has_to_wait(user: User) -> None:
    def attempt(name: str, password: str, address: str) -> int:
        body = {"username": name, "password": password}
        client = Client(REMOTE_ADDR=address)
        return client.post("/api/session", body, content_type="application/json").status_code

    with override_settings(ADDRESS_FAILURE_LIMIT=6):
        assert [attempt(f"name{k}", "guess", "10.0.0.1") for k in range(6)] == [401] * 6
        assert attempt("mate", "a-long-password", "10.0.0.1") == 429
        assert attempt("mate", "a-long-password", "10.0.0.2") == 200
        AccessAttempt.objects.update(attempt_time=timezone.now() - timedelta(minutes=6))
        assert attempt("mate", "a-long-password", "10.0.0.1") == 200


def test_readiness_is_looked_for_once_in_a_while(db: None, monkeypatch: pytest.MonkeyPatch) -> None:
    from api import pages

    beats: list[int] = []
    monkeypatch.setattr("library.models.Pulse.beat", lambda: beats.append(1))
    monkeypatch.setattr(pages, "workers_alive", lambda: 1)
    monkeypatch.setattr(pages, "_found", None)
    with override_settings(READY_FOR_S=60.0):
        assert [Client().get("/readyz").status_code for _ in range(20)] == [200] * 20
    assert len(beats) == 1
    monkeypatch.setattr(pages, "_found", None)


# --- room -----------------------------------------------------------------------------------------


def test_every_write_needs_room(api: Api, clip: dict, take: Take, workspace: Workspace) -> None:
    head, path = clip["head"]["id"], f"clips/{clip['id']}"
    Workspace.objects.update(most_bytes=usage_of(workspace).bytes)
    usage.measure_anew()
    deliver = {
        "revision": head, "rate": [60, 1], "first": 0, "last": 9, "character": "a", "action": "b",
    }  # fmt: skip
    asked = {
        "an edit": api.write(clip, append={"operation": "unflip", "params": {}}),
        "a layer": api.write(
            clip,
            append={"operation": "edit_layers", "params": {"edits": [{"do": "add", "name": "x"}]}},
        ),
        "a stored motion": api.post(
            f"{path}/stored", {"revision": head, "name": "x", "first": 0, "last": 5}
        ),
        "a retarget": api.post(
            f"{path}/retarget", {"revision": head, "targets": [take.pk], "params": {}}
        ),
        "a delivery": api.post(f"{path}/deliveries", deliver),
        "a batch": api.post(
            f"workspaces/{workspace.pk}/batches", {"recipe": 0, "takes": [take.pk]}
        ),
        "work ahead": api.post(
            f"{path}/prepare", {"revision": head, "line": {"operation": "unflip"}}
        ),
        "an export": api.post(f"workspaces/{workspace.pk}/export"),
    }
    for what, answer in asked.items():
        assert answer.status_code == 422, what
        assert "there is no room for more" in answer.json()["detail"], what
    assert not Job.objects.exists()
    upload = api.upload(workspace, x__bvh=b"HIERARCHY").json()
    assert "no room for more" in upload["refused"][0]["detail"]
    # What makes room, or changes nothing of it, is done.
    assert api.call("PATCH", path, {"name": "still"}).status_code == 200
    assert api.call("DELETE", path).status_code == 204


def test_nothing_means_nothing(api: Api, workspace: Workspace, short_file: bytes) -> None:
    Workspace.objects.update(most_bytes=0, most_takes=0)
    assert api.get(f"workspaces/{workspace.pk}/usage").json()["most_bytes"] == 0
    refused = api.upload(workspace, x__bvh=short_file).json()["refused"]
    assert "no room for more" in refused[0]["detail"]


def test_little_room_is_said_before_there_is_none(
    api: Api, clip: dict, workspace: Workspace
) -> None:
    used = usage_of(workspace).bytes
    Workspace.objects.update(most_bytes=round(used * 1.05))
    assert api.get(f"workspaces/{workspace.pk}/usage").json()["nearly_full"] is True
    usage.measure_anew()
    assert api.write(clip, append={"operation": "unflip", "params": {}}).status_code == 200


def test_nobody_waits_while_a_large_workspace_is_measured_anew(
    workspace: Workspace, monkeypatch: pytest.MonkeyPatch
) -> None:
    usage.measure_anew()
    before = usage.lately(workspace)
    measured, go_on, begun = threading.Event(), threading.Event(), []

    def slow(of: Workspace) -> usage.Usage:
        begun.append(of.pk)
        assert go_on.wait(60)
        usage._measured[of.pk] = (time.monotonic(), replace(before, files=12_345))
        measured.set()
        return before

    monkeypatch.setattr(usage, "usage_of", slow)
    monkeypatch.setattr(usage, "MEASURED_FOR_S", -1.0)
    # What was known is answered at once, and one measures.
    assert [usage.lately(workspace) for _ in range(3)] == [before] * 3
    go_on.set()
    assert measured.wait(60)
    while usage._measuring:
        time.sleep(0.001)
    assert begun == [workspace.pk]
    monkeypatch.setattr(usage, "MEASURED_FOR_S", 60.0)
    assert usage.lately(workspace).files == 12_345
    usage.measure_anew()


# --- defaults -------------------------------------------------------------------------------------


def test_the_demos_account_signs_in_where_the_demo_runs_and_nowhere_else(db: None) -> None:
    call_command("load_demo", verbosity=0)
    body = {"username": demo_account.NAME, "password": demo_account.PASSWORD}

    def attempt() -> Any:
        return Client().post("/api/session", body, content_type="application/json")

    refused = attempt()
    assert refused.status_code == 401
    assert "./lean demo" in refused.json()["detail"]
    with override_settings(DEMO=True):
        client = Client()
        assert client.post("/api/session", body, content_type="application/json").status_code == 200
        assert client.get("/api/session").json()["user"] == "deckhand"
    # One who is in is out as soon as it is no demo any more.
    assert client.get("/api/session").json()["user"] is None
    with override_settings(ON_LOOPBACK=False), pytest.raises(CommandError, match="loopback"):
        call_command("load_demo", verbosity=0)
    # With a password of one's own it is an account like any.
    from studio.people import give_password

    give_password(User.objects.get(username="deckhand"), "a-long-password")
    body["password"] = "a-long-password"
    assert attempt().status_code == 200


def test_an_older_demos_account_is_known_by_its_password(db: None) -> None:
    from importlib import import_module

    from django.apps import apps

    User.objects.create_user("deckhand", password="harbour-light")
    import_module("library.migrations.0013_mark_demo_account").mark(apps, None)
    assert Group.objects.get().user_set.get().username == "deckhand"


def test_people_change_their_own_password_and_are_signed_out_elsewhere(user: User) -> None:
    here, elsewhere = Api(user), Api(user)
    wrong = here.post("password", {"old": "a guess", "new": "another-long-one"})
    assert wrong.status_code == 422
    short = here.post("password", {"old": "a-long-password", "new": "short"})
    assert (short.status_code, "too short" in short.json()["detail"]) == (422, True)
    done = here.post("password", {"old": "a-long-password", "new": "another-long-one"})
    assert done.status_code == 204
    assert here.get("session").json()["user"] == "mate"
    assert elsewhere.get("session").json()["user"] is None
    user.refresh_from_db()
    assert user.check_password("another-long-one")


def test_signing_out_counts_at_every_web_server(api: Api) -> None:
    """Another process has nothing of a session but what the database has."""
    from django.conf import settings

    assert settings.SESSION_ENGINE == "django.contrib.sessions.backends.db"
    stolen = Client()
    stolen.cookies["sessionid"] = api.client.cookies["sessionid"].value
    assert stolen.get("/api/session").json()["user"] == "mate"
    assert api.call("DELETE", "session").status_code == 200
    assert stolen.get("/api/session").json()["user"] is None


def test_house_is_kept(workspace: Workspace, user: User) -> None:
    old = timezone.now() - timedelta(days=100)
    Session.objects.create(session_key="old", session_data="x", expire_date=old)
    AccessAttempt.objects.create(
        username="x", ip_address="10.0.0.1", attempt_time=old, failures_since_start=1
    )
    AccessAttempt.objects.update(attempt_time=old)
    jobs.start(workspace, "import", "waits", {})
    ended = jobs.start(workspace, "import", "ended", {})
    with connection.cursor() as cursor:
        cursor.execute(
            "UPDATE procrastinate_jobs SET status = 'succeeded' "
            "WHERE (args->>'job_id')::bigint = %s",
            [ended.pk],
        )
        cursor.execute("UPDATE procrastinate_events SET at = now() - interval '2 days'")
        cursor.execute(
            "INSERT INTO procrastinate_periodic_defers (task_name, defer_timestamp) "
            "VALUES ('tidy_storage', 1000)"
        )
    Job.objects.create(workspace=workspace, kind="inspect", title="x", state="done")
    Job.objects.update(updated=old)
    counts = keep_house()
    assert counts["sessions"] == counts["attempts"] == counts["jobs"] == counts["periodic"] == 1
    assert Job.objects.filter(title="waits").exists()
    assert ProcrastinateJob.objects.filter(args__job_id=ended.pk).count() == 0
    assert counts["queue"] == 1


PROXIED = {
    "LEAN_BIND": "0.0.0.0", "LEAN_SECRET_KEY": "b6VxkTq0wZ-3nJm7RfYd_LpQe81uGsCa",
    "LEAN_HOSTS": "bench.example", "LEAN_HTTPS": "1", "LEAN_PROXIES": "10.1.0.0/16",
}  # fmt: skip


def said_by_settings(code: str, **environment: str) -> str:
    clean = {k: v for k, v in os.environ.items() if not k.startswith("LEAN_")}
    done = subprocess.run(
        [sys.executable, "-c", code],
        env={
            **clean, **environment, "PYTHONPATH": f"{PROJECT}/server:{PROJECT}/core",
            "DJANGO_SETTINGS_MODULE": "config.settings",
        },
        capture_output=True, text=True, check=True,
    )  # fmt: skip
    return done.stdout


def test_behind_a_proxy_health_is_seen_and_nobody_else_speaks_as_one() -> None:
    code = """
import django
django.setup()
from django.test import Client
def ask(path, address, **more):
    answer = Client(REMOTE_ADDR=address, headers={"host": "bench.example"}).get(path, **more)
    print(answer.status_code)
ask("/healthz", "127.0.0.1")
ask("/", "10.1.2.3", HTTP_X_FORWARDED_PROTO="https", HTTP_X_FORWARDED_FOR="10.7.7.7")
ask("/", "10.9.2.3", HTTP_X_FORWARDED_PROTO="https")
ask("/", "10.9.2.3")
"""
    statuses = said_by_settings(code, **PROXIED).split()
    assert statuses[0] == "200"
    assert statuses[1] in ("200", "503")  # the page is not built everywhere
    assert statuses[2:] == ["400", "301"]


@override_settings(PROXIES=[__import__("ipaddress").ip_network("10.1.0.0/16")])
def test_an_address_is_what_the_last_proxy_of_ours_saw() -> None:
    def at(remote: str, forwarded: str = "") -> str:
        request = RequestFactory().get("/", REMOTE_ADDR=remote, HTTP_X_FORWARDED_FOR=forwarded)
        return address_of(request)

    assert at("10.1.0.5", "10.66.6.6, 10.44.4.4, 10.1.0.9") == "10.44.4.4"
    assert at("10.9.0.5", "10.66.6.6") == "10.9.0.5"
    assert at("10.1.0.5") == "10.1.0.5"


def test_what_the_databases_address_says_beyond_where_it_is_stays(tmp_path: Path) -> None:
    code = "from django.conf import settings; print(settings.DATABASES['default']['OPTIONS'])"
    url = "postgresql://lean@db.example/lean?sslmode=verify-full&sslrootcert=/etc/ca.pem"
    said = said_by_settings(code, LEAN_DATABASE_URL=url, LEAN_LOCAL=str(tmp_path))
    assert "'sslmode': 'verify-full'" in said
    assert "'sslrootcert': '/etc/ca.pem'" in said
    code = (
        "import django; django.setup()\n"
        "from studio import backup; import os\n"
        "seen = {}\n"
        "backup.subprocess.run = lambda *a, env, **k: seen.update(env) or "
        "type('R', (), {'returncode': 0})()\n"
        "backup._run('pg_dump'); print(seen['PGSSLMODE'], seen['PGSSLROOTCERT'])"
    )
    said = said_by_settings(code, LEAN_DATABASE_URL=url, LEAN_LOCAL=str(tmp_path))
    assert said.split() == ["verify-full", "/etc/ca.pem"]


def test_processes_of_a_folder_share_one_key_however_they_bind(tmp_path: Path) -> None:
    code = "from django.conf import settings; print(settings.SECRET_KEY)"
    keys = {
        said_by_settings(code, LEAN_LOCAL=str(tmp_path), LEAN_BIND=bind)
        for bind in ("127.0.0.1", "localhost", "::1")
    }
    assert len(keys) == 1
    assert (tmp_path / "secret").stat().st_mode & 0o77 == 0


def test_the_application_is_no_superuser(db: None) -> None:
    if "lean_app" not in os.environ["LEAN_DATABASE_URL"]:
        pytest.skip("a database of one's own, whose role is one's own affair")
    with connection.cursor() as cursor:
        cursor.execute("SELECT rolsuper, rolcreaterole FROM pg_roles WHERE rolname = current_user")
        assert cursor.fetchone() == (False, False)


def test_whoever_is_connected_is_sent_away_and_postgresqls_own_work_is_left_alone(db: None) -> None:
    """Autovacuum runs as a superuser: to end it is refused, and the restore would end with that."""
    with connection.cursor() as cursor:
        cursor.execute(
            "CREATE SCHEMA seen; CREATE TABLE seen.ended (pid int);"
            "CREATE TABLE seen.pg_stat_activity (pid int, datname text, backend_type text);"
            "INSERT INTO seen.pg_stat_activity VALUES (1, 'kept', 'client backend'),"
            " (2, 'kept', 'autovacuum worker'), (3, 'other', 'client backend');"
            "CREATE FUNCTION seen.pg_terminate_backend(int) RETURNS void LANGUAGE sql"
            " AS 'INSERT INTO seen.ended VALUES ($1)';"
            "SET LOCAL search_path = seen, pg_catalog, public"
        )
        send_away(connection.connection, "kept")
        cursor.execute("SELECT pid FROM seen.ended")
        assert cursor.fetchall() == [(1,)]


def test_a_database_that_others_come_back_to_is_renamed(db: None) -> None:
    """An application that is running connects anew as soon as it is sent away."""
    settings = connection.get_connection_params()
    where = {k: settings[k] for k in ("host", "port", "user", "password")}
    known, other = (f"lean_renamed_{os.getpid()}_{k}" for k in "ab")
    gone = threading.Event()

    def come_back() -> None:
        while not gone.is_set():
            with suppress(psycopg.Error), psycopg.connect(dbname=known, **where) as inside:
                inside.execute("SELECT pg_sleep(30)")

    with psycopg.connect(dbname="postgres", autocommit=True, **where) as admin:
        admin.execute(f"CREATE DATABASE {known}")
        others = [threading.Thread(target=come_back) for _ in range(3)]
        try:
            for one in others:
                one.start()
            while admin.execute(COUNTED, [known]).fetchone() == (0,):
                pass
            rename(admin, known, other)
            gone.set()
            with psycopg.connect(dbname=other, **where) as inside:
                assert inside.execute("SELECT 1").fetchone() == (1,)
        finally:
            gone.set()
            for name in (known, other):
                admin.execute(f"DROP DATABASE IF EXISTS {name} WITH (FORCE)")
            for one in others:
                one.join()


COUNTED = "SELECT count(*) FROM pg_stat_activity WHERE datname = %s"
