"""Accept: findings that are meant. They stay in the document and count no more."""

from __future__ import annotations

from typing import Any, ClassVar

from pydantic import Field

from leancurve.document.clip import Accepted, Clip
from leancurve.numbers.spans import meet
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


class Meant(Params):
    kind: str = Field(min_length=1, max_length=40)
    joint: str = Field(max_length=200)
    channel: str = ""
    first: int = timed(time="begins", ge=0)
    last: int = timed(time="ends", ge=0)


class AcceptParams(Params):
    findings: tuple[Meant, ...] = Field(min_length=1)
    meant: bool = Field(True, description="false takes the acceptance back")


class Accept(Operation[AcceptParams]):
    """Say of findings that they are meant, or take that back.

    ``{"findings": [{"kind": "gimbal", "joint": "LeftHand", "first": 10, "last": 40}]}``
    """

    name = "accept"
    title = "Accept findings"
    step = "inspect"
    scoped = False
    keeps = "motion"
    Params: ClassVar[type[AcceptParams]] = AcceptParams

    def apply(
        self, clip: Clip, scope: Scope, params: AcceptParams, progress: Progress = silent
    ) -> Patch:
        named = {Accepted(f.kind, f.joint, f.channel, f.first, f.last) for f in params.findings}
        kept = set(clip.accepted)
        result = kept | named if params.meant else {a for a in kept if not _meets(a, named)}
        return Patch(accepted=tuple(sorted(result)), report={"accepted": len(result)})

    def told(self, params: Any) -> str:
        count = len(params["findings"])
        what = counted(count, "finding")
        return f"Accept {what}" if params.get("meant", True) else f"Reopen {what}"


def _meets(accepted: Accepted, named: set[Accepted]) -> bool:
    return any(
        (accepted.kind, accepted.joint, accepted.channel) == (n.kind, n.joint, n.channel)
        and meet(accepted, n)
        for n in named
    )
