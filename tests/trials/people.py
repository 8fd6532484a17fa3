"""People at work, as the server sees them: sessions over HTTP, with what they wait for measured."""

from __future__ import annotations

import http.client
import json
import random
import time
import uuid
from collections import Counter, defaultdict
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from http.cookies import SimpleCookie
from pathlib import Path
from threading import Lock
from typing import Any
from urllib.parse import urlsplit

from leancurve.demo import TAKES, captured
from leancurve.formats.bvh import write_bvh
from leancurve.time.resample import resampled
from safetensors.numpy import load

from tests.e2e.application import Application

PASSWORD = "a-long-password"


@dataclass(frozen=True)
class Answer:
    status: int
    body: bytes
    headers: dict[str, str]

    def json(self) -> Any:
        return json.loads(self.body)

    def arrays(self) -> dict[str, Any]:
        return dict(load(self.body))


@dataclass
class Waits:
    """How long what was waited for, seconds by kind; and what was answered, by status."""

    seconds: dict[str, list[float]] = field(default_factory=lambda: defaultdict(list))
    statuses: dict[tuple[str, int], int] = field(default_factory=lambda: defaultdict(int))
    busy: int = 0
    _lock: Lock = field(default_factory=Lock)

    def note(self, kind: str, seconds: float, status: int) -> None:
        with self._lock:
            self.seconds[kind].append(seconds)
            self.statuses[kind, status] += 1

    def told_busy(self) -> None:
        with self._lock:
            self.busy += 1

    def at(self, kind: str, share: float) -> float:
        """The time below which that share of all waits lies."""
        known = sorted(self.seconds[kind])
        return known[min(int(share * len(known)), len(known) - 1)] if known else 0.0


class Person:
    """Somebody who is signed in. Requests are answered one after another; one that is refused
    because the server is busy, or that nobody answers, is sent again as the browser does."""

    def __init__(self, url: str, name: str, waits: Waits | None = None) -> None:
        self.url = urlsplit(url)
        self.name = name
        self.waits = waits or Waits()
        self.cookies: dict[str, str] = {}
        self.token: str | None = None
        """Another token than the cookie's, where one is to be tried."""
        self.connection: http.client.HTTPConnection | None = None

    def sign_in(self, password: str = PASSWORD) -> Person:
        self.ask("GET", "session")
        given = self.ask("POST", "session", {"username": self.name, "password": password})
        assert given.status == 200, given.body
        return self

    def once(self, method: str, path: str, body: bytes | None, kind: str) -> Answer:
        """One request; OSError where nobody answers."""
        if self.connection is None:
            assert self.url.hostname
            self.connection = http.client.HTTPConnection(
                self.url.hostname, self.url.port, timeout=150
            )
        headers = {"Cookie": "; ".join(f"{k}={v}" for k, v in self.cookies.items())}
        if body is not None:
            headers["Content-Type"] = kind
        if "csrftoken" in self.cookies:
            headers["X-CSRFToken"] = self.token or self.cookies["csrftoken"]
        try:
            self.connection.request(method, f"/api/{path}", body, headers)
            response = self.connection.getresponse()
            data = response.read()
        except (OSError, http.client.HTTPException) as trouble:
            self.leave()
            raise OSError(str(trouble)) from None
        for value in response.headers.get_all("Set-Cookie") or []:
            for name, morsel in SimpleCookie(value).items():
                self.cookies[name] = morsel.value
        return Answer(response.status, data, dict(response.headers))

    def ask(
        self, method: str, path: str, body: Any = None, kind: str = "", tries: int = 200,
        content: str = "application/json",
    ) -> Answer:  # fmt: skip
        """An answer, asked for until there is one; ``kind`` says under what name it is measured."""
        data = body if isinstance(body, bytes) or body is None else json.dumps(body).encode()
        began = time.perf_counter()
        for _ in range(tries):
            try:
                got = self.once(method, path, data, content)
            except OSError:
                time.sleep(0.2)
                continue
            if got.status not in (502, 503, 504):
                if kind:
                    self.waits.note(kind, time.perf_counter() - began, got.status)
                return got
            self.waits.told_busy()
            time.sleep(float(got.headers.get("Retry-After", "0.5")))
        raise TimeoutError(f"{method} {path} was not answered")

    def write(self, clip: dict[str, Any], kind: str = "", **change: Any) -> Answer:
        body = {"revision": clip["head"]["id"], "request_id": str(uuid.uuid4()), **change}
        return self.ask("POST", f"clips/{clip['id']}/writes", body, kind)

    def upload(self, workspace: int, name: str, data: bytes) -> Answer:
        edge = uuid.uuid4().hex
        head = (
            f'--{edge}\r\nContent-Disposition: form-data; name="files"; filename="{name}"\r\n'
            "Content-Type: application/octet-stream\r\n\r\n"
        )
        body = head.encode() + data + f"\r\n--{edge}--\r\n".encode()
        content = f"multipart/form-data; boundary={edge}"
        return self.ask("POST", f"workspaces/{workspace}/files", body, content=content)

    def bring_in(self, workspace: int, name: str, data: bytes) -> dict[str, Any]:
        """Upload a file and wait for its take's clip."""
        (job,) = self.upload(workspace, name, data).json()["jobs"]
        done = self.until_done(job["id"])
        assert done["state"] == "done", done
        opened: dict[str, Any] = self.ask("POST", f"takes/{done['result']['take']}/clip", {}).json()
        return opened

    def bring_in_thinned(self, workspace: int, file: bytes) -> dict[str, Any]:
        """A clip of one's own, with keys that can be edited."""
        clip = self.bring_in(workspace, f"{self.name}.bvh", file)
        thinned: dict[str, Any] = self.write(clip, append=THIN).json()
        return thinned

    def edit_until(
        self, ended: Callable[[], bool], clip: dict[str, Any], count: Counter[str],
        pause: Callable[[random.Random], float],
    ) -> None:  # fmt: skip
        """Edits of a clip of one's own, each acknowledged before the next, and counted."""
        dice = random.Random(self.name)
        keys = self.keys_of(clip)
        while not ended():
            began = time.monotonic()
            done = self.write(clip, append=any_edit(keys, dice))
            if done.status == 200:
                clip = done.json()
                count[self.name] += 1
            else:
                count["refused"] += 1
                print("    refused:", done.status, done.body[:200])
            time.sleep(max(0.0, pause(dice) - (time.monotonic() - began)))

    def steps_of(self, clip: dict[str, Any]) -> int:
        return len(self.ask("GET", f"clips/{clip['id']}/history").json())

    def until_done(self, job: int, seconds: float = 300) -> dict[str, Any]:
        until = time.monotonic() + seconds
        while time.monotonic() < until:
            state: dict[str, Any] = self.ask("GET", f"jobs/{job}").json()
            if state["state"] not in ("queued", "running"):
                return state
            time.sleep(0.2)
        raise TimeoutError(f"job {job} is not done")

    def keys_of(self, clip: dict[str, Any]) -> list[dict[str, Any]]:
        """Every key of the clip's head, as an edit says which one it means."""
        got = self.ask("GET", f"clips/{clip['id']}/keys?revision={clip['head']['id']}").arrays()
        names = [j["name"] for j in clip["joints"]]
        out = []
        for name in got:
            if name.endswith("/id"):
                _, joint, channel = (track := name[:-3]).split("/")
                for k, frame in zip(got[name], got[f"{track}/time"], strict=True):
                    out.append({"joint": names[int(joint)], "channel": channel, "id": int(k),
                                "frame": float(frame)})  # fmt: skip
        return out

    def leave(self) -> None:
        if self.connection is not None:
            self.connection.close()
            self.connection = None


THIN = {"operation": "thin", "params": {"tolerance_deg": 1.0}}


def any_edit(keys: Sequence[dict[str, Any]], dice: random.Random) -> dict[str, Any]:
    """A line that gives one of the keys another value."""
    key = {**dice.choice(keys), "value": dice.uniform(-20, 20)}
    return {"operation": "edit", "params": {"keys": [key]}}


def lost_and_twice(
    watcher: Person, crew: Sequence[Person], clips: Sequence[dict[str, Any]], count: Counter[str],
    more: Mapping[int, int] = {},
) -> tuple[int, int]:  # fmt: skip
    """Of the edits acknowledged since the clips were at hand, how many are not in their histories,
    and how many are there twice; ``more`` are other steps, by take."""
    lost = twice = 0
    for person, clip in zip(crew, clips, strict=True):
        known = clip["head"]["number"] + count[person.name] + more.get(clip["take"], 0)
        extra = watcher.steps_of(clip) - known
        lost, twice = lost + max(-extra, 0), twice + max(extra, 0)
    return lost, twice


def short_file(first: int, last: int) -> bytes:
    """Some frames of the demo's shortest take as BVH."""
    return write_bvh(resampled(captured(TAKES[2]).clip, first=first, last=last))


def make_people(environment: dict[str, str], names: list[str], workspace: str) -> int:
    """People who can sign in, in a workspace of that name; its id."""
    import subprocess
    import sys

    from tests.conftest import PROJECT

    code = (
        "from django.contrib.auth.models import User\n"
        "from library.models import Workspace\n"
        f"w, _ = Workspace.objects.get_or_create(name={workspace!r})\n"
        f"for n in {names!r}:\n"
        "    u, made = User.objects.get_or_create(username=n)\n"
        f"    u.set_password({PASSWORD!r}); u.save(); w.members.add(u)\n"
        "print(w.pk)"
    )
    out = subprocess.run(
        [sys.executable, PROJECT / "server/manage.py", "shell", "-v", "0", "-c", code],
        env=environment, check=True, capture_output=True, text=True,
    )  # fmt: skip
    return int(out.stdout.strip().splitlines()[-1])


@contextmanager
def running(folder: Path, database: str) -> Iterator[Application]:
    """An application of its own, while a trial lasts."""
    application = Application(folder, database)
    try:
        yield application.start()
    finally:
        application.stop()
