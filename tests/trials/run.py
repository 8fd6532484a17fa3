"""``./lean trials [NAME…]``: all trials or those named; ``--keep`` writes docs/trials.md."""

from __future__ import annotations

import os
import platform
import tempfile
from collections.abc import Callable
from datetime import date
from pathlib import Path

import django

from tests.bench.tables import Table
from tests.conftest import PROJECT

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "tests.settings")
django.setup()

from tests.trials import access, files, kills, load, requests, studio, two  # noqa: E402

TRIALS: dict[str, Callable[[Path], Table]] = {
    "files": files.run,
    "access": access.run,
    "requests": requests.run,
    "two": two.run,
    "kills": kills.run,
    "studio": studio.run,
    "load": load.run,
}

HEAD = """# Trials

What the application is tried with: `./lean trials`, or one of them by its name ({names}).
`./lean trials --keep` wrote this on {day}: {machine}. A short share of each runs with the tests.
"""


def main(arguments: list[str]) -> None:
    chosen = [a for a in arguments if not a.startswith("--")]
    tables = []
    for name in chosen or list(TRIALS):
        with tempfile.TemporaryDirectory() as folder:
            tables.append(TRIALS[name](Path(folder)))
    if "--keep" in arguments:
        version, cores = platform.python_version(), os.cpu_count()
        machine = f"{platform.machine()}, Python {version}, {cores} cores"
        head = HEAD.format(day=date.today().isoformat(), machine=machine, names=", ".join(TRIALS))
        text = "\n".join(t.text() for t in tables)
        (PROJECT / "docs/trials.md").write_text(f"{head}\n{text}")
