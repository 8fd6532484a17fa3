"""Heavy answers apart: fair, bounded, the latest wins, and nobody works for who has left."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from multiprocessing.connection import Connection
from typing import Any

import pytest
from computing import pool as pools
from computing.child import READY, Answer
from computing.lanes import lane_of, may_be_left, newest_of
from computing.pool import Ask, Busy, Lost, Pool, Superseded, TooLong
from django.test import RequestFactory

from tests.pace import patient


def obeys(connection: Connection, stopped: Any) -> None:
    """A child that does what a request's body says: answer, take a while, stop, end, hang."""
    import os
    import signal

    connection.send(READY)
    while True:
        try:
            number, _, body = connection.recv()
        except (EOFError, KeyboardInterrupt):
            return
        word, _, argument = body.decode().partition(" ")
        if word == "die":
            os.kill(os.getpid(), signal.SIGKILL)
        until = time.monotonic() + (float(argument) if argument else 0.0)
        stops = False
        while time.monotonic() < until and not stops:
            time.sleep(0.01)
            stops = word != "hang" and stopped.value == number
        connection.send(Answer(410 if stops else 200, [], word.encode()))


@contextmanager
def pool_of(quick: int = 0, whole: int = 1) -> Iterator[Pool]:
    made = Pool(quick, whole, obeys)
    try:
        yield made
    finally:
        made.close()


def ask(person: int, body: str = "go", lane: Any = "whole", newest: Any = None) -> Ask:
    return Ask(person, lane, {}, body.encode(), newest)


class Asked:
    """Requests on their way, each in a thread as the web server has them."""

    def __init__(self, pool: Pool) -> None:
        self.pool = pool
        self.order: list[Any] = []
        self.threads: list[threading.Thread] = []

    def put(self, name: Any, what: Ask, gone: Callable[[], bool] = lambda: False) -> None:
        def run() -> None:
            try:
                outcome: Any = self.pool.answer(what, gone).status
            except Exception as trouble:
                outcome = type(trouble)
            self.order.append((name, outcome))

        thread = threading.Thread(target=run)
        thread.start()
        self.threads.append(thread)
        # In the order they are put: each is placed, or under way, before the next.
        until = time.monotonic() + patient(5)
        while time.monotonic() < until and not what.number and thread.is_alive():
            time.sleep(0.002)

    def all(self) -> list[Any]:
        for thread in self.threads:
            thread.join(patient(30))
        return self.order


def busy_with(pool: Pool, asked: Asked, seconds: float = 0.6, person: int = 99) -> None:
    """The only child is at work: what comes now waits."""
    asked.put("first", ask(person, f"work {seconds}"))
    until = time.monotonic() + patient(5)
    while time.monotonic() < until and not pool._running:
        time.sleep(0.002)


def test_people_take_turns_however_many_one_of_them_asks() -> None:
    with pool_of() as pool:
        asked = Asked(pool)
        busy_with(pool, asked, 3.0)
        for k in range(4):
            # Long enough that whoever is answered first says so first.
            asked.put(("one", k), ask(1, "work 0.05"))
        asked.put(("two", 0), ask(2, "work 0.05"))
        asked.put(("three", 0), ask(3, "work 0.05"))
        names = [name for name, status in asked.all() if status == 200]
    assert names.index(("two", 0)) <= 2
    assert names.index(("three", 0)) <= 3
    assert len(names) == 7


def test_whole_requests_leave_a_child_to_quick_ones() -> None:
    with pool_of(quick=1, whole=1) as pool:
        asked = Asked(pool)
        busy_with(pool, asked, 1.5)
        asked.put("whole", ask(1, "work 0.1"))
        asked.put("quick", ask(2, "go", "quick"))
        names = [name for name, _ in asked.all()]
    assert names == ["quick", "first", "whole"]


def test_too_many_are_told_to_come_again(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(pools, "MOST_WAITING", {"quick": 2, "whole": 2})
    with pool_of() as pool:
        asked = Asked(pool)
        busy_with(pool, asked)
        for k in range(4):
            asked.put(k, ask(k))
        outcomes = dict(asked.all())
    assert [outcomes[k] for k in range(4)] == [200, 200, Busy, Busy]


def test_the_latest_preview_wins_waiting_or_under_way() -> None:
    with pool_of() as pool:
        asked = Asked(pool)
        asked.put("under way", ask(1, "work 5", newest=("a", 1)))
        while not pool._running:
            time.sleep(0.002)
        asked.put("waiting", ask(1, "work 5", newest=("a", 2)))
        asked.put("another's", ask(2, "go", newest=("a", 1)))
        asked.put("another clip", ask(1, "go", newest=("b", 1)))
        asked.put("newest", ask(1, "go", newest=("a", 9)))
        # Overtaken on its way: it came later but was asked for before.
        asked.put("late", ask(1, "go", newest=("a", 8)))
        outcomes = dict(asked.all())
    assert outcomes == {
        "under way": 410, "waiting": Superseded, "another's": 200, "another clip": 200,
        "newest": 200, "late": Superseded,
    }  # fmt: skip


def test_work_ends_once_its_asker_has_left() -> None:
    left = threading.Event()
    with pool_of() as pool:
        asked = Asked(pool)
        began = time.monotonic()
        asked.put("under way", ask(1, "work 20"), left.is_set)
        while not pool._running:
            time.sleep(0.002)
        asked.put("waiting", ask(2, "work 20"), left.is_set)
        left.set()
        outcomes = dict(asked.all())
        assert time.monotonic() - began < patient(15)
    # The one that waited may have been begun in the moment before it was seen that nobody waits.
    assert outcomes["under way"] == 410
    assert outcomes["waiting"] in (410, Superseded)


def test_a_child_that_ends_or_hangs_is_replaced(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(pools, "GRACE_S", 0.2)
    with pool_of() as pool:
        assert pool.answer(ask(1)).status == 200
        assert pool.ready
        monkeypatch.setattr(pools, "LONGEST_S", 4.0)
        with pytest.raises(Lost):
            pool.answer(ask(1, "die"))
        assert pool.answer(ask(1)).status == 200
        with pytest.raises(TooLong):
            pool.answer(ask(1, "hang 30"))
        with pytest.raises(Superseded):
            pool.answer(ask(1, "hang 30"), lambda: True)
        assert pool.answer(ask(1)).status == 200


@pytest.mark.parametrize(
    ("method", "path", "lane"),
    [
        ("GET", "/api/session", None),
        ("GET", "/api/workspaces/1/takes", None),
        ("GET", "/api/clips/5/history", None),
        ("POST", "/api/clips/5/writes", "quick"),
        ("GET", "/api/clips/5", "quick"),
        ("POST", "/api/clips/5/preview", "quick"),
        ("POST", "/api/clips/5/preview/whole", "whole"),
        ("GET", "/api/clips/5/findings", "whole"),
        ("GET", "/api/deliveries/5/file", None),
    ],
)
def test_what_is_heavy(method: str, path: str, lane: str | None) -> None:
    assert lane_of(RequestFactory().generic(method, path)) == lane


def test_a_change_goes_on_when_whoever_made_it_has_left() -> None:
    make = RequestFactory()
    assert may_be_left(make.get("/api/clips/5/findings"))
    assert may_be_left(make.post("/api/clips/5/preview/whole"))
    assert not may_be_left(make.post("/api/clips/5/writes"))


def test_previews_are_told_apart_by_page_clip_and_kind() -> None:
    def newest(path: str, body: str) -> Any:
        return newest_of(RequestFactory().post(path, body, content_type="application/json"))

    body = '{"view": "page", "sequence": 7}'
    assert newest("/api/clips/5/preview", body) == (("/api/clips/5/preview", "page"), 7)
    assert newest("/api/clips/5/preview/whole", body)[0] != newest("/api/clips/5/preview", body)[0]
    assert newest("/api/clips/5/preview", "[") is None
    assert newest("/api/clips/5/writes", body) is None
