"""Every field that names something, in every request of the API, with what another workspace has:
the answer is the one for what nobody has.

Requests are made from the API's own description, so that a new field is tried as soon as it is
there: each is filled with what the asker may reach, then one field after another with somebody
else's value, and with one that nobody has.
"""

from __future__ import annotations

import json
import re
import time
import uuid
from collections import Counter
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from tests.bench.tables import Table
from tests.e2e.application import Application
from tests.trials.access import endpoints
from tests.trials.people import Person, make_people, running, short_file

NOBODYS = 999_999_937
NO_STATE = "0" * 64
NAMES = {
    "workspace_id": "workspace", "clip_id": "clip", "take_id": "take", "recipe_id": "recipe",
    "batch_id": "batch", "job_id": "job", "delivery_id": "delivery", "stored_id": "stored",
    "handover_id": "handover", "handed_id": "handed", "preset_id": "preset", "presets": "preset",
    "revision": "revision", "since": "revision", "to": "revision", "baseline": "revision",
    "take": "take", "takes": "take", "swap": "take", "target": "take", "targets": "take",
    "recipe": "recipe", "workspace": "workspace", "inputs": "state", "after": "request",
}  # fmt: skip
"""What the fields of requests name."""
OF_WHO_RUNS_IT = ("/api/studio",)
ENDS_IT = {("DELETE", "/api/session"), ("POST", "/api/password"), ("POST", "/api/session")}


def run(folder: Path) -> Table:
    with running(folder, "lean_strangers") as application:
        return on(application)


def everything(person: Person, workspace: int, name: str) -> dict[str, Any]:
    """One of each kind of thing, of a workspace."""
    clip = person.bring_in(workspace, f"{name}.bvh", short_file(0, 30))
    clip = person.write(clip, append={"operation": "gain", "params": {"factor": 1.01}}).json()
    head = clip["head"]
    line = {"operation": "unflip", "params": {}}
    recipe = person.ask(
        "POST", f"workspaces/{workspace}/recipes", {"name": name, "lines": [line]}
    ).json()
    batch = person.ask(
        "POST", f"workspaces/{workspace}/batches", {"recipe": 0, "takes": [clip["take"]]}
    ).json()
    stored = person.ask(
        "POST", f"clips/{clip['id']}/stored",
        {"revision": head["id"], "name": name, "first": 0, "last": 5},
    ).json()  # fmt: skip
    deliver = {
        "revision": head["id"], "rate": [60, 1], "first": 0, "last": 9, "character": "a",
        "action": name,
    }  # fmt: skip
    job = person.ask("POST", f"clips/{clip['id']}/deliveries", deliver).json()
    made = person.until_done(job["id"])
    for row in batch["rows"]:
        person.until_done(row["job"])
    at = f"workspaces/{workspace}"
    preset = person.ask("PUT", f"{at}/presets/{name}", {"values": {"format": "bvh"}}).json()
    asked = {"takes": [clip["take"]], "presets": [preset["id"]]}
    handover = person.ask("POST", f"{at}/handovers", asked).json()
    while person.ask("GET", f"{at}/handovers").json()[0]["open"]:
        time.sleep(0.2)
    return {
        "workspace": workspace, "clip": clip["id"], "take": clip["take"], "recipe": recipe["id"],
        "batch": batch["id"], "job": job["id"], "delivery": made["result"]["delivery"],
        "preset": preset["id"], "handover": handover["id"], "handed": handover["clips"][0]["id"],
        "stored": stored["id"], "revision": head["id"], "state": stored["state"],
        "request": str(uuid.uuid4()), "line": head["recipe"][0]["line_id"],
    }  # fmt: skip


class Requests:
    """Requests as the API describes them, each field filled with what the asker has."""

    def __init__(self, described: dict[str, Any], own: dict[str, Any]) -> None:
        self.schemas = described["components"]["schemas"]
        self.own = own

    def value(self, name: str, schema: dict[str, Any], depth: int = 0) -> Any:
        if "$ref" in schema:
            return self.body(self.schemas[schema["$ref"].rsplit("/", 1)[1]], depth + 1)
        if name in NAMES and name != "after":
            own = self.own[NAMES[name]]
            if name == "inputs":
                return {"source": own}
            return [own] if schema.get("type") == "array" else own
        if "anyOf" in schema:
            plain = [s for s in schema["anyOf"] if s.get("type") != "null"]
            return self.value(name, plain[0], depth)
        if "enum" in schema:
            return schema["enum"][0]
        known: dict[str, Any] = {
            "operation": "load_layer", "request_id": str(uuid.uuid4()), "line_id": self.own["line"],
            "rate": [60, 1], "first": 0, "last": 9, "frames": [1], "view": "page", "page": "page",
        }  # fmt: skip
        if name in known:
            return known[name]
        kind = schema.get("type")
        if kind == "array":
            least = max(schema.get("minItems", 0), 0)
            return [self.value("", schema.get("items", {}), depth + 1) for _ in range(least)]
        if kind == "object":
            return {}
        plain_values: dict[Any, Any] = {"integer": 1, "number": 50.0, "boolean": False}
        return plain_values.get(kind, "x")

    def body(self, schema: dict[str, Any], depth: int = 0) -> dict[str, Any]:
        required = set(schema.get("required", ()))
        return {
            name: self.value(name, about, depth)
            for name, about in schema.get("properties", {}).items()
            if (name in required or name in NAMES) and depth < 4
        }

    def bodies(self, about: dict[str, Any]) -> list[dict[str, Any]]:
        """What a request may hold: where it is one of several things, each of them."""
        content = about.get("requestBody", {}).get("content", {})
        given = content.get("application/json", {}).get("schema")
        if given is None:
            return []
        schema = self.schemas[given["$ref"].rsplit("/", 1)[1]]
        whole = self.body(schema)
        if schema.get("title") == "WriteIn":
            line = {
                "operation": "load_layer",
                "params": {},
                "inputs": {"source": self.own["state"]},
            }
            edit = {**line, "line_id": self.own["line"]}
            changes = [
                {"append": line}, {"edit": edit}, {"swap": self.own["take"]},
                {"recipe": self.own["recipe"]},
            ]  # fmt: skip
            base = {k: whole[k] for k in ("revision", "request_id")}
            return [{**base, **change} for change in changes]
        return [whole]


def places(value: Any, way: tuple[Any, ...] = ()) -> Iterator[tuple[tuple[Any, ...], str]]:
    """Where in a body something is named, and what kind of thing."""
    if isinstance(value, dict):
        for name, inner in value.items():
            if name in NAMES and not isinstance(inner, dict | list):
                yield (*way, name), NAMES[name]
            elif name == "inputs" and isinstance(inner, dict):
                yield from (((*way, name, key), "state") for key in inner)
            elif name in NAMES and isinstance(inner, list) and inner:
                yield (*way, name, 0), NAMES[name]
            else:
                yield from places(inner, (*way, name))
    elif isinstance(value, list):
        for k, inner in enumerate(value):
            yield from places(inner, (*way, k))


def put(value: Any, way: tuple[Any, ...], new: Any) -> Any:
    """A copy with something else in one place."""
    copy = json.loads(json.dumps(value))
    at = copy
    for name in way[:-1]:
        at = at[name]
    at[way[-1]] = new
    return copy


def on(application: Application) -> Table:
    table = Table("Strangers: what names something of another workspace", ("what", "count", "goal"))
    crew = {}
    for name in ("asker", "owner"):
        workspace = make_people(application.environment, [name], f"Of the {name}")
        person = Person(application.url, name).sign_in()
        crew[name] = (person, everything(person, workspace, name))
    asker, own = crew["asker"]
    owner, theirs = crew["owner"]
    heads = owner.ask("GET", f"clips/{theirs['clip']}/history").body
    described = asker.ask("GET", "openapi.json").json()
    requests = Requests(described, own)
    count: Counter[str] = Counter()
    told: list[str] = []
    for method, path, about in endpoints(asker):
        if path.startswith(OF_WHO_RUNS_IT) or (method, path) in ENDS_IT or path.endswith("/files"):
            continue
        parameters = [p for p in about.get("parameters", []) if p["name"] in NAMES]
        named = {p["name"]: own[NAMES[p["name"]]] for p in parameters}
        others = {
            p["name"]: "1" for p in about.get("parameters", [])
            if p["name"] not in NAMES and (p["in"] == "path" or p.get("required"))
        }  # fmt: skip
        query = [p["name"] for p in about.get("parameters", []) if p["in"] == "query"]
        bodies: list[Any] = requests.bodies(about) or [None if method == "GET" else {}]
        count["endpoints"] += 1
        for body in bodies:
            for name in named:
                kind = NAMES[name]
                asked = [
                    ask(asker, method, path, {**others, **named, name: value}, query, body)
                    for value in (theirs[kind], _nobodys(kind))
                ]
                compare(
                    f"{method} {path} {name}", asked, (theirs[kind], _nobodys(kind)), count, told
                )
            for way, kind in places(body):
                values = (theirs[kind], _nobodys(kind))
                asked = [
                    ask(asker, method, path, {**others, **named}, query, put(body, way, v))
                    for v in values
                ]
                compare(f"{method} {path} {way}", asked, values, count, told)
    table.add("endpoints", str(count["endpoints"]), "")
    table.add("fields that name something", str(count["fields"]), "")
    for status, n in sorted((k, n) for k, n in count.items() if k.isdigit()):
        table.add(f"answered with {status}", str(n), "")
    table.add("answers that differ, or reach it", str(len(told)), "0")
    for what in told[:10]:
        print("    differs:", what)
    left = owner.ask("GET", f"clips/{theirs['clip']}/history").body
    table.add("theirs as it was", str(left == heads), "True")
    return table


def _nobodys(kind: str) -> Any:
    return {"state": NO_STATE, "request": str(uuid.UUID(int=7))}.get(kind, NOBODYS)


def ask(
    person: Person, method: str, path: str, values: dict[str, Any], query: list[str], body: Any
) -> tuple[int, str]:
    at = re.sub(r"{(\w+)}", lambda m: str(values.get(m[1], 1)), path).removeprefix("/api/")
    given = [f"{n}={values[n]}" for n in query if n in values]
    if isinstance(body, dict) and "name" in body:
        body = {**body, "name": uuid.uuid4().hex}
    got = person.ask(method, f"{at}?{'&'.join(given)}" if given else at, body)
    return got.status, got.body.decode("utf-8", "replace")


def _plain(text: str, value: Any) -> str:
    """An answer without what it was asked with, and without what is new each time."""
    return re.sub(r'"id": \d+|[0-9a-f]{32}|"created": "[^"]*"', "", text.replace(str(value), "·"))


def compare(
    what: str, asked: list[tuple[int, str]], values: tuple[Any, Any], count: Counter[str],
    told: list[str],
) -> None:  # fmt: skip
    """The two answers say the same, but for the value that they were asked with."""
    (one, text), (other, nobodys) = asked
    count["fields"] += 1
    count[str(one)] += 1
    same = _plain(text, values[0]) == _plain(nobodys, values[1])
    if one != other or not same or one >= 500:
        told.append(
            f"{what}: {one} {text[:90]!r} for theirs, {other} {nobodys[:90]!r} for nobody's"
        )
