"""What a delivery report says of a clip: gathered when it is delivered, and kept."""

import hashlib
from collections.abc import Sequence
from dataclasses import asdict
from typing import Any

from django.utils import timezone
from documents.inspections import inspect, open_counts
from editing.accounts import account_of
from editing.baseline import baseline_of
from editing.models import Revision
from editing.outcomes import take_of
from editing.recipes import replay, title
from leancurve.delivery.report import goes_on, key_poses, layers_told, series, travelled
from leancurve.document.clip import Clip
from library.models import StoredFile

from delivery.models import Delivery, Handed


def report_of(
    handed: Handed, clip: Clip, done: Sequence[Delivery], refused: Sequence[dict[str, Any]]
) -> dict[str, Any]:
    """Plain values: who and when, what was done to the take and what it cost, and the files."""
    revision = handed.revision
    take = take_of(revision)
    told = account_of(revision)
    before, after = inspect(take.state), inspect(revision.state)
    author = handed.handover.author
    base = baseline_of(revision)
    base = base if base.skeleton == clip.skeleton else None
    return {
        "clip": handed.clip.name,
        "delivery": handed.handover.number,
        "by": author.get_username() if author else "",
        "when": timezone.localtime(handed.handover.created).strftime("%-d %B %Y, %H:%M %Z"),
        "revision": revision.number,
        "skeleton": handed.clip.beneath.skeleton.name,
        "take": {"name": take.name, "file": take.file.name, "sha256": _sha_of(take.file_id)},
        "frames": clip.frames,
        "rate": float(clip.rate),
        "travelled_m": travelled(clip),
        "goes_on": goes_on(clip),
        "keys": {"before": take.keys, "after": clip.key_count},
        "lines": _lines(revision, told.lines),
        "findings": {
            "before": open_counts(before.findings), "after": open_counts(after.findings),
        },
        "accepted": [asdict(a) for a in clip.accepted],
        "mended": [
            {k: v for k, v in asdict(m).items() if k != "off_deg"} for m in told.whole.mended
        ],
        "largest": {"deg": asdict(told.whole.cost_deg), "mm": asdict(told.whole.cost_mm)},
        "layers": layers_told(clip),
        "plots": series(clip, base),
        "poses": key_poses(clip),
        "files": [
            {
                "name": d.file_name, "size": d.size, "sha256": d.report["sha256"],
                "frames": d.report["frames"], "joints": d.report["joints"],
                "max_deg": d.report["max_drift_deg"], "deg_joint": d.report["max_joint"],
                "max_mm": d.report["max_drift_mm"], "mm_joint": d.report["mm_joint"],
                "preset": handed.handover.presets[_preset_of(handed, d)],
                "clips": d.report.get("clips", []),
            }
            for d in done
        ],
        "inside": [{"name": f["name"], "clip": f["clip"]} for f in inside(handed)],
        "refused": list(refused),
    }  # fmt: skip


def inside(handed: Handed) -> list[dict[str, Any]]:
    """The files of other clips that hold a clip too: their names, of which clip they are, and the
    delivered file, where that is made."""
    told = [(f["name"], f["in"]) for f in handed.plan if "in" in f]
    leads = Handed.objects.select_related("clip").in_bulk([lead for _, lead in told])
    made = Delivery.objects.filter(handed__in=leads, file_name__in=[n for n, _ in told])
    files = dict(made.values_list("file_name", "pk"))
    return [
        {"name": name, "clip": leads[lead].clip.name, "handed": lead, "file": files.get(name)}
        for name, lead in told
    ]


def _preset_of(handed: Handed, delivery: Delivery) -> int:
    return next(f["preset"] for f in handed.plan if f["name"] == delivery.file_name)


def _sha_of(file_id: int) -> str:
    return hashlib.sha256(bytes(StoredFile.objects.get(pk=file_id).data)).hexdigest()


def _lines(revision: Revision, drifts: Sequence[tuple[Any, Any]]) -> list[dict[str, Any]]:
    """Each line of the recipe in words, with what it did by itself and the keys it left."""
    states = [step.state for step in replay(take_of(revision).state, revision.recipe)]
    out = []
    for (line, drift), state in zip(drifts, states, strict=True):
        out.append({
            "told": title(line), "kind": drift.kind, "aside": bool(line.get("aside")),
            "deg": drift.deg.size, "joint": drift.deg.name, "deg_frame": drift.deg.frame,
            "mm": drift.mm.size, "end": drift.mm.name, "mm_frame": drift.mm.frame,
            "keys": state.keys,
        })  # fmt: skip
    return out
