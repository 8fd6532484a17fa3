"""Takes, files coming in, and jobs."""

from collections.abc import Iterable, Iterator
from pathlib import PurePath
from typing import Any

from django.conf import settings
from django.db import transaction
from django.db.models import Count, Max, Q, QuerySet
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404
from documents.inspections import open_counts
from documents.models import Blob, Inspection
from documents.store import time_of
from editing.history import open_clip
from editing.models import Clip, Revision
from leancurve.errors import BadInput
from leancurve.formats.archive import packed
from leancurve.formats.files import READ, TABLE, is_table, known_by_name
from library import jobs
from library.intake import inspect_missing
from library.models import Job, StoredFile, Take
from library.parsing import choices_of
from library.room import require_room
from ninja import File, Form, Router, Status, UploadedFile
from ninja.errors import HttpError
from studio import bins
from studio.usage import Room

from api.access import seen, workspace_for
from api.clips import clip_out
from api.schemas import shared
from api.schemas import takes as schemas

router = Router()

LINE = 0.01
"""Half the width of a thin line, in figure heights."""


def _takes(request: HttpRequest) -> QuerySet[Take]:
    return (
        Take.objects.seen_by(request.user)
        .select_related("file", "skeleton", "retargeted__target", "retargeted__source__clip")
        .defer("file__data")
        .annotate(
            last_clip=Max("worked_on__id", filter=Q(worked_on__binned=None)),
            of_its_file=Count("file__take", filter=Q(file__take__binned=None), distinct=True),
        )
    )


def _take(request: HttpRequest, take_id: int) -> Take:
    return seen(request, _takes(request), pk=take_id)


def takes_out(takes: Iterable[Take]) -> list[dict[str, Any]]:
    """Takes with what is found in them, and what is left in the clips made of them."""
    listed = list(takes)
    clips = Clip.objects.filter(pk__among=[t.last_clip for t in listed if t.last_clip])
    ids = list(clips.values_list("head_id", flat=True))
    revisions = Revision.objects.filter(pk__among=ids).select_related("state__header")
    now_is = {r.clip_id: r for r in revisions}
    heads = {pk: head.state_id for pk, head in now_is.items()}
    states = {t.state_id for t in listed} | set(heads.values())
    seen = {i.pk: i for i in Inspection.objects.filter(state__among=states)}
    out = []
    for take in listed:
        captured, now = seen.get(take.state_id), seen.get(heads.get(take.last_clip))
        newest = now or captured
        out.append(
            {
                **take_out(take),
                "findings": open_counts(captured.findings) if captured else {},
                "left": open_counts(now.findings) if now else None,
                "work": newest.work if newest else 0.0,
                "now": _now(now_is.get(take.last_clip)),
                "source": _origin(take),
            }
        )
    return out


def _now(head: Revision | None) -> dict[str, Any] | None:
    """What a take's clip is now, where work has been done on it."""
    if head is None or head.number == 1:
        return None
    frames, rate = time_of(head.state)
    return {
        "revision": head.number,
        "frames": frames,
        "rate": rate,
        "keys": head.state.keys,
    }


def _origin(take: Take) -> dict[str, Any] | None:
    """The take whose clip a take was retargeted from, and whether that has gone on since."""
    made = getattr(take, "retargeted", None)
    if made is None or made.source is None or made.source.clip.binned is not None:
        return None
    clip = made.source.clip
    return {"take": clip.beneath_id, "name": clip.name, "behind": clip.head_id != made.source_id}


def take_out(take: Take) -> dict[str, Any]:
    return {
        "id": take.pk,
        "name": take.name,
        "file_name": take.file.name,
        "file": take.file_id,
        "of_its_file": take.of_its_file,
        "skeleton": take.skeleton.name,
        "triangles": take.skeleton.triangles,
        "rate": [take.rate_numerator, take.rate_denominator],
        "frames": take.frames,
        "joints": take.joints,
        "channels": take.channels,
        "keys": take.keys,
        "notes": take.notes,
        "warnings": take.warnings,
        "picture": picture_out(take.picture),
        "choices": take.choices,
        "clip": take.last_clip,
        "retargeted_onto": _aim(take),
        "created": take.created,
    }


def _aim(take: Take) -> str | None:
    made = getattr(take, "retargeted", None)
    return None if made is None or made.target is None else made.target.name


def picture_out(picture: dict[str, Any]) -> dict[str, Any]:
    return {
        "figures": [_shapes(f) for f in picture.get("figures", [])],
        "outlines": picture.get("outlines", []),
    }


def _shapes(figure: list[list[float]]) -> list[list[float]]:
    """A figure's shapes; takes that came in before the figure had a body hold thin lines."""
    return [[s[0], s[1], LINE, s[2], s[3], LINE, 0.0] if len(s) == 4 else s for s in figure]


@router.get("workspaces/{int:workspace_id}/takes", response=list[schemas.TakeOut])
def list_takes(request: HttpRequest, workspace_id: int) -> Any:
    workspace = workspace_for(request, workspace_id)
    mine = _takes(request).filter(workspace=workspace)
    takes = list(mine.select_related("workspace"))
    inspect_missing(takes)
    return takes_out(takes)


@router.get("takes/{int:take_id}", response=schemas.TakeOut)
def one_take(request: HttpRequest, take_id: int) -> Any:
    return takes_out([_take(request, take_id)])[0]


@router.patch("takes/{int:take_id}", response=schemas.TakeOut)
def rename_take(request: HttpRequest, take_id: int, wanted: shared.RenameIn) -> Any:
    take = _take(request, take_id)
    take.name = wanted.name
    take.save(update_fields=["name"])
    return takes_out([take])[0]


@router.post("takes/{int:take_id}/clip", response=shared.ClipOut)
def open_take(request: HttpRequest, take_id: int) -> Any:
    """The clip last worked on from this take, made if there is none."""
    mine = Take.objects.seen_by(request.user).select_related("workspace")
    take = get_object_or_404(mine, pk=take_id)
    with transaction.atomic():
        Take.objects.select_for_update().get(pk=take.pk)
        clip = take.worked_on.filter(binned=None).order_by("-id").first()
        if clip is None:
            # Whoever looks on opens what is there; a new clip is work.
            workspace_for(request, take.workspace_id)
            clip = open_clip(take, request.user)
    return clip_out(clip)


@router.post("takes/{int:take_id}/reading", response=shared.JobOut)
def read_again(request: HttpRequest, take_id: int, wanted: schemas.ChoicesIn) -> Any:
    """Read a take's file with other choices: a job that makes a take of its own beside it."""
    take = _take(request, take_id)
    workspace = workspace_for(request, take.workspace_id)
    require_room(workspace)
    choices = wanted.dict(exclude_defaults=True)
    choices_of(choices).checked()
    name = f"{take.name} ({_in_words(choices)})"[:255]
    return jobs.start(workspace, "read", name, {"take": take.pk, "choices": choices})


def _in_words(choices: dict[str, Any]) -> str:
    """What is chosen, as a take's name says it."""
    wanted = choices_of(choices)
    rate, order, within = wanted.rate, wanted.order, wanted.within_deg
    said = [
        *([] if rate is None else [f"{float(rate):g} / s"]),
        *([] if order is None else [order]),
        *(f"{joint} {own}" for joint, own in wanted.orders.items()),
        *([] if within is None else [f"keyed within {within:g}°"]),
    ]
    return ", ".join(said) or "as the file suggests"


@router.delete("takes/{int:take_id}", response={204: None})
def bin_take(request: HttpRequest, take_id: int) -> Any:
    """Into the bin, with its clips: for some days it can be put back."""
    bins.put_in(_take(request, take_id))
    return Status(204, None)


@router.post("workspaces/{int:workspace_id}/files", response=schemas.UploadOut)
def bring_in(
    request: HttpRequest, workspace_id: int, files: File[list[UploadedFile]],
    onto: Form[int | None] = None,
) -> Any:  # fmt: skip
    """One import job a file; what cannot be one is refused by name, without touching the rest.

    A ``.gltf`` that comes with files of other kinds is taken in with them, as one zip. Tables of
    channels are read ``onto`` the skeleton of a take.
    """
    workspace = workspace_for(request, workspace_id)
    if onto is not None:
        seen(request, workspace.takes.filter(binned=None), pk=onto)
    room = Room(workspace)
    started: list[Job] = []
    refused: list[dict[str, str]] = []
    for name, file in together(files):
        table = is_table(name)
        trouble = file if isinstance(file, str) else room.refuses(len(file))
        if table and onto is None:
            trouble = "a table of channels holds no skeleton: choose the one it is for"
        if trouble is not None:
            refused.append({"name": name, "detail": f"{name}: {trouble}"})
            continue
        with transaction.atomic():
            stored = StoredFile.objects.create(
                workspace=workspace, name=name, data=file, size=len(file)
            )
            payload = {"file": stored.pk, **({"onto": onto} if table else {})}
            started.append(jobs.start(workspace, "import", name, payload))
    return {"jobs": started, "refused": refused}


def together(files: Iterable[UploadedFile]) -> Iterator[tuple[str, bytes | str]]:
    """Each file by name with its bytes, or with why it is refused; those that a ``.gltf`` may
    refer to are packed together with it."""
    named = [((file.name or "unnamed")[-255:], file) for file in files]
    endings = [PurePath(name).suffix.lower() for name, _ in named]
    alone = {*READ, TABLE}
    several = ".gltf" in endings and not set(endings) <= alone
    parts = [several and (end == ".gltf" or end not in alone) for end in endings]
    group = {name: file for (name, file), part in zip(named, parts, strict=True) if part}
    whole = sum(file.size or 0 for file in group.values())
    if group:
        first = next(name for name in group if name.lower().endswith(".gltf"))
        name = f"{PurePath(first).stem}.zip"
        if whole > settings.UPLOAD_BYTES:
            yield name, _too_large(whole)
        else:
            yield name, packed((n, f.read()) for n, f in group.items())
    for (name, file), part in zip(named, parts, strict=True):
        if part:
            continue
        try:
            known_by_name(name, (*READ, TABLE))
        except BadInput as trouble:
            yield name, trouble.message
            continue
        size = file.size or 0
        yield name, _too_large(size) if size > settings.UPLOAD_BYTES else file.read()


def _too_large(size: int) -> str:
    return f"{size / 2**20:.0f} MB; at most {settings.UPLOAD_BYTES // 2**20} MB"


@router.get("workspaces/{int:workspace_id}/skins/{str:digest}")
def skin(request: HttpRequest, workspace_id: int, digest: str) -> HttpResponse:
    """A body as it is kept (:func:`documents.packing.skin_blob`): arrays in the safetensors
    layout."""
    workspace = workspace_for(request, workspace_id)
    if not workspace.skeletons.filter(skin=digest).exists():
        raise HttpError(404, "No skeleton here has this body.")
    data = get_object_or_404(Blob, sha=digest).data
    out = HttpResponse(bytes(data), content_type="application/octet-stream")
    out["Cache-Control"] = "private, max-age=31536000, immutable"
    return out


@router.get("workspaces/{int:workspace_id}/jobs", response=list[shared.JobOut])
def list_jobs(request: HttpRequest, workspace_id: int, kind: str = "import") -> Any:
    """Jobs that are open or failed, newest first: what a page shows after a reload."""
    workspace = workspace_for(request, workspace_id)
    shown = (*Job.OPEN, Job.State.FAILED)
    return list(Job.objects.filter(workspace=workspace, kind=kind, state__in=shown)[:100])


def _job(request: HttpRequest, job_id: int) -> Job:
    return seen(request, Job.objects.all(), pk=job_id)


@router.get("jobs/{int:job_id}", response=shared.JobOut)
def one_job(request: HttpRequest, job_id: int) -> Any:
    return _job(request, job_id)


@router.post("jobs/{int:job_id}/cancel", response=shared.JobOut)
def cancel_job(request: HttpRequest, job_id: int) -> Any:
    jobs.cancel(_job(request, job_id))
    return _job(request, job_id)


@router.delete("jobs/{int:job_id}", response={204: None, 409: shared.Trouble})
def dismiss_job(request: HttpRequest, job_id: int) -> Any:
    """Forget a job that has ended."""
    job = _job(request, job_id)
    if job.state in Job.OPEN:
        return Status(409, {"detail": "The job has not ended: cancel it first."})
    job.delete()
    return Status(204, None)
