"""``./lean bench``: ratios measured in one run, against a peer library or the plain way.

``--keep`` puts the tables into docs/benchmarks.md; ``--core`` leaves the browser out, ``--browser``
all else; ``--delivery`` measures deliveries alone, and keeps the others as they are.
"""

from __future__ import annotations

import platform
import re
import sys
from collections.abc import Sequence
from datetime import date

from tests.bench import (
    balance_bench,
    cleaning_bench,
    core_bench,
    delivery_bench,
    joining_bench,
    layers_bench,
    plants_bench,
    retarget_bench,
)
from tests.bench.tables import Table
from tests.conftest import PROJECT

KEPT = PROJECT / "docs/benchmarks.md"
HEAD = """# Benchmarks

`./lean bench --keep` wrote this on {day}: {machine}. Ratios were measured in one run on the
same input; times are the best of several runs, on one core with kernels compiled. They vary by
a third from run to run on a shared machine: the ratios are what to read.
"""


CORE = (
    core_bench, cleaning_bench, plants_bench, retarget_bench, layers_bench, joining_bench,
    balance_bench, delivery_bench,
)  # fmt: skip


def main(arguments: list[str]) -> None:
    if "--delivery" in arguments:
        tables = [*delivery_bench.run(), *delivery_bench.day()]
        if "--keep" in arguments:
            KEPT.write_text(with_these(KEPT.read_text(), tables))
        return
    tables = []
    if "--browser" not in arguments:
        tables += [table for part in CORE for table in part.run()]
    if "--core" not in arguments:
        from tests.bench import browser_bench, memory_bench, storage_bench

        tables += [
            *browser_bench.run(), *storage_bench.run(), *delivery_bench.day(), *memory_bench.run(),
        ]  # fmt: skip
    text = "\n".join(t.text() for t in tables)
    if "--keep" in arguments:
        machine = f"{platform.machine()}, Python {platform.python_version()}, 2 cores"
        head = HEAD.format(day=date.today().isoformat(), machine=machine)
        KEPT.write_text(f"{head}\n{text}")


def with_these(text: str, tables: Sequence[Table]) -> str:
    """A kept text with some tables measured anew: each in its place, new ones at the end."""
    head, *parts = re.split(r"(?m)^(?=## )", text)
    found = {part.partition("\n")[0]: part for part in parts}
    found |= {f"## {t.title}": t.text() + "\n" for t in tables}
    return (head + "".join(found.values())).rstrip() + "\n"


main(sys.argv[1:])
