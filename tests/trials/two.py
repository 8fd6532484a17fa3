"""Two people on one clip: disjoint edits never conflict, edits of the same key always say so."""

from __future__ import annotations

import random
import threading
from pathlib import Path
from typing import Any

from leancurve.demo import TAKES, captured
from leancurve.formats.bvh import write_bvh
from leancurve.time.resample import resampled

from tests.bench.tables import Table
from tests.e2e.application import Application
from tests.trials.people import Person, make_people, running


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
    file = write_bvh(resampled(captured(TAKES[2]).clip, first=0, last=120))
    clip = pair[0].bring_in(workspace, "two.bvh", file)
    line = {"operation": "thin", "params": {"tolerance_deg": 1.0}}
    clip = pair[0].write(clip, append=line).json()
    keys = pair[0].keys_of(clip)
    left = [k for k in keys if k["joint"].startswith("Left")]
    right = [k for k in keys if k["joint"].startswith("Right")]
    turns = {"joints of their own": (left, right), "the same keys": (left[:6], left[:6])}
    for what, shares in turns.items():
        before = len(pair[0].ask("GET", f"clips/{clip['id']}/history").json())
        kept, told = [0, 0], [0, 0]

        def work(k: int, share: list[Any], kept: Any = kept, told: Any = told) -> None:
            dice = random.Random(k)
            at = pair[k].ask("GET", f"clips/{clip['id']}").json()
            for _ in range(edits):
                key = {**dice.choice(share), "value": dice.uniform(-20, 20)}
                done = pair[k].write(at, append={"operation": "edit", "params": {"keys": [key]}})
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
        after = len(pair[0].ask("GET", f"clips/{clip['id']}/history").json())
        table.add(what, str(sum(kept)), str(sum(told)), str(sum(kept) - (after - before)))
    return table
