"""Workspaces on their way out and in, as jobs: with progress, to be cancelled, kept on reload."""

import tempfile
from collections.abc import Callable
from datetime import timedelta
from pathlib import Path
from typing import Any

from django.conf import settings
from django.contrib.auth.models import AbstractBaseUser, User
from django.db import transaction
from django.utils import timezone
from leancurve.errors import BadInput
from library import jobs
from library.apart import apart
from library.kinds import job_kind
from library.models import Job, StoredFile, Workspace
from library.room import require_room
from procrastinate.contrib.django import app as queue

from studio import portable
from studio.checking import Most, checked
from studio.usage import Room, told

MOST_BYTES = 900 * 2**20
"""The largest file that goes through the browser: the database keeps it while it waits."""
KEPT = timedelta(days=1)
LONG_S = 3 * 3600.0
LONGEST_LOOK_S = 3600
ENDING = ".leanspace.zip"


def start_export(workspace: Workspace) -> Job:
    """Queue the writing of a workspace's file, which is kept in it for a day."""
    require_room(workspace)
    return jobs.start(workspace, "export", f"{workspace.name}{ENDING}", {})


@job_kind("export", LONG_S)
def export_workspace(job: Job, report: Callable[[float], None]) -> dict[str, Any]:
    """The job behind it: the file is kept for a day, for whoever asked to fetch it."""
    assert job.workspace is not None
    require_room(job.workspace)
    with tempfile.TemporaryFile() as out:
        said = portable.export(job.workspace, out, report)
        size = out.tell()
        if size > MOST_BYTES:
            raise BadInput(
                f"the file has {told(size)}, more than the browser fetches: "
                "./lean export writes it on the server"
            )
        trouble = Room(job.workspace).refuses_file(size)
        if trouble is not None:
            raise BadInput(f"{trouble}; ./lean export writes the file on the server")
        out.seek(0)
        stored = StoredFile.objects.create(
            workspace=job.workspace, name=job.title, data=out.read(), size=size
        )
    return {"file": stored.pk, "bytes": size, "takes": len(said.takes), "clips": len(said.clips)}


def start_bringing_in(name: str, data: bytes, owner: AbstractBaseUser) -> Job:
    """Queue the coming in of a workspace's file."""
    with transaction.atomic():
        stored = StoredFile.objects.create(name=name, data=data, size=len(data))
        payload = {"file": stored.pk, "owner": owner.pk}
        return jobs.start(None, "bring in workspace", name, payload)


@job_kind("bring in workspace", LONG_S)
def bring_in_workspace(job: Job, report: Callable[[float], None]) -> dict[str, Any]:
    """The job behind it: all of the file comes in, or nothing."""
    stored = StoredFile.objects.get(pk=job.payload["file"])
    owner = User.objects.get(pk=job.payload["owner"])
    try:
        with tempfile.NamedTemporaryFile(suffix=".zip") as file:
            file.write(bytes(stored.data))
            file.flush()
            workspace = bring_in_file(Path(file.name), stored.name, owner, report)
    finally:
        stored.delete()
    return {"workspace": workspace.pk, "name": workspace.name}


def bring_in_file(
    source: Path, name: str, owner: AbstractBaseUser | None, report: Callable[[float], None]
) -> Workspace:
    """A new workspace of a file that a stranger may have written."""
    most = Most(settings.WORKSPACE_BYTES, settings.UPLOAD_BYTES, settings.WORKSPACE_TAKES)
    said = apart(checked, (source, most), name, report, seconds=LONGEST_LOOK_S)
    report(0.7)
    with transaction.atomic():
        workspace = portable.new_workspace(said.name, owner)
        portable.bring_in(source, said, workspace)
    return workspace


@queue.periodic(cron="51 * * * *")
@queue.task(name="forget_fetched", queue="jobs", pass_context=False)
def forget_fetched(timestamp: int) -> None:
    """Every hour: files that nobody has fetched, or that became nothing, go after a day. Those that
    wait for a worker stay, however long that takes."""
    old = timezone.now() - KEPT
    waiting = Job.objects.filter(state__in=Job.OPEN, payload__has_key="file")
    files = {job.payload["file"] for job in waiting}
    StoredFile.objects.filter(take=None, created__lt=old).exclude(pk__among=files).delete()
