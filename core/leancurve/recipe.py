"""Recipes: lines of operations as a file, run on a clip, moved to another take."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from fractions import Fraction
from typing import Any

import orjson
from pydantic import ValidationError

from leancurve.document.clip import Clip
from leancurve.document.layer import layer_of
from leancurve.document.scope import Scope
from leancurve.errors import BadInput
from leancurve.measures.account import Entry, Kind, measured
from leancurve.operations import apply_patch, operation_named
from leancurve.operations.base import Inputs
from leancurve.progress import Progress, part_of, silent
from leancurve.time.meaning import Beyond, ClipTime, moved_values

SCHEMA = "leancurve.recipe"
SCHEMA_VERSION = 1

Line = dict[str, Any]

ALL_OF_IT: tuple[Line, ...] = (
    {"operation": "tidy_keys"},
    {"operation": "trim"},
    {"operation": "restore_frames"},
    {"operation": "unflip"},
    {"operation": "mend_snaps"},
    {"operation": "fill"},
    {"operation": "despike"},
    {"operation": "smooth"},
    {"operation": "clamp", "params": {"feet": True, "soft": 2.0}},
    {"operation": "find_contacts"},
    {"operation": "drop_idle"},
    {"operation": "thin"},
    {"operation": "check"},
)
"""From captured to thinned with each operation's own defaults, and what is left."""

FEET_PLANTED: tuple[Line, ...] = (*ALL_OF_IT[:-1], {"operation": "plant"}, ALL_OF_IT[-1])
"""The same, and feet held where they stand."""


def checked_line(
    operation: str,
    params: Mapping[str, Any],
    scope: Mapping[str, Any],
    version: int | None = None,
) -> Line:
    """A line with parameters and scope checked; :class:`BadInput` says what is wrong.

    One of an older ``version`` is brought up to this one.
    """
    kind = operation_named(operation)
    if version is not None and not 1 <= version <= kind.version:
        raise BadInput(f"{operation}: version {version} is not known; this one is {kind.version}")
    parsed = kind.parsed(params if version is None else kind.upgraded(version, params))
    try:
        where = Scope.model_validate(dict(scope))
    except ValidationError as trouble:
        first = trouble.errors()[0]
        raise BadInput(f"scope {first['loc']}: {first['msg']}") from None
    if version is None:
        kind.require_scope(where)
    else:
        where = kind.scope_of(where.model_dump())
    return {
        "operation": kind.name,
        "version": kind.version,
        "params": parsed.model_dump(mode="json", exclude_none=True),
        "scope": where.model_dump(mode="json", exclude_none=True),
    }


@dataclass(frozen=True)
class KeptRecipe:
    """Lines, and the rate in frames a second that their frames were meant at, where it is said."""

    lines: list[Line]
    rate: Fraction | None = None


def read_recipe(data: bytes, name: str | None = None) -> KeptRecipe:
    """A recipe file: ``{"rate": [60, 1], "lines": [{"operation", "version", "params", "scope"}]}``,
    or a list of lines.

    Raises :class:`BadInput` naming the line and the field.
    """
    try:
        document = orjson.loads(data)
    except orjson.JSONDecodeError as trouble:
        raise BadInput(f"not valid JSON: {trouble.msg}", file=name, line=trouble.lineno) from None
    lines = document.get("lines") if isinstance(document, dict) else document
    if not isinstance(lines, list) or not lines:
        raise BadInput("expected a list of lines, or an object with one in 'lines'", file=name)
    out = []
    for number, line in enumerate(lines, start=1):
        if not isinstance(line, dict) or not isinstance(line.get("operation"), str):
            raise BadInput(f"line {number} of the recipe: expected an operation's name", file=name)
        unknown = set(line) - {"operation", "version", "params", "scope", "line_id"}
        if unknown:
            raise BadInput(f"line {number} of the recipe: no part is named {min(unknown)!r}",
                           file=name)  # fmt: skip
        try:
            out.append(
                checked_line(
                    line["operation"],
                    line.get("params", {}),
                    line.get("scope", {}),
                    line.get("version"),
                )
            )
        except BadInput as trouble:
            raise BadInput(f"line {number} of the recipe: {trouble.message}", file=name) from None
    return KeptRecipe(out, _rate_in(document, name))


def _rate_in(document: Any, name: str | None) -> Fraction | None:
    rate = document.get("rate") if isinstance(document, dict) else None
    if rate is None:
        return None
    whole = isinstance(rate, list) and len(rate) == 2 and all(type(v) is int for v in rate)
    if not whole or min(rate) < 1:
        raise BadInput(f"rate: expected frames a second as two whole numbers, got {rate!r}",
                       file=name)  # fmt: skip
    return Fraction(*rate)


def write_recipe(name: str, lines: Sequence[Line], rate: Fraction | None = None) -> bytes:
    """A recipe file that :func:`read_recipe` reads; ``rate`` is what its frames are meant at."""
    kept = [{k: line[k] for k in ("operation", "version", "params", "scope")} for line in lines]
    document: dict[str, Any] = {
        "schema": SCHEMA,
        "schema_version": SCHEMA_VERSION,
        "name": name,
        **({} if rate is None else {"rate": [rate.numerator, rate.denominator]}),
        "lines": kept,
    }
    return orjson.dumps(document, option=orjson.OPT_INDENT_2 | orjson.OPT_APPEND_NEWLINE)


@dataclass(frozen=True)
class Done:
    """What a line did, and the clip after it."""

    line: Line
    told: str
    report: Mapping[str, Any]
    keys: int
    clip: Clip


@dataclass(frozen=True)
class Outcome:
    """A recipe's result: the clip, each line's report, and what found no place."""

    clip: Clip
    lines: list[Done] = field(default_factory=list)
    lost: list[dict[str, Any]] = field(default_factory=list)


def run_recipe(
    clip: Clip, lines: Sequence[Line], progress: Progress = silent, rate: Fraction | None = None
) -> Outcome:
    """Every line in turn. A line that fails fails the whole: its number and name are said.

    Lines meant at another ``rate`` are moved first; what lies beyond the end is listed. What works
    with the take is given the clip as it came, brought through the lines that move time.
    """
    lost: list[dict[str, Any]] = []
    if rate is not None:
        old, new = ClipTime(rate, clip.frames), ClipTime(clip.rate, clip.frames)
        lines, lost = moved_lines(lines, old, new)
    done: list[Done] = []
    take = clip
    declared = (i for x in lines for i in operation_named(x["operation"]).inputs.values())
    brings_back = any(i.kind == "take" for i in declared)
    hand: list[Clip] = []
    for k, line in enumerate(lines):
        if line.get("aside"):
            continue
        kind = operation_named(line["operation"])
        within = part_of(progress, k / len(lines), 1 / len(lines))
        try:
            scope = kind.scope_of(line.get("scope", {}))
            params = line.get("params", {})
            at_hand: Inputs = {"take": take, "hand": hand}
            inputs = {n: at_hand[i.kind] for n, i in kind.inputs.items() if i.kind in at_hand}
            patch = kind.run(clip, params, scope, within, inputs)
            if kind.retimes and brings_back:
                take = apply_patch(take, kind.run(take, kind.as_done(params, patch.report)))
        except BadInput as trouble:
            raise BadInput(f"line {k + 1}, {kind.title}: {trouble.message}") from None
        before, clip = clip, apply_patch(clip, patch)
        if counted_as(line) == "hand":
            hand = [*hand, before, clip]
        told = kind.told(line.get("params", {}))
        done.append(Done(line, told, patch.report, clip.key_count, clip))
    return Outcome(clip, done, lost)


def entry_of(line: Line, report: Mapping[str, Any], before: Clip, after: Clip) -> Entry:
    """A line in an account, measured from the clips before and after it."""
    drift, shift = measured(counted_as(line), before, after)
    moved = time_moved(line, report, before)
    return Entry(drift, shift, after.frames, moved)


def counted_as(line: Line) -> Kind:
    kind = operation_named(line["operation"])
    params = kind.upgraded(line.get("version", kind.version), line.get("params", {}))
    return "layer" if _on_layers(line) else kind.counted_as(params)


def named_states(line: Mapping[str, Any]) -> set[str]:
    """Digests of the clips that a line names as what it works with."""
    kinds = operation_named(line["operation"]).inputs
    out: set[str] = set()
    for name, given in (line.get("inputs") or {}).items():
        if kinds[name].kind != "skeleton":
            out |= {given} if isinstance(given, str) else set(given)
    return out


def _on_layers(line: Line) -> bool:
    """Whether a line that works on any curves works on those of layers alone."""
    owners = {(line.get("scope") or {}).get("owner")}
    if line["operation"] == "edit":
        owners |= {key.get("owner") for key in line.get("params", {}).get("keys", ())}
    named = [owner for owner in owners if owner is not None]
    return bool(named) and all(layer_of(owner) is not None for owner in named)


def time_moved(
    line: Line, report: Mapping[str, Any], before: Clip
) -> Callable[[float], float] | None:
    """Where a line puts a frame of the clip before it; None where it moves no time."""
    if not operation_named(line["operation"]).retimes:
        return None
    return time_after(line, ClipTime(before.rate, before.frames), report).moved


@dataclass(frozen=True)
class Moved:
    """A line as it means the same seconds on another time, and what of it has no place there."""

    line: Line
    lost: list[dict[str, Any]]


def moved_line(line: Line, old: ClipTime, new: ClipTime) -> Moved:
    """A line meant for one time of its clip as it means the same seconds on another.

    Frames are mapped by the rate and cut at the end. What lies beyond it is listed, and the line
    keeps what it was made with (``made``), so that nothing is lost on the way back; where nothing
    of it is left the line is set ``aside`` with the reason. Spans that mean contacts or groups of
    the body need no mapping: they are resolved anew.
    """
    kind = operation_named(line["operation"])
    made = line.get("made") or {
        "rate": [old.rate.numerator, old.rate.denominator],
        "params": line.get("params", {}),
        "scope": line.get("scope", {}),
    }
    scale = float(new.rate / Fraction(*made["rate"]))
    kept = {k: v for k, v in line.items() if k not in ("made", "aside")}
    try:
        params, lost = moved_values(kind.Params, made["params"], scale, new.frames)
        scope, gone = moved_values(Scope, made["scope"], scale, new.frames)
        kind.parsed(params)
    except Beyond:
        return _aside({**kept, "made": made}, "it lies beyond the end of the take", made)
    except BadInput as trouble:
        return _aside({**kept, "made": made}, trouble.message, made)
    out = {**kept, "params": params, "scope": scope}
    lost = [*lost, *gone]
    if (params, scope) != (made["params"], made["scope"]):
        out["made"] = made
    return Moved(out, [{"operation": line["operation"], **as_lost(g)} for g in lost])


def as_lost(item: Any) -> dict[str, Any]:
    return dict(item) if isinstance(item, Mapping) else {"what": item}


def _aside(line: Line, why: str, made: Mapping[str, Any]) -> Moved:
    out = {**line, "params": made["params"], "scope": made["scope"], "aside": why}
    span = made["scope"].get("frames")
    where = {"frames": span} if span else {}
    return Moved(out, [{"operation": line["operation"], "aside": why, **where}])


def set_aside(line: Line, why: str) -> Moved:
    """A line that cannot be done here: kept as it is, and left out of the work."""
    made = line.get("made") or {"params": line["params"], "scope": line["scope"]}
    return _aside(line, why, made)


def moved_lines(
    lines: Sequence[Line], old: ClipTime, new: ClipTime
) -> tuple[list[Line], list[dict[str, Any]]]:
    """Lines meant for one time as they mean the same seconds on another, and what does not fit.

    Each line is moved on its own time: what the lines before it make of either.
    """
    out: list[Line] = []
    lost: list[dict[str, Any]] = []
    for line in lines:
        moved = moved_line(line, old, new)
        out.append(moved.line)
        lost += moved.lost
        if not line.get("aside"):
            old = time_after(line, old)
        if not moved.line.get("aside"):
            new = time_after(moved.line, new)
    return out, lost


def time_after(line: Line, time: ClipTime, report: Mapping[str, Any] | None = None) -> ClipTime:
    """A clip's time after a line; with its report also where it found out itself what to do."""
    kind = operation_named(line["operation"])
    params = kind.upgraded(line.get("version", kind.version), line.get("params", {}))
    if report is not None:
        params = kind.as_done(params, report)
    return kind.time_after(time, kind.parsed(params))
