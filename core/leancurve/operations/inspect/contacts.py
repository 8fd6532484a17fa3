"""Contacts: spans in which feet and hands are held, found or set by hand."""

from __future__ import annotations

from collections import Counter
from typing import Any, ClassVar, Literal

from pydantic import Field

from leancurve.cleaning.contacts import ContactLimits, contacts_of, find_support
from leancurve.document.clip import Clip, Contact
from leancurve.errors import BadInput
from leancurve.numbers.spans import meet, most_shared
from leancurve.operations.base import (
    Operation,
    Params,
    Patch,
    Progress,
    Scope,
    counted,
    number,
    silent,
    timed,
)

_STATED = ContactLimits()


class FindContactsParams(Params):
    speed: float = number(
        _STATED.speed_off, "mm/s", "a foot faster than this is off the floor", gt=0, le=5000
    )
    height: float = number(
        _STATED.height_off, "mm", "a foot higher than this above its rest is off it", gt=0, le=500
    )


class FindContacts(Operation[FindContactsParams]):
    """Find when heels, toes and hands are held, and when nothing is.

    A contact begins below a lower threshold and ends above the given one: ``speed 400`` begins
    below 250 mm/s. What was set by hand before is replaced.
    """

    name = "find_contacts"
    title = "Find contacts"
    step = "inspect"
    scoped = False
    keeps = "motion"
    Params: ClassVar[type[FindContactsParams]] = FindContactsParams

    def apply(
        self, clip: Clip, scope: Scope, params: FindContactsParams, progress: Progress = silent
    ) -> Patch:
        limits = ContactLimits(
            speed_on=params.speed * _STATED.speed_on / _STATED.speed_off,
            speed_off=params.speed,
            height_on=params.height * _STATED.height_on / _STATED.height_off,
            height_off=params.height,
        )
        support = find_support(clip, limits)
        counts = Counter(c.limb for c in support.contacts)
        return Patch(
            contacts=support.contacts,
            report={
                "contacts": len(support.contacts),
                "by_limb": dict(counts),
                "floor_mm": support.floor * clip.millimetres,
            },
        )


class ContactEdit(Params):
    """One span by hand. ``set`` and ``remove`` mean the span that overlaps first to last most."""

    do: Literal["add", "set", "remove"]
    limb: str = Field(min_length=1, max_length=40)
    first: int = timed(time="begins", ge=0)
    last: int = timed(time="ends", ge=0)
    new_first: int | None = timed(
        None, time="begins", description="where a set span begins now", ge=0
    )
    new_last: int | None = timed(None, time="ends", description="where a set span ends now", ge=0)


class EditContactsParams(Params):
    edits: tuple[ContactEdit, ...] = Field(min_length=1)


class EditContacts(Operation[EditContactsParams]):
    """Contact spans dragged, added and taken out by hand.

    ``{"do": "set", "limb": "left toe", "first": 10, "last": 40, "new_first": 12}`` begins that
    span two frames later. To split is to set and add, to join to remove and set. A limb is held
    once at a time: spans of one limb that come to overlap become one.
    """

    name = "edit_contacts"
    title = "Edit contacts"
    step = "inspect"
    scoped = False
    keeps = "motion"
    Params: ClassVar[type[EditContactsParams]] = EditContactsParams

    def apply(
        self, clip: Clip, scope: Scope, params: EditContactsParams, progress: Progress = silent
    ) -> Patch:
        spans = list(contacts_of(clip))
        unplaced: list[dict[str, Any]] = []
        for edit in params.edits:
            if edit.last < edit.first:
                raise BadInput(f"{edit.limb}: the last frame {edit.last} is before {edit.first}")
            if edit.do == "add":
                _put(spans, _within(clip, edit.limb, edit.first, edit.last))
                continue
            found = _nearest(spans, edit)
            if found is None:
                unplaced.append({"limb": edit.limb, "first": edit.first, "last": edit.last})
                continue
            spans.remove(found)
            if edit.do == "set":
                first = found.first if edit.new_first is None else edit.new_first
                last = found.last if edit.new_last is None else edit.new_last
                if last < first:
                    raise BadInput(f"{edit.limb}: the last frame {last} is before {first}")
                _put(spans, _within(clip, edit.limb, first, last))
        report: dict[str, Any] = {"edits": len(params.edits), "contacts": len(spans)}
        if unplaced:
            report["unplaced"] = unplaced
        return Patch(contacts=tuple(sorted(spans)), report=report)

    def told(self, params: Any) -> str:
        count = len(params["edits"])
        return f"Edit {counted(count, 'contact')}"


def _within(clip: Clip, limb: str, first: int, last: int) -> Contact:
    end = max(clip.frames - 1, 0)
    return Contact(limb, min(first, end), min(last, end))


def _put(spans: list[Contact], new: Contact) -> None:
    """Add a span; one of the limb that it overlaps becomes a part of it."""
    met = [c for c in spans if c.limb == new.limb and meet(c, new)]
    for contact in met:
        spans.remove(contact)
    first, last = min(c.first for c in [new, *met]), max(c.last for c in [new, *met])
    spans.append(Contact(new.limb, first, last))


def _nearest(spans: list[Contact], edit: ContactEdit) -> Contact | None:
    """The limb's span that overlaps an edit's most, None if none does."""
    return most_shared((c for c in spans if c.limb == edit.limb), edit)
