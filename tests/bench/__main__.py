"""``./lean bench``: ratios measured in one run, against a peer library or the plain way.

``--keep`` puts the tables into docs/benchmarks.md; ``--core`` leaves the browser out, ``--browser``
all else.
"""

from __future__ import annotations

import platform
import sys
from datetime import date

from tests.bench import (
    cleaning_bench,
    core_bench,
    delivery_bench,
    layers_bench,
    plants_bench,
    retarget_bench,
)
from tests.bench.tables import Table
from tests.conftest import PROJECT

HEAD = """# Benchmarks

`./lean bench --keep` wrote this on {day}: {machine}. Ratios were measured in one run on the
same input; times are the best of several runs, on one core with kernels compiled. They vary by
a third from run to run on a shared machine: the ratios are what to read.
"""


def main(arguments: list[str]) -> None:
    tables: list[Table] = []
    if "--browser" not in arguments:
        for part in (
            core_bench, cleaning_bench, plants_bench, retarget_bench, layers_bench, delivery_bench,
        ):  # fmt: skip
            tables += part.run()
    if "--core" not in arguments:
        from tests.bench import browser_bench, memory_bench, storage_bench

        tables += [
            *browser_bench.run(), *storage_bench.run(), *delivery_bench.day(), *memory_bench.run(),
        ]  # fmt: skip
    text = "\n".join(t.text() for t in tables)
    if "--keep" in arguments:
        machine = f"{platform.machine()}, Python {platform.python_version()}, 2 cores"
        head = HEAD.format(day=date.today().isoformat(), machine=machine)
        (PROJECT / "docs/benchmarks.md").write_text(f"{head}\n{text}")


main(sys.argv[1:])
