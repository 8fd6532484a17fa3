"""Two web servers and three workers, each a process of its own, on one database: people edit, takes
come in and recipes run, and one web server and one worker are killed in the middle.

Whoever was on the lost web server goes on with the other, as a proxy would have it.
"""

from __future__ import annotations

import os
import signal
import subprocess
import threading
import time
from collections import Counter
from contextlib import suppress
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from tests.bench.tables import Table
from tests.conftest import PROJECT
from tests.e2e.application import Application, free_port, until_answered
from tests.e2e.supervised import set_up_as_here
from tests.trials.people import Person, lost_and_twice, make_people, short_file

WEBS, WORKERS = 2, 3


class Mover(Person):
    """Somebody who turns to the next web server when theirs does not answer."""

    def __init__(self, urls: list[str], name: str, at: int) -> None:
        super().__init__(urls[at % len(urls)], name)
        self.urls = urls

    def once(self, method: str, path: str, body: bytes | None, kind: str) -> Any:
        try:
            return super().once(method, path, body, kind)
        except OSError:
            after = self.urls.index(self.url.geturl()) + 1
            self.url = urlsplit(self.urls[after % len(self.urls)])
            raise


def part(application: Application, folder: Path, name: str, number: int, port: int = 0) -> Any:
    """``./lean web`` or ``./lean worker``, with a folder of its own as on a machine of its own."""
    local = folder / f"{name}{number}"
    set_up_as_here(local)
    environment = {
        **application.environment, "LEAN_LOCAL": str(local), "LEAN_PORT": str(port),
        "LEAN_COMPUTERS": "1",
    }  # fmt: skip
    log = (folder / f"{name}{number}.log").open("ab")
    return subprocess.Popen(
        [PROJECT / "lean", name], env=environment, stdout=log, stderr=log, start_new_session=True
    )


def run(folder: Path, people: int = 20, seconds: float = 60.0, imports: int = 12) -> Table:
    """So many people for so long; a third of the way in one web server and one worker are lost."""
    table = Table(
        f"{WEBS} web servers, {WORKERS} workers, {people} people; one of each is killed",
        ("what", "count", "lost", "done twice"),
    )
    application = Application(folder, "lean_studio")
    application.make()
    running: list[Any] = []
    try:
        urls = []
        for k in range(WEBS):
            port = free_port()
            urls.append(f"http://127.0.0.1:{port}")
            running.append(part(application, folder, "web", k, port))
        for k in range(WORKERS):
            running.append(part(application, folder, "worker", k))
        for url in urls:
            until_answered(f"{url}/readyz", lambda: f"see {folder}")
        names = [f"hand{k}" for k in range(people)]
        workspace = make_people(application.environment, names, "Studio")
        file = short_file(400, 520)
        crew: list[Person] = [Mover(urls, n, k).sign_in() for k, n in enumerate(names)]
        clips = [person.bring_in_thinned(workspace, file) for person in crew]
        count: Counter[str] = Counter()
        until = time.monotonic() + seconds

        def ended() -> bool:
            return time.monotonic() > until

        threads = [
            threading.Thread(
                target=p.edit_until, args=(ended, c, count, lambda dice: dice.uniform(1.0, 3.0))
            )
            for p, c in zip(crew, clips, strict=True)
        ]
        for thread in threads:
            thread.start()
        watcher = Mover(urls, names[0], 1).sign_in()
        time.sleep(seconds / 6)
        coming = []
        for k in range(imports):
            coming += watcher.upload(workspace, f"more{k}.bvh", file).json()["jobs"]
        taken = [c["take"] for c in clips[: people // 2]]
        fresh = [watcher.bring_in(workspace, f"batch{k}.bvh", file)["take"] for k in range(4)]
        batch = watcher.ask(
            "POST", f"workspaces/{workspace}/batches", {"recipe": 0, "takes": [*fresh, *taken[:2]]}
        ).json()
        time.sleep(1.0)
        for victim in (running[0], running[WEBS]):
            os.killpg(victim.pid, signal.SIGKILL)
        for thread in threads:
            thread.join()
        rows = {
            r["job"]: watcher.until_done(r["job"])["state"]
            for r in watcher.ask("GET", f"batches/{batch['id']}").json()["rows"]
        }
        by_batch = Counter(r["take"] for r in batch["rows"] if rows[r["job"]] == "done")
        lost, twice = lost_and_twice(watcher, crew, clips, count, by_batch)
        edits = sum(count[n] for n in names)
        table.add("edits acknowledged", str(edits), str(lost), str(twice))
        table.add("edits refused", str(count["refused"]), "", "")
        done = Counter(watcher.until_done(j["id"])["state"] for j in coming)
        takes = len(watcher.ask("GET", f"workspaces/{workspace}/takes").json())
        extra = takes - people - imports - len(fresh)
        table.add("takes brought in", str(imports), str(imports - done["done"]), str(extra))
        finished = Counter(rows.values())
        table.add("takes of a batch", str(len(rows)), str(len(rows) - finished["done"]), "0")
    finally:
        for process in running:
            with suppress(ProcessLookupError):
                os.killpg(process.pid, signal.SIGKILL)
            process.wait()
        application.stop()
    return table
