"""Recipes: lines of operations, memoised by what they are and what stood before them."""

import hashlib
import logging
import time
import uuid
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import orjson
from documents.blobs import kept_lines
from documents.models import Blob, State
from documents.store import (
    Made,
    load_clip,
    load_skeleton,
    make_again_with,
    store_patch,
    touch,
)
from leancurve.errors import BadInput
from leancurve.operations import Patch, operation_named
from leancurve.operations.base import Inputs
from leancurve.operations.identity import (
    drawn,
    identified,
    made_by,
    renumbered,
    renumbered_owner,
)
from leancurve.progress import Progress, part_of, silent
from leancurve.recipe import checked_line

from editing import patches
from editing.models import Memo

log = logging.getLogger("lean.operation")

Line = dict[str, Any]
Named = str | list[str]
"""A document by its digest, or several in their order."""


@dataclass(frozen=True)
class Standing:
    """What a line works on: the state before it, the take as read on the same time, and the name
    of the way there."""

    state: State
    take: State
    key: str


@dataclass(frozen=True)
class Step:
    """A line's outcome."""

    line: Line
    after: Standing
    report: dict[str, Any] = field(default_factory=dict)

    @property
    def state(self) -> State:
        return self.after.state


def new_line(
    operation: str,
    params: dict[str, Any],
    scope: dict[str, Any],
    inputs: Mapping[str, Named] | None = None,
    version: int | None = None,
) -> Line:
    """A checked line with an id of its own; :class:`BadInput` says what is wrong."""
    line = {"line_id": uuid.uuid4().hex, **checked_line(operation, params, scope, version)}
    return {**line, "inputs": dict(inputs)} if inputs else line


def fresh_lines(lines: Iterable[Mapping[str, Any]]) -> list[Line]:
    """Kept lines as new ones, in this version of their operations. Layers that they make are new
    ones as well, wherever they are named: what a clip has already is nothing to them."""
    made = [
        new_line(x["operation"], x.get("params", {}), x.get("scope", {}), version=x.get("version"))
        for x in lines
    ]
    fresh = drawn(())
    ids: dict[int, int] = {}
    out = []
    for line in made:
        model = operation_named(line["operation"]).Params
        ids |= {old: fresh() for old in made_by(model, line["params"])}
        params = identified(model, renumbered(model, line["params"], ids), fresh)
        scope = dict(line["scope"])
        if "owner" in scope:
            scope["owner"] = renumbered_owner(scope["owner"], ids)
        out.append({**line, "params": params, "scope": scope})
    return out


def current(line: Line) -> Line:
    """A line as this version of its operation writes it: what people see and change."""
    kind = operation_named(line["operation"])
    params = kind.upgraded(line["version"], line["params"])
    return {**line, "version": kind.version, "params": params}


def title(line: Line) -> str:
    """A line in a few words, for the recipe and the history."""
    return operation_named(line["operation"]).told(line["params"])


PARTS = ("operation", "version", "params", "scope", "inputs", "aside")
"""What of a line says what it does."""


def _digest(*parts: Any) -> str:
    return hashlib.sha256(orjson.dumps(parts, option=orjson.OPT_SORT_KEYS)).hexdigest()


def begin(take: State) -> Standing:
    """Before the first line: the take as found."""
    return Standing(take, take, _digest("take", take.hash))


def next_key(key: str, line: Line) -> str:
    """Names what the lines up to this one make, from the name of what those before it make."""
    return _digest(key, {p: line[p] for p in PARTS if p in line})


def trail(take: State, recipe: Sequence[Line]) -> list[str]:
    """The name of what each line of a recipe makes of a take."""
    out: list[str] = []
    key = begin(take).key
    for line in recipe:
        key = next_key(key, line)
        out.append(key)
    return out


Given = State | list[State] | list[str] | str


def _inputs(line: Line, take: State) -> dict[str, Given]:
    """A line's inputs: the take on its time, or what it names by digest."""
    chosen = line.get("inputs", {})
    out: dict[str, Given] = {}
    for name, declared in operation_named(line["operation"]).inputs.items():
        if declared.kind == "take":
            out[name] = take
        elif name not in chosen:
            continue
        elif declared.kind == "skeleton":
            out[name] = chosen[name]
        elif declared.kind == "digest":
            given = chosen[name]
            states = _there(line, name, [given] if isinstance(given, str) else given)
            out[name] = [state.hash for state in states]
        elif isinstance(chosen[name], str):
            out[name] = _there(line, name, [chosen[name]])[0]
        else:
            out[name] = _there(line, name, chosen[name])
    return out


def _there(line: Line, name: str, digests: Sequence[str]) -> list[State]:
    found = State.objects.select_related("header").filter(hash__among=set(digests))
    known = {state.pk: state for state in found}
    if not set(digests) <= set(known):
        raise BadInput(f"{line['operation']}: {name} is not here any more")
    return [known[digest] for digest in digests]


def inputs_of(line: Line, take: State) -> Inputs:
    """What a line works with beside the clip."""
    return _loaded(_inputs(line, take))


def _loaded(inputs: Mapping[str, Given]) -> Inputs:
    out: dict[str, Any] = {}
    for name, given in inputs.items():
        if isinstance(given, State):
            out[name] = load_clip(given)
            continue
        if isinstance(given, list):
            out[name] = [x if isinstance(x, str) else load_clip(x) for x in given]
            continue
        try:
            out[name] = load_skeleton(given)
        except Blob.DoesNotExist:
            raise BadInput(f"{name}: that skeleton is not here any more") from None
    return out


def work_key(line: Line, before: State, take: State) -> str:
    """Names a line's work: what it does, and the states it does it to and with."""
    used = {n: _name_of(g) for n, g in _inputs(line, take).items()}
    return _digest({p: line[p] for p in PARTS if p in line}, before.hash, used)


def _name_of(given: Given) -> str | list[str]:
    if isinstance(given, list):
        return [x if isinstance(x, str) else x.hash for x in given]
    return given.hash if isinstance(given, State) else given


def compute(line: Line, before: State, take: State, progress: Progress = silent) -> Patch:
    """The patch a line makes, kept for a moment in case it is applied next.

    ``take`` is the take as read on the line's own time, for operations that work with it.
    """
    key = work_key(line, before, take)
    found = patches.found(key)
    if found is not None:
        return found
    began = time.perf_counter()
    patch = _done(line, before, take, progress)
    took = time.perf_counter() - began
    log.info(
        "operation",
        extra={
            "operation": line["operation"],
            "ms": round(took * 1000, 1),
            "channels": len(patch.curves),
        },
    )
    patches.keep(key, patch, took)
    return patch


def _done(line: Line, before: State, take: State, progress: Progress = silent) -> Patch:
    """The patch of a line, made now."""
    kind = operation_named(line["operation"])
    return kind.run(
        load_clip(before),
        kind.upgraded(line["version"], line["params"]),
        kind.scope_of(line["scope"]),
        progress,
        inputs_of(line, take),
    )


def known(line: Line, before: State, take: State) -> Patch | None:
    """The patch of a line that was computed a moment ago, if it is still at hand."""
    return patches.found(work_key(line, before, take))


def run_line(line: Line, at: Standing, progress: Progress = silent) -> Step:
    """A line's state and report, from the memo where it was run before."""
    key = next_key(at.key, line)
    memo = Memo.objects.select_related("state__header", "take__header").filter(pk=key).first()
    if memo is not None and _stays(memo):
        return _remembered(line, memo)
    return _worked(line, at, key, progress)


def _stays(memo: Memo) -> bool:
    """Whether what a memo names is there, and stays for as long as it takes to use it."""
    return memo.take is not None and touch([memo.state, memo.take])


def _remembered(line: Line, memo: Memo) -> Step:
    assert memo.take is not None
    return Step(line, Standing(memo.state, memo.take, memo.key), memo.report)


def _worked(line: Line, at: Standing, key: str, progress: Progress) -> Step:
    if line.get("aside"):
        return Step(line, Standing(at.state, at.take, key))
    began = time.perf_counter()
    patch = compute(line, at.state, at.take, progress)
    report = dict(patch.report)
    made = Made(at.state, at.take, line, (time.perf_counter() - began) * 1000)
    after = Standing(store_patch(at.state, patch, made), _moved_take(line, report, at.take), key)
    remember(after, report)
    return Step(line, after, report)


def remember(after: Standing, report: dict[str, Any]) -> None:
    """Keep what some lines made, so that it is not computed again."""
    Memo.objects.get_or_create(
        key=after.key, defaults={"state": after.state, "take": after.take, "report": report}
    )


def _moved_take(line: Line, report: Mapping[str, Any], take: State) -> State:
    """The take brought through a line, if that line moves time or changes the skeleton."""
    kind = operation_named(line["operation"])
    if not kind.takes_along:
        return take
    params = kind.as_done(kind.upgraded(line["version"], line["params"]), report)
    return store_patch(take, kind.run(load_clip(take), params, inputs=inputs_of(line, take)))


def made_anew(state: State) -> Patch:
    """The patch that made a state, from how it was made: truly made, not what was at hand."""
    (line,) = kept_lines([state.line])
    assert state.before is not None
    assert state.with_take is not None
    return _done(line, state.before, state.with_take)


make_again_with(made_anew)


def replay(take: State, recipe: Sequence[Line], progress: Progress = silent) -> list[Step]:
    """Every line's outcome, from the take on: what is memoised costs one query in all."""
    keys = trail(take, recipe)
    memos = Memo.objects.select_related("state", "take").in_bulk(keys)
    steps: list[Step] = []
    at = begin(take)
    for k, (line, key) in enumerate(zip(recipe, keys, strict=True)):
        memo = memos.get(key)
        if memo is not None and _stays(memo):
            step = _remembered(line, memo)
        else:
            within = part_of(progress, k / len(recipe), 1 / len(recipe))
            step = _worked(line, at, key, within)
        steps.append(step)
        at = step.after
    return steps
