"""What a revision's drift is measured from: the take as read, on the revision's own time."""

from dataclasses import replace

from documents.store import load_clip
from leancurve.document.clip import Clip

from editing.models import Revision
from editing.outcomes import take_state_of


def baseline_of(revision: Revision) -> Clip:
    """The take as read, trimmed and sampled as the revision is."""
    return replace(load_clip(take_state_of(revision)), reading=load_clip(revision.state).reading)
