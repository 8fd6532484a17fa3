"""Slide: keys moved and scaled in time, or copies of them, without touching their values."""

from __future__ import annotations

from typing import Any, ClassVar

import numpy as np
from pydantic import Field

from leancurve.curves.curve import Curve, KeyedCurve, forward_only
from leancurve.curves.handles import beside, settled
from leancurve.curves.riding import retimed_keys, riders
from leancurve.document.clip import Clip
from leancurve.document.track import TrackId
from leancurve.numbers.arrays import Bools, Floats
from leancurve.operations.base import Operation, Params, Patch, Progress, Scope, number, silent
from leancurve.operations.shaping import keys_inside


class SlideParams(Params):
    by: float = number(0.0, "frames", "how much later; earlier below 0")
    factor: float = number(1.0, "×", "how many times as far from the frame they are scaled", gt=0)
    about: float = number(0.0, "frame", "the frame about which they are scaled")
    whole_frames: bool = Field(True, description="put keys on whole frames")
    copies: bool = Field(False, description="leave the keys and move copies of them")


class Slide(Operation[SlideParams]):
    """Move keys in time, scale them about a frame, or do so with copies of them.

    Values stay and handles scale with their segments, so that curves keep their shape. Riding
    keys keep their share between their neighbours. A curve whose keys would meet or pass others
    is left as it is and counted.
    """

    name = "slide"
    title = "Slide keys"
    step = "shape"
    part = "time"
    ranged = True
    keyed = True
    of_any = True
    grows = True
    Params: ClassVar[type[SlideParams]] = SlideParams

    def apply(
        self, clip: Clip, scope: Scope, params: SlideParams, progress: Progress = silent
    ) -> Patch:
        curves: dict[TrackId, Curve] = {}
        moved = left = dense = 0
        for channel in scope.resolve(clip):
            curve = clip.curves[channel]
            if not isinstance(curve, KeyedCurve):
                dense += 1
                continue
            inside = keys_inside(clip, scope, channel)
            if not np.any(inside):
                continue
            changed = slid(curve, inside, params)
            if changed is None:
                left += 1
            else:
                curves[channel] = changed
                moved += int(np.count_nonzero(inside))
        return Patch(
            curves=curves,
            report={
                "channels": len(curves),
                "keys_moved": moved,
                "channels_left": left,
                "dense_skipped": dense,
            },
        )

    def told(self, params: Any) -> str:
        what = "copies of keys" if params.get("copies") else "keys"
        factor, by = params.get("factor", 1.0), params.get("by", 0.0)
        if factor != 1.0:
            return f"Scale {what} in time by {factor:g} about {params.get('about', 0.0):g}"
        return f"Slide {what} by {by:+g} frame{'' if abs(by) == 1 else 's'}"


def slid_times(time: Floats, params: SlideParams) -> Floats:
    """Where keys at times ``(K,)`` come to lie; those between frames may stay so by moving."""
    late = params.about + (time - params.about) * params.factor + params.by
    if params.whole_frames and (params.factor != 1.0 or params.by != np.round(params.by)):
        late = np.floor(late + 0.5)
    return np.asarray(late)


def slid(curve: KeyedCurve, inside: Bools, params: SlideParams) -> KeyedCurve | None:
    """The curve with the keys of a mask ``(K,)`` moved; None where they would meet or pass."""
    late = slid_times(curve.time, params)
    if np.any(late[inside] < 0):
        return None
    if not params.copies:
        # A riding key goes with both of its neighbours: it keeps its share to the last digit.
        own = inside & ~(riders(curve) & _between(inside, ~riders(curve)))
        return retimed_keys(curve, np.where(own, late, curve.time))
    return _with_copies(curve, inside, late)


def _between(inside: Bools, anchors: Bools) -> Bools:
    """Keys whose nearest anchors on both sides are inside."""
    at = np.flatnonzero(anchors)
    right = np.clip(np.searchsorted(at, np.arange(len(inside))), 1, len(at) - 1)
    return np.asarray(inside[at[right - 1]] & inside[at[right]])


def _with_copies(curve: KeyedCurve, inside: Bools, late: Floats) -> KeyedCurve | None:
    """Copies of keys at their new times, in the place of those that stand there."""
    copies = curve.only(inside)
    copies = copies.edited(
        time=late[inside], id=int(curve.id.max()) + 1 + np.arange(copies.key_count)
    )
    if np.any(np.diff(copies.time) <= 0):
        return None
    taken = np.abs(curve.time[:, None] - copies.time[None, :]).min(axis=1) < 1e-9
    kept = curve.only(~taken) if np.any(taken) else curve
    columns = {n: np.concatenate([c, copies.columns[n]]) for n, c in kept.columns.items()}
    order = np.argsort(columns["time"], kind="stable")
    whole = curve.edited(**{n: c[order] for n, c in columns.items()})
    fresh = np.isin(whole.id, copies.id)
    return settled(whole.among_live(forward_only), beside(fresh))
