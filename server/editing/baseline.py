"""What a revision's drift is measured from: the take as read, on the revision's own time."""

from dataclasses import replace

from leancurve.document.clip import Clip

from editing.documents import load_clip
from editing.history import take_of
from editing.models import Revision
from editing.recipes import take_on_time


def baseline_of(revision: Revision) -> Clip:
    """The take as read, trimmed and sampled as the revision is."""
    state = take_on_time(take_of(revision).state, revision.recipe)
    return replace(load_clip(state), reading=load_clip(revision.state).reading)
