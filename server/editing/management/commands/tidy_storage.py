"""Prune old revisions and sweep away what nothing refers to; forget a clip or a take first."""

from argparse import ArgumentParser
from datetime import timedelta
from typing import Any

from django.core.management.base import BaseCommand, CommandError
from library.models import Take

from editing import storage
from editing.models import Clip


class Command(BaseCommand):
    help = __doc__

    def add_arguments(self, parser: ArgumentParser) -> None:
        parser.add_argument("--forget-clip", type=int, metavar="ID", help="delete a clip")
        parser.add_argument("--forget-take", type=int, metavar="ID", help="delete a take")
        parser.add_argument(
            "--at-once", action="store_true", help="also what was used within the last hour"
        )

    def handle(self, *args: Any, **options: Any) -> None:
        for model, name, forget in (
            (Clip, "forget_clip", storage.forget_clip),
            (Take, "forget_take", storage.forget_take),
        ):
            if options[name] is None:
                continue
            found = model.objects.filter(pk=options[name]).first()
            if found is None:
                raise CommandError(f"there is no {model.__name__.lower()} {options[name]}")
            if isinstance(found, Take):
                storage.bin_take(found)
            forget(found)
        swept = storage.tidy(timedelta(0) if options["at_once"] else storage.AGE)
        pruned = swept.pop("pruned")
        told = ", ".join(f"{count} {what}" for what, count in swept.items())
        self.stdout.write(f"{pruned} states pruned; swept: {told}")
