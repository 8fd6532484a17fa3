"""A recipe on many takes: a job each, nothing half done, one table of what came of it."""

import uuid
from collections.abc import Callable, Sequence
from fractions import Fraction
from typing import Any

from django.contrib.auth.models import AbstractBaseUser
from django.db import transaction
from documents.inspections import inspect, open_counts
from leancurve.errors import BadInput
from leancurve.progress import part_of
from library import jobs
from library.kinds import job_kind
from library.models import Job, Take, Workspace
from library.room import require_room

from editing import history, outcomes
from editing.accounts import account_of, summary_of
from editing.models import Batch, Revision

MOST_TAKES = 500
MOST_ATTEMPTS = 5


def start(
    workspace: Workspace, many: outcomes.Many, takes: Sequence[Take], user: AbstractBaseUser
) -> Batch:
    """Queue a recipe on takes; the lines are checked before anything is queued."""
    if not takes:
        raise BadInput("takes: choose at least one")
    if len(takes) > MOST_TAKES:
        raise BadInput(f"takes: at most {MOST_TAKES} at once, got {len(takes)}")
    if not many.lines:
        raise BadInput("recipe: it has no lines")
    require_room(workspace)
    with transaction.atomic():
        rate = None if many.rate is None else [many.rate.numerator, many.rate.denominator]
        batch = Batch.objects.create(
            workspace=workspace, name=many.name, lines=many.lines, rate=rate, author=user
        )
        for take in takes:
            payload = {"batch": batch.pk, "take": take.pk, "request": str(uuid.uuid4())}
            jobs.start(workspace, "recipe", take.name, payload)
    return batch


def jobs_of(batch: Batch) -> list[Job]:
    """The batch's jobs in the order in which they were asked for."""
    found = Job.objects.filter(workspace=batch.workspace, kind="recipe", payload__batch=batch.pk)
    return list(found.order_by("id"))


def cancel(batch: Batch) -> None:
    """Stop what has not ended; takes that are done stay done."""
    for job in jobs_of(batch):
        jobs.cancel(job)


@job_kind("recipe")
def run_recipe(job: Job, report: Callable[[float], None]) -> dict[str, Any]:
    """The job behind one take of a batch: one write, so all of the recipe or nothing."""
    batch = Batch.objects.select_related("author").get(pk=job.payload["batch"])
    take = Take.objects.select_related("state__header", "workspace").get(pk=job.payload["take"])
    clip = history.clip_of(take, batch.author)
    head = Revision.objects.select_related("state__header").get(pk=clip.head_id)
    before = inspect(head.state)
    report(0.05)
    rate = None if batch.rate is None else Fraction(*batch.rate)
    change = outcomes.Change(recipe=outcomes.Many(batch.name, batch.lines, rate))
    request = uuid.UUID(job.payload["request"])
    within = part_of(report, 0.05, 0.8)
    for attempt in range(1, MOST_ATTEMPTS + 1):
        try:
            revision = history.write(clip.pk, head.pk, request, change, batch.author, within)
            break
        except history.Conflict as conflict:
            # Somebody works on the clip: the recipe is put on what stands now.
            if attempt == MOST_ATTEMPTS:
                theirs = ", ".join(conflict.theirs[:3])
                raise BadInput(
                    f"the clip is being worked on ({theirs}): run the recipe again later"
                ) from None
            head = Revision.objects.select_related("state__header").get(pk=conflict.head.pk)
    after = inspect(revision.state)
    return {
        "clip": clip.pk,
        "take": take.pk,
        "revision": revision.pk,
        "findings_before": open_counts(before.findings),
        "findings_after": open_counts(after.findings),
        "keys_before": head.state.keys,
        "keys_after": revision.state.keys,
        **summary_of(account_of(revision)),
        "lines": [{"told": x["told"], "keys": x["keys"]} for x in revision.report["lines"]],
    }
