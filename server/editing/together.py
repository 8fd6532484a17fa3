"""Hand work in a row put together: what two lines might be as one, the shortest first.

Whether one of them is what the two made is for the caller to see: history compares the states.
"""

from collections.abc import Iterator, Sequence
from typing import Any

MOST_TOGETHER = 150
"""Edits in one line: each write keeps its last line whole, so it may not grow for ever."""


def together(
    operation: str, first: dict[str, Any], second: dict[str, Any]
) -> Iterator[dict[str, Any]]:
    """Parameters of two lines in a row as one, the shortest first."""
    if operation == "edit":
        yield from _edits_together(first, second)
    elif operation in ("edit_marks", "edit_contacts", "edit_plants"):
        if len(first["edits"]) < MOST_TOGETHER:
            yield {"edits": [*first["edits"], *second["edits"]]}
    elif operation == "edit_layers":
        switched = _switched([*first["edits"], *second["edits"]])
        if switched is not None:
            yield {"edits": [switched]}
    elif operation == "accept" and first.get("meant", True) == second.get("meant", True):
        yield {**second, "findings": [*first["findings"], *second["findings"]]}


SWITCHES = {"muted", "locked", "weight"}
"""What of a layer is tried one way and another: the last one counts."""


def _switched(edits: Sequence[dict[str, Any]]) -> dict[str, Any] | None:
    """Switches of one layer as one edit; None where they are more than that."""
    first = edits[0]
    whose = {"do": "set", "name": first["name"], "id": first.get("id")}
    for edit in edits:
        if {**whose, **edit} != {**edit, **whose} or not set(edit) - set(whose) <= SWITCHES:
            return None
    out: dict[str, Any] = {}
    for edit in edits:
        out |= edit
    return out


def is_one_step(operation: str) -> bool:
    """Whether what was put together into one line is one step of the history as well."""
    return operation == "edit_layers"


def _edits_together(first: dict[str, Any], second: dict[str, Any]) -> Iterator[dict[str, Any]]:
    """Edits of keys as one ordered list; those of the same keys put together where they may be."""
    if first.get("ends") or second.get("ends"):
        return
    keys, more = first["keys"], second["keys"]
    turn = max((k.get("turn", 0) for k in keys), default=0)
    short = _newest(keys, more, turn)
    if short is not None and len(short) <= MOST_TOGETHER:
        yield {**first, "keys": short}
    if len(keys) + len(more) <= MOST_TOGETHER:
        later = [{**k, "turn": k.get("turn", 0) + turn + 1} for k in more]
        yield {**first, "keys": [*keys, *later]}


SHAPE = {"slope_in", "slope_out", "length_in", "length_out"}


def _newest(
    keys: list[dict[str, Any]], more: list[dict[str, Any]], turn: int
) -> list[dict[str, Any]] | None:
    """Later edits put into those of the last turn: what was set last counts, what was set once
    stays. None where the later ones make or remove keys, or another turn has to come first.

    A handle kind does away with slopes set before it, slopes with a kind set before them.
    """
    newest = {_key_of(k): k for k in keys if k.get("turn", 0) == turn and k["do"] == "set"}
    if any(k["do"] != "set" or k.get("turn", 0) for k in more):
        return None
    if not {_key_of(k) for k in more} <= set(newest):
        return None
    for key in more:
        old = newest[_key_of(key)]
        gone = SHAPE if "handle" in key else {"handle"} if SHAPE & set(key) else set()
        kept = {k: v for k, v in old.items() if k not in gone}
        seen = {name: old[name] for name in ("frame", "was", "turn") if name in old}
        newest[_key_of(key)] = {**kept, **key, **seen}
    return [
        newest[_key_of(k)] if k.get("turn", 0) == turn and k["do"] == "set" else k for k in keys
    ]


def _key_of(key: dict[str, Any]) -> tuple[str, str, int]:
    return key["joint"], key["channel"], key["id"]
