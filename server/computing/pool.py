"""Child processes shared among people: fair, bounded, the latest preview wins.

Each person's requests wait in a line of their own, and the lines take turns. One child takes quick
requests alone; the others take those first, then whole ones. A request whose asker has left, or
has asked anew, is taken out of its line, or told to stop where it is under way. Where too many
wait, the asker is told to come again: nothing piles up.
"""

import logging
import multiprocessing
import threading
import time
from collections import OrderedDict, deque
from collections.abc import Callable, Hashable
from dataclasses import dataclass, field
from typing import Any

from computing.child import READY, Answer, serve
from computing.lanes import Lane

log = logging.getLogger("lean.computing")

MOST_WAITING: dict[Lane, int] = {"quick": 24, "whole": 16}
MOST_OF_ONE: dict[Lane, int] = {"quick": 16, "whole": 10}
"""Of one person: whoever asks for more is told to come again, and others find room."""
LONGEST_WAIT_S = 45.0
"""Whose turn has not come by then is told to come again."""
LONGEST_S = 110.0
"""A request that takes longer is ended with its child."""
GRACE_S = 3.0
"""How long work that is told to stop has until its child is ended."""
PAUSE_S = 1.0
"""Before a child that did not begin is begun anew."""
MOST_NEWEST = 10_000
NOT_BEGUN = 3
"""Children that did not begin, one after another, until that is said to who looks after us."""

_processes = multiprocessing.get_context("forkserver")


class Busy(Exception):
    """Too many wait already."""


class Superseded(Exception):
    """A newer request took its place, or the asker has left."""


class Lost(Exception):
    """The child that worked on it has ended."""


class TooLong(Exception):
    """It took longer than a request may."""


@dataclass(eq=False)
class Ask:
    """A request on its way: whose, in which lane, and of what it is the newest."""

    person: Hashable
    lane: Lane
    environ: dict[str, Any]
    body: bytes
    newest: tuple[Hashable, int] | None = None
    number: int = 0
    dropped: bool = False
    done: threading.Event = field(default_factory=threading.Event)
    outcome: Answer | Exception | None = None

    def end(self, outcome: Answer | Exception) -> None:
        self.outcome = outcome
        self.done.set()


class Lines:
    """Who waits in one lane: a line a person, of which the first in each takes turns."""

    def __init__(self) -> None:
        self._lines: OrderedDict[Hashable, deque[Ask]] = OrderedDict()

    def __len__(self) -> int:
        return sum(len(line) for line in self._lines.values())

    def of(self, person: Hashable) -> int:
        return len(self._lines.get(person, ()))

    def add(self, ask: Ask) -> None:
        self._lines.setdefault(ask.person, deque()).append(ask)

    def remove(self, ask: Ask) -> bool:
        line = self._lines.get(ask.person, deque())
        if ask not in line:
            return False
        line.remove(ask)
        if not line:
            del self._lines[ask.person]
        return True

    def take(self) -> Ask | None:
        """The next in turn; its person then waits for all others."""
        if not self._lines:
            return None
        person, line = self._lines.popitem(last=False)
        ask = line.popleft()
        if line:
            self._lines[person] = line
        return ask

    def older(self, than: Ask) -> Ask | None:
        """The request that a newer one takes the place of."""
        assert than.newest is not None
        line = self._lines.get(than.person, ())
        return next((a for a in line if a.newest and a.newest[0] == than.newest[0]), None)


class Child:
    """A child process and the way to it."""

    def __init__(self, work: Callable[..., None]) -> None:
        self._stopped = _processes.RawValue("Q", 0)
        self._ours, theirs = _processes.Pipe()
        self._process = _processes.Process(target=work, args=(theirs, self._stopped), daemon=True)
        self._process.start()
        theirs.close()

    def is_ready(self) -> bool:
        """Waits until the child says so; False where it ends before, or takes too long."""
        try:
            return self._ours.poll(LONGEST_S) and self._ours.recv() == READY
        except (EOFError, OSError):
            return False

    def do(self, ask: Ask) -> Answer:
        """The child's answer; :class:`Lost` or :class:`TooLong` where it gives none."""
        until = time.monotonic() + LONGEST_S
        try:
            self._ours.send((ask.number, ask.environ, ask.body))
            while time.monotonic() < until:
                if self._ours.poll(0.1):
                    answer: Answer = self._ours.recv()
                    return answer
                if ask.dropped and self._stopped.value != ask.number:
                    self._stopped.value = ask.number
                    until = min(until, time.monotonic() + GRACE_S)
        except (EOFError, OSError):
            log.warning("a computing process ended", extra={"path": ask.environ.get("PATH_INFO")})
            raise Lost from None
        log.warning("a request took too long", extra={"path": ask.environ.get("PATH_INFO")})
        raise TooLong

    def end(self) -> None:
        self._process.kill()
        self._process.join()
        self._ours.close()


class Pool:
    """``quick`` children for quick requests alone, and ``whole`` ones for all of them."""

    def __init__(self, quick: int, whole: int, work: Callable[..., None] = serve) -> None:
        self._changed = threading.Condition()
        self._lines: dict[Lane, Lines] = {"quick": Lines(), "whole": Lines()}
        self._newest: dict[Hashable, int] = {}
        self._running: set[Ask] = set()
        self._count = 0
        self._closed = False
        self.ready = False
        """Whether a child can take something: they need a moment to begin."""
        self._not_begun = 0
        lanes: list[tuple[Lane, ...]] = [("quick",)] * quick + [("quick", "whole")] * whole
        self._threads = [
            threading.Thread(target=self._keep_busy, args=(takes, work), daemon=True)
            for takes in lanes
        ]
        for thread in self._threads:
            thread.start()

    def answer(self, ask: Ask, gone: Callable[[], bool] = lambda: False) -> Answer:
        """Wait for an answer; ``gone`` says whether the asker has left."""
        with self._changed:
            self._place(ask)
        until = time.monotonic() + LONGEST_WAIT_S
        while not ask.done.wait(0.25):
            if gone():
                self._drop(ask)
            elif time.monotonic() > until:
                self._give_up(ask)
        if isinstance(ask.outcome, Exception):
            raise ask.outcome
        assert ask.outcome is not None
        return ask.outcome

    def close(self) -> None:
        with self._changed:
            self._closed = True
            self._changed.notify_all()
        for thread in self._threads:
            thread.join()

    def _place(self, ask: Ask) -> None:
        lines = self._lines[ask.lane]
        if ask.newest is not None:
            of, sequence = (ask.person, ask.newest[0]), ask.newest[1]
            if self._newest.get(of, sequence) > sequence:
                raise Superseded
            if len(self._newest) > MOST_NEWEST:
                self._newest.clear()
            self._newest[of] = sequence
            older = lines.older(ask)
            if older is not None:
                lines.remove(older)
                older.end(Superseded())
            for running in self._running:
                same = running.newest and running.newest[0] == ask.newest[0]
                if same and running.person == ask.person:
                    running.dropped = True
        if len(lines) >= MOST_WAITING[ask.lane] or lines.of(ask.person) >= MOST_OF_ONE[ask.lane]:
            raise Busy
        self._count += 1
        ask.number = self._count
        lines.add(ask)
        self._changed.notify_all()

    def _drop(self, ask: Ask) -> None:
        with self._changed:
            ask.dropped = True
            if self._lines[ask.lane].remove(ask):
                ask.end(Superseded())

    def _give_up(self, ask: Ask) -> None:
        """Nobody waits for a turn for ever: what is under way has a bound of its own."""
        with self._changed:
            if self._lines[ask.lane].remove(ask):
                ask.end(Busy())

    @property
    def begins(self) -> bool:
        """Whether children begin: False once several in a row did not."""
        return self._not_begun < NOT_BEGUN

    def _next(self, lanes: tuple[Lane, ...]) -> Ask | None:
        """What a child is to do next, waited for; None once the pool is closed."""
        with self._changed:
            while not self._closed:
                for lane in lanes:
                    ask = self._lines[lane].take()
                    if ask is not None:
                        self._running.add(ask)
                        return ask
                self._changed.wait()
        return None

    def _keep_busy(self, lanes: tuple[Lane, ...], work: Callable[..., None]) -> None:
        child = self._begun(work)
        while child is not None and (ask := self._next(lanes)) is not None:
            try:
                outcome: Answer | Exception = child.do(ask)
            except Exception as trouble:
                outcome = trouble
            with self._changed:
                self._running.discard(ask)
            ask.end(Superseded() if ask.dropped and isinstance(outcome, TooLong) else outcome)
            if isinstance(outcome, Exception):
                child.end()
                child = self._begun(work)
        if child is not None:
            child.end()

    def _begun(self, work: Callable[..., None]) -> Child | None:
        """A child that can take something; None once the pool is closed."""
        while True:
            child = self._tried(work)
            if child is not None or self._closed:
                break
            self._not_begun += 1
            log.error("a computing process did not begin", extra={"in_a_row": self._not_begun})
            time.sleep(PAUSE_S)
        if child is not None:
            self._not_begun = 0
            self.ready = True
        return child

    @staticmethod
    def _tried(work: Callable[..., None]) -> Child | None:
        """A child, if it begins: a machine may have no room for another process just now."""
        try:
            child = Child(work)
        except Exception:
            log.exception("a computing process could not be started")
            return None
        if child.is_ready():
            return child
        child.end()
        return None
