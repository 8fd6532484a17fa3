"""``./lean serve`` keeps its parts running, and is alone in its folder."""

from __future__ import annotations

import errno
import os
import signal
import socket
import subprocess
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from urllib.parse import urlsplit

import pytest

from tests import prepared
from tests.conftest import PROJECT
from tests.e2e.supervised import Lean
from tests.pace import patient


@pytest.fixture
def lean(tmp_path: Path) -> Iterator[Lean]:
    name = f"lean_supervised_{os.environ.get('PYTEST_XDIST_WORKER', 'alone')}"
    prepared.copy(prepared.with_tables(), name)
    made = Lean(tmp_path, prepared.address(name))
    try:
        yield made
    finally:
        if made.process is not None and made.process.poll() is None:
            made.process.send_signal(signal.SIGKILL)
            made.process.wait()
        made.left()
        prepared.drop(name)


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
        until = time.monotonic() + patient(30)
        while time.monotonic() < until and lean.pids(part)[:1] in ([], [before]):
            time.sleep(0.1)
    lean.ready("/readyz")
    told = (lean.folder / "lean.log").read_text()
    assert "The web ended (status 137)" in told
    assert "The worker ended (status 137)" in told

    # Killed as hard as can be, it leaves nothing that stands in the way of the next.
    # (What it had started may hold the port for a moment longer.)
    assert lean.process is not None
    lean.process.send_signal(signal.SIGKILL)
    lean.process.wait()
    assert not lean.left()
    port = _held(urlsplit(lean.url).port or 0)
    threading.Timer(2, port.close).start()
    again = lean.start()
    again.send_signal(signal.SIGTERM)
    assert again.wait(patient(30)) == 143
    assert not lean.left()


def _held(port: int) -> socket.socket:
    """A port taken as soon as whoever had it has let it go."""
    until = time.monotonic() + patient(20)
    while True:
        try:
            return socket.create_server(("127.0.0.1", port))
        except OSError as trouble:
            if trouble.errno != errno.EADDRINUSE or time.monotonic() > until:
                raise
            time.sleep(0.1)


def test_a_log_that_has_grown_large_is_turned(tmp_path: Path) -> None:
    """The script's own function, on a log that somebody goes on writing to."""
    log = tmp_path / "web.log"
    code = (
        f"MOST_LOG_BYTES=100; source <(sed -n '/^turn_log()/,/^}}/p' {PROJECT / 'lean'})\n"
        f"exec 5>>{log}; printf '%0200d' 1 >&5; turn_log {log}; printf more >&5; turn_log {log}"
    )
    subprocess.run(["bash", "-c", code], check=True)
    assert log.read_text() == "more"
    assert (tmp_path / "web.log.1").stat().st_size == 200
