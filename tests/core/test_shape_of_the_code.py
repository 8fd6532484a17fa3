"""Dependencies point one way: web → api → server apps → core."""

from __future__ import annotations

import ast
from pathlib import Path

import pytest

from tests.conftest import PROJECT

LAYERS = {
    "core/leancurve": {"django", "ninja", "library", "editing", "delivery", "api", "config"},
    "server/library": {"api", "ninja"},
    "server/editing": {"api", "ninja", "delivery"},
    "server/delivery": {"api", "ninja"},
}


def imported(file: Path) -> set[str]:
    tree = ast.parse(file.read_text())
    names: set[str] = set()
    for node in ast.walk(tree):
        if isinstance(node, ast.Import):
            names |= {alias.name.split(".")[0] for alias in node.names}
        if isinstance(node, ast.ImportFrom) and node.module and node.level == 0:
            names.add(node.module.split(".")[0])
    return names


@pytest.mark.parametrize("folder", LAYERS)
def test_no_layer_imports_one_above_it(folder: str) -> None:
    files = list((PROJECT / folder).rglob("*.py"))
    assert len(files) > 3
    for file in files:
        if file.name == "tasks.py":
            continue  # where the queue is told of every kind of job
        assert not imported(file) & LAYERS[folder], file


def test_the_core_opens_no_files_but_in_its_command_line() -> None:
    for file in (PROJECT / "core/leancurve").rglob("*.py"):
        if file.name == "cli.py" or "kernels" in file.parts:
            continue
        assert not imported(file) & {"os", "socket", "subprocess", "requests"}, file
