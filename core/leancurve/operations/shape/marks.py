"""Marks: named points and spans in time, made, moved and taken out by hand."""

from __future__ import annotations

from typing import Any, ClassVar, Literal

from pydantic import Field

from leancurve.document.clip import Clip, Mark
from leancurve.errors import BadInput
from leancurve.operations.base import (
    Operation,
    Params,
    Patch,
    Progress,
    Scope,
    counted,
    silent,
    timed,
)


class MarkEdit(Params):
    """One mark by hand. ``set`` and ``remove`` mean the mark of that name nearest to first."""

    do: Literal["add", "set", "remove"]
    name: str = Field(min_length=1, max_length=60)
    first: int = timed(time="begins", ge=0)
    last: int | None = timed(
        None, time="ends", description="its last frame; the first when absent", ge=0
    )
    new_name: str | None = Field(None, min_length=1, max_length=60)
    new_first: int | None = timed(None, time="begins", ge=0)
    new_last: int | None = timed(None, time="ends", ge=0)


class EditMarksParams(Params):
    edits: tuple[MarkEdit, ...] = Field(min_length=1)


class EditMarks(Operation[EditMarksParams]):
    """Name points and spans in time: ``{"do": "add", "name": "lifts off", "first": 41}``."""

    name = "edit_marks"
    title = "Edit marks"
    step = "shape"
    scoped = False
    keeps = "motion"
    Params: ClassVar[type[EditMarksParams]] = EditMarksParams

    def apply(
        self, clip: Clip, scope: Scope, params: EditMarksParams, progress: Progress = silent
    ) -> Patch:
        marks = list(clip.marks)
        unplaced: list[dict[str, Any]] = []
        for edit in params.edits:
            if edit.do == "add":
                marks.append(_mark(clip, edit.name, edit.first, edit.last))
                continue
            named = [m for m in marks if m.name == edit.name]
            if not named:
                unplaced.append({"name": edit.name, "first": edit.first})
                continue
            found = min(named, key=lambda m: abs(m.first - edit.first))
            marks.remove(found)
            if edit.do == "set":
                first = found.first if edit.new_first is None else edit.new_first
                last = found.last if edit.new_last is None else edit.new_last
                marks.append(_mark(clip, edit.new_name or found.name, first, last))
        report: dict[str, Any] = {"edits": len(params.edits), "marks": len(marks)}
        if unplaced:
            report["unplaced"] = unplaced
        return Patch(marks=tuple(sorted(marks)), report=report)

    def told(self, params: Any) -> str:
        count = len(params["edits"])
        return f"Edit {counted(count, 'mark')}"


def _mark(clip: Clip, name: str, first: int, last: int | None) -> Mark:
    last = first if last is None else last
    if last < first:
        raise BadInput(f"mark {name}: the last frame {last} is before {first}")
    end = max(clip.frames - 1, 0)
    return Mark(min(first, end), min(last, end), name)
