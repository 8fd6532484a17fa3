"""``./lean serve`` from a folder of its own, for tests and trials."""

from __future__ import annotations

import os
import shutil
import subprocess
import time
from pathlib import Path

from tests.conftest import PROJECT
from tests.e2e.application import free_port, until_answered
from tests.pace import patient


def set_up_as_here(folder: Path) -> None:
    """A ``LEAN_LOCAL`` that is set up as this checkout is: nothing is installed anew."""
    local = Path(os.environ.get("LEAN_LOCAL", PROJECT / ".local"))
    shutil.copytree(local / "stamps", folder / "stamps")


class Lean:
    """``./lean serve`` from a folder of its own; without an address of a database it starts one."""

    def __init__(self, folder: Path, database_url: str | None = None) -> None:
        self.folder = folder
        port = free_port()
        self.url = f"http://127.0.0.1:{port}"
        own = ("DJANGO_SETTINGS_MODULE", "LEAN_DATABASE_URL", "PG_OPTIONS")
        self.environment = {
            **{k: v for k, v in os.environ.items() if k not in own},
            **({"LEAN_DATABASE_URL": database_url} if database_url else {}),
            "LEAN_LOCAL": str(folder),
            "LEAN_PORT": str(port),
        }
        set_up_as_here(folder)
        self.process: subprocess.Popen[bytes] | None = None

    def start(self) -> subprocess.Popen[bytes]:
        address = self.folder / "address"
        log = (self.folder / "lean.log").open("ab")
        self.process = subprocess.Popen(
            [PROJECT / "lean", "serve"], env=self.environment, stdout=log, stderr=log,
            start_new_session=True,
        )  # fmt: skip
        # One of a start before this one says nothing about this one.
        began = time.time()
        until = time.monotonic() + patient(90)
        while time.monotonic() < until and self.process.poll() is None:
            if address.exists() and address.stat().st_mtime >= began - 1:
                break
            time.sleep(0.1)
        self.ready()
        return self.process

    def ready(self, path: str = "/healthz") -> None:
        until_answered(self.url + path, (self.folder / "lean.log").read_text)

    def pids(self, what: str) -> list[int]:
        """Processes of a part of this one, the oldest first."""
        mine = f"LEAN_LOCAL={self.folder}".encode()
        out: list[tuple[int, int]] = []
        for process in Path("/proc").glob("[0-9]*"):
            try:
                command = (process / "cmdline").read_bytes().replace(b"\0", b" ").decode()
                if what in command and mine in (process / "environ").read_bytes().split(b"\0"):
                    # Numbers of processes begin again at some time: their age is told elsewhere.
                    began = (process / "stat").read_text().rsplit(")", 1)[1].split()[19]
                    out.append((int(began), int(process.name)))
            except (OSError, UnicodeDecodeError):
                continue
        return [pid for _, pid in sorted(out)]

    def left(self) -> list[str]:
        """What still runs of it, once it has had its time to end: nothing, if all is well."""
        until = time.monotonic() + patient(20)
        while left := self.pids("gunicorn config.wsgi") + self.pids("manage.py worker"):
            if time.monotonic() > until:
                return [Path(f"/proc/{pid}/stat").read_text() for pid in left]
            time.sleep(0.2)
        return []
