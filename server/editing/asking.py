"""Lines as they are asked for: with ids for the layers that they make, and with what they work on.

An id follows from the revision and the line, so that a preview and the write that follows it mean
the same layer; where a line of the head's recipe has it already the next one is taken.
"""

import hashlib
from collections.abc import Callable, Iterable, Mapping
from typing import Any

import orjson
from documents.store import load_clip
from leancurve.operations import operation_named
from leancurve.operations.identity import MOST_ID, identified, made_by
from leancurve.recipe import counted_as

from editing.models import Revision
from editing.outcomes import take_of
from editing.recipes import Line, Named, new_line, replay


def asked_line(
    base: Revision,
    operation: str,
    params: Mapping[str, Any],
    scope: dict[str, Any],
    inputs: Mapping[str, Named] | None = None,
) -> Line:
    """A checked line to be written on a revision."""
    kind = operation_named(operation)
    given = dict(inputs or {})
    for name, declared in kind.inputs.items():
        if declared.kind == "hand" and name not in given:
            states = hand_states(base)
            given |= {name: states} if states else {}
    checked = dict(kind.parsed(params).model_dump(mode="json", exclude_none=True))
    fresh = _drawn(base, operation, checked)
    return new_line(operation, identified(kind.Params, checked, fresh), scope, given)


def _drawn(base: Revision, operation: str, params: Mapping[str, Any]) -> Callable[[], int]:
    """Ids that no layer of the clip has or had on the way to its head."""
    seed = orjson.dumps([base.pk, operation, params], option=orjson.OPT_SORT_KEYS)
    taken: set[int] = set()
    count = 0

    def fresh() -> int:
        nonlocal count
        if not taken:
            taken.update(_taken(base))
        while True:
            found = hashlib.sha256(seed + count.to_bytes(4)).digest()
            count += 1
            number = int.from_bytes(found[:8]) % MOST_ID + 1
            if number not in taken:
                taken.add(number)
                return number

    return fresh


def _taken(base: Revision) -> Iterable[int]:
    head = base.clip.head or base
    for line in head.recipe:
        yield from made_by(operation_named(line["operation"]).Params, line["params"])
    for layer in load_clip(head.state).layers:
        yield layer.id


def hand_states(revision: Revision) -> list[str]:
    """The states before and after each stretch of hand work in a revision's recipe, in turns."""
    take = take_of(revision).state
    out: list[str] = []
    before, by_hand = take.hash, False
    for step in replay(take, revision.recipe):
        hand = not step.line.get("aside") and counted_as(step.line) == "hand"
        if hand and by_hand:
            out[-1] = step.state.hash
        elif hand:
            out += [before, step.state.hash]
        before, by_hand = step.state.hash, hand
    return out
