"""Deliver: write a clip to a file, read it back, compare, keep the report."""

from collections.abc import Callable
from dataclasses import replace
from fractions import Fraction
from typing import Any

from django.db import transaction
from documents.store import load_clip
from editing.accounts import account_of, summary_of
from editing.models import Revision
from leancurve.document.clip import Clip
from leancurve.errors import BadInput
from leancurve.formats.bvh import read_bvh, with_prop_roots, write_bvh
from leancurve.formats.clipjson import read_clip, write_clip
from leancurve.formats.names import delivery_name
from leancurve.measures.readback import read_back
from leancurve.time.resample import resampled, sample_times
from library import jobs
from library.kinds import job_kind
from library.models import Job, Workspace
from library.room import require_room

from delivery.models import Delivery

MOST_VERSIONS = 99_999


def _written(clip: Clip, payload: dict[str, Any], recipe: list[Any]) -> tuple[bytes, Clip, Any]:
    """The file, the clip read back from it, and the clip's own times of the file's frames."""
    rate = Fraction(*payload["rate"])
    first, last = payload["first"], payload["last"]
    times = sample_times(clip, rate, first, last)
    if payload["format"] == "bvh":
        baked = resampled(clip, rate, first, last, planted=True)
        data = write_bvh(with_prop_roots(baked) if payload.get("props") else baked)
        return data, read_bvh(data).clip, times
    whole = rate == clip.rate and first == 0 and last == clip.frames - 1
    # Plants are solved from all frames: fewer of them would be planted otherwise.
    fewer = clip if whole else resampled(clip, rate, first, last, planted=bool(clip.plants))
    data = write_clip(fewer, recipe)
    return data, read_clip(data).clip, times


def name_for(workspace: Workspace, payload: dict[str, Any]) -> tuple[str, bool]:
    """The name that a delivery would have, and whether another one has it already."""
    taken = _taken(workspace)
    version = payload["version"] or _free_version(workspace, payload, taken)
    name = _name({**payload, "version": version})
    return name, name in taken


def start(workspace: Workspace, payload: dict[str, Any]) -> Job:
    """Queue a delivery under a name that no other of the workspace has.

    Without a version it gets the next one that is free. :class:`BadInput` where the name is taken,
    or the workspace is full.
    """
    require_room(workspace)
    with transaction.atomic():
        # One at a time: two that ask at once must not both find a name free.
        Workspace.objects.select_for_update().get(pk=workspace.pk)
        taken = _taken(workspace)
        version = payload["version"] or _free_version(workspace, payload, taken)
        payload = {**payload, "version": version}
        name = _name(payload)
        if name in taken:
            raise BadInput(f"{name} was delivered already: choose another version or name")
        return jobs.start(workspace, "deliver", name, payload)


def _name(payload: dict[str, Any]) -> str:
    stem = delivery_name(
        payload["pattern"],
        character=payload["character"],
        action=payload["action"],
        version=payload["version"],
    )
    return f"{stem}.{payload['format']}"


def _taken(workspace: Workspace) -> set[str]:
    """The names of a workspace's deliveries, those under way among them."""
    delivered = Delivery.objects.filter(clip__workspace=workspace)
    underway = Job.objects.filter(workspace=workspace, kind="deliver", state__in=Job.OPEN)
    return {
        *delivered.values_list("file_name", flat=True),
        *underway.values_list("title", flat=True),
    }


def _free_version(workspace: Workspace, payload: dict[str, Any], taken: set[str]) -> int:
    """One above the highest version that the name was delivered in."""
    alike = {f"payload__{part}": payload[part] for part in ("pattern", "character", "action")}
    before = Job.objects.filter(
        workspace=workspace,
        kind="deliver",
        state__in=(*Job.OPEN, Job.State.DONE),
        payload__format=payload["format"],
        **alike,
    )
    version = 1 + max(before.values_list("payload__version", flat=True), default=0)
    while _name({**payload, "version": version}) in taken and version < MOST_VERSIONS:
        version += 1
    return version


@job_kind("deliver")
def deliver(job: Job, report: Callable[[float], None]) -> dict[str, Any]:
    """The job behind a delivery."""
    payload = job.payload
    existing = Delivery.objects.filter(job=job).first()
    if existing is not None:
        return {"delivery": existing.pk}
    revision = Revision.objects.select_related("state__header", "clip").get(pk=payload["revision"])
    clip = load_clip(revision.state)
    name = _name(payload)
    report(0.1)
    data, back, times = _written(clip, payload, revision.recipe)
    report(0.6)
    props = payload["format"] != "bvh" or bool(payload.get("props"))
    try:
        # The file does not say its unit: both sides are measured in the clip's.
        found = read_back(clip, times, replace(back, reading=clip.reading), props)
    except BadInput as trouble:
        raise BadInput(f"{name}: {trouble.message}") from None
    delivery = Delivery.objects.create(
        clip=revision.clip,
        revision=revision,
        job=job,
        file_name=name,
        data=data,
        size=len(data),
        report={
            "frames": back.frames,
            "rate": [back.rate.numerator, back.rate.denominator],
            "joints": len(back.skeleton),
            "channels": len(back.channels),
            "keys": back.key_count,
            "max_drift_deg": found.max_deg,
            "rms_drift_deg": found.rms_deg,
            "max_drift_mm": found.max_mm,
            "max_joint": found.max_joint,
            **summary_of(account_of(revision)),
        },
    )
    return {"delivery": delivery.pk}
