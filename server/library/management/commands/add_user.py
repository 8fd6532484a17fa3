"""Add somebody who can sign in, with a workspace of their own or an existing one."""

from getpass import getpass
from typing import Any

from django.contrib.auth.models import User
from django.contrib.auth.password_validation import validate_password
from django.core.exceptions import ValidationError
from django.core.management.base import BaseCommand, CommandError, CommandParser

from library.models import Membership, Workspace


class Command(BaseCommand):
    help = __doc__

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("username")
        parser.add_argument("--workspace", default="", help="its name; made if it does not exist")
        parser.add_argument("--password", default="", help="asked for when left out")
        parser.add_argument(
            "--runs-the-place", action="store_true", help="sees people, room and failures of all"
        )

    def handle(self, *args: Any, **options: Any) -> None:
        name, password = options["username"], options["password"] or getpass("Password: ")
        if User.objects.filter(username=name).exists():
            raise CommandError(f"there is a user {name!r} already")
        try:
            validate_password(password)
        except ValidationError as trouble:
            raise CommandError(" ".join(trouble.messages)) from None
        user = User.objects.create_user(name, password=password, is_staff=options["runs_the_place"])
        title = options["workspace"] or f"{name}'s workspace"
        workspace, made = Workspace.objects.get_or_create(name=title)
        role = Membership.Role.OWNER if made else Membership.Role.EDITOR
        Membership.objects.create(workspace=workspace, user=user, role=role)
        self.stdout.write(f"{name} can sign in and sees {title!r}.")
