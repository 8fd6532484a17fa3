"""Twenty people on two cores: each previews on a whole take, edits keys, and looks about.

What is common is a person's pace, from watching the demo being worked on: a preview every eight
seconds, an edit every two, something light all the time.
"""

from __future__ import annotations

import random
import threading
import time
from typing import Any

from leancurve.demo import TAKES, captured
from leancurve.formats.bvh import write_bvh

from tests.bench.tables import Table
from tests.e2e.application import Application
from tests.trials.people import Person, Waits, any_edit, make_people, running

GOALS = {"light": 0.3, "write": 0.5, "preview": 10.0}


def work(person: Person, clip: dict[str, Any], until: float, seed: int) -> None:
    """One person's work: previews of thinning with another tolerance each, and edits between."""
    dice = random.Random(seed)
    keys = person.keys_of(clip)
    look = dice.random() * 8
    sequence = 0
    while time.monotonic() < until:
        time.sleep(dice.uniform(1.0, 3.0))
        person.ask("GET", f"clips/{clip['id']}/history", kind="light")
        person.ask("GET", f"workspaces/{clip['workspace']}/jobs", kind="light")
        done = person.write(clip, append=any_edit(keys, dice), kind="write")
        assert done.status == 200, done.body[:300]
        clip = done.json()
        if time.monotonic() > look:
            look = time.monotonic() + dice.uniform(6.0, 10.0)
            sequence += 1
            wanted = {
                "revision": clip["head"]["id"], "operation": "thin", "view": person.name,
                "params": {"tolerance_deg": dice.uniform(0.3, 3.0)}, "sequence": sequence,
            }  # fmt: skip
            path = f"clips/{clip['id']}/preview/whole"
            got = person.ask("POST", path, wanted, kind="preview")
            assert got.status == 200, got.body[:300]


def look_about(person: Person, until: float) -> None:
    while time.monotonic() < until:
        time.sleep(0.2)
        person.ask("GET", "session", kind="light")


def run(folder: Any, people: int = 20, seconds: float = 60.0, frames: int | None = None) -> Table:
    with running(folder, "lean_load") as application:
        return on(application, people, seconds, frames)


def on(
    application: Application, people: int = 20, seconds: float = 60.0, frames: int | None = None
) -> Table:
    """The load on an application of its own; returns the table of waits."""
    table = Table(
        f"Load: {people} people at once for {seconds:.0f} s",
        ("what", "how often", "median", "95 of 100", "goal"),
    )
    names = [f"hand{k}" for k in range(people)]
    workspace = make_people(application.environment, names, "Load")
    file = write_bvh(longest(frames))
    waits = Waits()
    crew = [Person(application.url, n, waits).sign_in() for n in names]
    clips = []
    for person in crew:
        clips.append(person.bring_in_thinned(workspace, file))
    waits.seconds.clear()
    waits.statuses.clear()
    waits.busy = 0
    until = time.monotonic() + seconds
    threads = [
        threading.Thread(target=work, args=(p, c, until, k))
        for k, (p, c) in enumerate(zip(crew, clips, strict=True))
    ]
    watcher = Person(application.url, names[0], waits).sign_in()
    threads.append(threading.Thread(target=look_about, args=(watcher, until)))
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    for kind, goal in GOALS.items():
        table.add(
            kind, str(len(waits.seconds[kind])), f"{waits.at(kind, 0.5):.2f} s",
            f"{waits.at(kind, 0.95):.2f} s", f"{goal} s",
        )  # fmt: skip
    wrong = sum(n for (_, status), n in waits.statuses.items() if status >= 400)
    table.add("told to come again", str(waits.busy), "", "", "")
    table.add("refused or failed", str(wrong), "", "", "0")
    return table


def longest(frames: int | None) -> Any:
    """The demo's longest take, or its first frames."""
    from leancurve.time.resample import resampled

    clip = max((captured(t).clip for t in TAKES), key=lambda c: c.frames)
    return clip if frames is None else resampled(clip, clip.rate, 0, frames - 1)
