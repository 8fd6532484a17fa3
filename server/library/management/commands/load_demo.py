"""Load the demo: the ferry crew's takes in a workspace, and somebody to sign in as."""

from typing import Any

from django.conf import settings
from django.contrib.auth.models import User
from django.core.management.base import BaseCommand, CommandError
from django.db import transaction
from leancurve.demo import TAKES, captured, crate_take, gangway_take, lamp_take
from leancurve.demo.characters import heron_in_his_body, wren_file
from leancurve.formats.bvh import write_bvh
from leancurve.formats.clipjson import write_clip
from leancurve.formats.files import read_take

from library.demo_account import NAME, PASSWORD, mark
from library.intake import store_take
from library.models import Membership, StoredFile, Workspace
from library.parsing import look

WORKSPACE = "Ferry crew, day 2"


class Command(BaseCommand):
    help = __doc__

    def handle(self, *args: Any, **options: Any) -> None:
        if not settings.ON_LOOPBACK:
            raise CommandError("the demo's password is printed: it runs on loopback alone")
        user, made = User.objects.get_or_create(username=NAME)
        if made:
            user.set_password(PASSWORD)
            user.is_staff = True
            user.save()
            mark(user)
        workspace, fresh = Workspace.objects.get_or_create(name=WORKSPACE)
        Membership.objects.get_or_create(
            workspace=workspace, user=user, defaults={"role": Membership.Role.OWNER}
        )
        if fresh or not workspace.takes.exists():
            self._load(workspace)
        self.stdout.write(f"{workspace.takes.count()} takes in {WORKSPACE!r}")

    @transaction.atomic
    def _load(self, workspace: Workspace) -> None:
        files = [
            (f"{file}.json", take.clip.name, write_clip(take.clip))
            for file, take in (
                ("gangway_watch_take03", gangway_take()),
                ("signal_lamp_take01", lamp_take()),
            )
        ]
        # Two characters to retarget takes onto, as they come: a skeleton and no motion.
        files += [
            ("heron.glb", "Heron", heron_in_his_body()),
            ("wren.json", "Wren", write_clip(wren_file())),
        ]
        line, crate, walk = TAKES
        for take in (walk, crate, line):
            # BVH knows no props: the crate comes with its take as clip JSON.
            if take is crate:
                files.append((f"{take.file}.json", take.title, write_clip(crate_take().clip)))
            else:
                files.append((f"{take.file}.bvh", take.title, write_bvh(captured(take).clip)))
        for file_name, title, data in files:
            stored = StoredFile.objects.create(
                workspace=workspace, name=file_name, data=data, size=len(data)
            )
            # Read from the file's bytes, as any upload is.
            store_take(workspace, stored, look(read_take(data, file_name), file_name), title)
