"""Dependencies point one way: web → api → server apps → core."""

from __future__ import annotations

import ast
import re
from functools import cache
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import PROJECT

SERVER = PROJECT / "server"
SERVER_ROOMS = (
    "plumbing", "documents", "computing", "library", "editing", "delivery", "studio", "api",
    "config",
)  # fmt: skip
"""The server's applications from the ground up."""


@cache
def parsed(file: Path) -> ast.Module:
    return ast.parse(file.read_text())


@cache
def imports_of(file: Path) -> tuple[ast.Import | ast.ImportFrom, ...]:
    """All import statements of a file, those inside functions too."""
    nodes = ast.walk(parsed(file))
    return tuple(n for n in nodes if isinstance(n, ast.Import | ast.ImportFrom))


def in_no_circle(uses: dict[Any, set[Any]]) -> None:
    open_ = dict(uses)
    while leaves := {name for name, others in open_.items() if not others}:
        open_ = {n: others - leaves for n, others in open_.items() if n not in leaves}
    assert not open_, sorted(map(str, open_))


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
    "numbers", "curves", "figure", "document", "time", "cleaning", "measures", "joining",
    "retarget", "operations", "recipe", "formats", "delivery", "demo", "cli", "warm",
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
    in_no_circle({n: u & set(uses) - {n} for n, u in uses.items()})


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


@pytest.mark.parametrize("room", SERVER_ROOMS)
def test_each_application_of_the_server_uses_only_those_below_it(room: str) -> None:
    above = set(SERVER_ROOMS[SERVER_ROOMS.index(room) + 1 :])
    files = list((SERVER / room).rglob("*.py"))
    assert len(files) > 3
    for file in files:
        assert not imported(file) & above, file
        assert room in ("api", "config") or "ninja" not in imported(file), file


def test_the_servers_applications_all_have_their_place() -> None:
    assert {f.name for f in SERVER.iterdir() if (f / "__init__.py").exists()} <= set(SERVER_ROOMS)
    for file in CORE.rglob("*.py"):
        assert not imported(file) & {"django", "ninja", *SERVER_ROOMS}, file


def test_modules_of_the_server_import_each_other_in_no_circle() -> None:
    """Imports inside functions count as well."""
    files = [f for f in SERVER.rglob("*.py") if "migrations" not in f.parts]
    names = {".".join(f.relative_to(SERVER).with_suffix("").parts): f for f in files}
    in_no_circle(
        {
            name: {
                f"{node.module}.{a.name}" if f"{node.module}.{a.name}" in names else node.module
                for node in imports_of(file)
                if isinstance(node, ast.ImportFrom) and node.module
                for a in node.names
            }
            & set(names) - {name}
            for name, file in names.items()
        }
    )


def test_the_core_writes_no_files_but_from_its_command_line() -> None:
    for file in (PROJECT / "core/leancurve").rglob("*.py"):
        if file.name in ("cli.py", "folder.py") or "kernels" in file.parts:
            continue
        assert not imported(file) & {"os", "socket", "subprocess", "requests"}, file


IMPORT = re.compile(r"^(?:import|export)\b[^;]*?\bfrom '(\.[^']+)'", re.MULTILINE)


CONVERTS = {
    "numbers/rotation.py", "numbers/continuity.py", "document/base.py", "document/rotations.py",
}  # fmt: skip
"""Where angles of joints become rotations, and rotations angles."""


def test_one_module_converts_angles_of_joints() -> None:
    """The demo's captures are made up of angles, with the numbers themselves."""
    converts = re.compile(r"rotation\.(from_euler|to_euler\w*|angles_near)\(")
    files = [f.relative_to(CORE) for f in CORE.rglob("*.py") if converts.search(f.read_text())]
    assert {str(f) for f in files if f.parts[0] != "demo"} <= CONVERTS
    assert Path("document/rotations.py") in files


WEB = PROJECT / "web/src"
WEB_ROOMS = (
    "api", "ui", "session", "evaluation", "view", "sync", "actions", "layers", "tree", "strip",
    "sheet", "timing", "stage", "commands", "steps", "bench", "shelf", "studio", "batch",
    "handover", "App.tsx", "main.tsx",
)  # fmt: skip
"""The rooms of the browser from the ground up."""


@cache
def browser() -> dict[Path, set[Path]]:
    """Which files each of the browser's files imports; types count as well."""
    files = {f.resolve() for end in ("*.ts", "*.tsx") for f in WEB.rglob(end)}
    out: dict[Path, set[Path]] = {}
    for file in files:
        named = [(file.parent / m).resolve() for m in IMPORT.findall(file.read_text())]
        ends = [Path(f"{n}{end}") for n in named for end in (".ts", ".tsx")]
        out[file] = {e for e in ends if e in files and e != file}
    assert sum(map(len, out.values())) > 300
    return out


def test_each_room_of_the_browser_uses_only_rooms_below_it() -> None:
    def floor(file: Path) -> int:
        return WEB_ROOMS.index(file.relative_to(WEB).parts[0])

    assert {f.relative_to(WEB).parts[0] for f in browser()} == set(WEB_ROOMS)
    up = [
        f"{file.relative_to(WEB)} uses {used.relative_to(WEB)}"
        for file, uses in browser().items()
        for used in uses
        if floor(used) > floor(file)
    ]
    assert not up, sorted(up)


def test_files_of_the_browser_import_each_other_in_no_circle() -> None:
    """What two files need of each other stands in a third."""
    in_no_circle(browser())
