"""Two versions beside and after one another: an older worker beside a newer web server, a backup of
the older version restored by the newer one, and results that differ in the last place.
"""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from tests.bench.tables import Table
from tests.conftest import PROJECT
from tests.e2e.application import Application
from tests.trials.hand import Hands
from tests.trials.people import Person, make_people, short_file

OLDER = (("editing", "0016"), ("library", "0010"), ("documents", "0001"))
"""The newest migrations that the older version had."""
OLD_WORKER = """
import sys, django; django.setup()
from django.core.management import call_command
from django.utils.module_loading import autodiscover_modules
from library import jobs
from library.kinds import KINDS
jobs.PUT_OFF_S = 4
autodiscover_modules("tasks")
# What it never heard of.
for kind in sys.argv[1:]:
    del KINDS[kind]
call_command("worker")
"""


def run(folder: Path, rounds: int = 8) -> Table:
    table = Table("Upgrade: two versions beside and after one another", ("what", "count", "goal"))
    beside(folder, table, rounds)
    after(folder, table, rounds)
    return table


def beside(folder: Path, table: Table, rounds: int) -> None:
    """Deliveries asked for while only a worker is there that knows none."""
    application = Application(folder, "lean_beside")
    application.make()
    old = None
    try:
        application.start_web()
        old = subprocess.Popen(
            [sys.executable, "-c", OLD_WORKER, "deliver"], env=application.environment,
            stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, cwd=PROJECT / "server",
            start_new_session=True,
        )  # fmt: skip
        workspace = make_people(application.environment, ["mate"], "Beside")
        person = Person(application.url, "mate").sign_in()
        clip = person.bring_in(workspace, "short.bvh", short_file(0, 40))
        table.add("imports by the older worker", "1", "1")
        asked = []
        for k in range(rounds):
            wanted = {
                "revision": clip["head"]["id"], "rate": [60, 1], "first": 0, "last": 9,
                "character": "a", "action": f"b{k}",
            }  # fmt: skip
            job = person.ask("POST", f"clips/{clip['id']}/deliveries", wanted).json()
            asked.append(job["id"])
        time.sleep(6.0)
        states = [person.ask("GET", f"jobs/{k}").json()["state"] for k in asked]
        table.add("deliveries that wait beside it", str(states.count("queued")), str(rounds))
        application.start_worker()
        done = [person.until_done(k)["state"] for k in asked]
        table.add("deliveries done by a newer worker", str(done.count("done")), str(rounds))
    finally:
        if old is not None:
            os.killpg(old.pid, signal.SIGKILL)
            old.wait()
        application.stop()


@contextmanager
def hand_of(application: Application) -> Iterator[Hands]:
    hand = Hands(application.environment)
    try:
        yield hand
    finally:
        hand.end()


def after(folder: Path, table: Table, rounds: int) -> None:
    """Work backed up by the older version, restored by the newer one, whose numbers differ."""
    application = Application(folder, "lean_after")
    application.make()
    try:
        make_people(application.environment, ["hand"], "After")
        shows: dict[int, str] = {}
        with hand_of(application) as hand:
            made = hand.ask("bring_in", name="take.bvh", data=short_file(0, 60).hex())
            clip = hand.ask("open", take=made["take"])
            for k in range(4 * rounds):
                params = {"factor": 1.0 + 0.001 * (k + 1)}
                clip = hand.ask(
                    "write", clip=clip["clip"], base=clip["head"], append="gain", params=params,
                    scope={"groups": ["left arm"]},
                )  # fmt: skip
                shows[clip["head"]] = clip["shows"]
            # What the older version gave up left no witness.
            pruned = hand.ask("tidy", prune=True, sweep=True)["pruned"]
        table.add("states given up", str(pruned), "")
        take_back(application)
        file = str(folder / "old.backup")
        _manage(application, "backup", file)
        _manage(application, "restore", file)
        _manage(application, "check_storage")
        with hand_of(application) as hand:
            hand.ask("differ", by=1e-13)
            there = hand.ask("all")
            now = {int(k): v for k, v in there["clips"][str(clip["clip"])].items()}
            opened = sum(now[k] == v for k, v in shows.items())
            table.add(
                "revisions that open, in the last place otherwise", str(opened), str(len(shows))
            )
            head = clip["head"]
            reached = 0
            for revision in list(shows)[:: max(len(shows) // rounds, 1)]:
                told = hand.ask("move", clip=clip["clip"], base=head, how="jump", to=revision)
                head = told["head"]
                reached += head == revision
                told = hand.ask(
                    "write", clip=clip["clip"], base=head, append="gain", params={"factor": 1.1},
                    scope={"groups": ["spine"]},
                )  # fmt: skip
                head = told["head"]
            table.add("gone back to and worked on", str(reached), "all")
            told = hand.ask("tidy", prune=True, sweep=True)
            table.add("not whole afterwards", str(len(told["troubles"])), "0")
    finally:
        application.stop()


def take_back(application: Application) -> None:
    """The database as the older version had it."""
    code = "import django; django.setup()\nfrom django.core.management import call_command\n"
    code += "".join(
        f"call_command('migrate', {app!r}, {name!r}, verbosity=0)\n" for app, name in OLDER
    )
    command = [sys.executable, "-c", code]
    subprocess.run(command, env=application.environment, cwd=PROJECT / "server", check=True)


def _manage(application: Application, *arguments: str) -> Any:
    return subprocess.run(
        [sys.executable, PROJECT / "server/manage.py", *arguments],
        env=application.environment, check=True, capture_output=True, text=True,
    )  # fmt: skip
