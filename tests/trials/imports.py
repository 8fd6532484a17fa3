"""Workspaces' files that somebody has made: bombs, lies and loops. Each is refused in one sentence,
in time and memory, or comes in whole: every page of it opens, and nothing else has changed.
"""

from __future__ import annotations

import hashlib
import json
import random
import resource
import time
import zipfile
import zlib
from collections import Counter
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

from tests.bench.tables import Table
from tests.e2e.application import Application
from tests.trials.hand import Hands
from tests.trials.people import make_people, short_file

SECONDS = 60.0
MOST_GROWTH = 400 * 2**20
"""What a hand may grow by: the rest of the work is done apart from it."""

Members = dict[str, bytes]
NASTY: list[Any] = [
    None, True, -1, 0, 1, 2**31, 2**63, 10**40, 1e308, "", "x" * 400, "\x00", [], {}, [[]], [1, 0],
    "0" * 64, {"figures": [[[1, 2, 3, 4]]]}, "../../etc/passwd",
]  # fmt: skip


def digest(data: bytes) -> str:
    return hashlib.sha256(data).hexdigest()


def read(path: Path) -> Members:
    with zipfile.ZipFile(path) as file:
        return {name: file.read(name) for name in file.namelist()}


def written(members: Members, path: Path) -> Path:
    # What is long here is nothing but zeros: no search for the best way to say so.
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as file:
        for name, data in members.items():
            file.writestr(name, data)
    return path


def mutated(members: Members, seed: int) -> Members:
    """One to three things in it are something else."""
    dice, out = random.Random(seed), dict(members)
    for _ in range(dice.randint(1, 3)):
        way = dice.randrange(10)
        if way < 7:
            said = json.loads(out["workspace.json"])
            _lie(said, dice)
            out["workspace.json"] = json.dumps(said).encode()
        elif way == 7:
            name = dice.choice(list(out))
            data = bytearray(out[name])
            if data:
                data[dice.randrange(len(data))] ^= 1 << dice.randrange(8)
            out[name] = bytes(data)
        elif way == 8:
            del out[dice.choice([n for n in out if n != "workspace.json"])]
        else:
            out[f"blobs/{digest(b'more')}"] = b"more"
    return out


def _lie(said: Any, dice: random.Random) -> None:
    at = said
    while True:
        key = dice.choice(list(at)) if isinstance(at, dict) else dice.randrange(len(at))
        inner = at[key]
        if not isinstance(inner, dict | list) or not inner or dice.random() < 0.1:
            at[key] = dice.choice(NASTY)
            return
        at = inner


def chosen(members: Members) -> Iterator[tuple[str, Members]]:
    """Those that somebody would think of."""

    def told(change: Callable[[dict[str, Any]], Any], **more: bytes) -> Members:
        said = json.loads(members["workspace.json"])
        change(said)
        return {**members, "workspace.json": json.dumps(said).encode(), **more}

    def many_of_one(said: dict[str, Any]) -> None:
        take = said["takes"][0]
        said["takes"] += [{**take, "id": 10_000 + k} for k in range(2_000)]

    zeros = b"\0" * 2**28
    yield "takes that name one member", told(many_of_one)
    yield "256 MB of nothing, referred to by nobody", {**members, f"blobs/{digest(zeros)}": zeros}
    yield "a take's file of 512 MB", _with_file(members, zeros * 2)
    line = zlib.compress(b'{"operation": "' + b"x" * 2**28 + b'"}', 1)
    yield (
        "a line that unpacks to 256 MB",
        told(
            lambda s: s["clips"][0]["revisions"][0].update(lines=[digest(line)]),
            **{f"blobs/{digest(line)}": line},
        ),
    )
    states = list(json.loads(members["workspace.json"])["states"])
    yield "documents in a circle", told(lambda s: _circle(s, states[:3]))
    yield "a document made of itself", told(lambda s: _circle(s, states[:1]))
    yield (
        "a revision that is its own parent",
        told(
            lambda s: s["clips"][0]["revisions"][0].update(
                parent=s["clips"][0]["revisions"][0]["id"]
            )
        ),
    )
    yield (
        "ten million lines",
        told(lambda s: s["clips"][0]["revisions"][0].update(lines=["0" * 64] * 10**6)),
    )
    deep = b'{"a":' * 100_000 + b"1" + b"}" * 100_000
    text = members["workspace.json"].replace(
        b'"report": {', b'"report": {"deep": ' + deep + b", ", 1
    )
    yield "nested 100,000 deep", {**members, "workspace.json": text}
    yield "no JSON", {**members, "workspace.json": b"\xff\xfe" * 1000}
    yield "a line without a name", _with_line(members, {"operation": "unflip", "version": 1,
                                                        "params": {}, "scope": {}})  # fmt: skip
    foreign = {"line_id": "x", "operation": "load_layer", "version": 1, "params": {}, "scope": {},
               "inputs": {"source": "a" * 64}}  # fmt: skip
    yield "a line that works with somebody else's document", _with_line(members, foreign)
    header = {"schema": "leancurve.stored", "schema_version": 2, "frames": 10**12, "tracks": []}
    yield "a document of a million million frames", _with_header(members, header)
    yield "a document that is no document", _with_header(members, {"frames": []})


def _circle(said: dict[str, Any], names: list[str]) -> None:
    line = next(s["line"] for s in said["states"].values() if s["line"])
    for k, name in enumerate(names):
        said["states"][name].update(
            pruned=True, before=names[k - 1], line=line, with_take=said["takes"][0]["state"], ms=0.0
        )


def _with_file(members: Members, data: bytes) -> Members:
    said = json.loads(members["workspace.json"])
    return {**members, said["takes"][0]["file"]: data}


def _with_line(members: Members, line: dict[str, Any]) -> Members:
    said = json.loads(members["workspace.json"])
    packed = zlib.compress(json.dumps(line).encode())
    said["clips"][0]["revisions"][-1]["lines"].append(digest(packed))
    return {
        **members,
        "workspace.json": json.dumps(said).encode(),
        f"blobs/{digest(packed)}": packed,
    }


def _with_header(members: Members, header: dict[str, Any]) -> Members:
    said = json.loads(members["workspace.json"])
    data = json.dumps(header).encode()
    take = said["takes"][0]
    state = said["states"][take["state"]]
    name = digest(digest(data).encode() + bytes.fromhex(state["manifest"]))
    said["states"][name] = {**state, "header": digest(data)}
    take["state"] = name
    return {**members, "workspace.json": json.dumps(said).encode(), f"blobs/{digest(data)}": data}


def run(folder: Path, count: int = 300) -> Table:
    application = Application(folder, "lean_imports")
    application.make()
    hand = None
    try:
        make_people(application.environment, ["hand"], "Imports")
        hand = Hands(application.environment)
        return on(hand, folder, count)
    finally:
        if hand is not None:
            hand.end()
        application.stop()


def on(hand: Hands, folder: Path, count: int) -> Table:
    table = Table(
        f"Workspaces' files: {count} with lies in them, and chosen ones",
        ("files", "refused", "came in", "pages asked for", "failed", "longest", "grown by"),
    )
    made = hand.ask("bring_in", name="take.bvh", data=short_file(0, 40).hex())
    clip = hand.ask("open", take=made["take"])
    for k in range(4):
        params = {"factor": 1.01 + 0.01 * k}
        clip = hand.ask("write", clip=clip["clip"], base=clip["head"], append="gain", params=params,
                        scope={"groups": ["left arm"]})  # fmt: skip
    hand.ask("deliver", clip=clip["clip"], base=clip["head"])
    whole = folder / "whole.zip"
    assert hand.ask("export", path=str(whole)) == {}
    members = read(whole)
    outcome = _tried(hand, "as it is", whole)
    assert outcome["kind"] == "came in", outcome
    kinds = {
        "with lies": ((f"seed {k}", mutated(members, k)) for k in range(count)),
        "chosen": chosen(members),
    }
    for name, files in kinds.items():
        outcomes: Counter[str] = Counter()
        longest, pages, before = 0.0, 0, _memory(hand)
        for what, held in files:
            done = _tried(hand, what, written(held, folder / "hostile.zip"))
            outcomes[done["kind"]] += 1
            longest, pages = max(longest, done["seconds"]), pages + done["asked"]
        grown = _memory(hand) - before
        failed = outcomes["failed"] + (grown > MOST_GROWTH)
        table.add(
            name, str(outcomes["refused"]), str(outcomes["came in"]), str(pages), str(failed),
            f"{longest:.1f} s", f"{grown / 2**20:.0f} MB",
        )  # fmt: skip
    told = hand.ask("tidy", prune=False, sweep=True)
    table.add("what was there, checked after all", "", "", "", str(len(told["troubles"])), "", "")
    return table


def _memory(hand: Hands) -> int:
    pages = int(Path(f"/proc/{hand.process.pid}/statm").read_text().split()[1])
    return pages * resource.getpagesize()


def _tried(hand: Hands, what: str, path: Path) -> dict[str, Any]:
    began = time.monotonic()
    told = hand.ask("import_file", path=str(path))
    seconds = time.monotonic() - began
    kind = "refused" if "refused" in told else "came in"
    if "failed" in told or told.get("wrong") or seconds > SECONDS:
        kind = "failed"
        print("    failed:", what, told, f"{seconds:.1f} s")
    return {"kind": kind, "seconds": seconds, "asked": told.get("asked", 0)}
