"""Deliveries of a clip."""

from fractions import Fraction
from typing import Any

from delivery.deliver import name_for, start
from delivery.models import Delivery
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404
from django.utils.http import content_disposition_header
from documents.store import load_clip
from editing.models import Revision
from leancurve.errors import BadInput
from leancurve.time.resample import sample_times
from ninja import Router

from api.access import clip_for, seen
from api.schemas import deliveries as schemas
from api.schemas import shared

router = Router()


@router.post("clips/{int:clip_id}/deliveries", response=shared.JobOut)
def deliver(request: HttpRequest, clip_id: int, wanted: schemas.DeliverIn) -> Any:
    """Start a delivery; what cannot be delivered is refused at once."""
    clip = clip_for(request, clip_id)
    revision = get_object_or_404(Revision, pk=wanted.revision, clip=clip)
    if min(wanted.rate) < 1:
        raise BadInput("rate: must be above 0")
    sample_times(load_clip(revision.state), Fraction(*wanted.rate), wanted.first, wanted.last)
    return start(clip.workspace, wanted.model_dump())


@router.post("clips/{int:clip_id}/deliveries/name", response=schemas.NameOut)
def name_of_delivery(request: HttpRequest, clip_id: int, wanted: schemas.NameIn) -> Any:
    """What a delivery would be called; nothing is delivered."""
    name, taken = name_for(clip_for(request, clip_id).workspace, wanted.model_dump())
    return {"name": name, "taken": taken}


@router.get("clips/{int:clip_id}/deliveries", response=list[schemas.DeliveryOut])
def list_deliveries(request: HttpRequest, clip_id: int) -> Any:
    clip = clip_for(request, clip_id)
    return [
        {
            "id": d.pk,
            "file_name": d.file_name,
            "size": d.size,
            "revision": d.revision.number,
            "report": d.report,
            "created": d.created,
        }
        for d in clip.deliveries.select_related("revision").defer("data")
    ]


@router.get("deliveries/{int:delivery_id}/file")
def delivered_file(request: HttpRequest, delivery_id: int) -> HttpResponse:
    """The delivered file, as it was written."""
    delivery = seen(request, Delivery.objects.all(), "clip__workspace", pk=delivery_id)
    kind = "application/json" if delivery.file_name.endswith(".json") else "text/plain"
    response = HttpResponse(bytes(delivery.data), content_type=kind)
    response["Content-Disposition"] = content_disposition_header(True, delivery.file_name) or ""
    return response
