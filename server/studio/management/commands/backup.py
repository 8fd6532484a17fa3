"""Write a backup of the whole instance to a file; people may go on working."""

from pathlib import Path
from typing import Any

from django.core.management.base import BaseCommand, CommandError, CommandParser
from leancurve.errors import BadInput

from studio.backup import backup
from studio.usage import told


class Command(BaseCommand):
    help = __doc__

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("file", type=Path)

    def handle(self, *args: Any, file: Path, **options: Any) -> None:
        try:
            made = backup(file.resolve())
        except (BadInput, OSError) as trouble:
            raise CommandError(str(trouble)) from None
        rows = made["rows"]
        self.stdout.write(
            f"{file}: {told(file.stat().st_size)}; {rows['library_workspace']} workspaces, "
            f"{rows['library_take']} takes, {rows['editing_clip']} clips, "
            f"{rows['editing_revision']} revisions"
        )
