"""Restore a backup: checked first, beside what is there, then in its place."""

from pathlib import Path
from typing import Any

from django.conf import settings
from django.core.management.base import BaseCommand, CommandError, CommandParser
from leancurve.errors import BadInput

from studio.backup import read_manifest, restore, take_place


class Command(BaseCommand):
    help = __doc__

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("file", type=Path)
        parser.add_argument(
            "--beside", default="", metavar="DATABASE",
            help="only into a new database of that name: what is used now stays",
        )  # fmt: skip

    def handle(self, *args: Any, file: Path, beside: str, **options: Any) -> None:
        own = str(settings.DATABASES["default"]["NAME"])
        target = beside or f"{own}_restoring"
        try:
            made = read_manifest(file)["made"]
            restore(file.resolve(), target, lambda what: self.stdout.write(f"{what} …"))
            if beside:
                self.stdout.write(f"The backup of {made} is whole, in the database {target}.")
                return
            before = take_place(target)
        except (BadInput, OSError) as trouble:
            raise CommandError(str(trouble)) from None
        self.stdout.write(f"The backup of {made} is whole, and is what is used now.")
        if before:
            self.stdout.write(
                f"What was there before is kept as the database {before}: "
                f"DROP DATABASE {before} when it is not needed any more."
            )
