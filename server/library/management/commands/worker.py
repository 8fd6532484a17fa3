"""Run a worker: takes up what a killed one left, then does jobs until it is stopped."""

import multiprocessing
from multiprocessing import forkserver
from typing import Any

from django.conf import settings
from django.core.management import call_command
from django.core.management.base import BaseCommand

from library.jobs import retry_stalled


def _begin_children() -> None:
    """Have the process that jobs are forked from ready before there is one."""
    processes = multiprocessing.get_context("forkserver")
    processes.set_forkserver_preload(["library.loaded"])
    forkserver.ensure_running()


class Command(BaseCommand):
    help = __doc__

    def handle(self, *args: Any, **options: Any) -> None:
        _begin_children()
        retry_stalled()
        # A short poll: with one slot, a job can wait for it although work is there.
        call_command(
            "procrastinate",
            "worker",
            f"--concurrency={settings.WORKER_JOBS}",
            "--fetch-job-polling-interval=0.5",
            "--queues=jobs",
        )
