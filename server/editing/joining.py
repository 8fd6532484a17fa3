"""Clips of several takes as one: a clip of its own over the first one, that joins the others.

All are pinned as they stand. What they become later is put in their place on the bench.
"""

import uuid
from collections.abc import Callable, Sequence
from typing import Any

from django.contrib.auth.models import AbstractBaseUser
from documents.inspections import inspect
from leancurve.errors import BadInput
from library import jobs
from library.kinds import job_kind
from library.models import Job, Workspace
from library.room import require_room

from editing import history, outcomes
from editing.models import Revision
from editing.recipes import compute, new_line
from editing.retargeting import free_name, show, take_of_revision

MOST = 50


def start(workspace: Workspace, revisions: Sequence[Revision], user: AbstractBaseUser) -> Job:
    """Queue the joining of revisions of clips, in their order."""
    if not 2 <= len(revisions) <= MOST:
        raise BadInput(f"takes: expected 2 to {MOST} to be joined, got {len(revisions)}")
    require_room(workspace)
    payload = {
        "revisions": [r.pk for r in revisions],
        "user": user.pk,
        "request": str(uuid.uuid4()),
    }
    return jobs.start(workspace, "join", _name(revisions)[:255], payload)


def _name(revisions: Sequence[Revision]) -> str:
    first, second, *more = (r.clip.name for r in revisions)
    rest = f" and {len(more)} more" if more else ""
    return f"{first[:90]}, then {second[:90]}{rest}"


@job_kind("join")
def join(job: Job, report: Callable[[float], None]) -> dict[str, Any]:
    """The job behind it; taken up again it goes on where it was."""
    given = job.payload
    found = Revision.objects.select_related("state__header", "clip__workspace").in_bulk(
        given["revisions"]
    )
    first, *others = revisions = [found[pk] for pk in given["revisions"]]
    user = first.clip.workspace.members.get(pk=given["user"])
    parts = [{"name": other.clip.name} for other in others]
    states = [other.state_id for other in others]
    line = new_line("join", {"parts": parts}, {}, {"parts": states})
    # What cannot be joined leaves nothing behind.
    compute(line, first.state, first.state, lambda share: report(0.6 * share))
    request = uuid.UUID(given["request"])
    take = take_of_revision(first, None, request, free_name(first, _name(revisions)))
    clip = history.first_clip(take, user)
    assert clip.head_id is not None
    change = outcomes.Change(append=line)
    joined = history.write(clip.pk, clip.head_id, request, change, user)
    report(0.9)
    show(take, joined.state)
    inspect(joined.state)
    return {"clip": clip.pk, "take": take.pk, "report": joined.report}
