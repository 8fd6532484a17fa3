"""Mend snaps: a joint that jumped to a wrong solution is turned back, or filled anew."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import Field

from leancurve.document.clip import Clip
from leancurve.document.tracks import refilled, turning_tracks, written
from leancurve.measures.account import Kind
from leancurve.measures.findings import Finding, Motion, kind_named
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats
from leancurve.operations.base import Operation, Params, Patch, Progress, Scope, number, silent


class MendSnapsParams(Params):
    method: Literal["auto", "turn back", "fill"] = Field(
        "auto", description="turn the snapped frames back, or fill them; by what fits when auto"
    )
    fill_s: float = number(
        0.25, "s", "snaps up to this long are filled from the good samples around",
        when={"method": ["auto"]}, gt=0, le=2,
    )  # fmt: skip


class MendSnaps(Operation[MendSnapsParams]):
    """Repair jumps of a joint's true orientation.

    ``turn back`` takes off, from the jump out to the jump back, the turn that the jump put on;
    a jump that nothing takes back is turned back to the end of the clip. ``fill`` replaces the
    span by a spline through the good samples on both sides. Both change poses: the drift says
    by how much.
    """

    name = "mend_snaps"
    title = "Mend snaps"
    step = "unflip"
    ranged = True
    Params: ClassVar[type[MendSnapsParams]] = MendSnapsParams

    def counted_as(self, params: Mapping[str, Any]) -> Kind:
        return "mend"

    def apply(
        self, clip: Clip, scope: Scope, params: MendSnapsParams, progress: Progress = silent
    ) -> Patch:
        motion = Motion(clip)
        inside = scope.mask(clip)
        tracks = {t.joint: t for t in turning_tracks(clip, scope)}
        index = {n: j for j, n in enumerate(motion.names)}
        snaps = [
            s
            for s in kind_named("snap").detect(motion)
            if index[s.joint] in tracks and inside[s.first]
        ]
        turned = filled = 0
        changed: dict[int, Floats] = {}
        for done, snap in enumerate(snaps, start=1):
            joint = index[snap.joint]
            q = changed.get(joint, tracks[joint].rotations.copy())
            if self._fills(snap, params, clip):
                q = refilled(q, snap.first, snap.last)
                filled += 1
            else:
                _turn_back(q, snap)
                turned += 1
            changed[joint] = rotation.hemisphere(q)
            progress(done / len(snaps))
        curves = written([tracks[j] for j in changed], changed)
        return Patch(
            curves=curves,
            report={"snaps": len(snaps), "turned_back": turned, "filled": filled},
        )

    def _fills(self, snap: Finding, params: MendSnapsParams, clip: Clip) -> bool:
        if params.method != "auto":
            return params.method == "fill"
        lasts = snap.last > snap.first
        return lasts and (snap.last - snap.first + 1) / float(clip.rate) <= params.fill_s


def _jump(q: Floats, frame: int) -> Floats:
    """What the jump into a frame puts on, beyond the turn the joint was in anyway."""
    step = rotation.multiply(rotation.conjugate(q[frame - 1]), q[frame])
    if frame < 2:
        return step
    own = rotation.multiply(rotation.conjugate(q[frame - 2]), q[frame - 1])
    return rotation.multiply(rotation.conjugate(own), step)


def _turn_back(q: Floats, snap: Finding) -> None:
    """Take the jump off ``q (F, 4)`` within the snap's span, in place."""
    out = _jump(q, snap.first)
    last = snap.last if snap.last > snap.first else len(q) - 1
    count = last - snap.first + 1
    if last + 1 < len(q):
        back = rotation.conjugate(_end_jump(q, last))
        put_on = rotation.slerp(out, back, np.linspace(0, 1, count))
    else:
        put_on = np.tile(out, (count, 1))
    q[snap.first : last + 1] = rotation.multiply(
        q[snap.first : last + 1], rotation.conjugate(put_on)
    )


def _end_jump(q: Floats, last: int) -> Floats:
    """What the step out of the span's last frame takes off, beyond the joint's own turn."""
    step = rotation.multiply(rotation.conjugate(q[last]), q[last + 1])
    if last + 2 >= len(q):
        return step
    own = rotation.multiply(rotation.conjugate(q[last + 1]), q[last + 2])
    return rotation.multiply(step, rotation.conjugate(own))
