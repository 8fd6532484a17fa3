"""What nobody needs any more: rows of the queue, of failed sign-ins, sessions, ended jobs."""

import logging
from datetime import timedelta

from asgiref.sync import async_to_sync
from axes.models import AccessAttempt, AccessLog
from django.contrib.sessions.models import Session
from django.db import connection
from django.utils import timezone
from library.models import Job
from procrastinate.contrib.django import app as queue

log = logging.getLogger("lean.housekeeping")

QUEUE_HOURS = 24
SIGN_INS = timedelta(days=90)
ENDED_JOBS = timedelta(days=30)
TOLD_BY_NOBODY = ("inspect", "prepare", "export")
"""Kinds of jobs that are looked at once they have ended, and never again."""


def keep_house() -> dict[str, int]:
    """Delete them; how many of each."""
    now = timezone.now()
    old_jobs = Job.objects.filter(kind__in=TOLD_BY_NOBODY, updated__lt=now - ENDED_JOBS)
    counts = {
        "sessions": Session.objects.filter(expire_date__lt=now).delete()[0],
        "attempts": AccessAttempt.objects.filter(attempt_time__lt=now - timedelta(days=1)).delete()[
            0
        ],
        "sign-ins": AccessLog.objects.filter(attempt_time__lt=now - SIGN_INS).delete()[0],
        "jobs": old_jobs.exclude(state__in=Job.OPEN).delete()[0],
    }
    before = _queue_rows()
    async_to_sync(queue.job_manager.delete_old_jobs)(
        nb_hours=QUEUE_HOURS, include_failed=True, include_cancelled=True, include_aborted=True
    )
    with connection.cursor() as cursor:
        cursor.execute(
            "DELETE FROM procrastinate_periodic_defers "
            "WHERE defer_timestamp < extract(epoch FROM now()) - %s * 3600",
            [QUEUE_HOURS],
        )
        counts["periodic"] = cursor.rowcount
    counts["queue"] = before - _queue_rows()
    return counts


def _queue_rows() -> int:
    with connection.cursor() as cursor:
        cursor.execute("SELECT count(*) FROM procrastinate_jobs")
        return int(cursor.fetchone()[0])


@queue.periodic(cron="7 * * * *")
@queue.task(name="keep_house", queue="jobs", pass_context=False)
def keep_house_now_and_then(timestamp: int) -> None:
    """Every hour, by whichever worker is alive."""
    log.info("house kept", extra=keep_house())
