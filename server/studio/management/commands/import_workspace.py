"""Bring in a workspace's file, under another name beside what is there."""

from pathlib import Path
from typing import Any

from django.contrib.auth.models import User
from django.core.management.base import BaseCommand, CommandError, CommandParser
from leancurve.errors import BadInput
from leancurve.progress import silent

from studio.moving import bring_in_file


class Command(BaseCommand):
    help = __doc__

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("file", type=Path)
        parser.add_argument("--owner", default="", help="who is to own it")

    def handle(self, *args: Any, file: Path, owner: str, **options: Any) -> None:
        user = User.objects.filter(username=owner).first()
        if owner and user is None:
            raise CommandError(f"there is no user {owner!r}")
        try:
            workspace = bring_in_file(file.resolve(), file.name, user, silent)
        except (BadInput, OSError) as trouble:
            raise CommandError(str(trouble)) from None
        self.stdout.write(f"{file} is the workspace {workspace.name!r} now.")
