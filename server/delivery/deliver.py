"""Deliver: write a clip to a file, read it back, compare, keep the report."""

from collections.abc import Callable
from dataclasses import replace
from fractions import Fraction
from typing import Any

from documents.store import load_clip
from editing.accounts import account_of, summary_of
from editing.models import Revision
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.errors import BadInput
from leancurve.formats.bvh import read_bvh, write_bvh
from leancurve.formats.clipjson import read_clip, write_clip
from leancurve.measures.drift import pose_drift
from leancurve.time.resample import delivery_name, resampled, sample_times
from library.jobs import job_kind
from library.models import Job

from delivery.models import Delivery


def _written(clip: Clip, payload: dict[str, Any], recipe: list[Any]) -> tuple[bytes, Clip, Any]:
    """The file, the clip read back from it, and the clip's own times of the file's frames."""
    rate = Fraction(*payload["rate"])
    first, last = payload["first"], payload["last"]
    times = sample_times(clip, rate, first, last)
    if payload["format"] == "bvh":
        data = write_bvh(resampled(clip, rate, first, last))
        return data, read_bvh(data).clip, times
    whole = rate == clip.rate and first == 0 and last == clip.frames - 1
    data = write_clip(clip if whole else resampled(clip, rate, first, last), recipe)
    return data, read_clip(data).clip, times


@job_kind("deliver")
def deliver(job: Job, report: Callable[[float], None]) -> dict[str, Any]:
    """The job behind a delivery."""
    payload = job.payload
    existing = Delivery.objects.filter(job=job).first()
    if existing is not None:
        return {"delivery": existing.pk}
    revision = Revision.objects.select_related("state__header", "clip").get(pk=payload["revision"])
    clip = load_clip(revision.state)
    name = delivery_name(
        payload["pattern"],
        character=payload["character"],
        action=payload["action"],
        version=payload["version"],
    )
    report(0.1)
    data, back, times = _written(clip, payload, revision.recipe)
    report(0.6)
    if back.skeleton.names != clip.skeleton.names or back.frames != len(times):
        raise BadInput(
            f"{name}: the written file reads back as {back.frames} frames of "
            f"{len(back.skeleton)} joints, not {len(times)} of {len(clip.skeleton)}"
        )
    # The file does not say its unit: both sides are measured in the clip's.
    moved = pose_drift(clip, evaluate(clip, times), _in_unit_of(back, clip), evaluate(back))
    delivery = Delivery.objects.create(
        clip=revision.clip,
        revision=revision,
        job=job,
        file_name=f"{name}.{payload['format']}",
        data=data,
        size=len(data),
        report={
            "frames": back.frames,
            "rate": [back.rate.numerator, back.rate.denominator],
            "joints": len(back.skeleton),
            "channels": len(back.channels),
            "keys": back.key_count,
            "max_drift_deg": moved.max_deg,
            "rms_drift_deg": moved.rms_deg,
            "max_drift_mm": moved.max_mm,
            "max_joint": moved.max_joint,
            **summary_of(account_of(revision)),
        },
    )
    return {"delivery": delivery.pk}


def _in_unit_of(back: Clip, clip: Clip) -> Clip:
    return replace(back, reading=clip.reading)
