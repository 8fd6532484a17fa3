"""Edit: keys set, made and removed by hand, kept by the key's id and its absolute result."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from itertools import groupby
from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import Field, model_validator

from leancurve.curves.curve import (
    DEFAULT_SWINGS,
    MOST_SWINGS,
    SAME_TIME,
    Curve,
    Extend,
    Handle,
    KeyedCurve,
    KeyFlag,
    Segment,
    forward_only,
)
from leancurve.curves.handles import beside, settled, with_handle
from leancurve.curves.insertion import insert_key
from leancurve.curves.riding import carried
from leancurve.document.clip import ChannelId, Clip
from leancurve.numbers.arrays import AnyArray, Bools
from leancurve.operations.base import Operation, Params, Patch, Progress, Scope, silent

HandleName = Literal["eased", "flowing", "flat", "straight", "hold", "free"]
SegmentName = Literal["curve", "straight", "hold", "spring", "bounce"]
ExtendName = Literal["hold", "straight", "repeat", "repeat_offset"]
ChannelName = Literal["tx", "ty", "tz", "rx", "ry", "rz"]

SHAPE = ("slope_in", "slope_out", "length_in", "length_out")


class KeyEdit(Params):
    """One key's new state. What is absent stays; ``frame`` is where the key was seen.

    To ``make`` a key is to set one on the curve at ``frame``, its shape unchanged, under a new
    ``id``; what else is given is set then.
    """

    joint: str
    channel: ChannelName
    id: int = Field(ge=0)
    frame: float = Field(allow_inf_nan=False)
    do: Literal["set", "make", "remove"] = "set"
    time: float | None = Field(None, ge=0, allow_inf_nan=False)
    value: float | None = Field(None, allow_inf_nan=False)
    handle: HandleName | None = None
    slope_in: float | None = Field(None, allow_inf_nan=False)
    slope_out: float | None = Field(None, allow_inf_nan=False)
    length_in: float | None = Field(None, ge=0, le=4 / 3)
    length_out: float | None = Field(None, ge=0, le=4 / 3)
    broken: bool | None = Field(None, description="whether the two handles go their own ways")
    muted: bool | None = Field(None, description="whether the curve goes on as if without it")
    riding: bool | None = Field(
        None, description="whether it keeps its share of the time between its neighbours"
    )
    segment: SegmentName | None = None
    swings: int | None = Field(None, ge=1, le=MOST_SWINGS)
    decay: float | None = Field(None, gt=0, le=50)


class EndsEdit(Params):
    """How a curve goes on before its first and after its last key."""

    joint: str
    channel: ChannelName
    before: ExtendName | None = None
    after: ExtendName | None = None


class EditParams(Params):
    keys: tuple[KeyEdit, ...] = ()
    ends: tuple[EndsEdit, ...] = ()

    @model_validator(mode="after")
    def _something(self) -> EditParams:
        if not self.keys and not self.ends:
            raise ValueError("expected keys or ends to edit")
        return self


def place(curve: KeyedCurve, edit: KeyEdit) -> int | None:
    """Index of the key an edit means: by id, else the nearest within half a frame."""
    found = np.flatnonzero(curve.id == edit.id)
    if len(found):
        return int(found[0])
    nearest = int(np.argmin(np.abs(curve.time - edit.frame)))
    return nearest if abs(curve.time[nearest] - edit.frame) <= 0.5 else None


def edited_curve(curve: KeyedCurve, edits: Iterable[KeyEdit]) -> tuple[KeyedCurve, list[KeyEdit]]:
    """The curve with edits made in turn, and those that found no key or no room.

    Keys set one after another are set together, so that a group may move past where its own
    members stood; none passes a key that stays.
    """
    unplaced: list[KeyEdit] = []
    for do, group in groupby(edits, key=lambda e: e.do):
        if do == "set":
            curve, lost = _set_keys(curve, list(group))
            unplaced += lost
            continue
        for edit in group:
            made = _make(curve, edit) if do == "make" else _remove(curve, edit)
            if made is None:
                unplaced.append(edit)
            else:
                curve = made
    return curve.checked(), unplaced


def _make(curve: KeyedCurve, edit: KeyEdit) -> KeyedCurve | None:
    if np.any(curve.id == edit.id) or np.abs(curve.time - edit.frame).min() < SAME_TIME:
        return None
    fresh = insert_key(curve, edit.frame)
    # Where a spring is written out other keys come along: the one asked for stands at the frame.
    at = int(np.argmin(np.abs(fresh.time - edit.frame)))
    ids = fresh.id.copy()
    ids[at] = edit.id
    if np.count_nonzero(ids == edit.id) > 1:
        return None
    fresh = fresh.edited(id=ids)
    given = edit.model_dump(exclude_none=True).keys() - {"joint", "channel", "id", "frame", "do"}
    if not given:
        return fresh
    changed, lost = _set_keys(fresh, [edit])
    return None if lost else changed


def _remove(curve: KeyedCurve, edit: KeyEdit) -> KeyedCurve | None:
    k = place(curve, edit)
    if k is None or curve.key_count == 1:
        # A curve keeps its last key: it would have no value without.
        return None
    kept = np.ones(curve.key_count, dtype=np.bool_)
    kept[k] = False
    near = np.zeros(curve.key_count, dtype=np.bool_)
    near[max(k - 1, 0) : k + 2] = True
    if not np.any(curve.heard & kept):
        return None
    return settled(curve.only(kept).among_heard(forward_only), near[kept])


def _set_keys(curve: KeyedCurve, edits: list[KeyEdit]) -> tuple[KeyedCurve, list[KeyEdit]]:
    at = [(place(curve, e), e) for e in edits]
    unplaced = [e for k, e in at if k is None]
    placed = [(k, e) for k, e in at if k is not None]
    time = curve.time.copy()
    moved = np.zeros(curve.key_count, dtype=np.bool_)
    for k, edit in placed:
        if edit.time is not None:
            time[k] = edit.time
            moved[k] = True
    # Keys that would pass or meet one that stays go back to where they were, all of an edit.
    stuck = _out_of_order(curve.time, carried(curve, time, moved)) & moved
    if np.any(stuck):
        unplaced += [e for k, e in placed if stuck[k]]
        placed = [(k, e) for k, e in placed if not stuck[k]]
        time[stuck] = curve.time[stuck]
    time = carried(curve, time, moved & ~stuck)
    touched = time != curve.time
    for k, edit in placed:
        curve = _set_handle(curve, k, edit)
        touched[k] = True
    columns = {n: c.copy() for n, c in curve.columns.items()}
    columns["time"] = time
    for k, edit in placed:
        _set_columns(columns, k, edit)
    changed = curve.edited(**columns)
    if not np.any(changed.heard):
        # A curve keeps one key that is heard: it would have no value without.
        unplaced += [e for _, e in placed if e.muted]
        back = (curve.flags & KeyFlag.MUTED) | (changed.flags & ~np.uint8(KeyFlag.MUTED))
        changed = changed.edited(flags=back.astype(np.uint8))
    return settled(changed.among_heard(forward_only), beside(touched)), unplaced


def _out_of_order(before: AnyArray, after: AnyArray) -> Bools:
    """Keys moved in time that would pass or meet another, with those they depend on."""
    moved = after != before
    stuck = np.zeros(len(before), dtype=np.bool_)
    while True:
        now = np.where(stuck, before, after)
        wrong = np.diff(now) <= 0
        fresh = (np.append(wrong, False) | np.append(False, wrong)) & moved & ~stuck
        if not np.any(fresh):
            return stuck
        stuck |= fresh


def _set_handle(curve: KeyedCurve, k: int, edit: KeyEdit) -> KeyedCurve:
    """The key's handle kind: as given, or free where slopes or lengths are."""
    kind = Handle[edit.handle.upper()] if edit.handle is not None else None
    if kind is None and any(getattr(edit, name) is not None for name in SHAPE):
        handle = curve.handle.copy()
        handle[k] = Handle.FREE
        return curve.edited(handle=handle)
    if kind is None:
        return curve
    at = np.zeros(curve.key_count, dtype=np.bool_)
    at[k] = True
    if kind == Handle.FREE:
        return curve.edited(handle=np.where(at, np.uint8(kind), curve.handle))
    return with_handle(curve, at, kind)


def _set_columns(columns: dict[str, AnyArray], k: int, edit: KeyEdit) -> None:
    for name in ("value", *SHAPE, "swings", "decay"):
        given = getattr(edit, name)
        if given is not None:
            columns[name][k] = given
    for flag in (KeyFlag.BROKEN, KeyFlag.MUTED, KeyFlag.RIDING):
        on = getattr(edit, str(flag.name).lower())
        if on is not None:
            columns["flags"][k] = int(columns["flags"][k]) & ~flag | (flag if on else 0)
    if edit.segment is not None:
        segment = Segment[edit.segment.upper()]
        columns["segment"][k] = segment
        swings, decay = DEFAULT_SWINGS.get(segment, (0, 0.0))
        if edit.swings is None:
            columns["swings"][k] = swings
        if edit.decay is None:
            columns["decay"][k] = decay


class Edit(Operation[EditParams]):
    """Hand edits of keys: set, made and removed; times, values, handles, each absolute.

    Replayed after a change above, an edit finds its key by id, then by the nearest key within
    half a frame; what finds none is listed in the report as unplaced.
    """

    name = "edit"
    title = "Edit keys"
    step = "shape"
    version = 2
    Params: ClassVar[type[EditParams]] = EditParams

    def apply(
        self, clip: Clip, scope: Scope, params: EditParams, progress: Progress = silent
    ) -> Patch:
        allowed = set(scope.resolve(clip))
        wanted: dict[ChannelId, list[KeyEdit]] = {}
        unplaced: list[KeyEdit | EndsEdit] = []
        curves: dict[ChannelId, Curve] = {}
        for ends in params.ends:
            channel = _keyed_channel(clip, ends, allowed)
            if channel is None:
                unplaced.append(ends)
            else:
                curves[channel] = _with_ends(curves.get(channel, clip.curves[channel]), ends)
        for edit in params.keys:
            channel = _keyed_channel(clip, edit, allowed)
            if channel is None:
                unplaced.append(edit)
            else:
                wanted.setdefault(channel, []).append(edit)
        for done, (channel, edits) in enumerate(wanted.items(), start=1):
            curve = curves.get(channel, clip.curves[channel])
            assert isinstance(curve, KeyedCurve)
            curves[channel], lost = edited_curve(curve, edits)
            unplaced += lost
            progress(done / len(wanted))
        return Patch(
            curves=curves,
            report={
                "keys": len(params.keys) + len(params.ends) - len(unplaced),
                "unplaced": [e.model_dump(exclude_none=True) for e in unplaced],
            },
        )

    def told(self, params: Any) -> str:
        count = len({(k["joint"], k["channel"], k["id"]) for k in params.get("keys", ())})
        if not count:
            return "Set how curves go on outside their keys"
        return f"Edit {count} key{'s' if count > 1 else ''}"


def _keyed_channel(
    clip: Clip, edit: KeyEdit | EndsEdit, allowed: set[ChannelId]
) -> ChannelId | None:
    if edit.joint not in clip.skeleton.names:
        return None
    channel = ChannelId(clip.skeleton.index(edit.joint), edit.channel)
    inside = channel in allowed and isinstance(clip.curves.get(channel), KeyedCurve)
    return channel if inside else None


def _with_ends(curve: Curve, ends: EndsEdit) -> Curve:
    assert isinstance(curve, KeyedCurve)
    before = Extend[ends.before.upper()] if ends.before else curve.extend[0]
    after = Extend[ends.after.upper()] if ends.after else curve.extend[1]
    return replace(curve, extend=(before, after))
