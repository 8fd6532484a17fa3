"""Recipes: lines of operations as a file, run on a clip, moved to another take."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import orjson
from pydantic import ValidationError

from leancurve.document.clip import Clip
from leancurve.document.scope import Scope
from leancurve.errors import BadInput
from leancurve.operations import apply_patch, operation_named
from leancurve.progress import Progress, part_of, silent

SCHEMA = "leancurve.recipe"
SCHEMA_VERSION = 1

Line = dict[str, Any]

ALL_OF_IT: tuple[Line, ...] = (
    {"operation": "trim"},
    {"operation": "unflip"},
    {"operation": "mend_snaps"},
    {"operation": "fill"},
    {"operation": "despike"},
    {"operation": "smooth"},
    {"operation": "clamp", "params": {"feet": True, "soft": 2.0}},
    {"operation": "find_contacts"},
    {"operation": "drop_idle"},
    {"operation": "thin"},
)
"""From captured to thinned with each operation's own defaults."""

FRAMES = {
    *("first", "last", "new_first", "new_last", "begin_frame", "also", "frame", "frames"),
    *("after", "about"),
}
"""Names under which lines hold frames, in their scope and their parameters."""


def checked_line(operation: str, params: Mapping[str, Any], scope: Mapping[str, Any]) -> Line:
    """A line with parameters and scope checked; :class:`BadInput` says what is wrong."""
    kind = operation_named(operation)
    parsed = kind.parsed(params)
    try:
        where = Scope.model_validate(dict(scope))
    except ValidationError as trouble:
        first = trouble.errors()[0]
        raise BadInput(f"scope {first['loc']}: {first['msg']}") from None
    return {
        "operation": operation,
        "version": kind.version,
        "params": parsed.model_dump(mode="json", exclude_none=True),
        "scope": where.model_dump(mode="json", exclude_none=True),
    }


def read_recipe(data: bytes, name: str | None = None) -> list[Line]:
    """The lines of a recipe file: ``{"lines": [{"operation", "params", "scope"}]}``, or a list.

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
                checked_line(line["operation"], line.get("params", {}), line.get("scope", {}))
            )
        except BadInput as trouble:
            raise BadInput(f"line {number} of the recipe: {trouble.message}", file=name) from None
    return out


def write_recipe(name: str, lines: Sequence[Line]) -> bytes:
    """A recipe file that :func:`read_recipe` reads."""
    kept = [{k: line[k] for k in ("operation", "version", "params", "scope")} for line in lines]
    document = {"schema": SCHEMA, "schema_version": SCHEMA_VERSION, "name": name, "lines": kept}
    return orjson.dumps(document, option=orjson.OPT_INDENT_2 | orjson.OPT_APPEND_NEWLINE)


@dataclass(frozen=True)
class Done:
    """What a line did."""

    line: Line
    told: str
    report: Mapping[str, Any]
    keys: int


@dataclass(frozen=True)
class Outcome:
    """A recipe's result: the clip, and each line's report."""

    clip: Clip
    lines: list[Done] = field(default_factory=list)


def run_recipe(clip: Clip, lines: Sequence[Line], progress: Progress = silent) -> Outcome:
    """Every line in turn. A line that fails fails the whole: its number and name are said.

    What brings back the take is given the clip as it came, brought through the lines that move
    time.
    """
    done: list[Done] = []
    take = clip
    brings_back = any(operation_named(line["operation"]).needs_take for line in lines)
    for k, line in enumerate(lines):
        kind = operation_named(line["operation"])
        within = part_of(progress, k / len(lines), 1 / len(lines))
        try:
            scope = Scope.model_validate(line.get("scope", {}))
            params = line.get("params", {})
            patch = kind.run(clip, params, scope, within, take)
            if kind.retimes and brings_back:
                take = apply_patch(take, kind.run(take, kind.as_done(params, patch.report)))
        except BadInput as trouble:
            raise BadInput(f"line {k + 1}, {kind.title}: {trouble.message}") from None
        clip = apply_patch(clip, patch)
        told = kind.told(line.get("params", {}))
        done.append(Done(line, told, patch.report, clip.key_count))
    return Outcome(clip, done)


def moved_lines(
    lines: Sequence[Line], scale: float, frames: int
) -> tuple[list[Line], list[dict[str, Any]]]:
    """Lines meant for one take as they mean the same seconds on another, and what does not fit.

    ``scale`` is the new rate over the old one, ``frames`` the new take's count. Frames are
    mapped by time and clipped; a span that lies wholly beyond the end is taken out and listed.
    Spans that mean contacts or groups of the body need no mapping: they are resolved anew.
    """
    out: list[Line] = []
    lost: list[dict[str, Any]] = []
    for line in lines:
        given = line.get("params", {})
        params, gone = _moved(given, scale, frames)
        kind = operation_named(line["operation"])
        for name in kind.lengths:
            if name in given:
                params[name] = round(given[name] * scale)
        scope, beyond = _moved(line.get("scope", {}), scale, frames)
        lost += [{"operation": line["operation"], **g} for g in [*gone, *beyond]]
        emptied = any(given.get(k) and not params.get(k) for k in ("edits", "findings", "pins"))
        if not beyond and not emptied:
            out.append({**line, "params": params, "scope": scope})
            frames = max(frames + kind.longer(params), 1)
    return out, lost


def _moved(
    value: Mapping[str, Any], scale: float, frames: int
) -> tuple[dict[str, Any], list[dict[str, Any]]]:
    """A mapping with its frames moved, and the spans in it that fall beyond the end."""

    def at(frame: float) -> int:
        return min(round(frame * scale), frames - 1)

    out: dict[str, Any] = {}
    lost: list[dict[str, Any]] = []
    for name, v in value.items():
        if name == "time" and isinstance(v, int | float):
            # A key may lie off the frame: its time is not rounded.
            out[name] = min(v * scale, frames - 1.0)
        elif name in FRAMES and isinstance(v, int | float):
            out[name] = at(v)
        elif name == "frames" and isinstance(v, list | tuple):
            if round(v[0] * scale) >= frames:
                lost.append({"frames": list(v)})
            else:
                out[name] = [at(f) for f in v]
        elif name in FRAMES and isinstance(v, list | tuple):
            out[name] = [at(f) for f in v if round(f * scale) < frames]
            lost += [{name: f} for f in v if round(f * scale) >= frames]
        elif name == "pins":
            out[name], gone = _moved_pins(v, scale, frames)
            lost += [{name: pin} for pin in gone]
        elif name == "keep" and isinstance(v, dict):
            out[name] = {c: [at(f) for f in times] for c, times in v.items()}
        elif isinstance(v, list | tuple) and v and isinstance(v[0], dict):
            kept = []
            for item in v:
                start = item.get("first", item.get("frame", 0))
                if round(start * scale) >= frames:
                    lost.append(dict(item))
                else:
                    kept.append(_moved(item, scale, frames)[0])
            out[name] = kept
        else:
            out[name] = v
    return out, lost


def _moved_pins(
    pins: Sequence[Sequence[int]], scale: float, frames: int
) -> tuple[list[list[int]], list[list[int]]]:
    """Time pins moved, and those that lie beyond the end or would meet the one before."""
    out: list[list[int]] = []
    lost: list[list[int]] = []
    for source, target in pins:
        pin = [round(source * scale), round(target * scale)]
        ahead = not out or (pin[0] > out[-1][0] and pin[1] > out[-1][1])
        if ahead and pin[0] < frames:
            out.append(pin)
        else:
            lost.append([source, target])
    return (out if len(out) > 1 else []), lost
