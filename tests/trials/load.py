"""Twenty people on two cores: each previews on a whole take, edits keys, and looks about.

What is common is a person's pace, from watching the demo being worked on: a preview every eight
seconds, an edit every two, something light all the time.
"""

from __future__ import annotations

import random
import subprocess
import sys
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


def run(
    folder: Any, people: int = 20, seconds: float = 60.0, frames: int | None = None,
    takes: int = 2_000,
) -> Table:  # fmt: skip
    with running(folder, "lean_load") as application:
        return on(application, people, seconds, frames, takes)


SHELF_OF = """
import hashlib, os, sys
import django; django.setup()
import numpy as np
from documents.models import Blob, State
from documents.packing import encode
from documents.store import load_clip
from leancurve.curves.curve import SampledCurve
from library.models import StoredFile, Take, Workspace

workspace, count = Workspace.objects.get(pk=sys.argv[1]), int(sys.argv[2])
like = Take.objects.filter(frames__gt=1).select_related("state").order_by("frames").first()
header, width = like.state.header_id, len(bytes(like.state.manifest)) // 32
for first in range(0, count, 100):
    blobs, states, files, takes = [], [], [], []
    for k in range(first, min(first + 100, count)):
        # Channels of its own: as many parts as a take as captured has.
        data = [encode(SampledCurve(np.array([float(k), float(c)]))) for c in range(width)]
        shas = [hashlib.sha256(d).hexdigest() for d in data]
        manifest = bytes.fromhex("".join(shas))
        name = hashlib.sha256(header.encode() + manifest).hexdigest()
        blobs += [Blob(sha=s, data=d) for s, d in zip(shas, data)]
        states.append(State(hash=name, header_id=header, manifest=manifest, keys=2 * width))
        files.append(StoredFile(workspace=workspace, name=f"{k}.bvh", data=b"x", size=1))
    Blob.objects.bulk_create(blobs, ignore_conflicts=True)
    State.objects.bulk_create(states)
    StoredFile.objects.bulk_create(files)
    skeleton, _ = workspace.skeletons.get_or_create(
        digest=like.skeleton.digest, defaults={"name": "suit", "joints": like.joints})
    for state, file in zip(states, files):
        takes.append(Take(workspace=workspace, name=file.name, file=file, state=state,
            skeleton=skeleton, rate_numerator=60, rate_denominator=1, frames=2, joints=like.joints,
            channels=width, keys=state.keys, picture={"figures": []}))
    Take.objects.bulk_create(takes)
print(Blob.objects.count())
"""


def fill(application: Application, workspace: int, takes: int) -> int:
    """A shelf of so many takes, each of channels of its own; how many parts there are then."""
    done = subprocess.run(
        [sys.executable, "-c", SHELF_OF, str(workspace), str(takes)],
        env=application.environment, check=True, capture_output=True, text=True,
    )  # fmt: skip
    return int(done.stdout)


def on(
    application: Application, people: int = 20, seconds: float = 60.0, frames: int | None = None,
    takes: int = 2_000,
) -> Table:  # fmt: skip
    """The load on an application of its own; returns the table of waits."""
    table = Table(
        f"Load: {people} people at once for {seconds:.0f} s, in a workspace of {takes:,} takes",
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
    parts = fill(application, workspace, takes)
    used = crew[0].ask("GET", f"workspaces/{workspace}/usage")
    assert used.status == 200, used.body
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
    table.add("parts that are kept", f"{parts:,}", "", "", "")
    table.add("told to come again", str(waits.busy), "", "", "")
    table.add("refused or failed", str(wrong), "", "", "0")
    return table


def longest(frames: int | None) -> Any:
    """The demo's longest take, or its first frames."""
    from leancurve.time.resample import resampled

    clip = max((captured(t).clip for t in TAKES), key=lambda c: c.frames)
    return clip if frames is None else resampled(clip, clip.rate, 0, frames - 1)
