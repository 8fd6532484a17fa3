"""What jobs of each kind do, and how one is done."""

import logging
import time
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from django.db.models import F
from leancurve.errors import BadInput
from leancurve.operations import Cancelled
from plumbing.logs import note
from plumbing.troubles import is_passing, passing

from library.models import Job

log = logging.getLogger("lean.jobs")

LONGEST_S = 1800.0
REPORT_EVERY_S = 0.15

Work = Callable[[Job, Callable[[float], None]], dict[str, Any]]


@dataclass(frozen=True)
class Kind:
    """What jobs of a kind do, and how long one may take."""

    work: Work
    seconds: float


KINDS: dict[str, Kind] = {}
"""By name: each application's ``tasks`` module imports what registers its own."""


def job_kind(name: str, seconds: float = LONGEST_S) -> Callable[[Work], Work]:
    """Register the function that does jobs of one kind; it returns the job's result."""

    def register(work: Work) -> Work:
        KINDS[name] = Kind(work, seconds)
        return work

    return register


def run(job_id: int) -> None:
    """Do a job. Taken up twice it is done once: a finished job stays as it is.

    An absent database is raised: nothing can be said of the job then.
    """
    note(job=job_id)
    claimed = Job.objects.filter(pk=job_id, state__in=Job.OPEN, cancel_requested=False).update(
        state=Job.State.RUNNING, progress=0.0, tries=F("tries") + 1
    )
    if not claimed:
        Job.objects.filter(pk=job_id, state__in=Job.OPEN).update(state=Job.State.CANCELLED)
        return
    job = Job.objects.select_related("workspace").get(pk=job_id)
    began = time.perf_counter()
    try:
        result = KINDS[job.kind].work(job, _reporter(job))
        outcome: dict[str, Any] = {"state": Job.State.DONE, "progress": 1.0, "result": result}
    except Cancelled:
        outcome = {"state": Job.State.CANCELLED, "message": "Cancelled."}
    except BadInput as trouble:
        outcome = {"state": Job.State.FAILED, "message": str(trouble)}
    except MemoryError:
        outcome = {"state": Job.State.FAILED, "message": "It needs more memory than a job may use."}
    except Exception as trouble:
        if is_passing(trouble):
            raise
        log.exception("job failed")
        ours = f"Something went wrong on our side; the log names it as job {job_id}."
        outcome = {"state": Job.State.FAILED, "message": passing(trouble) or ours}
    Job.objects.filter(pk=job_id).update(**outcome)
    log.info(
        "job ended",
        extra={
            "kind": job.kind,
            "state": str(outcome["state"]),
            "ms": round((time.perf_counter() - began) * 1000),
        },
    )


def _reporter(job: Job) -> Callable[[float], None]:
    last = 0.0

    def report(share: float) -> None:
        nonlocal last
        now = time.monotonic()
        if now - last < REPORT_EVERY_S:
            return
        last = now
        Job.objects.filter(pk=job.pk).update(progress=min(max(share, 0.0), 1.0))
        if Job.objects.filter(pk=job.pk, cancel_requested=True).exists():
            raise Cancelled

    return report
