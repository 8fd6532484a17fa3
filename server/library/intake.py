"""Files coming in: looked at apart, in a child process with limits, then stored as takes."""

import logging
from collections.abc import Callable, Iterable, Mapping
from dataclasses import replace
from typing import Any

from django.db import transaction
from django.db.models import Q, QuerySet
from documents.blobs import keep_blobs, keeping
from documents.inspections import inspect, keep
from documents.models import Inspection
from documents.packing import skeleton_blob
from documents.store import load_clip, store_packed
from leancurve.document.clip import Clip as Document
from leancurve.errors import BadInput
from leancurve.figure.skeleton import Skeleton
from leancurve.formats.files import is_table
from leancurve.measures.findings import VERSION
from leancurve.operations import Cancelled

from library import jobs
from library.apart import apart
from library.kinds import job_kind
from library.models import Job, StoredFile, Take, Workspace
from library.models import Skeleton as SkeletonRow
from library.parsing import Looked, Wanted, look_at
from library.room import require_takes

log = logging.getLogger("lean.intake")


def store_take(
    workspace: Workspace, file: StoredFile, looked: Looked, name: str = "", part: int = 0,
    choices: Mapping[str, Any] = {},
) -> Take:  # fmt: skip
    """A take of a file that has been looked at."""
    with keeping():
        state = store_packed(looked.document)
        keep(state, looked.findings, looked.work)
        return Take.objects.create(
            workspace=workspace,
            name=(name or looked.name)[:255],
            file=file,
            part=part,
            choices=dict(choices),
            state=state,
            skeleton=_with_body(keep_skeleton(workspace, looked.skeleton), looked),
            rate_numerator=looked.rate.numerator,
            rate_denominator=looked.rate.denominator,
            frames=looked.frames,
            joints=len(looked.skeleton),
            channels=looked.channels,
            keys=looked.document.keys,
            notes=list(looked.notes),
            warnings=list(looked.warnings),
            picture=looked.picture,
        )


def _with_body(skeleton: SkeletonRow, looked: Looked) -> SkeletonRow:
    """The skeleton in the body that came with it last."""
    if looked.skin is not None and skeleton.skin != looked.skin[0]:
        digest, data = looked.skin
        keep_blobs({digest: data})
        skeleton.skin, skeleton.triangles = digest, looked.triangles
        skeleton.save(update_fields=["skin", "triangles"])
    return skeleton


def keep_skeleton(workspace: Workspace, skeleton: Skeleton) -> SkeletonRow:
    """The workspace's row of a skeleton, made where it is new."""
    digest, data = skeleton_blob(skeleton)
    keep_blobs({digest: data})
    kept, _ = SkeletonRow.objects.get_or_create(
        workspace=workspace,
        digest=digest,
        defaults={"name": skeleton_name(skeleton.names)[:120], "joints": len(skeleton)},
    )
    return kept


def skeleton_name(names: tuple[str, ...]) -> str:
    """What to call a skeleton that has no name of its own: the demo's, or its root."""
    from leancurve.demo.characters import heron, wren
    from leancurve.demo.suit import deckhand

    known = (("Deckhand suit", deckhand), ("Heron", heron), ("Wren", wren))
    own = next((name for name, made in known if names == made().names), None)
    return own or f"{names[0]}, {len(names)} joints"


@job_kind("import")
def import_file(job: Job, report: Callable[[float], None]) -> dict[str, Any]:
    """The job behind a dropped file."""
    file = StoredFile.objects.get(pk=job.payload["file"])
    done = list(file.take_set.order_by("pk"))
    if not done:
        try:
            onto = job.payload.get("onto")
            like = None if onto is None else _skeleton_of(Take.objects.get(pk=onto))
            asked = (bytes(file.data), file.name, Wanted(like))
            found = apart(look_at, asked, file.name, report)
            assert job.workspace is not None
            # All of them or none: an import that is begun again finds what is there.
            with transaction.atomic():
                done = [
                    store_take(job.workspace, file, looked, part=part)
                    for part, looked in enumerate(found)
                ]
                require_takes(job.workspace)
        except (BadInput, Cancelled):
            file.delete()
            raise
    warnings = [w for take in done for w in take.warnings]
    return {"take": done[0].pk, "takes": [take.pk for take in done], "warnings": warnings}


def _skeleton_of(take: Take) -> Document:
    """A take's document without its curves: what a table of channels is read onto."""
    return replace(load_clip(take.state), curves={})


def takes_read_so(take: Take, choices: Mapping[str, Any]) -> QuerySet[Take]:
    """Takes on the shelf that are of the same part of the same file, read as is chosen."""
    return take.file.take_set.filter(part=take.part, choices=choices, binned=None)


@job_kind("read")
def read_again(job: Job, report: Callable[[float], None]) -> dict[str, Any]:
    """The job behind a take whose file is read with other choices: a take of its own beside it."""
    take = Take.objects.select_related("file", "workspace", "state").get(pk=job.payload["take"])
    choices = job.payload["choices"]
    made = takes_read_so(take, choices).first()
    if made is None:
        file = take.file
        like = _skeleton_of(take) if is_table(file.name) else None
        wanted = Wanted(like, choices, take.part)
        asked = (bytes(file.data), file.name, wanted)
        found = apart(look_at, asked, file.name, report)
        if not found:
            raise BadInput("the file does not hold this take", file=file.name)
        with transaction.atomic():
            made = store_take(take.workspace, file, found[0], job.title, take.part, choices)
            require_takes(take.workspace)
    return {"take": made.pk, "warnings": made.warnings}


@job_kind("inspect")
def inspect_take(job: Job, report: Callable[[float], None]) -> dict[str, Any]:
    """Findings of a take that was brought in before the detectors were what they are now."""
    take = Take.objects.select_related("state__header").get(pk=job.payload["take"])
    return {"take": take.pk, "work": inspect(take.state, report).work}


def inspect_missing(takes: Iterable[Take]) -> None:
    """Queue an inspection of takes that have none from these detectors, once each: one that failed
    is not asked for again until there are other detectors."""
    listed = {t.state_id: t for t in takes}
    found = Inspection.objects.filter(state__among=listed, version=VERSION)
    known = set(found.values_list("pk", flat=True))
    missing = {t.pk: t for state, t in listed.items() if state not in known}
    if not missing:
        return
    workspaces = {t.workspace_id for t in missing.values()}
    asked = Job.objects.filter(kind="inspect", workspace__among=workspaces).filter(
        Q(state__in=Job.OPEN) | Q(state=Job.State.FAILED, payload__version=VERSION)
    )
    done = set(asked.values_list("payload__take", flat=True))
    for take in missing.values():
        if take.pk not in done:
            payload = {"take": take.pk, "version": VERSION}
            jobs.start(take.workspace, "inspect", take.name, payload)
