"""Deliver: write a clip's files, read each back in a fresh process, keep the report."""

import logging
from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from django.conf import settings
from django.db import transaction
from documents.models import Blob, State
from documents.packing import skeleton_blob, skin_of
from documents.store import load_clip
from editing.accounts import account_of, summary_of
from leancurve.delivery.folder import put
from leancurve.delivery.making import Made, Stretch, made_together
from leancurve.delivery.partners import staged
from leancurve.delivery.preset import Preset, preset_of
from leancurve.delivery.proof import Proof, of_all, proven
from leancurve.document.clip import Clip as Document
from leancurve.errors import BadInput
from leancurve.figure.skin import Skin
from leancurve.progress import Progress, part_of
from library.apart import apart
from library.kinds import job_kind
from library.models import Job, Skeleton, Workspace
from library.room import require_room

from delivery.handing import adopted
from delivery.models import Delivery, Handed
from delivery.reporting import report_of

log = logging.getLogger("lean.delivery")


@job_kind("deliver")
def deliver(job: Job, report: Callable[[float], None]) -> dict[str, Any]:
    """The job behind a clip of a handover: all of its files that can be made, or none yet."""
    of = job.payload.get("handed") or adopted(job).pk
    handed = Handed.objects.select_related(
        "handover__author", "revision__state__header", "clip__beneath__skeleton"
    ).get(pk=of)
    if handed.report is not None:
        return _result(handed)
    clip = _named(handed)
    skin, others = _body_of(handed), _partners_of(clip)
    done: list[Delivery] = []
    refused: list[dict[str, Any]] = list(handed.refused)
    own = [told for told in handed.plan if "in" not in told]
    for k, told in enumerate(own):
        within = part_of(report, 0.9 * k / len(own), 0.9 / len(own))
        preset = preset_of(handed.handover.presets[told["preset"]]["values"])
        try:
            within(0.0)
            scene = staged(clip, preset, others)
            stretches = [Stretch(scene, told["first"], told["last"]), *_others(told)]
            files = made_together(stretches, preset, handed.revision.recipe, skin)
            proof = _proof(told["name"], files, stretches, part_of(within, 0.5, 0.5))
        except BadInput as trouble:
            refused.append({"name": told["name"], "why": trouble.message})
            continue
        kept = _kept(handed, preset, told["name"], files[0], proof)
        if told.get("with"):
            kept.report["clips"] = [file.clip.name for file in files]
        done.append(kept)
    if refused and not done:
        raise BadInput(refused[0]["why"], file=refused[0]["name"])
    told_of = report_of(handed, clip, done, refused)
    report(0.95)
    with transaction.atomic():
        workspace = Workspace.objects.select_for_update().get(pk=handed.handover.workspace_id)
        require_room(workspace)
        Delivery.objects.bulk_create(done)
        Handed.objects.filter(pk=handed.pk).update(report=told_of, refused=refused)
    handed.refresh_from_db()
    for delivery in done:
        _put_out(delivery)
    return _result(handed)


def _named(handed: Handed) -> Document:
    """The clip as it is called now: the take it came from may have had another name."""
    return replace(load_clip(handed.revision.state), name=handed.clip.name)


def _partners_of(clip: Document) -> dict[str, Document]:
    """The clips of a document's partners by their digests, as far as they are still kept."""
    digests = {partner.digest for partner in clip.partners}
    found = State.objects.select_related("header").filter(hash__among=digests)
    return {state.hash: load_clip(state) for state in found}


def _others(told: dict[str, Any]) -> list[Stretch]:
    """What goes into a file beside the clip that it is a file of."""
    found = Handed.objects.select_related("clip", "revision__state__header")
    others = found.in_bulk(told.get("with", []))
    return [Stretch(_named(o), o.first, o.last) for _, o in sorted(others.items())]


def _proof(
    name: str, files: Sequence[Made], stretches: Sequence[Stretch], progress: Progress
) -> Proof:
    """What reading a file back showed, of each clip in it: where nothing is known of how it was
    written."""
    proofs = []
    for k, (file, stretch) in enumerate(zip(files, stretches, strict=True)):
        within = part_of(progress, k / len(files), 1 / len(files))
        within(0.0)
        asked = (file.data, name, stretch.clip, file.expected)
        proofs.append(apart(proven, asked, name, within))
    return of_all(proofs)


def _body_of(handed: Handed) -> Skin | None:
    """The mesh of the clip's skeleton, where it came with one."""
    digest, _ = skeleton_blob(load_clip(handed.revision.state).skeleton)
    known = Skeleton.objects.filter(workspace=handed.clip.workspace_id, digest=digest)
    own = known.exclude(skin="").first()
    return None if own is None else skin_of(bytes(Blob.objects.get(pk=own.skin).data))


def _kept(handed: Handed, preset: Preset, name: str, file: Made, proof: Proof) -> Delivery:
    return Delivery(
        clip=handed.clip, revision=handed.revision, handed=handed, file_name=name,
        preset=preset.model_dump(mode="json"), data=file.data, size=len(file.data),
        report={
            "frames": proof.frames,
            "rate": [file.expected.rate.numerator, file.expected.rate.denominator],
            "joints": proof.joints,
            "channels": proof.channels,
            "keys": proof.keys,
            "sha256": proof.sha256,
            "max_drift_deg": proof.max_deg,
            "rms_drift_deg": proof.rms_deg,
            "max_joint": proof.deg_joint,
            "max_frame": proof.deg_frame,
            "max_drift_mm": proof.max_mm,
            "rms_drift_mm": proof.rms_mm,
            "mm_joint": proof.mm_joint,
            "mm_frame": proof.mm_frame,
            **summary_of(account_of(handed.revision)),
        },
    )  # fmt: skip


def _result(handed: Handed) -> dict[str, Any]:
    files = list(handed.deliveries.values_list("pk", flat=True))
    return {"delivery": files[0] if files else None, "deliveries": files}


def _put_out(delivery: Delivery) -> None:
    """A copy in the folder that the preset names, within the one that this server may write to;
    where that does not go the file is delivered all the same, and says so."""
    folder, out = delivery.preset.get("folder"), settings.OUTPUT_FOLDER
    if not folder or not out:
        return
    try:
        place = within(Path(out), folder)
        if (place / delivery.file_name).exists():
            if (place / delivery.file_name).read_bytes() == bytes(delivery.data):
                return
            raise BadInput(f"{delivery.file_name} is there already, and is another file")
        put(bytes(delivery.data), place, lambda version: delivery.file_name)
        told = {"put_out": f"{folder}/{delivery.file_name}"}
    except (BadInput, OSError) as trouble:
        log.warning("a delivery was not put out", extra={"why": str(trouble)})
        told = {"not_put_out": str(trouble)[:300]}
    delivery.report |= told
    Delivery.objects.filter(pk=delivery.pk).update(report=delivery.report)


def within(out: Path, folder: str) -> Path:
    """A folder below another one; :class:`BadInput` where it would lie outside of it."""
    root = out.resolve()
    place = (root / folder).resolve()
    if not place.is_relative_to(root):
        raise BadInput("folder: expected one within the output folder of this server")
    return place
