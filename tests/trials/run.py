"""``./lean trials [NAME…] [--share 0.2] [--keep]``: all trials or those named, a share of each or
the whole; ``--keep`` writes what they told into docs/trials.md, each in the place of its last."""

from __future__ import annotations

import argparse
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

from tests.trials import (  # noqa: E402
    access,
    files,
    forgetting,
    imports,
    kills,
    load,
    requests,
    strangers,
    studio,
    two,
    upgrade,
)

TRIALS: dict[str, Callable[[Path, float], Table]] = {
    "files": lambda folder, share: files.run(folder, count=part(500, share)),
    "imports": lambda folder, share: imports.run(folder, count=part(300, share)),
    "access": lambda folder, _: access.run(folder),
    "strangers": lambda folder, _: strangers.run(folder),
    "requests": lambda folder, share: requests.run(folder, examples=part(60, share)),
    "two": lambda folder, share: two.run(folder, edits=part(60, share)),
    "forgetting": lambda folder, share: forgetting.run(folder, steps=part(600, share)),
    "upgrade": lambda folder, share: upgrade.run(folder, rounds=part(8, share)),
    "kills": lambda folder, share: kills.run(folder, kills=part(30, share)),
    "studio": lambda folder, share: studio.run(folder, seconds=max(60 * share, 20.0)),
    "load": lambda folder, share: load.run(
        folder, seconds=max(60 * share, 30.0), takes=part(2_000, share)
    ),
}

HEAD = """# Trials

What the application is tried with: `./lean trials`, or some by their names ({names}). Goals: no
crash, no hang, nothing lost, no leak. `./lean trials --keep` writes each below in the place of its
last run. The titles say how much of each was run; a short share runs with the tests.
"""


def part(whole: int, share: float) -> int:
    return max(round(whole * share), 1)


def main(arguments: list[str]) -> None:
    parser = argparse.ArgumentParser(prog="./lean trials")
    parser.add_argument("names", nargs="*", metavar="NAME", help=", ".join(TRIALS))
    parser.add_argument("--share", type=float, default=1.0)
    parser.add_argument("--keep", action="store_true")
    wanted = parser.parse_args(arguments)
    unknown = [name for name in wanted.names if name not in TRIALS]
    if unknown:
        parser.error(f"there is no trial {unknown[0]!r}; there are {', '.join(TRIALS)}")
    told = {}
    for name in wanted.names or TRIALS:
        with tempfile.TemporaryDirectory() as folder:
            told[name] = TRIALS[name](Path(folder), wanted.share)
    if wanted.keep:
        keep(told, wanted.share)


def keep(told: dict[str, Table], share: float) -> None:
    """Put tables into docs/trials.md, each with the day and the machine; others stay."""
    file = PROJECT / "docs/trials.md"
    sections = dict.fromkeys(TRIALS, "")
    for section in file.read_text().split("<!-- trial ")[1:]:
        name, _, text = section.partition(" -->")
        if name in sections:
            sections[name] = text.strip()
    machine = f"{platform.machine()}, Python {platform.python_version()}, {os.cpu_count()} cores"
    for name, table in told.items():
        run = f"{date.today().isoformat()}, share {share:g}, {machine}"
        title, _, rest = table.text().partition("\n")
        sections[name] = f"{title}\n\n{run}\n{rest.rstrip()}"
    parts = [f"<!-- trial {name} -->\n{text}\n" for name, text in sections.items() if text]
    file.write_text("\n".join([HEAD.format(names=", ".join(TRIALS)), *parts]))
