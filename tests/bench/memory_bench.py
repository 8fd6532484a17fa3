"""What the web process holds after a long day: previews and edits in a row."""

from __future__ import annotations

import tempfile
import uuid
from pathlib import Path
from typing import Any

from safetensors.numpy import load

from tests.bench.browser_bench import Session
from tests.bench.tables import Table
from tests.e2e.application import Application

PREVIEWS, EDITS = 300, 500
WARM_ROUNDS = 8


def resident_mb(application: Application) -> float:
    """Resident memory of the web server's processes, MB, from /proc."""
    assert application.web is not None
    group = application.web.pid
    pages = 0
    for stat in Path("/proc").glob("[0-9]*/stat"):
        try:
            fields = stat.read_text().rsplit(")", 1)[1].split()
        except OSError:
            continue
        if int(fields[2]) == group:
            pages += int(fields[21])
    return pages * 4096 / 1e6


def run() -> list[Table]:
    table = Table("Memory", ("what", "measured", "target"))
    with tempfile.TemporaryDirectory() as folder:
        application = Application(Path(folder), database="lean_bench_memory")
        try:
            memory(application.start(), table)
        finally:
            application.stop()
    return [table]


def memory(application: Application, table: Table) -> None:
    session = Session(application)
    workspace = session.get("session")["workspaces"][0]["id"]
    takes = session.get(f"workspaces/{workspace}/takes")
    take = next(t for t in takes if t["name"].startswith("Rolling"))
    clip = session.post(f"takes/{take['id']}/clip", {})
    path = f"clips/{clip['id']}"

    def write(line: dict[str, Any]) -> None:
        nonlocal clip
        body = {"revision": clip["head"]["id"], "request_id": str(uuid.uuid4()), "append": line}
        clip = session.post(f"{path}/writes", body)

    write({"operation": "thin", "params": {}})
    query = f"{path}/curves?revision={clip['head']['id']}&joints=0"
    columns = load(session.opener.open(session.base + query).read())
    ids, times = columns["base/0/ry/id"], columns["base/0/ry/time"]

    def previews(first: int, count: int) -> None:
        for k in range(first, first + count):
            params = {"tolerance_deg": 0.2 + 0.001 * k}
            body = {"revision": clip["head"]["id"], "operation": "thin", "params": params}
            session.post(
                f"{path}/preview/whole", {**body, "view": "bench", "sequence": k}, raw=True
            )

    def edits(first: int, count: int) -> None:
        for k in range(first, first + count):
            key = {
                "joint": clip["joints"][0]["name"], "channel": "ry", "value": 0.01 * k,
                "id": int(ids[k % len(ids)]), "frame": float(times[k % len(ids)]),
            }  # fmt: skip
            write({"operation": "edit", "params": {"keys": [key]}})
            poses = f"{path}/poses?revision={clip['head']['id']}"
            session.opener.open(session.base + poses).read()

    # Until the caches are full it grows: that is what they are for. Rounds, until one adds 1 %.
    first = full = resident_mb(application)
    made = previewed = 0
    for _ in range(WARM_ROUNDS):
        previews(previewed, 60)
        edits(made, 40)
        previewed, made, last, full = previewed + 60, made + 40, full, resident_mb(application)
        if full < 1.01 * last:
            break
    previews(previewed, PREVIEWS)
    edits(made, EDITS)
    after = resident_mb(application)
    table.add(
        f"resident memory at first, with caches full ({previewed} previews, {made} edits), and "
        f"{PREVIEWS} previews and {EDITS} edits later",
        f"{first:.0f} MB, {full:.0f} MB, {after:.0f} MB: {100 * (after / full - 1):+.1f} %",
        "± 10 %",
    )
