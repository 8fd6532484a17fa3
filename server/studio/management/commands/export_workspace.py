"""Write a workspace to a file of open parts."""

from pathlib import Path
from typing import Any

from django.core.management.base import BaseCommand, CommandError, CommandParser
from library.models import Workspace

from studio.portable import export
from studio.usage import told


class Command(BaseCommand):
    help = __doc__

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("workspace", help="its name")
        parser.add_argument("file", type=Path)

    def handle(self, *args: Any, workspace: str, file: Path, **options: Any) -> None:
        found = Workspace.objects.filter(name=workspace).first()
        if found is None:
            names = ", ".join(repr(n) for n in Workspace.objects.values_list("name", flat=True))
            raise CommandError(f"no workspace is named {workspace!r}; there are: {names}")
        part = file.with_name(f"{file.name}.part")
        try:
            with part.open("wb") as out:
                said = export(found, out)
            part.replace(file)
        except OSError as trouble:
            part.unlink(missing_ok=True)
            raise CommandError(str(trouble)) from None
        self.stdout.write(
            f"{file}: {told(file.stat().st_size)}; {len(said.takes)} takes, {len(said.clips)} "
            f"clips, {len(said.deliveries)} deliveries"
        )
