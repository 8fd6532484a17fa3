"""The application as it is run: web server and worker as processes, a database of its own."""

from __future__ import annotations

import os
import signal
import socket
import subprocess
import sys
import time
import urllib.request
from collections.abc import Callable
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit, urlunsplit

import psycopg

from tests.conftest import PROJECT

CHROMIUM = os.environ.get("CHROMIUM", "/usr/bin/chromium")
BROWSER_FLAGS = [
    "--disable-quic", "--no-first-run", "--disable-background-networking", "--disable-sync",
    "--disable-component-update", "--disable-extensions", "--disable-dev-shm-usage",
    *(["--no-sandbox"] if os.geteuid() == 0 else []),
]  # fmt: skip


def free_port() -> int:
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        return int(free.getsockname()[1])


def until_answered(url: str, told: Callable[[], str], seconds: float = 90) -> None:
    """Wait for an answer that is no refusal; ``told`` says where to look if there is none."""
    until = time.monotonic() + seconds
    while time.monotonic() < until:
        try:
            urllib.request.urlopen(url, timeout=2)
            return
        except OSError:
            time.sleep(0.1)
    raise AssertionError(f"{url} did not answer: {told()}")


class Application:
    """Starts on a fresh database with the demo's takes; either process can be killed."""

    def __init__(self, folder: Path, database: str = "lean_e2e") -> None:
        self.folder = folder
        self.database = database
        run = os.environ.get("PYTEST_XDIST_TESTRUNUID", str(os.getpid()))
        self.loaded = f"lean_loaded_{run[:12]}"
        self.port = free_port()
        server = urlsplit(os.environ["LEAN_DATABASE_URL"])
        self.admin = urlunsplit(server._replace(path="/postgres"))
        self.environment = {
            **os.environ,
            "LEAN_DATABASE_URL": urlunsplit(server._replace(path=f"/{database}")),
            "LEAN_SECRET_KEY": "only-for-tests-" * 4,
            "LEAN_DEMO": "1",
            "DJANGO_SETTINGS_MODULE": "config.settings",
            "MALLOC_ARENA_MAX": "2",
            "PYTHONPATH": f"{PROJECT}/core:{PROJECT}/server",
        }
        self.web: subprocess.Popen[bytes] | None = None
        self.worker: subprocess.Popen[bytes] | None = None

    @property
    def url(self) -> str:
        return f"http://127.0.0.1:{self.port}"

    def start(self) -> Application:
        self.make()
        self.start_web()
        self.start_worker()
        return self

    def make(self) -> None:
        """The database, with the demo's takes in it."""
        with psycopg.connect(self.admin, autocommit=True) as connection:
            # Whoever comes first loads the demo; the others copy it.
            connection.execute("SELECT pg_advisory_lock(420)")
            connection.execute(f"DROP DATABASE IF EXISTS {self.database} WITH (FORCE)")
            if not self._exists(connection, self.loaded):
                self._make(connection, self.loaded)
            connection.execute(f"CREATE DATABASE {self.database} TEMPLATE {self.loaded}")

    @staticmethod
    def _exists(connection: psycopg.Connection[Any], name: str) -> bool:
        found = connection.execute("SELECT 1 FROM pg_database WHERE datname = %s", [name])
        return found.fetchone() is not None

    def _make(self, connection: psycopg.Connection[Any], name: str) -> None:
        connection.execute(f"CREATE DATABASE {name}")
        own = self.environment["LEAN_DATABASE_URL"]
        url = urlunsplit(urlsplit(own)._replace(path=f"/{name}"))
        for command in (["migrate", "-v0"], ["load_demo"]):
            self._manage(*command, LEAN_DATABASE_URL=url).check_returncode()

    def _manage(self, *arguments: str, **more: str) -> subprocess.CompletedProcess[bytes]:
        return subprocess.run(
            [sys.executable, PROJECT / "server/manage.py", *arguments],
            env={**self.environment, **more}, stdout=subprocess.DEVNULL,
        )  # fmt: skip

    def _spawn(self, name: str, *command: object) -> subprocess.Popen[bytes]:
        log = (self.folder / f"{name}.log").open("ab")
        return subprocess.Popen(
            [str(c) for c in command], env=self.environment, stdout=log, stderr=log,
            cwd=PROJECT / "server", start_new_session=True,
        )  # fmt: skip

    def start_web(self) -> None:
        gunicorn = Path(sys.executable).parent / "gunicorn"
        self.web = self._spawn(
            "web", gunicorn, "config.wsgi", "--bind", f"127.0.0.1:{self.port}", "--threads", 48,
            "--no-control-socket", "--log-level", "warning",
        )  # fmt: skip
        self._wait("/healthz")

    def start_worker(self) -> None:
        self.worker = self._spawn("worker", sys.executable, "manage.py", "worker")
        self._wait("/readyz")

    def _wait(self, path: str) -> None:
        until_answered(self.url + path, lambda: f"see {self.folder}")

    @staticmethod
    def kill(process: subprocess.Popen[bytes] | None) -> None:
        """As a crash would: at once, with everything it had started."""
        if process is not None:
            os.killpg(process.pid, signal.SIGKILL)
            process.wait()

    def stop(self) -> None:
        self.kill(self.web)
        self.kill(self.worker)
        with psycopg.connect(self.admin, autocommit=True) as connection:
            connection.execute(f"DROP DATABASE IF EXISTS {self.database} WITH (FORCE)")


def forget_loaded() -> None:
    """After a run: the database with the demo in it, which all applications of the run copied."""
    server = urlsplit(os.environ["LEAN_DATABASE_URL"])
    admin = urlunsplit(server._replace(path="/postgres"))
    with psycopg.connect(admin, autocommit=True) as connection:
        found = connection.execute(
            "SELECT datname FROM pg_database WHERE datname ~ '^lean_loaded_'"
        )
        for (name,) in found.fetchall():
            connection.execute(f"DROP DATABASE IF EXISTS {name} WITH (FORCE)")
