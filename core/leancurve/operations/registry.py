"""The one list of operations: the API, the command line and recipes read it."""

from __future__ import annotations

from typing import Any

from leancurve.errors import BadInput
from leancurve.operations.accept import Accept
from leancurve.operations.base import Operation
from leancurve.operations.contacts import EditContacts, FindContacts
from leancurve.operations.edit import Edit
from leancurve.operations.read import Read
from leancurve.operations.thin import Thin
from leancurve.operations.unflip import Unflip

OPERATIONS: dict[str, Operation[Any]] = {
    operation.name: operation
    for operation in (
        Read(),
        FindContacts(),
        EditContacts(),
        Accept(),
        Unflip(),
        Thin(),
        Edit(),
    )
}


def operation_named(name: str) -> Operation[Any]:
    """The operation of that name; :class:`BadInput` lists the names there are."""
    try:
        return OPERATIONS[name]
    except KeyError:
        raise BadInput(
            f"no operation is named {name!r}; there are {', '.join(OPERATIONS)}"
        ) from None
