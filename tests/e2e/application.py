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
from contextlib import AbstractContextManager, nullcontext
from pathlib import Path
from typing import Any, ClassVar

from tests import prepared
from tests.conftest import PROJECT
from tests.pace import patient

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
    until = time.monotonic() + patient(seconds)
    while time.monotonic() < until:
        try:
            urllib.request.urlopen(url, timeout=2)
            return
        except OSError:
            time.sleep(0.1)
    raise AssertionError(f"{url} did not answer: {told()}")


class Application:
    """Starts on a fresh database with the demo's takes; either process can be killed."""

    of_tests: ClassVar[Application]
    """The one that all tests of this process share."""

    def __init__(self, folder: Path, database: str = "lean_e2e") -> None:
        self.folder = folder
        self.database = database
        self.port = free_port()
        self.environment = {
            **os.environ,
            "LEAN_DATABASE_URL": prepared.address(database),
            "LEAN_SECRET_KEY": "only-for-tests-" * 4,
            "LEAN_DEMO": "1",
            "DJANGO_SETTINGS_MODULE": "config.settings",
            "MALLOC_ARENA_MAX": "2",
            "PYTHONPATH": f"{PROJECT}/core:{PROJECT}/server",
        }
        self.orm_allowed: Callable[[], AbstractContextManager[Any]] = nullcontext
        self.web: subprocess.Popen[bytes] | None = None
        self.worker: subprocess.Popen[bytes] | None = None

    @property
    def url(self) -> str:
        return f"http://127.0.0.1:{self.port}"

    def start(self) -> Application:
        self.make()
        # Both at once: each takes a while to load.
        self._start_web()
        self._start_worker()
        self._wait("/healthz")
        self._wait("/readyz")
        return self

    def make(self) -> None:
        """The database, with the demo's takes in it."""
        prepared.copy(prepared.with_demo(), self.database)

    def _spawn(self, name: str, *command: object) -> subprocess.Popen[bytes]:
        log = (self.folder / f"{name}.log").open("ab")
        return subprocess.Popen(
            [str(c) for c in command], env=self.environment, stdout=log, stderr=log,
            cwd=PROJECT / "server", start_new_session=True,
        )  # fmt: skip

    def start_web(self) -> None:
        self._start_web()
        self._wait("/healthz")

    def start_worker(self) -> None:
        self._start_worker()
        self._wait("/readyz")

    def _start_web(self) -> None:
        gunicorn = Path(sys.executable).parent / "gunicorn"
        self.web = self._spawn(
            "web", gunicorn, "config.wsgi", "--bind", f"127.0.0.1:{self.port}", "--threads", 48,
            "--no-control-socket", "--keep-alive", 75, "--log-level", "warning",
        )  # fmt: skip

    def _start_worker(self) -> None:
        self.worker = self._spawn("worker", sys.executable, "manage.py", "worker")

    def another_worker(self) -> subprocess.Popen[bytes]:
        """A second worker beside the first; whoever starts it ends it."""
        return self._spawn("worker2", sys.executable, "manage.py", "worker")

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
        prepared.drop(self.database)
