"""Deliveries of a clip, and of many at once; the presets they are made by."""

from collections import defaultdict
from itertools import zip_longest
from typing import Any

import orjson
from csp.constants import NONE, UNSAFE_INLINE
from csp.decorators import csp_replace
from delivery import bundle, handing
from delivery.handing import Asked, Named
from delivery.models import Delivery, Handed, Handover, Preset
from delivery.presets import keep_preset, presets_of
from delivery.reporting import inside
from django.db.models import Prefetch
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404
from django.utils.http import content_disposition_header
from editing import history
from editing.models import Clip, Revision
from editing.recipes import title
from leancurve.delivery.preset import preset_of
from leancurve.delivery.report import page
from leancurve.errors import BadInput
from library.models import Job, Take
from ninja import Router

from api.access import clip_for, seen, workspace_for
from api.schemas import deliveries as schemas
from api.schemas import shared

router = Router()

KINDS = {
    ".json": "application/json", ".glb": "model/gltf-binary", ".gltf": "model/gltf+json",
    ".csv": "text/csv", ".bvh": "text/plain", ".usda": "model/vnd.usda",
}  # fmt: skip
"""Media types by a name's ending (IANA's registry, from memory)."""


@router.post("clips/{int:clip_id}/deliveries", response=shared.JobOut)
def deliver(request: HttpRequest, clip_id: int, wanted: schemas.DeliverIn) -> Any:
    """Start a delivery; what cannot be delivered is refused at once."""
    clip = clip_for(request, clip_id)
    asked, preset = _asked(clip, wanted)
    handover = handing.start(clip.workspace, request.user, [asked], [preset])
    return handover.clips.get().job


@router.post("clips/{int:clip_id}/deliveries/plan", response=list[schemas.FileOut])
def files_of_delivery(request: HttpRequest, clip_id: int, wanted: schemas.DeliverIn) -> Any:
    """The files that a delivery would make; nothing is delivered."""
    clip = clip_for(request, clip_id)
    asked, preset = _asked(clip, wanted)
    files = handing.planned(clip.workspace, asked, [preset])
    return [
        {
            "name": f.name, "taken": f.taken, "bytes": f.about,
            "frames": [f.part.first, f.part.last],
        }
        for f in files
    ]  # fmt: skip


def _asked(clip: Clip, wanted: schemas.DeliverIn) -> tuple[Asked, Named]:
    revision = get_object_or_404(Revision, pk=wanted.revision, clip=clip)
    asked = Asked(
        revision, wanted.first, wanted.last, wanted.character, wanted.action, wanted.version
    )
    return asked, Named(wanted.preset, preset_of(wanted.form()))


@router.get("clips/{int:clip_id}/deliveries", response=list[schemas.DeliveryOut])
def list_deliveries(request: HttpRequest, clip_id: int) -> Any:
    clip = clip_for(request, clip_id)
    return _listed(clip.deliveries.all())


def _listed(deliveries: Any) -> list[dict[str, Any]]:
    found = deliveries.select_related("revision", "handed__handover", "clip__head")
    found = found.defer("data", "handed__report", "handed__plan")
    return [
        {
            "id": d.pk,
            "file_name": d.file_name,
            "size": d.size,
            "revision": d.revision.number,
            "delivery": d.handed.handover.number if d.handed else None,
            "handed": d.handed_id,
            "preset": d.preset,
            "changed": _changed(d),
            "report": d.report,
            "created": d.created,
        }
        for d in found
    ]


def _changed(delivery: Delivery) -> list[str] | None:
    """What was done to a clip since a file of it was made, in words; nothing where it is as it
    was, and None where steps that the file holds were undone or changed."""
    head, made = delivery.clip.head, delivery.revision
    assert head is not None
    if head.state_id == made.state_id:
        return []
    ours, theirs = head.recipe, made.recipe
    pairs = enumerate(zip_longest(ours, theirs))
    same = next((k for k, (mine, then) in pairs if mine != then), len(ours))
    return [title(line) for line in ours[same:]] if same == len(theirs) else None


@router.get("deliveries/{int:delivery_id}/file")
def delivered_file(request: HttpRequest, delivery_id: int) -> HttpResponse:
    """The delivered file, as it was written."""
    delivery = seen(request, Delivery.objects.all(), "clip__workspace", pk=delivery_id)
    ending = delivery.file_name[delivery.file_name.rfind(".") :]
    kind = KINDS.get(ending, "application/octet-stream")
    return _download(bytes(delivery.data), delivery.file_name, kind)


def _download(data: bytes, name: str, kind: str) -> HttpResponse:
    response = HttpResponse(data, content_type=kind)
    response["Content-Disposition"] = content_disposition_header(True, name) or ""
    return response


@router.get("handed/{int:handed_id}/report")
def delivery_report(request: HttpRequest, handed_id: int, form: str = "html") -> HttpResponse:
    """The report of a clip's delivery: a page of its own, or its plain values as ``json``."""
    handed = seen(request, Handed.objects.exclude(report=None), "handover__workspace", pk=handed_id)
    if form == "json":
        data = orjson.dumps(handed.report, option=orjson.OPT_INDENT_2)
        return _download(data, f"{bundle.report_name(handed)}.json", KINDS[".json"])
    return _page(request, page(handed.report or {}))


# --- many at once ---------------------------------------------------------------------------------


@router.get("workspaces/{int:workspace_id}/presets", response=list[schemas.PresetOut])
def presets(request: HttpRequest, workspace_id: int) -> Any:
    workspace = workspace_for(request, workspace_id)
    return [{"id": n, "name": p.name, "values": p.form} for n, p in presets_of(workspace).items()]


@router.put("workspaces/{int:workspace_id}/presets/{name}", response=schemas.PresetOut)
def put_preset(request: HttpRequest, workspace_id: int, name: str, wanted: schemas.PresetIn) -> Any:
    """Keep a preset under a name, in place of one that has it."""
    preset = keep_preset(workspace_for(request, workspace_id), name, preset_of(wanted.values))
    return {"id": preset.pk, "name": preset.name, "values": preset.values}


@router.delete("presets/{int:preset_id}", response={204: None})
def delete_preset(request: HttpRequest, preset_id: int) -> Any:
    seen(request, Preset.objects.all(), pk=preset_id).delete()
    return 204, None


@router.post("workspaces/{int:workspace_id}/handovers", response=schemas.HandoverOut)
def start_handover(request: HttpRequest, workspace_id: int, wanted: schemas.HandoverIn) -> Any:
    """Deliver takes' clips in the forms of presets; what has not changed is not made again."""
    workspace = workspace_for(request, workspace_id)
    takes = Take.objects.seen_by(request.user).filter(workspace=workspace, pk__in=wanted.takes)
    found = {t.pk: t for t in takes}
    known = presets_of(workspace)
    missing = [pk for pk in wanted.takes if pk not in found]
    strange = [n for n in wanted.presets if n not in known]
    if missing or strange:
        what = f"take {missing[0]}" if missing else f"preset {strange[0]}"
        raise BadInput(f"there is no {what} here")
    clips = [history.clip_of(found[pk], request.user) for pk in dict.fromkeys(wanted.takes)]
    heads = Revision.objects.select_related("clip__beneath__skeleton", "state__header")
    heads = {r.clip_id: r for r in heads.filter(pk__in=[c.head_id for c in clips])}
    asked = [Asked(heads[c.pk]) for c in clips]
    chosen = [known[n] for n in dict.fromkeys(wanted.presets)]
    handover = handing.start(workspace, request.user, asked, chosen, wanted.again)
    return _handover_out(handover)


@router.get("workspaces/{int:workspace_id}/handovers", response=list[schemas.HandoverTold])
def list_handovers(request: HttpRequest, workspace_id: int) -> Any:
    workspace = workspace_for(request, workspace_id)
    out = []
    clips = Handed.objects.select_related("job").defer("report", "plan")
    handovers = list(workspace.handovers.prefetch_related(Prefetch("clips", clips))[:20])
    reported = Handed.objects.filter(handover__in=handovers, report__isnull=False)
    made = set(reported.values_list("pk", flat=True))
    for handover in handovers:
        states = [_state(h, h.pk in made) for h in handover.clips.all()]
        out.append({
            "id": handover.pk, "number": handover.number, "created": handover.created,
            "clips": len(states), "open": sum(s in Job.OPEN for s in states),
            "failed": sum(s == "failed" for s in states),
        })  # fmt: skip
    return out


@router.get("handovers/{int:handover_id}", response=schemas.HandoverOut)
def one_handover(request: HttpRequest, handover_id: int) -> Any:
    return _handover_out(_handover(request, handover_id))


@router.post("handovers/{int:handover_id}/cancel", response=schemas.HandoverOut)
def cancel_handover(request: HttpRequest, handover_id: int) -> Any:
    handover = _handover(request, handover_id)
    handing.cancel(handover)
    return _handover_out(handover)


@router.get("handovers/{int:handover_id}/zip")
def zipped(request: HttpRequest, handover_id: int) -> HttpResponse:
    """All files of a delivery with their reports, as one zip."""
    handover = _handover(request, handover_id)
    name = f"delivery_{handover.number:03}.zip"
    return _download(bundle.bundle(handover), name, "application/zip")


def _handover(request: HttpRequest, handover_id: int) -> Handover:
    return seen(request, Handover.objects.select_related("author"), pk=handover_id)


def _state(handed: Handed, made: bool) -> str:
    if handed.unchanged_id is not None:
        return "unchanged"
    if made:
        return "done"
    if handed.job is None:
        return "failed" if handed.refused else "cancelled"
    return handed.job.state


def _handover_out(handover: Handover) -> dict[str, Any]:
    # Clips first: what they made by then is there, whatever ends meanwhile.
    clips = list(handover.clips.select_related("clip", "revision", "job", "unchanged"))
    files: dict[int | None, list[dict[str, Any]]] = defaultdict(list)
    for file in _listed(Delivery.objects.filter(handed__handover=handover).order_by("pk")):
        files[file["handed"]].append(file)
    return {
        "id": handover.pk,
        "number": handover.number,
        "author": handover.author.get_username() if handover.author else "",
        "created": handover.created,
        "presets": [p["name"] or p["values"]["format"] for p in handover.presets],
        "clips": [_handed_out(h, files[h.pk]) for h in clips],
    }


def _why(handed: Handed) -> str:
    return "; ".join(f"{r['name']}: {r['why']}" for r in handed.refused)


def _handed_out(handed: Handed, files: list[dict[str, Any]]) -> dict[str, Any]:
    report: dict[str, Any] = handed.report or {}
    return {
        "id": handed.pk,
        "clip": handed.clip_id,
        "name": handed.clip.name,
        "state": _state(handed, handed.report is not None),
        "progress": handed.job.progress if handed.job else 1.0,
        "message": handed.job.message if handed.job else _why(handed),
        "revision": handed.revision.number,
        "unchanged": handed.unchanged.number if handed.unchanged else None,
        "planned": [f["name"] for f in handed.plan if "in" not in f],
        "refused": handed.refused,
        "files": files,
        "inside": inside(handed) if any("in" in f for f in handed.plan) else [],
        "findings": report["findings"]["after"] if report else None,
        "keys": report["keys"]["after"] if report else None,
    }


def _page(request: HttpRequest, text: str) -> HttpResponse:
    """A page that brings its own styles, and may have nothing else, a script least of all."""

    @csp_replace({"default-src": [NONE], "style-src": [UNSAFE_INLINE]})
    def answer(request: HttpRequest) -> HttpResponse:
        return HttpResponse(text, content_type="text/html; charset=utf-8")

    return answer(request)
