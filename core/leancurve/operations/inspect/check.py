"""Check: what is left to be seen to, said as a line of the recipe."""

from __future__ import annotations

from collections import Counter
from typing import Any, ClassVar

import numpy as np

from leancurve.document.clip import Clip
from leancurve.document.evaluation import effective
from leancurve.measures.findings import KINDS, find
from leancurve.operations.base import Operation, Params, Patch, Progress, Scope, silent

WIDE_STEP_DEG = 150.0
"""A step of an angle from one frame to the next that no editor and no importer reads as turning."""


class CheckParams(Params):
    pass


class Check(Operation[CheckParams]):
    """Look over the motion as it will be delivered, and say what is left; nothing changes.

    ``left`` counts open findings by kind; ``steps_over_150`` counts steps of one frame in which an
    angle moves by over 150°: flips, snaps that were left, and passes of the gimbal.
    """

    name = "check"
    title = "Check"
    step = "inspect"
    scoped = False
    keeps = "motion"
    Params: ClassVar[type[CheckParams]] = CheckParams

    def apply(
        self, clip: Clip, scope: Scope, params: CheckParams, progress: Progress = silent
    ) -> Patch:
        open_ones = Counter(f.kind for f in find(clip, progress=progress) if not f.accepted)
        steps = sum(
            int(np.count_nonzero(np.abs(np.diff(values)) > WIDE_STEP_DEG))
            for track, values in effective(clip).items()
            if track.turns
        )
        left = {kind.name: open_ones[kind.name] for kind in KINDS if open_ones[kind.name]}
        return Patch(report={"left": left, "steps_over_150": steps, "told": told(left, steps)})

    def told(self, params: Any) -> str:
        return "Check what is left"


def told(left: dict[str, int], steps: int = 0) -> str:
    """What is left in a few words: "2 slides, 1 gimbal"; idle channels are not worth a word."""
    plural = {kind.name: kind.plural for kind in KINDS}
    parts = [
        f"{count} {name if count == 1 else plural[name]}"
        for name, count in left.items()
        if name != "idle"
    ]
    if steps:
        parts.append(f"{steps} {'step' if steps == 1 else 'steps'} over 150° in a frame")
    return ", ".join(parts) or "nothing stands out any more"
