"""Files coming in: parsed apart, in a child process with limits, then stored as takes."""

import logging
import multiprocessing
from collections.abc import Callable, Iterable
from typing import Any

from django.conf import settings
from documents.blobs import keep_blobs, keeping
from documents.inspections import inspect, keep
from documents.models import Inspection
from documents.store import skeleton_blob, store_clip
from leancurve.document.clip import Clip
from leancurve.errors import BadInput
from leancurve.formats.bvh import Take as ReadTake
from leancurve.measures.findings import VERSION, find
from leancurve.measures.picture import picture
from leancurve.operations import Cancelled

from library import jobs
from library.jobs import job_kind
from library.models import Job, Skeleton, StoredFile, Take, Workspace
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


def store_take(workspace: Workspace, file: StoredFile, read: ReadTake, name: str = "") -> Take:
    """A take of a file that has been read."""
    clip = read.clip
    if clip.frames == 0:
        raise BadInput("the file holds a skeleton but no frames of motion", file=file.name)
    found = find(clip)
    drawing = picture(clip)
    with keeping():
        state = store_clip(clip)
        keep(state, found)
        return Take.objects.create(
            workspace=workspace,
            name=(name or clip.name)[:255],
            file=file,
            state=state,
            skeleton=keep_skeleton(workspace, clip),
            rate_numerator=clip.rate.numerator,
            rate_denominator=clip.rate.denominator,
            frames=clip.frames,
            joints=len(clip.skeleton),
            channels=len(clip.channels),
            keys=clip.key_count,
            notes=list(read.notes),
            warnings=list(read.warnings),
            picture=drawing,
        )


def keep_skeleton(workspace: Workspace, clip: Clip) -> Skeleton:
    """The workspace's skeleton that a clip is on, made where it is new."""
    digest, data = skeleton_blob(clip.skeleton)
    keep_blobs({digest: data})
    names = clip.skeleton.names
    kept, _ = Skeleton.objects.get_or_create(
        workspace=workspace,
        digest=digest,
        defaults={"name": skeleton_name(names)[:120], "joints": len(names)},
    )
    return kept


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


@job_kind("inspect")
def inspect_take(job: Job, report: Callable[[float], None]) -> dict[str, Any]:
    """Findings of a take that was brought in before the detectors were what they are now."""
    take = Take.objects.select_related("state__header").get(pk=job.payload["take"])
    return {"take": take.pk, "work": inspect(take.state, report).work}


def inspect_missing(takes: Iterable[Take]) -> None:
    """Queue an inspection of takes that have none from these detectors, once each."""
    listed = {t.state_id: t for t in takes}
    known = Inspection.objects.filter(pk__in=listed, version=VERSION).values_list("pk", flat=True)
    for take in (t for state, t in listed.items() if state not in set(known)):
        asked = Job.objects.filter(kind="inspect", payload__take=take.pk, state__in=Job.OPEN)
        if not asked.exists():
            jobs.start(take.workspace, "inspect", take.name, {"take": take.pk})
