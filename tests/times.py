"""Where a run's time went: seconds for each kind of test and for the files that took longest. With
``LEAN_TIMES=FILE`` each test's are added to a file, a line each."""

from __future__ import annotations

import json
import os
from collections import Counter
from pathlib import Path

import pytest

from tests.pace import loop_s

MOST_FILES = 20


class Times:
    """Hears of every test that was run, in this process or in those it has started."""

    def __init__(self) -> None:
        self.files: Counter[str] = Counter()
        self.phases: Counter[tuple[str, str]] = Counter()
        self.kept = os.environ.get("LEAN_TIMES")

    def pytest_runtest_logreport(self, report: pytest.TestReport) -> None:
        file = report.nodeid.split("::")[0]
        self.files[file] += report.duration
        self.phases[file.split("/")[1], report.when or ""] += report.duration
        if self.kept:
            with Path(self.kept).open("a") as each:
                each.write(json.dumps([report.nodeid, report.when, round(report.duration, 3)]))
                each.write("\n")

    def pytest_terminal_summary(self, terminalreporter: pytest.TerminalReporter) -> None:
        say = terminalreporter.write_line
        say("")
        say("Where the time went, in seconds of all processes together")
        for kind in sorted({kind for kind, _ in self.phases}):
            parts = {when: self.phases[kind, when] for when in ("setup", "call", "teardown")}
            told = ", ".join(f"{when} {seconds:.0f}" for when, seconds in parts.items())
            say(f"  {sum(parts.values()):6.0f}  {kind} ({told})")
        for file, seconds in self.files.most_common(MOST_FILES):
            say(f"  {seconds:6.1f}  {file}")
        say(f"  A plain loop of two million additions takes {loop_s():.3f} s.")
