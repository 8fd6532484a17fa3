"""``./lean serve`` keeps its parts running, and is alone in its folder."""

from __future__ import annotations

import os
import shutil
import signal
import socket
import subprocess
import time
import urllib.error
import urllib.request
from collections.abc import Iterator
from pathlib import Path
from urllib.parse import urlsplit, urlunsplit

import psycopg
import pytest

from tests.conftest import PROJECT


class Lean:
    """``./lean serve`` from a folder of its own, on a database of its own."""

    def __init__(self, folder: Path, database: str) -> None:
        self.folder = folder
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            self.url = f"http://127.0.0.1:{free.getsockname()[1]}"
        server = urlsplit(os.environ["LEAN_DATABASE_URL"])
        self.environment = {
            **{k: v for k, v in os.environ.items() if not k.startswith("DJANGO")},
            "LEAN_DATABASE_URL": urlunsplit(server._replace(path=f"/{database}")),
            "LEAN_LOCAL": str(folder),
            "LEAN_PORT": self.url.rpartition(":")[2],
        }
        # Set up is what this checkout is: nothing is installed anew.
        local = Path(os.environ.get("LEAN_LOCAL", PROJECT / ".local"))
        shutil.copytree(local / "stamps", folder / "stamps")
        self.process: subprocess.Popen[bytes] | None = None

    def start(self) -> subprocess.Popen[bytes]:
        address = self.folder / "address"
        address.unlink(missing_ok=True)
        log = (self.folder / "lean.log").open("ab")
        self.process = subprocess.Popen(
            [PROJECT / "lean", "serve"], env=self.environment, stdout=log, stderr=log,
            start_new_session=True,
        )  # fmt: skip
        until = time.monotonic() + 90
        while not address.exists() and time.monotonic() < until:
            time.sleep(0.1)
        self.ready()
        return self.process

    def ready(self, path: str = "/healthz") -> None:
        until = time.monotonic() + 90
        while time.monotonic() < until:
            try:
                urllib.request.urlopen(self.url + path, timeout=2)
                return
            except (urllib.error.URLError, OSError):
                time.sleep(0.2)
        raise AssertionError((self.folder / "lean.log").read_text())

    def pids(self, what: str) -> list[int]:
        """Processes of a part of this one, the oldest first."""
        found = subprocess.run(["pgrep", "-f", what], capture_output=True, text=True)
        mine = f"LEAN_LOCAL={self.folder}".encode()
        out = []
        for pid in map(int, found.stdout.split()):
            try:
                if mine in Path(f"/proc/{pid}/environ").read_bytes().split(b"\0"):
                    out.append(pid)
            except OSError:
                continue
        return out

    def ended(self) -> bool:
        until = time.monotonic() + 20
        while time.monotonic() < until:
            if not self.pids("gunicorn config.wsgi") and not self.pids("manage.py worker"):
                return True
            time.sleep(0.2)
        return False


@pytest.fixture
def lean(tmp_path: Path) -> Iterator[Lean]:
    server = urlsplit(os.environ["LEAN_DATABASE_URL"])
    name = f"lean_supervised_{os.environ.get('PYTEST_XDIST_WORKER', 'alone')}"
    admin = urlunsplit(server._replace(path="/postgres"))
    with psycopg.connect(admin, autocommit=True) as connection:
        connection.execute(f"DROP DATABASE IF EXISTS {name} WITH (FORCE)")
        connection.execute(f"CREATE DATABASE {name}")
        made = Lean(tmp_path, name)
        try:
            yield made
        finally:
            if made.process is not None and made.process.poll() is None:
                made.process.send_signal(signal.SIGKILL)
                made.process.wait()
            made.ended()
            connection.execute(f"DROP DATABASE IF EXISTS {name} WITH (FORCE)")


def test_parts_that_die_are_started_again_and_a_second_start_is_told_of_the_first(
    lean: Lean,
) -> None:
    lean.start()
    lean.ready("/readyz")
    second = subprocess.run(
        [PROJECT / "lean", "serve"], env=lean.environment, capture_output=True, text=True
    )
    assert second.returncode == 1
    assert second.stderr == f"Lean Curve runs from this folder already: {lean.url}\n"

    for part in ("gunicorn config.wsgi", "manage.py worker"):
        (before, *_) = lean.pids(part)
        os.kill(before, signal.SIGKILL)
        until = time.monotonic() + 30
        while time.monotonic() < until and lean.pids(part)[:1] in ([], [before]):
            time.sleep(0.1)
    lean.ready("/readyz")
    told = (lean.folder / "lean.log").read_text()
    assert "The web ended (status 137)" in told
    assert "The worker ended (status 137)" in told

    # Killed as hard as can be, it leaves nothing that stands in the way of the next.
    assert lean.process is not None
    lean.process.send_signal(signal.SIGKILL)
    lean.process.wait()
    again = lean.start()
    again.send_signal(signal.SIGTERM)
    assert again.wait(30) == 143
    assert lean.ended()
