"""The one list of operations: the API, the command line and recipes read it."""

from __future__ import annotations

from typing import Any

from leancurve.errors import BadInput
from leancurve.operations.balance.balance import Balance
from leancurve.operations.base import Operation
from leancurve.operations.bring_in.read import Read
from leancurve.operations.calm.change_rate import ChangeRate
from leancurve.operations.calm.clamp import Clamp
from leancurve.operations.calm.despike import Despike
from leancurve.operations.calm.drop_idle import DropIdle
from leancurve.operations.calm.fill import Fill
from leancurve.operations.calm.restore_frames import RestoreFrames
from leancurve.operations.calm.smooth import Smooth
from leancurve.operations.calm.tidy_keys import TidyKeys
from leancurve.operations.calm.trim import Trim
from leancurve.operations.inspect.accept import Accept
from leancurve.operations.inspect.check import Check
from leancurve.operations.inspect.contacts import EditContacts, FindContacts
from leancurve.operations.join.join import Join
from leancurve.operations.layers.bring import BringLayers
from leancurve.operations.layers.edit import EditLayers
from leancurve.operations.layers.extract import Extract
from leancurve.operations.layers.flatten import Flatten
from leancurve.operations.layers.key import KeyLayer
from leancurve.operations.layers.lift import Lift
from leancurve.operations.layers.load import LoadLayer
from leancurve.operations.layers.merge import MergeLayers
from leancurve.operations.layers.place import Place
from leancurve.operations.layers.split import SplitLayer
from leancurve.operations.plant.bake import BakePlants
from leancurve.operations.plant.edit import EditPlants
from leancurve.operations.plant.mend_limbs import MendLimbs
from leancurve.operations.plant.partners import EditPartners
from leancurve.operations.plant.plant import PlantFeet
from leancurve.operations.plant.props import EditProps
from leancurve.operations.retarget.bring_over import BringOver
from leancurve.operations.retarget.retarget import Retarget
from leancurve.operations.shape.brush import Brush
from leancurve.operations.shape.by_hand import KeyPose, SoftOffset
from leancurve.operations.shape.edit import Edit
from leancurve.operations.shape.frames import InsertFrames, RemoveSpan, ShiftFrom
from leancurve.operations.shape.gain import Gain, Offset
from leancurve.operations.shape.lag import Lag
from leancurve.operations.shape.loops import BeginLoop, CloseLoop, Repeat
from leancurve.operations.shape.marks import EditMarks
from leancurve.operations.shape.mirror import MirrorSides
from leancurve.operations.shape.noise import Noise
from leancurve.operations.shape.pose import Flow, Lean, Level
from leancurve.operations.shape.pull import Pull
from leancurve.operations.shape.retime import Retime, ScaleSpan
from leancurve.operations.shape.reverse import Reverse
from leancurve.operations.shape.slide import Slide
from leancurve.operations.shape.spacing import BorrowRhythm, Even, MatchTimes
from leancurve.operations.shape.swap import Swap
from leancurve.operations.shape.travel import SetTravel
from leancurve.operations.thin.densify import Densify
from leancurve.operations.thin.thin import Thin
from leancurve.operations.unflip.mend_snaps import MendSnaps
from leancurve.operations.unflip.reorder import Reorder
from leancurve.operations.unflip.unflip import Unflip

OPERATIONS: dict[str, Operation[Any]] = {
    operation.name: operation
    for operation in (
        Read(),
        FindContacts(),
        EditContacts(),
        Accept(),
        Check(),
        Trim(),
        Unflip(),
        MendSnaps(),
        Reorder(),
        RestoreFrames(),
        Fill(),
        Despike(),
        Smooth(),
        Clamp(),
        ChangeRate(),
        DropIdle(),
        TidyKeys(),
        Thin(),
        Densify(),
        PlantFeet(),
        EditPlants(),
        EditProps(),
        EditPartners(),
        BakePlants(),
        MendLimbs(),
        Balance(),
        EditLayers(),
        KeyLayer(),
        Flatten(),
        Place(),
        MergeLayers(),
        SplitLayer(),
        BringLayers(),
        Extract(),
        Lift(),
        LoadLayer(),
        Join(),
        Retarget(),
        BringOver(),
        Edit(),
        Brush(),
        EditMarks(),
        Gain(),
        Offset(),
        Noise(),
        Swap(),
        MirrorSides(),
        Even(),
        Lag(),
        MatchTimes(),
        BorrowRhythm(),
        Repeat(),
        CloseLoop(),
        BeginLoop(),
        SetTravel(),
        Lean(),
        Level(),
        Flow(),
        Slide(),
        Retime(),
        ScaleSpan(),
        Reverse(),
        RemoveSpan(),
        InsertFrames(),
        ShiftFrom(),
        KeyPose(),
        SoftOffset(),
        Pull(),
    )
}


NAMES_ONCE = {"carry": "retarget"}
"""What lines of older versions call operations that have another name now."""


def operation_named(name: str) -> Operation[Any]:
    """The operation of that name; :class:`BadInput` lists the names there are."""
    try:
        return OPERATIONS[NAMES_ONCE.get(name, name)]
    except KeyError:
        raise BadInput(
            f"no operation is named {name!r}; there are {', '.join(OPERATIONS)}"
        ) from None
