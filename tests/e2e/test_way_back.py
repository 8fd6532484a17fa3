"""A backup of a running instance, restored and checked: what was delivered is delivered again."""

from __future__ import annotations

import json
import subprocess
import sys
import tarfile
import threading
from collections.abc import Iterator
from pathlib import Path
from urllib.parse import urlsplit, urlunsplit

import psycopg
import pytest

from tests.conftest import PROJECT
from tests.e2e.application import Application
from tests.prepared import drop
from tests.trials.people import Person
from tests.trials.upgrade import take_back

HEAD = {"format": "bvh", "rate": [60, 1], "first": 0, "last": 99, "character": "a", "action": "b"}


def fresh(folder: Path, name: str) -> Application:
    """An application of its own. A run that was ended half way leaves what it was restoring."""
    for left in ("restoring", "beside"):
        drop(f"{name}_{left}")
    return Application(folder, name)


@pytest.fixture
def running(tmp_path: Path, worker_id: str) -> Iterator[Application]:
    made = fresh(tmp_path, f"lean_back_{worker_id}")
    try:
        yield made.start()
    finally:
        made.stop()


def manage(application: Application, *arguments: str) -> subprocess.CompletedProcess[str]:
    return subprocess.run(
        [sys.executable, PROJECT / "server/manage.py", *arguments],
        env=application.environment, capture_output=True, text=True,
    )  # fmt: skip


def delivered(person: Person, clip: dict, version: int) -> bytes:
    wanted = {**HEAD, "revision": clip["head"]["id"], "version": version}
    job = person.ask("POST", f"clips/{clip['id']}/deliveries", wanted).json()
    made = person.until_done(job["id"])["result"]["delivery"]
    return person.ask("GET", f"deliveries/{made}/file").body


def test_a_backup_of_what_is_being_worked_on_comes_back_whole(
    running: Application, tmp_path: Path
) -> None:
    person = Person(running.url, "deckhand").sign_in("harbour-light")
    workspace = person.ask("GET", "session").json()["workspaces"][0]["id"]
    take = person.ask("GET", f"workspaces/{workspace}/takes").json()[-1]
    clip = person.ask("POST", f"takes/{take['id']}/clip", {}).json()
    clip = person.write(clip, append={"operation": "unflip", "params": {}}).json()
    sent = delivered(person, clip, 1)

    # Somebody goes on working while the backup is made.
    stop = threading.Event()

    def work() -> None:
        other = Person(running.url, "deckhand").sign_in("harbour-light")
        at = clip
        while not stop.is_set():
            line = {"operation": "gain", "params": {"factor": 1.01}, "scope": {"joints": ["Head"]}}
            at = other.write(at, append=line).json()

    thread = threading.Thread(target=work)
    thread.start()
    file = tmp_path / "all.backup"
    try:
        done = manage(running, "backup", str(file))
    finally:
        stop.set()
        thread.join()
    assert done.returncode == 0, done.stderr
    assert "1 workspaces, 7 takes, 1 clips" in done.stdout
    assert file.stat().st_mode & 0o77 == 0

    # Damaged, it is refused and nothing is left of it.
    damaged = tmp_path / "damaged.backup"
    data = bytearray(file.read_bytes())
    data[len(data) // 2] ^= 255
    damaged.write_bytes(data)
    name = f"{running.database}_beside"
    refused = manage(running, "restore", str(damaged), "--beside", name)
    assert refused.returncode == 1
    assert "the backup is damaged" in refused.stderr
    assert "is not a backup" in manage(running, "restore", str(PROJECT / "README.md")).stderr

    beside = manage(running, "restore", str(file), "--beside", name)
    assert beside.returncode == 0, beside.stderr
    assert f"in the database {name}" in beside.stdout
    again = Application(tmp_path / "again", name)
    (tmp_path / "again").mkdir()
    own = urlsplit(again.environment["LEAN_DATABASE_URL"])
    again.environment["LEAN_DATABASE_URL"] = urlunsplit(own._replace(path=f"/{name}"))
    try:
        again.start_web()
        again.start_worker()
        restored = Person(again.url, "deckhand").sign_in("harbour-light")
        back = restored.ask("GET", f"clips/{clip['id']}").json()
        assert back["head"]["number"] >= clip["head"]["number"]
        revisions = restored.ask("GET", f"clips/{clip['id']}/history").json()
        at = next(r for r in revisions if r["number"] == clip["head"]["number"])
        assert at["id"] == clip["head"]["id"]
        assert delivered(restored, clip, 2) == sent
    finally:
        again.stop()


def test_in_its_place_what_was_there_is_kept_under_another_name(
    running: Application, tmp_path: Path
) -> None:
    file = tmp_path / "all.backup"
    assert manage(running, "backup", str(file)).returncode == 0
    with tarfile.open(file) as tar:
        said = json.load(tar.extractfile("manifest.json"))
    assert said["rows"]["library_take"] == 7
    person = Person(running.url, "deckhand").sign_in("harbour-light")
    workspace = person.ask("GET", "session").json()["workspaces"][0]["id"]
    take = person.ask("GET", f"workspaces/{workspace}/takes").json()[0]
    assert person.ask("DELETE", f"takes/{take['id']}").status == 204
    done = manage(running, "restore", str(file))
    assert done.returncode == 0, done.stderr
    # Whoever was signed in signs in again: they may not have been, then.
    assert person.ask("GET", f"workspaces/{workspace}/takes").status == 401
    person.sign_in("harbour-light")
    kept = done.stdout.split("kept as the database ")[1].split(":")[0]
    assert kept.startswith(f"{running.database}_before_")
    assert len(person.ask("GET", f"workspaces/{workspace}/takes").json()) == 7
    manage(running, "shell", "-c", f"from studio.backup import drop; drop({kept!r})")


@pytest.fixture
def database(tmp_path: Path, worker_id: str) -> Iterator[Application]:
    """A database with the demo in it, and nobody at work."""
    made = fresh(tmp_path, f"lean_kept_{worker_id}")
    try:
        made.make()
        yield made
    finally:
        made.stop()


def lean(application: Application, *arguments: str) -> subprocess.CompletedProcess[str]:
    """What an operator types."""
    return subprocess.run(
        [PROJECT / "lean", *arguments], env=application.environment, capture_output=True, text=True
    )


def migrations(application: Application) -> str:
    return manage(application, "showmigrations", "--plan").stdout


def test_before_an_update_it_is_backed_up_as_it_stands_and_restored_by_the_new_version(
    database: Application, tmp_path: Path
) -> None:
    take_back(database)
    before, file = migrations(database), str(tmp_path / "old.backup")
    assert "[ ]  library.0011" in before
    done = lean(database, "backup", file)
    assert done.returncode == 0, done.stderr
    assert migrations(database) == before
    restored = manage(database, "restore", file)
    assert restored.returncode == 0, restored.stderr
    assert "[ ]" not in migrations(database)
    whole = lean(database, "check")
    assert whole.returncode == 0, whole.stdout
    assert "all whole" in whole.stdout


def test_what_is_newer_or_lacks_a_part_is_not_restored(
    database: Application, tmp_path: Path
) -> None:
    url, file, name = database.environment["LEAN_DATABASE_URL"], str(tmp_path / "x"), "lean_never"
    with psycopg.connect(url, autocommit=True) as connection:
        connection.execute(
            "INSERT INTO django_migrations (app, name, applied) "
            "VALUES ('library', '9999_of_next_year', now())"
        )
    assert manage(database, "backup", file).returncode == 0
    refused = manage(database, "restore", file, "--beside", name)
    assert refused.returncode == 1
    assert "made by a newer version" in refused.stderr
    with psycopg.connect(url, autocommit=True) as connection:
        connection.execute("DELETE FROM django_migrations WHERE name = '9999_of_next_year'")
        connection.execute(
            "DELETE FROM editing_blob WHERE sha = (SELECT encode(substring(manifest FROM 1 FOR 32),"
            " 'hex') FROM editing_state LIMIT 1)"
        )
    assert lean(database, "check").returncode == 1
    assert manage(database, "backup", file).returncode == 0
    refused = manage(database, "restore", file, "--beside", name)
    assert refused.returncode == 1
    assert "a document's part is missing" in refused.stderr
