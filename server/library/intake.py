"""Files coming in: parsed apart, in a child process with limits, then stored as takes."""

import logging
import multiprocessing
from collections.abc import Callable
from typing import Any

from django.conf import settings
from django.db import transaction
from editing.documents import store_clip
from leancurve.continuity import find_flips
from leancurve.errors import BadInput
from leancurve.formats.bvh import Take as ReadTake
from leancurve.operations import Cancelled
from leancurve.picture import picture

from library.jobs import job_kind
from library.models import Job, StoredFile, Take, Workspace
from library.parsing import parse

log = logging.getLogger("lean.intake")

# Children are forked from a small server process that has the readers loaded: a start costs
# milliseconds, and no thread or connection of the worker is inherited.
_processes = multiprocessing.get_context("forkserver")
_processes.set_forkserver_preload(["library.parsing"])


def read_apart(data: bytes, name: str, check: Callable[[float], None]) -> ReadTake:
    """Read a file in a child process; ``check`` is called while it works and may raise."""
    ours, theirs = _processes.Pipe(duplex=False)
    child = _processes.Process(
        target=parse,
        args=(data, name, settings.INTAKE_MEMORY_BYTES, settings.INTAKE_SECONDS, theirs),
        daemon=True,
    )
    child.start()
    theirs.close()
    try:
        for _ in range(settings.INTAKE_SECONDS * 5):
            if ours.poll(0.2):
                answer = ours.recv()
                break
            check(0.1)
        else:
            raise BadInput(f"reading it took over {settings.INTAKE_SECONDS} s", file=name)
    except EOFError:
        raise BadInput(
            "reading it failed: it needs more time or memory than a take may use", file=name
        ) from None
    finally:
        child.kill()
        child.join()
        ours.close()
    if isinstance(answer, ReadTake):
        return answer
    message, file, line = answer
    raise BadInput(message, file=file, line=line)


def findings_of(read: ReadTake) -> dict[str, int]:
    """Counts of what stands out in a take, by kind."""
    flips = find_flips(read.clip)
    return {
        "wraps": len(flips.wraps),
        "alternates": len(flips.alternates),
        "snaps": len(flips.snaps),
    }


def store_take(workspace: Workspace, file: StoredFile, read: ReadTake, name: str = "") -> Take:
    """A take of a file that has been read."""
    clip = read.clip
    if clip.frames == 0:
        raise BadInput("the file holds a skeleton but no frames of motion", file=file.name)
    findings = findings_of(read)
    drawing = picture(clip)
    with transaction.atomic():
        return Take.objects.create(
            workspace=workspace,
            name=(name or clip.name)[:255],
            file=file,
            state=store_clip(clip),
            skeleton_name=skeleton_name(clip.skeleton.names),
            rate_numerator=clip.rate.numerator,
            rate_denominator=clip.rate.denominator,
            frames=clip.frames,
            joints=len(clip.skeleton),
            channels=len(clip.channels),
            keys=clip.key_count,
            notes=list(read.notes),
            warnings=list(read.warnings),
            findings=findings,
            picture=drawing,
        )


def skeleton_name(names: tuple[str, ...]) -> str:
    """What to call a skeleton that has no name of its own: the demo's suit, or its root."""
    from leancurve.demo.suit import deckhand

    return "Deckhand suit" if names == deckhand().names else f"{names[0]}, {len(names)} joints"


@job_kind("import")
def import_file(job: Job, report: Callable[[float], None]) -> dict[str, Any]:
    """The job behind a dropped file."""
    file = StoredFile.objects.get(pk=job.payload["file"])
    done = Take.objects.filter(file=file).first()
    if done is None:
        try:
            report(0.05)
            read = read_apart(bytes(file.data), file.name, report)
            report(0.6)
            done = store_take(job.workspace, file, read)
        except (BadInput, Cancelled):
            file.delete()
            raise
    return {"take": done.pk, "warnings": done.warnings}
