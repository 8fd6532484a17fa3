"""Every endpoint for whoever has no right to it: a stranger, somebody signed out, a wrong token.

The endpoints are those of the API's own description, so that a new one is tried as soon as it is
there.
"""

from __future__ import annotations

import json
import re
from collections import Counter
from pathlib import Path
from typing import Any

from tests.bench.tables import Table
from tests.e2e.application import Application
from tests.trials.people import Person, make_people, running, short_file

OPEN = {("GET", "/api/session"), ("POST", "/api/session")}
OF_NOBODY = {
    "/api/session", "/api/preferences", "/api/operations", "/api/browser-errors",
    "/api/findings/kinds",
}  # fmt: skip
METHODS = ("GET", "POST", "PUT", "PATCH", "DELETE")


def endpoints(person: Person) -> list[tuple[str, str, dict[str, Any]]]:
    """Method, path and description of each."""
    paths = person.ask("GET", "openapi.json").json()["paths"]
    return [
        (method.upper(), path, about)
        for path, methods in paths.items()
        for method, about in methods.items()
    ]


def filled(path: str, ids: dict[str, int]) -> str:
    """A path to things that are there."""
    return re.sub(r"{(\w+)}", lambda m: str(ids.get(m[1], 1)), path).removeprefix("/api/")


def query(about: dict[str, Any], ids: dict[str, int]) -> str:
    """The parameters that an endpoint insists on."""
    known = {"revision": ids["revision_id"], "joints": "0"}
    given = [
        f"{p['name']}={known.get(p['name'], 1)}"
        for p in about.get("parameters", [])
        if p["in"] == "query" and p.get("required")
    ]
    return f"?{'&'.join(given)}" if given else ""


def run(folder: Path) -> Table:
    with running(folder, "lean_access") as application:
        return on(application)


def on(application: Application) -> Table:
    table = Table("Access: every endpoint", ("who", "tried", "answers", "leaks"))
    workspace = make_people(application.environment, ["owner"], "Theirs")
    make_people(application.environment, ["stranger"], "Elsewhere")
    owner = Person(application.url, "owner").sign_in()
    stranger = Person(application.url, "stranger").sign_in()
    clip = owner.bring_in(workspace, "short.bvh", short_file(0, 30))
    line = {"operation": "unflip", "params": {}}
    recipe = owner.ask(
        "POST", f"workspaces/{workspace}/recipes", {"name": "r", "lines": [line]}
    ).json()
    batch = owner.ask(
        "POST", f"workspaces/{workspace}/batches", {"recipe": 0, "takes": [clip["take"]]}
    ).json()
    ids = {
        "workspace_id": workspace, "clip_id": clip["id"], "take_id": clip["take"],
        "revision_id": clip["head"]["id"], "recipe_id": recipe["id"], "batch_id": batch["id"],
        "job_id": batch["rows"][0]["job"], "delivery_id": 1, "handover_id": 1, "handed_id": 1,
        "preset_id": 1, "user_id": 1,
    }  # fmt: skip
    every = endpoints(owner)
    signed_out = Person(application.url, "nobody")
    signed_out.ask("GET", "session")
    wrong_token = Person(application.url, "owner").sign_in()
    wrong_token.token = "x" * 64

    def tried(who: str, person: Person, allowed: set[int], skip: Any) -> None:
        answers: Counter[int] = Counter()
        leaks = []
        for method, path, about in every:
            if skip(method, path):
                continue
            at = filled(path, ids) + query(about, ids)
            body = {} if method in ("POST", "PUT", "PATCH") else None
            if path.endswith("files"):
                got = person.upload(workspace, "a.bvh", b"x")
            else:
                got = person.ask(method, at, body)
            answers[got.status] += 1
            if got.status not in allowed:
                leaks.append(f"{method} {at}: {got.status}")
        said = ", ".join(f"{n} × {status}" for status, n in sorted(answers.items()))
        table.add(who, str(answers.total()), said, str(len(leaks)))
        for leak in leaks:
            print("    leak:", leak)

    def of_nobody(_method: str, path: str) -> bool:
        return path in OF_NOBODY

    # A stranger's request may be wrong as well (422), but never right.
    tried("a stranger", stranger, {404, 422}, of_nobody)
    tried("signed out", signed_out, {401}, lambda m, p: (m, p) in OPEN)
    tried(
        "a wrong token", wrong_token, {403},
        lambda m, p: m == "GET" or p == "/api/session",
    )  # fmt: skip
    known = {(m, p) for m, p, _ in every}
    wrong: Counter[int] = Counter()
    for path in sorted({p for _, p, _ in every}):
        for method in METHODS:
            if (method, path) not in known:
                body = {} if method in ("POST", "PUT", "PATCH") else None
                wrong[owner.ask(method, filled(path, ids), body).status] += 1
    said = ", ".join(f"{n} × {status}" for status, n in sorted(wrong.items()))
    table.add("a wrong method", str(wrong.total()), said, str(wrong.total() - wrong[405]))
    assert json.loads(owner.ask("GET", f"clips/{clip['id']}").body)["id"] == clip["id"]
    return table
