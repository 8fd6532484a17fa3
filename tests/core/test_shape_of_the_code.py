"""Dependencies point one way: web → api → server apps → core."""

from __future__ import annotations

import ast
import re
from functools import cache
from pathlib import Path

import pytest

from tests.conftest import PROJECT

LAYERS = {
    "core/leancurve": {"django", "ninja", "library", "editing", "delivery", "api", "config"},
    "server/documents": {"library", "editing", "delivery", "api", "ninja"},
    "server/library": {"editing", "delivery", "api", "ninja"},
    "server/editing": {"api", "ninja", "delivery"},
    "server/delivery": {"api", "ninja"},
}


@cache
def parsed(file: Path) -> ast.Module:
    return ast.parse(file.read_text())


@cache
def imports_of(file: Path) -> tuple[ast.Import | ast.ImportFrom, ...]:
    """All import statements of a file, those inside functions too."""
    nodes = ast.walk(parsed(file))
    return tuple(n for n in nodes if isinstance(n, ast.Import | ast.ImportFrom))


def imported(file: Path) -> set[str]:
    names: set[str] = set()
    for node in imports_of(file):
        if isinstance(node, ast.Import):
            names |= {alias.name.split(".")[0] for alias in node.names}
        if isinstance(node, ast.ImportFrom) and node.module and node.level == 0:
            names.add(node.module.split(".")[0])
    return names


CORE = PROJECT / "core/leancurve"
ROOMS = (
    "numbers", "curves", "figure", "document", "time", "cleaning", "measures", "retarget",
    "operations", "recipe", "formats", "demo", "cli", "warm",
)  # fmt: skip
"""The rooms of the core from the ground up, and what stands on top: each uses only what is below
it, and ``errors`` and ``progress``, which all speak."""


def room_of(file: Path) -> str:
    return file.relative_to(CORE).parts[0].removesuffix(".py")


def used_rooms(file: Path) -> set[str]:
    names: set[str] = set()
    for node in imports_of(file):
        if isinstance(node, ast.ImportFrom) and node.module and node.module != "leancurve":
            names.add(node.module)
        elif isinstance(node, ast.ImportFrom) and node.module:
            names |= {f"leancurve.{alias.name}" for alias in node.names}
        elif isinstance(node, ast.Import):
            names |= {alias.name for alias in node.names}
    rooms = {n.split(".")[1] for n in names if n.startswith("leancurve.")}
    return rooms - {"errors", "progress"}


def test_each_room_of_the_core_uses_only_rooms_below_it() -> None:
    seen: set[str] = set()
    for file in sorted(CORE.rglob("*.py")):
        room = room_of(file)
        if room in ("errors", "progress", "__init__"):
            assert not used_rooms(file), file
            continue
        seen.add(room)
        above = set(ROOMS[ROOMS.index(room) + 1 :])
        assert not used_rooms(file) & above, file
    assert seen == set(ROOMS)


def test_modules_of_the_core_import_each_other_in_no_circle() -> None:
    uses: dict[str, set[str]] = {}
    for file in CORE.rglob("*.py"):
        name = ".".join(file.relative_to(CORE.parent).with_suffix("").parts)
        found: set[str] = set()
        for node in imports_of(file):
            if isinstance(node, ast.ImportFrom) and node.module:
                found |= {f"{node.module}.{a.name}" for a in node.names} | {node.module}
        uses[name] = found
    open_: dict[str, set[str]] = {n: u & set(uses) - {n} for n, u in uses.items()}
    while leaves := [n for n, u in open_.items() if not u]:
        for leaf in leaves:
            del open_[leaf]
        for rest in open_.values():
            rest -= set(leaves)
    assert not open_


def test_imports_inside_functions_say_why() -> None:
    found = 0
    for file in CORE.rglob("*.py"):
        lines = file.read_text().splitlines()
        for node in ast.walk(parsed(file)):
            for inner in ast.walk(node) if isinstance(node, ast.FunctionDef) else ():
                if isinstance(inner, ast.Import | ast.ImportFrom):
                    found += 1
                    assert "#" in lines[inner.lineno - 1], f"{file}:{inner.lineno}"
    assert found > 5


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


IMPORT = re.compile(r"^(?:import|export)\b[^;]*?\bfrom '(\.[^']+)'", re.MULTILINE)


def test_files_of_the_browser_import_each_other_in_no_circle() -> None:
    """Types count as well: what two files need of each other stands in a third."""
    root = PROJECT / "web/src"
    files = {f.resolve() for end in ("*.ts", "*.tsx") for f in root.rglob(end)}
    open_: dict[Path, set[Path]] = {}
    for file in files:
        named = [(file.parent / m).resolve() for m in IMPORT.findall(file.read_text())]
        ends = [Path(f"{n}{end}") for n in named for end in (".ts", ".tsx")]
        open_[file] = {e for e in ends if e in files and e != file}
    assert sum(map(len, open_.values())) > 300
    while leaves := {f for f, uses in open_.items() if not uses}:
        open_ = {f: uses - leaves for f, uses in open_.items() if f not in leaves}
    assert not open_, sorted(str(f.relative_to(root)) for f in open_)
