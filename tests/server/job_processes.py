"""What jobs' processes do in tests: a module of its own, which such a process imports at once."""

from __future__ import annotations

import multiprocessing
import os
import threading
import time
from multiprocessing.connection import Connection

from library.job_process import done_apart, within_limits


def ends(job: int, worker: Connection, memory: int) -> None:
    within_limits(worker, memory)
    worker.send("done")


def dies(job: int, worker: Connection, memory: int) -> None:
    os._exit(9)


def hangs(job: int, worker: Connection, memory: int) -> None:
    within_limits(worker, memory)
    time.sleep(600)


def hoards(job: int, worker: Connection, memory: int) -> None:
    within_limits(worker, 2**30)
    try:
        bytearray(2**31)
        worker.send("it had as much as it wanted")
    except MemoryError:
        worker.send("done")


def worker_of_a_hanging_job(told: Connection) -> None:
    """A worker whose job never ends; it tells its job's process."""

    def look() -> None:
        while not multiprocessing.active_children():
            time.sleep(0.02)
        told.send([c.pid for c in multiprocessing.active_children()])

    threading.Thread(target=look, daemon=True).start()
    done_apart(1, 600.0, hangs)
