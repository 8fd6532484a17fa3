"""Names of delivered files, from a pattern."""

from __future__ import annotations

import re

from leancurve.errors import BadInput, short

FIELD = re.compile(r"\{([^{}]*)\}")
WIDTH = re.compile(r"0?[1-6]")
LONGEST_NAME = 120


def delivery_name(pattern: str, *, character: str, action: str, version: int) -> str:
    """A delivery's file name from a pattern such as ``{character}_{action}_v{version:03}``.

    The grammar is this and no more: text, ``{character}``, ``{action}``, ``{version}``, and after
    ``version`` a colon and how many digits it has at least, 1 to 6, filled with zeros after a 0.
    """
    values = {"character": character, "action": action, "version": str(version)}

    def filled(found: re.Match[str]) -> str:
        field, colon, width = found[1].partition(":")
        if field not in values:
            raise BadInput(
                "name pattern: may use {character}, {action} and {version}, "
                f"such as {{version:03}}; {short(found[0])} is not one of them"
            )
        if not colon:
            return values[field]
        if field != "version" or not WIDTH.fullmatch(width):
            raise BadInput(
                "name pattern: after a colon stands how many digits the version has, 1 to 6, such "
                f"as {{version:03}}; got {short(found[0])}"
            )
        return values[field].rjust(int(width[-1]), "0" if width[0] == "0" else " ")

    name = FIELD.sub(filled, pattern)
    if "{" in FIELD.sub("", pattern) or "}" in FIELD.sub("", pattern):
        raise BadInput("name pattern: a brace has no partner")
    kept = plain_name(name)
    if not kept:
        raise BadInput("name pattern: gives an empty file name")
    return kept


def tidy_name(name: str) -> str:
    """A name as a part of a file's name: letters and digits, what stands between them one ``_``."""
    return re.sub(r"[\W_]+", "_", name).strip("_")[:LONGEST_NAME]


def plain_name(name: str) -> str:
    """A name as a file may have it anywhere: letters, digits, ``-``, ``_`` and dots within."""
    kept = "".join(c if c.isalnum() or c in "-_." else "_" for c in name).strip("._")
    return kept[:LONGEST_NAME]
