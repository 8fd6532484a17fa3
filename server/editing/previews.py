"""Previews: an operation applied to a state without saving."""

from dataclasses import dataclass

from documents.models import State
from documents.store import load_clip
from leancurve.document.clip import Clip
from leancurve.document.evaluation import posed
from leancurve.figure.pose import Pose
from leancurve.measures.drift import Drift, pose_drift
from leancurve.operations import Patch, apply_patch, operation_named
from leancurve.progress import Progress

from editing.recipes import Line, compute


@dataclass(frozen=True)
class Whole:
    """A preview of a whole clip: the patch, what it makes, and the drift from what stands.

    What moves time or changes the skeleton makes no drift: the take goes along.
    """

    patch: Patch
    clip: Clip
    pose: Pose
    drift: Drift | None


def whole_preview(line: Line, before: State, take: State, check: Progress) -> Whole:
    """The numbers and poses a line would give the whole clip."""
    standing = load_clip(before)
    patch = compute(line, before, take, check)
    check(1.0)
    clip = apply_patch(standing, patch)
    pose = posed(clip)
    check(1.0)
    if operation_named(line["operation"]).takes_along:
        return Whole(patch, clip, pose, None)
    return Whole(patch, clip, pose, pose_drift(clip, pose, standing, posed(standing)))
