"""Edit: keys set, made and removed by hand, kept by the key's id and its absolute result."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
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
from leancurve.curves.riding import carried, riders
from leancurve.document.clip import Clip
from leancurve.document.scope import Owner
from leancurve.document.track import BASE, TrackId
from leancurve.errors import BadInput
from leancurve.numbers.arrays import AnyArray, Bools, Floats
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

HandleName = Literal["eased", "flowing", "flat", "straight", "hold", "free"]
SegmentName = Literal["curve", "straight", "hold", "spring", "bounce"]
ExtendName = Literal["hold", "straight", "repeat", "repeat_offset"]
ChannelName = Literal["tx", "ty", "tz", "rx", "ry", "rz", "w"]

SHAPE = ("slope_in", "slope_out", "length_in", "length_out")


class KeyEdit(Params):
    """One key's new state. What is absent stays.

    ``id``, ``frame`` and ``was`` are the key's as it was seen: its id, its time and its value. An
    edit is made on the key of which all that is given holds, and on no other. To ``make`` a key
    is to set one on the curve at ``frame``, its shape unchanged, under a new ``id``; what else is
    given is set then. Edits of one ``turn`` are made together, turns one after another.
    """

    owner: Owner = Field(BASE, description="whose channel: the clip's own, a prop's, a layer's")
    joint: str = Field(description="the joint's name, or the prop's; none of a layer's weight")
    channel: ChannelName
    id: int = Field(ge=0)
    frame: float = timed(time="frame", allow_inf_nan=False)
    was: float | None = Field(None, allow_inf_nan=False, description="the value that was seen")
    turn: int = Field(0, ge=0, description="edits of one turn are made together")
    do: Literal["set", "make", "remove"] = "set"
    time: float | None = timed(None, time="frame", ge=0, allow_inf_nan=False)
    past: bool | None = Field(
        None, description="whether it may pass its neighbours, which it meets and stops at if not"
    )
    value: float | None = Field(None, allow_inf_nan=False)
    handle: HandleName | None = None
    slope_in: float | None = timed(None, time="rate", allow_inf_nan=False)
    slope_out: float | None = timed(None, time="rate", allow_inf_nan=False)
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

    owner: Owner = Field(BASE, description="whose channel: the clip's own, a prop's, a layer's")
    joint: str = Field(description="the joint's name, or the prop's; none of a layer's weight")
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


NEAR = 0.5
"""Frames within which a key counts as the one that was seen."""
ALIKE = 0.1
"""How far its value may be from the one that was seen, as a share of the curve's range."""


def place(curve: KeyedCurve, edit: KeyEdit, least: float = 0.0) -> int | None:
    """Index of the key an edit means, None where it is not there any more.

    By its id where that stands within half a frame of where it was seen, else the nearest key
    within half a frame; and only where the value is the one that was seen, as near as a small
    change above may leave it: within a tenth of the curve's range, or ``least``.
    """
    nearest = int(np.argmin(np.abs(curve.time - edit.frame)))
    near = float(np.ptp(curve.value)) * ALIKE
    for k in (*np.flatnonzero(curve.id == edit.id).tolist(), nearest):
        if abs(curve.time[k] - edit.frame) > NEAR:
            continue
        if edit.was is None or abs(curve.value[k] - edit.was) <= max(near, least):
            return int(k)
    return None


@dataclass(frozen=True)
class Bench:
    """What edits are made on: the clip's last frame, and the least that two values differ by."""

    end: float | None = None
    least: float = 0.0

    @property
    def extent(self) -> tuple[float, float] | None:
        return None if self.end is None else (0.0, self.end)


def edited_curve(
    curve: KeyedCurve, edits: Iterable[KeyEdit], bench: Bench = Bench()
) -> tuple[KeyedCurve, list[KeyEdit]]:
    """The curve with edits made in turn, and those that found no key or no room.

    Keys set in one turn are set together, so that a group may move past where its own members
    stood. One that would pass a key that stays stops before it, or goes past it where asked to.
    """
    unplaced: list[KeyEdit] = []
    for (_, do), group in groupby(edits, key=lambda e: (e.turn, e.do)):
        if do == "set":
            curve, lost = _set_keys(curve, list(group), bench)
            unplaced += lost
            continue
        for edit in group:
            make = do == "make"
            made = _make(curve, edit, bench) if make else _remove(curve, edit, bench)
            if made is None:
                unplaced.append(edit)
            else:
                curve = made
    return curve.checked(), unplaced


NAMES = {"owner", "joint", "channel", "id", "frame", "was", "turn", "do", "past"}
"""What says which key is meant and how, not what becomes of it."""


def _make(curve: KeyedCurve, edit: KeyEdit, bench: Bench) -> KeyedCurve | None:
    if np.any(curve.id == edit.id) or np.abs(curve.time - edit.frame).min() < SAME_TIME:
        return None
    try:
        fresh = insert_key(curve, edit.frame, bench.extent)
    except BadInput:
        return None
    # Where a spring is written out other keys come along: the one asked for stands at the frame.
    at = int(np.argmin(np.abs(fresh.time - edit.frame)))
    ids = fresh.id.copy()
    ids[at] = edit.id
    if np.count_nonzero(ids == edit.id) > 1:
        return None
    fresh = fresh.edited(id=ids)
    if not edit.model_dump(exclude_none=True).keys() - NAMES:
        return fresh
    changed, lost = _set_keys(fresh, [edit.model_copy(update={"was": None})], bench)
    return None if lost else changed


def _remove(curve: KeyedCurve, edit: KeyEdit, bench: Bench) -> KeyedCurve | None:
    k = place(curve, edit, bench.least)
    if k is None or curve.key_count == 1:
        # A curve keeps its last key: it would have no value without.
        return None
    kept = np.ones(curve.key_count, dtype=np.bool_)
    kept[k] = False
    near = np.zeros(curve.key_count, dtype=np.bool_)
    near[max(k - 1, 0) : k + 2] = True
    if not np.any(curve.live & kept):
        return None
    return settled(curve.only(kept).among_live(forward_only), near[kept])


def _set_keys(
    curve: KeyedCurve, edits: list[KeyEdit], bench: Bench
) -> tuple[KeyedCurve, list[KeyEdit]]:
    at = [(place(curve, e, bench.least), e) for e in edits]
    unplaced = [e for k, e in at if k is None]
    placed = [(k, e) for k, e in at if k is not None]
    time = curve.time.copy()
    moved, past = (np.zeros(curve.key_count, dtype=np.bool_) for _ in range(2))
    for k, edit in placed:
        if edit.time is not None:
            time[k] = edit.time
            moved[k] = True
            past[k] = bool(edit.past)
    time = with_room(curve, time, moved & ~past)
    left = np.zeros(curve.key_count, dtype=np.bool_)
    if np.any(past):
        curve, time, placed, left = _passed(curve, time, past, placed)
        moved = np.zeros(curve.key_count, dtype=np.bool_)
        moved[[k for k, e in placed if e.time is not None]] = True
    # Keys of one group that would pass or meet each other go back to where they were.
    stuck = _out_of_order(curve.time, carried(curve, time, moved)) & moved
    if np.any(stuck):
        unplaced += [e for k, e in placed if stuck[k]]
        placed = [(k, e) for k, e in placed if not stuck[k]]
        time[stuck] = curve.time[stuck]
    time = carried(curve, time, moved & ~stuck)
    touched = (time != curve.time) | left
    for k, edit in placed:
        curve = _set_handle(curve, k, edit)
        touched[k] = True
    columns = {n: c.copy() for n, c in curve.columns.items()}
    columns["time"] = time
    for k, edit in placed:
        _set_columns(columns, k, edit)
    changed = curve.edited(**columns)
    if not np.any(changed.live):
        # A curve keeps one key that is live: it would have no value without.
        unplaced += [e for _, e in placed if e.muted]
        back = (curve.flags & KeyFlag.MUTED) | (changed.flags & ~np.uint8(KeyFlag.MUTED))
        changed = changed.edited(flags=back.astype(np.uint8))
    return settled(changed.among_live(forward_only), beside(touched)), unplaced


GAP = 1.0
"""Frames that a key leaves to a neighbour it is pushed against."""


def with_room(curve: KeyedCurve, time: Floats, moved: Bools) -> Floats:
    """New times ``(K,)`` of moved keys, each stopped a frame before the key that stays beyond it.

    One that stood nearer than that already stays at least where it stood. Riding keys stand in
    nobody's way.
    """
    out = time.copy()
    stays = ~moved & ~riders(curve)
    fixed = np.flatnonzero(stays)
    for k in np.flatnonzero(moved).tolist():
        at = int(np.searchsorted(fixed, k))
        own = curve.time[k]
        if at > 0:
            left = fixed[at - 1]
            between = int(np.count_nonzero(moved[left:k]))
            out[k] = max(out[k], min(curve.time[left] + GAP * (between + 1), own))
        if at < len(fixed):
            right = fixed[at]
            between = int(np.count_nonzero(moved[k + 1 : right]))
            out[k] = min(out[k], max(curve.time[right] - GAP * (between + 1), own))
    return out


def _passed(
    curve: KeyedCurve, time: Floats, past: Bools, placed: list[tuple[int, KeyEdit]]
) -> tuple[KeyedCurve, Floats, list[tuple[int, KeyEdit]], Bools]:
    """The curve with keys that go past others put in the order of their new times, and which keys
    stand beside where one has left.

    One that would come to lie on another stops a frame before it, on the side it comes from, as
    far as there is room.
    """
    time = time.copy()
    for k in np.flatnonzero(past).tolist():
        others = np.delete(time, k)
        back = GAP if curve.time[k] > time[k] else -GAP
        while np.any(np.abs(others - time[k]) < SAME_TIME) and time[k] != curve.time[k]:
            ahead = time[k] + back
            over = ahead >= curve.time[k] if back > 0 else ahead <= curve.time[k]
            time[k] = curve.time[k] if over else ahead
    left = beside(past) & ~past
    order = np.argsort(time, kind="stable")
    where = {int(old): new for new, old in enumerate(order)}
    columns = {n: c[order] for n, c in curve.columns.items()}
    # Times ascend already: what is moved below is told from what stands.
    columns["time"] = np.sort(time)
    return (
        curve.edited(**columns),
        columns["time"].copy(),
        [(where[k], e) for k, e in placed],
        left[order],
    )


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


LEAST_DEG, LEAST_MM = 1.0, 10.0
"""Values nearer than this to those that were seen are the same ones (common practice)."""


class Edit(Operation[EditParams]):
    """Hand edits of keys: set, made and removed; times, values, handles, each absolute.

    Replayed after a change above, an edit is made only where its key still is, as :func:`place`
    tells; what finds none is listed in the report as unplaced, with all that it would set.
    """

    name = "edit"
    title = "Edit keys"
    step = "shape"
    version = 3
    of_any = True
    grows = True
    meant = True
    Params: ClassVar[type[EditParams]] = EditParams

    def apply(
        self, clip: Clip, scope: Scope, params: EditParams, progress: Progress = silent
    ) -> Patch:
        allowed = set(scope.resolve(clip))
        if scope == Scope():
            allowed = set(clip.tracks)
        wanted: dict[TrackId, list[KeyEdit]] = {}
        unplaced: list[KeyEdit | EndsEdit] = []
        curves: dict[TrackId, Curve] = {}
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
            least = LEAST_DEG if channel.turns else LEAST_MM / clip.millimetres
            bench = Bench(max(clip.frames - 1.0, 0.0), least)
            curves[channel], lost = edited_curve(curve, edits, bench)
            unplaced += lost
            progress(done / len(wanted))
        return Patch(
            curves=curves,
            report={
                "keys": len(params.keys) + len(params.ends) - len(unplaced),
                "unplaced": [e.model_dump(exclude_none=True) for e in unplaced],
            },
        )

    def upgraded(self, version: int, params: Mapping[str, Any]) -> dict[str, Any]:
        """Version 1 made each edit by itself; version 2 made those in a row together."""
        keys = params.get("keys", ())
        if version < 2:
            keys = [{**k, "turn": n} for n, k in enumerate(keys)]
        return {**params, "keys": list(keys)}

    def told(self, params: Any) -> str:
        count = len({(k["joint"], k["channel"], k["id"]) for k in params.get("keys", ())})
        if not count:
            return "Set how curves go on outside their keys"
        return f"Edit {counted(count, 'key')}"


def _keyed_channel(clip: Clip, edit: KeyEdit | EndsEdit, allowed: set[TrackId]) -> TrackId | None:
    channel = clip.track(edit.owner, edit.joint, edit.channel)
    inside = channel in allowed and isinstance(clip.curves.get(channel), KeyedCurve)
    return channel if inside else None


def _with_ends(curve: Curve, ends: EndsEdit) -> Curve:
    assert isinstance(curve, KeyedCurve)
    before = Extend[ends.before.upper()] if ends.before else curve.extend[0]
    after = Extend[ends.after.upper()] if ends.after else curve.extend[1]
    return replace(curve, extend=(before, after))
