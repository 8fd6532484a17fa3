"""Jobs on PostgreSQL: started in a transaction, reported, cancelled, taken up after a crash."""

import logging
import time
from typing import Any

from asgiref.sync import async_to_sync, sync_to_async
from django.conf import settings
from django.db import connection, connections, transaction
from django.db.models import Max, Min
from django.db.utils import InterfaceError, OperationalError
from procrastinate.contrib.django import app as queue

from library import kinds
from library.job_process import Ended, done_apart
from library.kinds import KINDS
from library.models import Job, Workspace

log = logging.getLogger("lean.jobs")

STALLED_AFTER_S = 30
HEARD_S = 45
TRIES = 3
AWAY_S = 600
"""How often a job is taken up again when its database goes away, and how long that is awaited."""
MOST_TRIES = 5
"""How often a job is begun whose process ends before it is done."""
PUT_OFF_S = 30


@queue.task(name="job", queue="jobs", pass_context=False)
def run_queued(job_id: int) -> None:
    """What the worker calls, in a thread of its own: its connections end with the job.

    The job is done in a process of its own, within limits. A database that goes away meanwhile is
    waited for, and the job taken up again.
    """
    try:
        for left in reversed(range(TRIES)):
            try:
                _run_apart(job_id)
                return
            except (OperationalError, InterfaceError):
                if not left:
                    raise
                log.warning("the database went away under a job: it is taken up again")
                _until_database_answers()
    finally:
        connections.close_all()


def _run_apart(job_id: int) -> None:
    kind = Job.objects.filter(pk=job_id).values_list("kind", flat=True).first()
    if kind is None:
        return
    if kind not in KINDS:
        put_off(Job.objects.get(pk=job_id))
        return
    how: Ended = "lost"
    while how == "lost" and _may_begin(job_id):
        how = done_apart(job_id, KINDS[kind].seconds) if settings.JOBS_APART else _here(job_id)
    if how == "away":
        raise OperationalError("the database went away")
    if how == "too long":
        minutes = KINDS[kind].seconds / 60
        _fail(job_id, f"It took longer than the {minutes:g} minutes that such a job may take.")


def _here(job_id: int) -> Ended:
    kinds.run(job_id)
    return "done"


def put_off(job: Job) -> None:
    """A kind that this version does not know is left to a worker that does."""
    log.warning("a job of an unknown kind is left to another worker", extra={"kind": job.kind})
    Job.objects.filter(pk=job.pk, state=Job.State.RUNNING).update(state=Job.State.QUEUED)
    later = run_queued.configure(schedule_in={"seconds": PUT_OFF_S}, priority=-job.turn)
    later.defer(job_id=job.pk)


def _may_begin(job_id: int) -> bool:
    """Whether a job is open and was not begun too often."""
    job = Job.objects.filter(pk=job_id, state__in=Job.OPEN).first()
    if job is not None and job.tries >= MOST_TRIES:
        _fail(job_id, f"It was begun {job.tries} times, and its process ended each time.")
        return False
    return job is not None


def _fail(job_id: int, message: str) -> None:
    Job.objects.filter(pk=job_id, state__in=Job.OPEN).update(
        state=Job.State.FAILED, message=message
    )


def _until_database_answers() -> None:
    until = time.monotonic() + AWAY_S
    while time.monotonic() < until:
        connections.close_all()
        try:
            with connection.cursor() as cursor:
                cursor.execute("SELECT 1")
            return
        except (OperationalError, InterfaceError):
            time.sleep(0.5)


def start(workspace: Workspace | None, kind: str, title: str, payload: dict[str, Any]) -> Job:
    """Create a job and queue it; both or neither, in the caller's transaction."""
    with transaction.atomic():
        turn = _turn(workspace)
        job = Job.objects.create(
            workspace=workspace, kind=kind, title=title, payload=payload, turn=turn
        )
        run_queued.configure(priority=-turn).defer(job_id=job.pk)
    return job


def _turn(workspace: Workspace | None) -> int:
    """When a new job's turn is: after its own workspace's, and before what others still have to
    come by as many. So workspaces take turns, however much one of them asks for (fair queueing by
    virtual times: Demers, Keshav and Shenker, 1989)."""
    waiting = Job.objects.filter(state__in=Job.OPEN)
    now = waiting.aggregate(n=Min("turn"))["n"] or 0
    last = waiting.filter(workspace=workspace).aggregate(n=Max("turn"))["n"]
    return now if last is None else max(last + 1, now)


def cancel(job: Job) -> None:
    """Ask a job to stop: at once while it waits, at its next report while it runs."""
    Job.objects.filter(pk=job.pk, state__in=Job.OPEN).update(cancel_requested=True)
    Job.objects.filter(pk=job.pk, state=Job.State.QUEUED).update(
        state=Job.State.CANCELLED, message="Cancelled."
    )


def workers_alive() -> int:
    """Workers that were heard of within :data:`HEARD_S`."""
    with connection.cursor() as cursor:
        cursor.execute(
            "SELECT count(*) FROM procrastinate_workers "
            "WHERE last_heartbeat > now() - make_interval(secs => %s)",
            [HEARD_S],
        )
        return int(cursor.fetchone()[0])


def requeue_lost() -> int:
    """Queue again jobs that are open while nothing in the queue stands for them any more: their
    database went away for longer than it was waited for. Returns how many."""
    with transaction.atomic(), connection.cursor() as cursor:
        # One worker at a time: what is queued again is queued once.
        cursor.execute("SELECT pg_advisory_xact_lock(hashtext('lean.requeue_lost'))")
        cursor.execute(
            "SELECT j.id, j.turn FROM library_job j WHERE j.state IN ('queued', 'running') "
            "AND j.created < now() - make_interval(secs => %s) AND NOT EXISTS ("
            "SELECT 1 FROM procrastinate_jobs q WHERE q.task_name = 'job' "
            "AND q.status IN ('todo', 'doing') AND (q.args->>'job_id')::bigint = j.id)",
            [STALLED_AFTER_S],
        )
        lost = cursor.fetchall()
        for job, turn in lost:
            run_queued.configure(priority=-turn).defer(job_id=job)
    if lost:
        log.warning("jobs that had left the queue queued again", extra={"count": len(lost)})
    return len(lost)


async def _retry_stalled() -> int:
    manager = queue.job_manager
    stalled = list(await manager.get_stalled_jobs(seconds_since_heartbeat=STALLED_AFTER_S))
    for job in stalled:
        await manager.retry_job(job)
    return len(stalled)


def retry_stalled() -> int:
    """Queue again what a killed worker, or a lost database, left. Returns how many jobs."""
    count = async_to_sync(_retry_stalled)()
    if count:
        log.warning("jobs of a lost worker queued again", extra={"count": count})
    return count + requeue_lost()


@queue.periodic(cron="* * * * * */15")
@queue.task(name="retry_stalled", queue="jobs", pass_context=False)
async def retry_stalled_now_and_then(timestamp: int) -> None:
    """Every 15 seconds, by whichever worker is alive."""
    if await _retry_stalled():
        log.warning("jobs of a lost worker queued again")
    await sync_to_async(requeue_lost)()
