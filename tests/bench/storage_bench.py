"""What an hour of work with layers on dense curves adds to the database."""

from __future__ import annotations

import subprocess
import sys
import tempfile
from pathlib import Path
from typing import Any

import numpy as np
import psycopg
from documents.squeezing import unsqueezed
from leancurve.curves.curve import SampledCurve
from leancurve.demo import TAKES, captured
from leancurve.formats.bvh import write_bvh

from tests import prepared
from tests.bench.tables import Table
from tests.conftest import PROJECT
from tests.e2e.application import Application
from tests.trials.people import Person, make_people, running

ROUNDS = 5
JOINTS = ("Head", "Neck", "Chest", "LeftUpperArm", "LeftForearm", "RightUpperArm", "RightForearm")


def steps(round_: int) -> list[dict[str, Any]]:
    """Corrections on a layer of its own, what was done so far lifted, weighed and flattened."""
    name = f"correction {round_}"
    add = {"edits": [{"do": "add", "name": name}]}
    out: list[dict[str, Any]] = [{"operation": "edit_layers", "params": add}]
    for k in range(6):
        turns = {joint: [2.0 + k, 1.0, -0.5 * k] for joint in JOINTS[: 2 + k]}
        keyed = {"layer": name, "frame": 300 * (k + 1) + 40 * round_, "turns": turns}
        out.append({"operation": "key_layer", "params": keyed})
    lifted = f"cleanup {round_}"
    lift = {"what": "all", "name": lifted}
    half = {"edits": [{"do": "set", "name": lifted, "weight": 0.8}]}
    return [
        *out,
        {"operation": "lift", "params": lift},
        {"operation": "edit_layers", "params": half},
        {"operation": "flatten", "params": {}},
        {
            "operation": "smooth",
            "params": {"method": "gaussian"},
            "scope": {"groups": ["left arm"]},
        },
    ]


def as_filed() -> bytes:
    """The demo's longest take with six decimals, as files from a suit have them."""
    clip = captured(TAKES[0]).clip
    tracks = {t: SampledCurve(np.round(c.values, 6)) for t, c in clip.curves.items()}
    return write_bvh(clip.with_curves(tracks))


def run() -> list[Table]:
    table = Table("Stored by an hour of work with layers", ("what", "measured", "as plain numbers"))
    with (
        tempfile.TemporaryDirectory() as folder,
        running(Path(folder), "lean_bench") as application,
    ):
        hour(application, table)
    return [table]


def hour(application: Application, table: Table) -> None:
    workspace = make_people(application.environment, ["hand"], "An hour")
    person = Person(application.url, "hand").sign_in()
    clip = person.bring_in(workspace, "mooring line.bvh", as_filed())

    def write(line: dict[str, Any]) -> None:
        nonlocal clip
        done = person.write(clip, append=line)
        assert done.status == 200, done.body
        clip = done.json()

    for name in ("trim", "unflip", "smooth"):
        write({"operation": name, "params": {}})
    before = kept(application)
    lines = [line for round_ in range(ROUNDS) for line in steps(round_)]
    for line in lines:
        write(line)

    def grown() -> list[str]:
        sizes = zip(kept(application), before, strict=True)
        return [f"{(now - was) / 1e6:.1f} MB" for now, was in sizes]

    table.add(f"{len(lines)} steps on 65 joints × {clip['frames']:,} frames", *grown())
    manage = [sys.executable, "manage.py", "tidy_storage", "--at-once"]
    subprocess.run(manage, env=application.environment, cwd=PROJECT / "server", check=True)
    table.add("of it left once it was tidied, an hour later", *grown())


def kept(application: Application) -> tuple[int, int]:
    """Bytes that are kept of documents' parts, and what they are unpacked."""
    with psycopg.connect(prepared.address(application.database)) as connection:
        parts = connection.execute("SELECT data FROM editing_blob")
        sizes = [(len(data), len(unsqueezed(data))) for (data,) in parts]
    return sum(s for s, _ in sizes), sum(p for _, p in sizes)
