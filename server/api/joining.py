"""Clips together: where two of a join may meet, and what those were taken from that are named."""

from __future__ import annotations

from itertools import zip_longest
from typing import Any

import numpy as np
from computing.wanted import while_wanted
from django.http import HttpRequest, HttpResponse
from documents.store import load_clip
from editing import meeting as meeting_of_figures
from editing.asking import asked_line
from editing.inputs import require_ours, sources_of
from editing.recipes import inputs_of
from leancurve.document.evaluation import evaluate
from leancurve.joining.blending import BLEND_S
from leancurve.joining.clouds import points_of
from leancurve.joining.seams import Seam, pairs_of
from leancurve.operations.join.join import Join, meeting
from ninja import Router

from api.access import clip_for, revision_for
from api.clips import clip_out
from api.messages import message, pose_arrays
from api.previews import standing_before
from api.schemas import joining as schemas
from api.schemas import shared

router = Router()

PICTURE = 360, 240
"""Width and height of a picture of all pairs, in its cells."""


@router.post("clips/{int:clip_id}/preview/seams")
def seams(request: HttpRequest, clip_id: int, wanted: schemas.SeamsIn) -> HttpResponse:
    """How far apart all frames on both sides of a seam are, ``mm (H, W)``: columns are the frames
    of what comes before it, rows those of what comes after; the poses of both come along.
    ``points`` are the joints that are compared, ``best`` the seams that fit best. Nothing is
    saved."""
    revision = revision_for(request, clip_id, wanted.revision)
    require_ours(revision.clip.workspace, Join.name, wanted.inputs, revision)
    line = asked_line(revision, Join.name, wanted.params, {}, wanted.inputs)
    at = standing_before(revision, wanted.line)
    join = Join()
    clip = load_clip(at.state)
    met = meeting(
        clip, inputs_of(line, at.take), join.parsed(line["params"]),
        wanted.seam, while_wanted,
    )  # fmt: skip
    edge = round(BLEND_S * float(met.whole.rate))
    pairs = pairs_of(met.whole, met.played, met.start, (edge, edge), PICTURE)
    joints = list(range(len(clip.skeleton)))
    frames = np.arange(met.start, met.whole.frames, dtype=np.float64)
    before = pose_arrays(met.whole, evaluate(met.whole, frames), joints)
    return message(
        {
            "mm": pairs.apart,
            **pose_arrays(met.played, evaluate(met.played), joints),
            **{f"before_{name}": values for name, values in before.items()},
        },
        {
            "frames": met.played.frames,
            "before": met.whole.frames - met.start,
            "points": points_of(met.whole.body),
            "best": [_told(seam, met.start) for seam in pairs.best],
        },
    )


@router.get("clips/{int:clip_id}/sources", response=list[schemas.PartSourceOut])
def sources(request: HttpRequest, clip_id: int, revision: int) -> Any:
    """The clips that the parts of a join and the partners were taken from, as far as they are
    still here."""
    wanted = revision_for(request, clip_id, revision)
    named = [(partner.digest, partner.name) for partner in load_clip(wanted.state).partners]
    for line in wanted.recipe:
        if line["operation"] == Join.name:
            told = (part.get("name", "") for part in line["params"].get("parts", ()))
            named += zip_longest(line.get("inputs", {}).get("parts", ()), told, fillvalue="")
    return sources_of(wanted.clip, named)


@router.post("clips/{int:clip_id}/partners/meet", response=shared.ClipOut)
def meet(request: HttpRequest, clip_id: int, wanted: schemas.MeetIn) -> Any:
    """Hold a hand of the clip and one of a partner's at a place half way between them: in the
    partner's clip too, which is written as well."""
    base = revision_for(request, clip_id, wanted.revision)
    met = meeting_of_figures.Meeting(
        wanted.partner, wanted.joint, wanted.theirs, wanted.first, wanted.last
    )
    meeting_of_figures.meet(base, met, wanted.request_id, request.user)
    return clip_out(clip_for(request, clip_id))


def _told(seam: Seam, start: int) -> dict[str, Any]:
    return {
        "leave": seam.frame_a - start,
        "enter": seam.frame_b,
        "distance_mm": seam.fit.distance_mm,
        "turned_deg": seam.fit.turned_deg,
        "good": seam.good,
        "unlike": list(seam.unlike),
    }
