"""Run a worker: takes up what a killed one left, then does jobs until it is stopped."""

from typing import Any

from django.core.management import call_command
from django.core.management.base import BaseCommand

from library.jobs import retry_stalled


class Command(BaseCommand):
    help = __doc__

    def handle(self, *args: Any, **options: Any) -> None:
        retry_stalled()
        # Two slots and a short poll: with one, a job can wait for the poll although work is there.
        call_command(
            "procrastinate",
            "worker",
            "--concurrency=2",
            "--fetch-job-polling-interval=0.5",
            "--queues=jobs",
        )
