"""A delivery as one zip: its files, what they are, and the reports. Made twice it is the same."""

import io
import zipfile
from typing import Any

import orjson
from leancurve.delivery.report import page
from leancurve.formats.names import plain_name

from delivery.models import Handed, Handover
from delivery.reporting import inside

WHEN = (1980, 1, 1, 0, 0, 0)
"""The time of every part: nothing in the zip says when it was zipped."""


def bundle(handover: Handover) -> bytes:
    """The zip of what is delivered of a handover so far."""
    out = io.BytesIO()
    clips = list(handover.clips.exclude(report=None).select_related("clip", "revision"))
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as file:

        def put(name: str, data: bytes) -> None:
            told = zipfile.ZipInfo(name, WHEN)
            told.compress_type = zipfile.ZIP_DEFLATED
            told.external_attr = 0o644 << 16
            file.writestr(told, data, compresslevel=6)

        put("manifest.json", orjson.dumps(manifest(handover, clips), option=orjson.OPT_INDENT_2))
        for handed in clips:
            for delivery in handed.deliveries.order_by("pk").iterator(chunk_size=4):
                put(f"files/{delivery.file_name}", bytes(delivery.data))
            put(f"reports/{report_name(handed)}.html", page(handed.report or {}).encode())
            put(f"reports/{report_name(handed)}.json", orjson.dumps(handed.report))
    return out.getvalue()


def report_name(handed: Handed) -> str:
    """What a clip's report is called; the number tells apart clips of one name."""
    return f"{plain_name(handed.clip.name) or 'clip'}_{handed.pk}"


def manifest(handover: Handover, clips: list[Handed]) -> dict[str, Any]:
    """What is in the zip: each file with its hash, its source and the recipe that made it."""
    return {
        "delivery": handover.number,
        "created": handover.created.isoformat(),
        "by": handover.author.get_username() if handover.author else "",
        "presets": handover.presets,
        "clips": [
            {
                "clip": handed.clip.name,
                "take": (handed.report or {})["take"],
                "revision": handed.revision.number,
                "recipe": handed.revision.lines,
                "frames": [handed.first, handed.last],
                "files": [
                    {
                        "name": f"files/{d.file_name}", "bytes": d.size,
                        "sha256": d.report["sha256"], "frames": d.report["frames"],
                        "max_error_deg": d.report["max_drift_deg"],
                        "max_error_mm": d.report["max_drift_mm"],
                        **({"clips": d.report["clips"]} if "clips" in d.report else {}),
                    }
                    for d in handed.deliveries.order_by("pk").defer("data")
                ],
                "inside": [f"files/{f['name']}" for f in inside(handed) if f["file"]],
                "refused": handed.refused,
                "report": f"reports/{report_name(handed)}.html",
            }
            for handed in clips
        ],
    }  # fmt: skip
