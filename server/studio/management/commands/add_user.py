"""Add somebody who can sign in, with a workspace of their own or an existing one."""

from getpass import getpass
from typing import Any

from django.core.management.base import BaseCommand, CommandError, CommandParser
from leancurve.errors import BadInput
from library.models import Membership, Workspace

from studio.people import add_person


class Command(BaseCommand):
    help = __doc__

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("username")
        parser.add_argument("--workspace", default="", help="its name; made if it does not exist")
        parser.add_argument("--password", default="", help="asked for when left out")
        parser.add_argument(
            "--runs-the-studio", action="store_true", help="sees people, room and failures of all"
        )

    def handle(self, *args: Any, **options: Any) -> None:
        name, password = options["username"], options["password"] or getpass("Password: ")
        try:
            user = add_person(name, password, options["runs_the_studio"])
        except BadInput as trouble:
            raise CommandError(str(trouble)) from None
        title = options["workspace"] or f"{name}'s workspace"
        workspace, made = Workspace.objects.get_or_create(name=title)
        role = Membership.Role.OWNER if made else Membership.Role.EDITOR
        Membership.objects.create(workspace=workspace, user=user, role=role)
        self.stdout.write(f"{name} can sign in and sees {title!r}.")
