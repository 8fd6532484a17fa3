"""A job's own process: what it takes in memory and time is bounded, and one that dies takes nobody
along. It ends with its worker, however that ends.
"""

import multiprocessing
import os
import resource
import signal
import threading
import time
from collections.abc import Callable
from multiprocessing.connection import Connection
from typing import Literal, cast

from django.conf import settings

Ended = Literal["done", "away", "lost", "too long"]

_processes = multiprocessing.get_context("forkserver")


def done_apart(
    job_id: int, seconds: float, work: Callable[[int, Connection, int], None] | None = None
) -> Ended:
    """Do a job in a process of its own; returns how that ended.

    ``away``: its database went away. ``lost``: the process ended before it was done.
    """
    ours, theirs = _processes.Pipe()
    child = _processes.Process(
        target=work or do, args=(job_id, theirs, settings.JOB_MEMORY_BYTES), daemon=False
    )
    child.start()
    theirs.close()
    until = time.monotonic() + seconds
    try:
        while time.monotonic() < until:
            if ours.poll(0.5):
                return cast(Ended, ours.recv())
        return "too long"
    except (EOFError, OSError):
        return "lost"
    finally:
        ours.close()
        child.join(1.0)
        if child.is_alive():
            child.kill()
            child.join()


def do(job_id: int, worker: Connection, memory: int) -> None:
    """The process's side."""
    import django

    django.setup()
    from django.db import connections
    from django.db.utils import InterfaceError, OperationalError
    from django.utils.module_loading import autodiscover_modules

    from library import kinds

    autodiscover_modules("tasks")
    within_limits(worker, memory)
    try:
        kinds.run(job_id)
        worker.send("done")
    except (OperationalError, InterfaceError):
        worker.send("away")
    finally:
        connections.close_all()


def within_limits(worker: Connection, memory: int) -> None:
    """No more memory than that, and no longer than the worker: its end is seen by the pipe's."""
    # A worker that is told to end lets its jobs come to their end.
    signal.signal(signal.SIGTERM, signal.SIG_IGN)
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    resource.setrlimit(resource.RLIMIT_AS, (memory, memory))

    def end_with_worker() -> None:
        try:
            worker.recv()
        except (EOFError, OSError):
            os._exit(1)

    threading.Thread(target=end_with_worker, daemon=True).start()
