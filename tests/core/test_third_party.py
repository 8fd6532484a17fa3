"""What ships is listed with its licence."""

from __future__ import annotations

from tests.third_party import FILE, python_packages, web_packages


def test_every_locked_package_is_listed_with_a_licence() -> None:
    rows = [line.split(" | ") for line in FILE.read_text().splitlines() if line.startswith("| ")]
    licences = {row[0].removeprefix("| "): row[-1].rstrip(" |") for row in rows}
    names = {*python_packages(), *(name for name, _, _ in web_packages())}
    assert len(names) > 60
    assert names <= set(licences)
    assert all(licences[name] for name in names)
