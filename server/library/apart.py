"""Work on a stranger's bytes, done in a child process with limits on memory and time."""

import multiprocessing
import resource
import time
from collections.abc import Callable
from multiprocessing.connection import Connection
from typing import Any, TypeVar

from django.conf import settings
from leancurve.errors import BadInput
from leancurve.progress import Progress

T = TypeVar("T")

# Children are forked from a small server process that has the readers loaded: a start costs
# milliseconds, and no thread or connection of the worker is inherited.
_processes = multiprocessing.get_context("forkserver")
_processes.set_forkserver_preload(["library.parsing"])


def apart(
    work: Callable[..., T],
    arguments: tuple[Any, ...],
    file: str,
    check: Progress,
    seconds: int | None = None,
) -> T:
    """What ``work(*arguments, progress)`` returns, computed in a child process.

    ``check`` is called with the share done while it works, and may raise. :class:`BadInput` names
    the ``file`` where it is to blame, also for needing more time or memory than a file may.
    """
    ours, theirs = _processes.Pipe(duplex=False)
    longest = settings.INTAKE_SECONDS if seconds is None else seconds
    limits = (settings.INTAKE_MEMORY_BYTES, longest)
    child = _processes.Process(
        target=_limited, args=(work, arguments, *limits, theirs), daemon=True
    )
    child.start()
    theirs.close()
    try:
        kind, answer = _awaited(ours, time.monotonic() + longest, check)
    except EOFError:
        raise BadInput(
            "reading it failed: it needs more time or memory than a file may use", file=file
        ) from None
    finally:
        child.kill()
        child.join()
        ours.close()
    if kind == "wrong":
        message, named, line = answer
        raise BadInput(message, file=named or file, line=line)
    out: T = answer
    return out


def _awaited(ours: Connection, until: float, check: Progress) -> tuple[str, Any]:
    """How the child's work ends; shares done go to ``check``."""
    done = 0.0
    while time.monotonic() < until:
        if ours.poll(0.2):
            kind, answer = ours.recv()
            if kind != "share":
                return kind, answer
            done = answer
        check(done)
    return "wrong", ("reading it took longer than a file may take", None, None)


def _limited(
    work: Callable[..., Any], arguments: tuple[Any, ...], memory: int, seconds: int,
    answer: Connection,
) -> None:  # fmt: skip
    """The child's side."""
    resource.setrlimit(resource.RLIMIT_AS, (memory, memory))
    resource.setrlimit(resource.RLIMIT_CPU, (seconds, seconds))
    try:
        out = work(*arguments, lambda share: answer.send(("share", share)))
        answer.send(("done", out))
    except BadInput as trouble:
        answer.send(("wrong", (trouble.message, trouble.file, trouble.line)))
    except MemoryError:
        answer.send(("wrong", ("it needs more memory than a file may use", None, None)))
