"""Tables of measurements, printed as they are made and kept as Markdown."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, field


def best(work: Callable[[], object], runs: int = 5) -> float:
    """Seconds of the quickest run; the first one, which warms caches, does not count."""
    work()
    taken = []
    for _ in range(runs):
        began = time.perf_counter()
        work()
        taken.append(time.perf_counter() - began)
    return min(taken)


@dataclass
class Table:
    """A title, what the columns are, and rows."""

    title: str
    columns: tuple[str, ...]
    rows: list[tuple[str, ...]] = field(default_factory=list)
    note: str = ""

    def __post_init__(self) -> None:
        print(f"\n## {self.title}", flush=True)

    def add(self, *row: str) -> None:
        self.rows.append(row)
        print("   ", " | ".join(row), flush=True)

    def text(self) -> str:
        lines = [f"## {self.title}", ""]
        lines.append("| " + " | ".join(self.columns) + " |")
        lines.append("|" + " --- |" * len(self.columns))
        lines += ["| " + " | ".join(row) + " |" for row in self.rows]
        if self.note:
            lines += ["", self.note]
        return "\n".join(lines) + "\n"


def ms(seconds: float) -> str:
    return f"{seconds * 1000:.1f} ms" if seconds < 0.1 else f"{seconds:.2f} s"
