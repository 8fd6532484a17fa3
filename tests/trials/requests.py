"""The API under requests that nobody's browser makes, from its own description.

Schemathesis makes them: whatever the description allows, and much that it does not. No answer may
be a failure of ours, and every clip that is there afterwards opens.
"""

from __future__ import annotations

import json
import re
import subprocess
import sys
from pathlib import Path
from typing import Any

from tests.bench.tables import Table
from tests.e2e.application import Application
from tests.trials.people import Person, make_people, running, short_file


def run(folder: Path, examples: int = 60) -> Table:
    with running(folder, "lean_requests") as application:
        return on(application, folder, examples)


def on(application: Application, folder: Path, examples: int = 60) -> Table:
    """So many examples an endpoint at the most."""
    table = Table(
        f"Requests from the API's description, up to {examples} an endpoint",
        ("what", "count", "goal"),
    )
    workspace = make_people(application.environment, ["fuzz"], "Fuzz")
    person = Person(application.url, "fuzz").sign_in()
    clip = person.bring_in(workspace, "short.bvh", short_file(0, 60))
    headers = [
        ("Cookie", "; ".join(f"{k}={v}" for k, v in person.cookies.items())),
        ("X-CSRFToken", person.cookies["csrftoken"]),
    ]
    schema = folder / "openapi.json"
    known = {
        "workspace_id": [workspace], "clip_id": [clip["id"]], "take_id": [clip["take"]],
        "revision": [clip["head"]["id"]], "since": [clip["head"]["id"]],
        "operation": [o["name"] for o in person.ask("GET", "operations").json()],
        "joints": ["0", "1,2,3", "x"],
    }  # fmt: skip
    described = person.ask("GET", "openapi.json").json()
    schema.write_text(json.dumps(aimed(described, known)))
    done = subprocess.run(
        [
            Path(sys.executable).parent / "schemathesis", "run", schema,
            "--url", application.url, "--checks", "not_a_server_error",
            "--max-examples", str(examples), "--seed", "7", "--workers", "2",
            "--request-timeout", "60", "--no-color",
            "--exclude-path", "/api/session", "--generation-database", "none",
            "--phases", "examples,coverage,fuzzing",
            *[part for name, value in headers for part in ("-H", f"{name}: {value}")],
        ],
        capture_output=True, text=True, cwd=folder,
    )  # fmt: skip
    (folder / "schemathesis.log").write_text(done.stdout + done.stderr)
    failures = done.stdout.count("Server error")
    opened = 0
    takes = person.ask("GET", f"workspaces/{workspace}/takes").json()
    clips = {clip["id"], *(t["clip"] for t in takes if t["clip"])}
    for pk in clips:
        got = person.ask("GET", f"clips/{pk}")
        if got.status == 404:
            opened += 1  # it was put into the bin, as may be asked
            continue
        head = got.json()["head"]["id"]
        poses = person.ask("GET", f"clips/{pk}/poses?revision={head}")
        opened += got.status == poses.status == 200
    cases = re.search(r"(\d+) generated", done.stdout)
    table.add("endpoints", str(_operations(schema)), "")
    table.add("requests", cases[1] if cases else "?", "")
    table.add("answers that are our failure", str(failures), "0")
    table.add("ended with", "no findings" if done.returncode == 0 else "findings", "")
    table.add("clips that open afterwards", f"{opened} of {len(clips)}", "all")
    if failures or done.returncode not in (0, 1):
        found = done.stdout.partition("= FAILURES =")[2] or done.stdout
        print(found[:6000], done.stderr[-2000:])
    return table


def aimed(described: dict[str, Any], known: dict[str, list[Any]]) -> dict[str, Any]:
    """The description with what is there in it: else nearly all of it ends in "not here".

    What would put the only clip into the bin is left out."""
    for path in ("/api/clips/{clip_id}", "/api/takes/{take_id}"):
        described["paths"][path].pop("delete")
    for methods in described["paths"].values():
        for about in methods.values():
            for parameter in about.get("parameters", []):
                if parameter["name"] in known:
                    parameter["schema"] = {"enum": known[parameter["name"]]}
    for schema in described["components"]["schemas"].values():
        for name, values in known.items():
            if name in schema.get("properties", {}) and name != "joints":
                schema["properties"][name] = {"enum": values}
    return described


def _operations(schema: Path) -> int:
    return sum(len(methods) for methods in json.loads(schema.read_text())["paths"].values())
