"""Tidy keys: put on their frames, doubled ones made one."""

from __future__ import annotations

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from leancurve.curves.curve import ON_FRAME, Curve, KeyedCurve, KeyFlag
from leancurve.curves.insertion import with_muted
from leancurve.document.clip import Clip
from leancurve.document.track import TrackId
from leancurve.measures.findings.keys import DOUBLED
from leancurve.operations.base import Operation, Params, Patch, Progress, Scope, number, silent


class TidyKeysParams(Params):
    off_frame: Literal["snap", "delete"] = Field(
        "snap", description="what becomes of a key between two frames"
    )
    doubled: float = number(
        DOUBLED, "frames", "keys closer than this are one; the first is kept", ge=0, le=1
    )


class TidyKeys(Operation[TidyKeysParams]):
    """Put keys on whole frames, and make doubled keys one.

    Keys at ``10, 10.0001, 11`` become two, at 10 and 11. A key that is snapped keeps its value
    and slopes; one that would land on another is the doubled one and goes.
    """

    name = "tidy_keys"
    title = "Tidy keys"
    step = "calm"
    of_any = True
    keeps = "motion"
    Params: ClassVar[type[TidyKeysParams]] = TidyKeysParams

    def apply(
        self, clip: Clip, scope: Scope, params: TidyKeysParams, progress: Progress = silent
    ) -> Patch:
        curves: dict[TrackId, Curve] = {}
        snapped = deleted = doubled = 0
        for channel in scope.resolve(clip):
            curve = clip.curves[channel]
            if not isinstance(curve, KeyedCurve):
                continue
            tidy, counts = tidied(curve, params)
            if any(counts):
                curves[channel] = tidy
                snapped, deleted, doubled = (
                    a + b for a, b in zip((snapped, deleted, doubled), counts, strict=True)
                )
        return Patch(
            curves=curves,
            report={"snapped": snapped, "deleted": deleted, "doubled": doubled},
        )


def tidied(curve: KeyedCurve, params: TidyKeysParams) -> tuple[KeyedCurve, tuple[int, int, int]]:
    """The curve tidied, and how many keys were snapped, deleted, and one of a double.

    Muted keys bend nothing: they stay, but where a key comes to stand at their time.
    """
    if curve.unmuted is not curve:
        tidy, counts = tidied(curve.unmuted, params)
        return with_muted(tidy, curve), counts
    keep = np.ones(curve.key_count, dtype=np.bool_)
    last = 0
    for k in range(1, curve.key_count):
        if curve.time[k] - curve.time[last] < params.doubled:
            keep[k] = False
        else:
            last = k
    doubled = int(np.count_nonzero(~keep))
    time = curve.time.copy()
    # Riding keys lie where their neighbours put them.
    rides = (curve.flags & KeyFlag.RIDING) != 0
    off = keep & ~rides & (np.abs(time - np.round(time)) > ON_FRAME)
    deleted = 0
    if params.off_frame == "delete":
        # The first and last keys are the clip's own ends: they are put right, never taken out.
        inner = off.copy()
        inner[[0, -1]] = False
        keep &= ~inner
        deleted = int(np.count_nonzero(inner))
        off &= ~inner
    time = np.where(off, np.round(time), time)
    time = np.where(np.abs(time - np.round(time)) <= ON_FRAME, np.round(time), time)
    seen: set[float] = set()
    for k in np.flatnonzero(keep).tolist():
        if time[k] in seen:
            keep[k] = False
            doubled += 1
        seen.add(float(time[k]))
    snapped = int(np.count_nonzero(off & keep))
    return curve.edited(time=time).only(keep), (snapped, deleted, doubled)
