"""Even spacing, another joint's key times, and another curve's rhythm."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import Field

from leancurve.curves.curve import Curve, KeyedCurve
from leancurve.curves.insertion import insert_keys
from leancurve.curves.riding import retimed_keys
from leancurve.document.clip import Clip
from leancurve.document.track import TrackId, base_track
from leancurve.errors import BadInput
from leancurve.numbers.arrays import Bools, Floats
from leancurve.operations.base import Operation, Params, Patch, Progress, Scope, silent
from leancurve.operations.shaping import keys_inside


class EvenParams(Params):
    whole_frames: bool = Field(True, description="put keys on whole frames")


class Even(Operation[EvenParams]):
    """Space keys evenly between the first and the last of them, values kept.

    ``(0, 3, 20)`` becomes ``(0, 10, 20)``.
    """

    name = "even"
    title = "Even spacing"
    step = "shape"
    part = "timing"
    ranged = True
    keyed = True
    Params: ClassVar[type[EvenParams]] = EvenParams

    def apply(
        self, clip: Clip, scope: Scope, params: EvenParams, progress: Progress = silent
    ) -> Patch:
        def spaced(curve: KeyedCurve, inside: Bools) -> Floats:
            count = int(np.count_nonzero(inside))
            old = curve.time[inside]
            even = np.linspace(old[0], old[-1], count)
            if params.whole_frames:
                even[1:-1] = np.round(even[1:-1])
            return even

        return _moved(clip, scope, spaced, least=3)


class MatchTimesParams(Params):
    joint: str = Field("", description="the joint whose key times the others get")


class MatchTimes(Operation[MatchTimesParams]):
    """Set keys at the times at which another joint has some; no curve changes its shape."""

    name = "match_times"
    title = "Match key times"
    step = "shape"
    part = "timing"
    ranged = True
    Params: ClassVar[type[MatchTimesParams]] = MatchTimesParams

    def apply(
        self, clip: Clip, scope: Scope, params: MatchTimesParams, progress: Progress = silent
    ) -> Patch:
        joint = _joint(clip, params.joint)
        inside = scope.mask(clip)
        times: set[float] = set()
        for name in clip.layout[joint]:
            curve = clip.curves[base_track(joint, name)]
            if isinstance(curve, KeyedCurve):
                at = np.clip(np.round(curve.time).astype(np.int64), 0, clip.frames - 1)
                times |= set(curve.time[inside[at]].tolist())
        if not times:
            raise BadInput(f"{params.joint} has no keys there: thin it first, or choose another")
        curves: dict[TrackId, Curve] = {}
        made = 0
        channels = [c for c in scope.resolve(clip) if c.joint != joint]
        for done, channel in enumerate(channels, start=1):
            curve = clip.curves[channel]
            if isinstance(curve, KeyedCurve):
                fresh = insert_keys(curve, sorted(times), (0.0, clip.frames - 1.0))
                made += fresh.key_count - curve.key_count
                if fresh is not curve:
                    curves[channel] = fresh
            progress(done / len(channels))
        return Patch(curves=curves, report={"channels": len(curves), "keys_made": made})

    def told(self, params: Any) -> str:
        return f"Match the key times of {params.get('joint', '')}"


class BorrowParams(Params):
    joint: str = Field("", description="the joint whose curve lends its rhythm")
    channel: Literal["tx", "ty", "tz", "rx", "ry", "rz"] = Field("ry", description="its channel")
    whole_frames: bool = Field(True, description="put keys on whole frames")


class BorrowRhythm(Operation[BorrowParams]):
    """Give keys the times of another curve's keys, values kept: the same shape in its rhythm.

    Where the counts differ, times between two keys are shared out.
    """

    name = "borrow_rhythm"
    title = "Borrow a rhythm"
    step = "shape"
    part = "timing"
    ranged = True
    keyed = True
    Params: ClassVar[type[BorrowParams]] = BorrowParams

    def apply(
        self, clip: Clip, scope: Scope, params: BorrowParams, progress: Progress = silent
    ) -> Patch:
        lender = base_track(_joint(clip, params.joint), params.channel)
        source = clip.curves.get(lender)
        if not isinstance(source, KeyedCurve):
            raise BadInput(f"{params.joint} {params.channel} has no keys to take a rhythm from")
        inside = keys_inside(clip, scope.model_copy(update={"keys": None}), lender)
        lent = source.time[inside]
        if len(lent) < 2:
            raise BadInput(f"{params.joint} {params.channel} has fewer than two keys there")

        def rhythm(curve: KeyedCurve, at: Bools) -> Floats:
            share = np.linspace(0.0, len(lent) - 1.0, int(np.count_nonzero(at)))
            times = np.asarray(np.interp(share, np.arange(len(lent)), lent))
            return on_frames(times) if params.whole_frames else times

        return _moved(clip, scope, rhythm, least=2)

    def told(self, params: Any) -> str:
        return f"Borrow the rhythm of {params.get('joint', '')} {params.get('channel', 'ry')}"


def on_frames(times: Floats) -> Floats:
    """The nearest whole frames to ascending times, no two the same while there is room for all."""
    out = np.round(times)
    steps = np.arange(len(out))
    # Each at least a frame after the one before it, none beyond the last one's own.
    out = np.maximum.accumulate(out - steps) + steps
    latest = out[-1].clip(max=np.round(times[-1])) - steps[::-1]
    return np.asarray(np.minimum(out, latest))


def _joint(clip: Clip, name: str) -> int:
    if name not in clip.skeleton.names:
        raise BadInput(f"joint: the skeleton has no {name!r}")
    return clip.skeleton.index(name)


def _moved(
    clip: Clip, scope: Scope, times: Callable[[KeyedCurve, Bools], Floats], least: int
) -> Patch:
    """Keys in scope moved in time; curves whose keys would meet or pass are left and counted."""
    curves: dict[TrackId, Curve] = {}
    left = moved = 0
    for channel in scope.resolve(clip):
        curve = clip.curves[channel]
        if not isinstance(curve, KeyedCurve):
            left += 1
            continue
        inside = keys_inside(clip, scope, channel)
        if np.count_nonzero(inside) < least:
            continue
        time = curve.time.copy()
        time[inside] = times(curve, inside)
        fresh = retimed_keys(curve, time)
        if fresh is None:
            left += 1
        elif not np.array_equal(time, curve.time):
            curves[channel] = fresh
            moved += int(np.count_nonzero(time != curve.time))
    return Patch(
        curves=curves,
        report={"channels": len(curves), "keys_moved": moved, "channels_left": left},
    )
