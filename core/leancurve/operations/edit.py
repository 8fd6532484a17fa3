"""Edit: keys moved or changed by hand, kept by the key's id and its absolute result."""

from __future__ import annotations

from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import Field

from leancurve.clip import ChannelId, Clip
from leancurve.curve import Curve, Handle, KeyedCurve, eased_slopes
from leancurve.operations.base import Operation, Params, Patch, Progress, Scope, silent


class KeyEdit(Params):
    """One key's new state. What is absent stays; ``frame`` is where the key was seen."""

    joint: str
    channel: Literal["tx", "ty", "tz", "rx", "ry", "rz"]
    id: int = Field(ge=0)
    frame: float = Field(allow_inf_nan=False)
    time: float | None = Field(None, ge=0, allow_inf_nan=False)
    value: float | None = Field(None, allow_inf_nan=False)
    slope_in: float | None = Field(None, allow_inf_nan=False)
    slope_out: float | None = Field(None, allow_inf_nan=False)


class EditParams(Params):
    keys: tuple[KeyEdit, ...] = Field(min_length=1)


def place(curve: KeyedCurve, edit: KeyEdit) -> int | None:
    """Index of the key an edit means: by id, else the nearest within half a frame."""
    found = np.flatnonzero(curve.id == edit.id)
    if len(found):
        return int(found[0])
    nearest = int(np.argmin(np.abs(curve.time - edit.frame)))
    return nearest if abs(curve.time[nearest] - edit.frame) <= 0.5 else None


def edited_curve(curve: KeyedCurve, edits: list[KeyEdit]) -> tuple[KeyedCurve, list[KeyEdit]]:
    """The curve with edits made in turn, and those that found no key or no room."""
    unplaced: list[KeyEdit] = []
    columns = {name: column.copy() for name, column in curve.columns.items()}
    touched: set[int] = set()
    for edit in edits:
        k = place(KeyedCurve(**columns), edit)
        if k is None:
            unplaced.append(edit)
            continue
        if edit.time is not None:
            below = columns["time"][k - 1] if k else -np.inf
            above = columns["time"][k + 1] if k + 1 < len(columns["time"]) else np.inf
            if not below < edit.time < above:
                # A key never passes its neighbour, nor lands on it.
                unplaced.append(edit)
                continue
        for name in ("time", "value", "slope_in", "slope_out"):
            given = getattr(edit, name)
            if given is not None:
                columns[name][k] = given
        if edit.slope_in is not None or edit.slope_out is not None:
            columns["handle"][k] = Handle.FREE
        touched.update((k - 1, k, k + 1))
    eased = np.flatnonzero(columns["handle"] == Handle.EASED)
    again = [k for k in eased.tolist() if k in touched]
    if again:
        slopes = eased_slopes(columns["time"], columns["value"])
        columns["slope_in"][again] = columns["slope_out"][again] = slopes[again]
    return KeyedCurve(**columns).checked(), unplaced


class Edit(Operation[EditParams]):
    """Hand edits of keys: times, values, slopes, each absolute.

    Replayed after a change above, an edit finds its key by id, then by the nearest key within
    half a frame; what finds none is listed in the report as unplaced.
    """

    name = "edit"
    title = "Edit keys"
    step = "shape"
    Params: ClassVar[type[EditParams]] = EditParams

    def apply(
        self, clip: Clip, scope: Scope, params: EditParams, progress: Progress = silent
    ) -> Patch:
        allowed = set(scope.resolve(clip))
        wanted: dict[ChannelId, list[KeyEdit]] = {}
        unplaced: list[KeyEdit] = []
        for edit in params.keys:
            channel = (
                ChannelId(clip.skeleton.index(edit.joint), edit.channel)
                if edit.joint in clip.skeleton.names
                else None
            )
            curve = clip.curves.get(channel) if channel in allowed and channel else None
            if channel is None or not isinstance(curve, KeyedCurve):
                unplaced.append(edit)
            else:
                wanted.setdefault(channel, []).append(edit)
        curves: dict[ChannelId, Curve] = {}
        for done, (channel, edits) in enumerate(wanted.items(), start=1):
            curve = clip.curves[channel]
            assert isinstance(curve, KeyedCurve)
            changed, lost = edited_curve(curve, edits)
            unplaced += lost
            curves[channel] = changed
            progress(done / len(wanted))
        return Patch(
            curves=curves,
            report={
                "keys": len(params.keys) - len(unplaced),
                "unplaced": [e.model_dump(exclude_none=True) for e in unplaced],
            },
        )

    def told(self, params: Any) -> str:
        count = len(params["keys"])
        return f"Edit {count} key{'s' if count > 1 else ''}"
