"""What a revision's drift is measured from: the take as read, on the revision's own time."""

from dataclasses import replace
from typing import Any

from leancurve.clip import Clip

from editing.documents import load_clip
from editing.history import take_of
from editing.models import Revision
from editing.recipes import Step, new_line, replay, run_line

TIMING = {"trim", "change_rate"}
"""Operations that change a clip's frames: the take is brought through them as well."""


def baseline_of(revision: Revision) -> Clip:
    """The take as read, trimmed and sampled as the revision is."""
    state = take_of(revision).state
    for step in replay(state, revision.recipe):
        if step.line["operation"] in TIMING:
            line = new_line(step.line["operation"], _as_done(step), {})
            state = run_line(line, state).state
    return replace(load_clip(state), reading=load_clip(revision.state).reading)


def _as_done(step: Step) -> dict[str, Any]:
    """The line's parameters with what it found out filled in."""
    if step.line["operation"] == "trim":
        return {"first": step.report["first"], "last": step.report["last"], "calibration": False}
    return dict(step.line["params"])
