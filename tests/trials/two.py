"""Two people on one clip: disjoint edits never conflict, edits of the same key always say so."""

from __future__ import annotations

import random
import threading
from pathlib import Path
from typing import Any

from tests.bench.tables import Table
from tests.e2e.application import Application
from tests.trials.people import Person, any_edit, make_people, running, short_file


def run(folder: Path, edits: int = 60) -> Table:
    with running(folder, "lean_two") as application:
        return on(application, edits)


def on(application: Application, edits: int = 60) -> Table:
    """So many edits of each, on joints of their own; then as many of keys that both take."""
    table = Table(
        f"Two people on one clip, {edits} edits each",
        ("what", "kept", "conflicts told", "lost in silence"),
    )
    workspace = make_people(application.environment, ["one", "two"], "Two")
    pair = [Person(application.url, n).sign_in() for n in ("one", "two")]
    clip = pair[0].bring_in_thinned(workspace, short_file(0, 120))
    keys = pair[0].keys_of(clip)
    left = [k for k in keys if k["joint"].startswith("Left")]
    right = [k for k in keys if k["joint"].startswith("Right")]
    turns = {"joints of their own": (left, right), "the same keys": (left[:6], left[:6])}
    for what, shares in turns.items():
        before = pair[0].steps_of(clip)
        kept, told = [0, 0], [0, 0]

        def work(k: int, share: list[Any], kept: Any = kept, told: Any = told) -> None:
            dice = random.Random(k)
            at = pair[k].ask("GET", f"clips/{clip['id']}").json()
            for _ in range(edits):
                done = pair[k].write(at, append=any_edit(share, dice))
                if done.status == 200:
                    kept[k] += 1
                    at = done.json()
                elif done.status == 409:
                    told[k] += 1
                    at = pair[k].ask("GET", f"clips/{clip['id']}").json()
                else:
                    print("    refused:", done.status, done.body[:200])

        threads = [threading.Thread(target=work, args=(k, s)) for k, s in enumerate(shares)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        after = pair[0].steps_of(clip)
        table.add(what, str(sum(kept)), str(sum(told)), str(sum(kept) - (after - before)))
    return table
