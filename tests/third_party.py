"""``./lean licences``: docs/third-party.md, what ships with the application and under what."""

from __future__ import annotations

import json
import re
from importlib.metadata import metadata

from tests.conftest import PROJECT

FILE = PROJECT / "docs/third-party.md"


def python_packages() -> list[str]:
    """Names that requirements/base.txt locks for this platform."""
    text = (PROJECT / "requirements/base.txt").read_text()
    found = re.findall(r"^([a-z0-9][\w.-]*)(?:\[[^]]*])?==\S+(.*)$", text, re.M)
    return sorted({name for name, rest in found if "win32" not in rest})


def python_licence(name: str) -> tuple[str, str]:
    about = metadata(name)
    licence = about.get("License-Expression") or ""
    if not licence:
        kinds = [c.rsplit(" :: ", 1)[-1] for c in about.get_all("Classifier") or []
                 if c.startswith("License ::")]  # fmt: skip
        licence = ", ".join(kinds) or (about.get("License") or "").splitlines()[0]
    return about["Version"], licence


def web_packages() -> list[tuple[str, str, str]]:
    """What the interface's bundle may hold: packages locked and not only for development."""
    lock = json.loads((PROJECT / "web/package-lock.json").read_text())["packages"]
    return sorted(
        (path.removeprefix("node_modules/"), entry["version"], entry.get("license", ""))
        for path, entry in lock.items()
        if path.startswith("node_modules/") and not entry.get("dev") and not entry.get("optional")
    )


def text() -> str:
    lines = ["# Third-party licences", "", "`./lean licences` writes this from the lock files.", ""]
    lines += ["## Python", "", "| package | version | licence |", "| --- | --- | --- |"]
    for name in python_packages():
        version, licence = python_licence(name)
        lines.append(f"| {name} | {version} | {licence} |")
    lines += ["", "## Interface", "", "| package | version | licence |", "| --- | --- | --- |"]
    lines += [f"| {name} | {version} | {licence} |" for name, version, licence in web_packages()]
    lines += [
        "",
        "PostgreSQL (PostgreSQL Licence) and, for tests, Chromium (BSD-3-Clause) come from",
        "Debian's packages and do not ship with the application.",
    ]
    return "\n".join(lines) + "\n"


if __name__ == "__main__":
    FILE.write_text(text())
