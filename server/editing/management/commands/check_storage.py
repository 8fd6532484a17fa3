"""Look whether all that is kept is whole: every document's parts, every line, every way back."""

from typing import Any

from django.core.management.base import BaseCommand, CommandError
from documents.models import Blob, State

from editing.sweeping import check


class Command(BaseCommand):
    help = __doc__

    def handle(self, *args: Any, **options: Any) -> None:
        found = check()
        for trouble in found:
            self.stdout.write(trouble)
        if found:
            raise CommandError(f"{len(found)} troubles in what is kept")
        pruned = State.objects.filter(pruned=True).count()
        self.stdout.write(
            f"{State.objects.count()} documents ({pruned} made again when wanted), "
            f"{Blob.objects.count()} parts: all whole"
        )
