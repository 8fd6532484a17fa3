"""Names of which there shall be one each."""

from __future__ import annotations

from collections.abc import Container


def free_name(name: str, taken: Container[str]) -> str:
    """The name, or with a number behind it, so that nobody has it."""
    out, n = name, 2
    while out in taken:
        out, n = f"{name} {n}", n + 1
    return out
