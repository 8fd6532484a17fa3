"""Previews: an operation applied to a state without saving. The latest one wins."""

import threading
from collections.abc import Hashable
from dataclasses import dataclass

from documents.models import State
from documents.store import load_clip
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.figure.pose import Pose
from leancurve.measures.drift import Drift, pose_drift
from leancurve.operations import Cancelled, Patch, apply_patch, operation_named
from leancurve.progress import Progress

from editing.recipes import Line, compute

_lock = threading.Lock()
_newest: dict[Hashable, int] = {}
MOST_WATCHED = 10_000


def latest(key: Hashable, sequence: int) -> Progress:
    """A progress callback that raises once a preview of a higher sequence is known.

    The asker numbers its previews: requests may overtake each other on their way.
    """
    with _lock:
        if len(_newest) > MOST_WATCHED:
            _newest.clear()
        _newest[key] = max(sequence, _newest.get(key, sequence))

    def check(_share: float) -> None:
        if _newest.get(key, sequence) > sequence:
            raise Cancelled

    return check


@dataclass(frozen=True)
class Whole:
    """A preview of a whole clip: the patch, what it makes, and the drift from what stands.

    What moves time makes no drift: the take goes along.
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
    pose = evaluate(clip)
    check(1.0)
    if operation_named(line["operation"]).retimes:
        return Whole(patch, clip, pose, None)
    return Whole(patch, clip, pose, pose_drift(clip, pose, standing, evaluate(standing)))
