"""Work that takes long, done ahead of its write: a job finds what a line makes, with progress.

The line's outcome is remembered under its name, so that the write which then asks for it has it
at once. Nothing changes in the clip until that write.
"""

from collections.abc import Callable
from typing import Any

from leancurve.errors import BadInput
from library import jobs
from library.kinds import job_kind
from library.models import Job
from library.room import require_room

from editing.models import Revision
from editing.outcomes import Many, lines_on, take_of
from editing.recipes import Line, replay, title


def start(revision: Revision, line: Line, in_place_of: str | None) -> Job:
    """Queue the work of a line on a revision: after its last line, or in the place of one."""
    if in_place_of is not None and in_place_of not in [x["line_id"] for x in revision.recipe]:
        raise BadInput("the recipe has no such line")
    return _start(revision, title(line), [line], in_place_of)


def start_recipe(revision: Revision, many: Many) -> Job:
    """Queue the work of all lines of a recipe after a revision's last one."""
    lines, _ = lines_on(revision, many)
    return _start(revision, f"Recipe {many.name}", lines, None)


def _start(revision: Revision, told: str, lines: list[Line], in_place_of: str | None) -> Job:
    require_room(revision.clip.workspace)
    payload = {"revision": revision.pk, "lines": lines, "in_place_of": in_place_of}
    return jobs.start(revision.clip.workspace, "prepare", told[:200], payload)


@job_kind("prepare")
def prepare(job: Job, report: Callable[[float], None]) -> dict[str, Any]:
    """The job behind it: the recipe up to the line, of which all but the line is remembered."""
    revision = Revision.objects.select_related(
        "clip__take__state__header", "take__state__header"
    ).get(pk=job.payload["revision"])
    # One that was queued by an older version has a single line.
    before, lines = revision.recipe, job.payload.get("lines") or [job.payload["line"]]
    if job.payload["in_place_of"] is not None:
        at = [x["line_id"] for x in before].index(job.payload["in_place_of"])
        before = before[:at]
    steps = replay(take_of(revision).state, [*before, *lines], report)
    return {"revision": revision.pk, "report": steps[-1].report}
