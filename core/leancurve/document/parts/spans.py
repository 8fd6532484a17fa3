"""Spans of a clip: contacts, findings that are meant, marks."""

from __future__ import annotations

from leancurve.document.clip import Accepted, Contact, Mark
from leancurve.document.parts.base import Part

CONTACTS = Part(
    "contacts", "contacts",
    item=lambda values: Contact(**values),
    key=lambda contact: contact.limb,
    most=20_000,
    public=None,  # asked for by itself: until contacts are looked for they are found on demand
    spans=True, unknown=True,
)  # fmt: skip
ACCEPTED = Part(
    "accepted", "findings that are meant",
    item=lambda values: Accepted(**values),
    key=lambda finding: finding,
    most=20_000,
    public=None,  # told with the findings themselves
    spans=True, of_figure=True,
)  # fmt: skip
MARKS = Part(
    "marks", "marks",
    item=lambda values: Mark(**values),
    key=lambda mark: mark,
    most=10_000,
    spans=True,
)  # fmt: skip
