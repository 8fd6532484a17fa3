"""Recipes: lines of operations, memoised by what they are and what stood before them."""

import hashlib
import logging
import threading
import time
import uuid
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import orjson
from cachetools import LRUCache
from leancurve.operations import Patch, Scope, operation_named
from leancurve.progress import Progress, silent
from leancurve.recipe import checked_line

from editing.documents import load_clip, store_patch
from editing.models import Memo, State

log = logging.getLogger("lean.operation")

Line = dict[str, Any]

_patches: LRUCache[str, Patch] = LRUCache(8)
"""The newest results that were previewed and not applied: applying one computes nothing."""
_patches_lock = threading.Lock()


@dataclass(frozen=True)
class Step:
    """A line's outcome."""

    line: Line
    state: State
    report: dict[str, Any]


def new_line(operation: str, params: dict[str, Any], scope: dict[str, Any]) -> Line:
    """A checked line with an id of its own; :class:`BadInput` says what is wrong."""
    return {"line_id": uuid.uuid4().hex, **checked_line(operation, params, scope)}


def title(line: Line) -> str:
    """A line in a few words, for the recipe and the history."""
    return operation_named(line["operation"]).told(line["params"])


def memo_key(line: Line, before: State, take: State | None = None) -> str:
    """Names a line's work: what it does, and the states it does it to and with."""
    what: list[Any] = [{k: line[k] for k in ("operation", "version", "params", "scope")}]
    states = [before.hash] + ([take.hash] if take is not None else [])
    packed = orjson.dumps(what + states, option=orjson.OPT_SORT_KEYS)
    return hashlib.sha256(packed).hexdigest()


def compute(
    line: Line, before: State, progress: Progress = silent, take: State | None = None
) -> Patch:
    """The patch a line makes, kept for a moment in case it is applied next.

    ``take`` is the take as read on the line's own time, for operations that bring it back.
    """
    key = memo_key(line, before, take)
    with _patches_lock:
        if key in _patches:
            return _patches[key]
    began = time.perf_counter()
    patch = operation_named(line["operation"]).run(
        load_clip(before),
        line["params"],
        Scope.model_validate(line["scope"]),
        progress,
        None if take is None else load_clip(take),
    )
    log.info(
        "operation",
        extra={
            "operation": line["operation"],
            "ms": round((time.perf_counter() - began) * 1000, 1),
            "channels": len(patch.curves),
        },
    )
    with _patches_lock:
        _patches[key] = patch
    return patch


def known(line: Line, before: State, take: State | None = None) -> Patch | None:
    """The patch of a line that was computed a moment ago, if it is still at hand."""
    with _patches_lock:
        return _patches.get(memo_key(line, before, take))


def needs_take(line: Line) -> bool:
    return operation_named(line["operation"]).needs_take


def run_line(
    line: Line, before: State, progress: Progress = silent, take: State | None = None
) -> Step:
    """A line's state and report, from the memo where it was run before."""
    take = take if needs_take(line) else None
    key = memo_key(line, before, take)
    memo = Memo.objects.select_related("state__header").filter(pk=key).first()
    if memo is None:
        patch = compute(line, before, progress, take)
        state = store_patch(before, patch)
        report = dict(patch.report)
        Memo.objects.get_or_create(key=key, defaults={"state": state, "report": report})
        return Step(line, state, report)
    return Step(line, memo.state, memo.report)


def replay(take_state: State, recipe: Sequence[Line], progress: Progress = silent) -> list[Step]:
    """Every line's outcome, from the take on: what is memoised costs nothing."""
    steps: list[Step] = []
    state = take = take_state
    # The take is brought through the lines that move time only for those that bring it back.
    brings_back = any(needs_take(line) for line in recipe)
    for line in recipe:
        step = run_line(line, state, progress, take)
        steps.append(step)
        state = step.state
        if brings_back:
            take = moved_take(take, step)
    return steps


def moved_take(take: State, step: Step) -> State:
    """The take brought through a line, if that line moves time."""
    kind = operation_named(step.line["operation"])
    if not kind.retimes:
        return take
    params = kind.as_done(step.line["params"], step.report)
    return run_line(new_line(kind.name, params, {}), take).state


def take_on_time(take_state: State, recipe: Sequence[Line]) -> State:
    """The take as read, on the time that a recipe's end has."""
    take = take_state
    if any(operation_named(line["operation"]).retimes for line in recipe):
        for step in replay(take_state, recipe):
            take = moved_take(take, step)
    return take
