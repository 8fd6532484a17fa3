"""Lines as they are asked for: with ids for the layers that they make, and with what they work on.

An id follows from the revision and the line, so that a preview and the write that follows it mean
the same layer; where a line of the head's recipe has it already the next one is taken.
"""

from collections.abc import Callable, Iterable, Mapping
from functools import cache
from typing import Any

import orjson
from documents.store import load_clip
from leancurve.operations import operation_named
from leancurve.operations.identity import drawn, identified, made_by
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
    wants = {n for n, declared in kind.inputs.items() if declared.kind == "hand"} - set(given)
    if wants and wants & kind.needs(kind.parsed(params)):
        given |= dict.fromkeys(wants, hand_states(base))

    @cache
    def ids() -> Callable[[], int]:
        seed = orjson.dumps([base.pk, operation, params], option=orjson.OPT_SORT_KEYS)
        return drawn(_taken(base), seed)

    return new_line(operation, identified(kind.Params, params, lambda: ids()()), scope, given)


def _taken(base: Revision) -> Iterable[int]:
    """Ids that layers of the clip have, or had on the way to its head."""
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
