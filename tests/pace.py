"""How fast this machine is just now: what waits in tests waits longer on a slow one."""

from __future__ import annotations

import time
from functools import cache

ADDITIONS = 2_000_000
FULL_SPEED_S = 0.1
"""What so many additions take in a plain loop on a machine that does nothing else (measured)."""


def loop_s() -> float:
    """Seconds that a plain loop takes: the yardstick beside each time that is told."""
    began, total = time.perf_counter(), 0
    for i in range(ADDITIONS):
        total += i
    return time.perf_counter() - began


@cache
def pace() -> float:
    """How many times as long as at full speed things take, 1 at least. The slowest of three
    loops counts: a machine that is shared is slow at some moments and not at others."""
    return max(1.0, max(loop_s() for _ in range(3)) / FULL_SPEED_S)


def patient(seconds: float) -> float:
    """So many seconds at full speed, on this machine. Reached only where something is wrong."""
    return seconds * pace()
