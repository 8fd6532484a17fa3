"""The one list of operations: the API, the command line and recipes read it."""

from __future__ import annotations

from typing import Any

from leancurve.errors import BadInput
from leancurve.operations.accept import Accept
from leancurve.operations.base import Operation
from leancurve.operations.brush import Brush
from leancurve.operations.by_hand import KeyPose, SoftOffset
from leancurve.operations.change_rate import ChangeRate
from leancurve.operations.clamp import Clamp
from leancurve.operations.contacts import EditContacts, FindContacts
from leancurve.operations.densify import Densify
from leancurve.operations.despike import Despike
from leancurve.operations.drop_idle import DropIdle
from leancurve.operations.edit import Edit
from leancurve.operations.fill import Fill
from leancurve.operations.frames import InsertFrames, RemoveSpan, ShiftFrom
from leancurve.operations.gain import Gain, Offset
from leancurve.operations.lag import Lag
from leancurve.operations.loops import CloseLoop, Repeat
from leancurve.operations.marks import EditMarks
from leancurve.operations.mend_snaps import MendSnaps
from leancurve.operations.noise import Noise
from leancurve.operations.pose import Flow, Lean, Level
from leancurve.operations.read import Read
from leancurve.operations.reorder import Reorder
from leancurve.operations.retime import Retime, ScaleSpan
from leancurve.operations.slide import Slide
from leancurve.operations.smooth import Smooth
from leancurve.operations.spacing import BorrowRhythm, Even, MatchTimes
from leancurve.operations.swap import Swap
from leancurve.operations.thin import Thin
from leancurve.operations.tidy_keys import TidyKeys
from leancurve.operations.trim import Trim
from leancurve.operations.unflip import Unflip

OPERATIONS: dict[str, Operation[Any]] = {
    operation.name: operation
    for operation in (
        Read(),
        FindContacts(),
        EditContacts(),
        Accept(),
        Trim(),
        Unflip(),
        MendSnaps(),
        Reorder(),
        Fill(),
        Despike(),
        Smooth(),
        Clamp(),
        ChangeRate(),
        DropIdle(),
        TidyKeys(),
        Thin(),
        Densify(),
        Edit(),
        Brush(),
        EditMarks(),
        Gain(),
        Offset(),
        Noise(),
        Swap(),
        Even(),
        Lag(),
        MatchTimes(),
        BorrowRhythm(),
        Repeat(),
        CloseLoop(),
        Lean(),
        Level(),
        Flow(),
        Slide(),
        Retime(),
        ScaleSpan(),
        RemoveSpan(),
        InsertFrames(),
        ShiftFrom(),
        KeyPose(),
        SoftOffset(),
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
