"""Plants of a revision: what each of them does, where a foot goes, and how it is all solved."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

import numpy as np
from django.http import HttpRequest, HttpResponse
from documents.store import load_clip
from leancurve.document.base import times_of
from leancurve.document.evaluation import posed
from leancurve.document.layering import soloed
from leancurve.document.placement import placed_pose
from leancurve.document.planting.parts import limb_of
from leancurve.document.planting.plan import plan_of
from leancurve.errors import BadInput
from leancurve.figure.feet import limbs_of
from leancurve.figure.limb import usual_hinge
from leancurve.operations.plant.figures import each_plants_figures, foot_path, plant_figures
from ninja import Router

from api.access import revision_for
from api.messages import immutable, layers_named, message, pose_arrays
from api.schemas import plants as schemas

router = Router()


@router.get("clips/{int:clip_id}/plants", response=schemas.PlantsOut)
def plants(request: HttpRequest, clip_id: int, revision: int) -> Any:
    """What each plant does, and all of them together, against the motion without them."""
    clip = load_clip(revision_for(request, clip_id, revision).state)
    limbs = limbs_of(clip.skeleton, clip.body)
    return {
        "parts": [part for limb in limbs for part in limb.parts],
        "plants": [asdict(p) for p in each_plants_figures(clip)],
        "figures": plant_figures(clip),
    }


@router.get("clips/{int:clip_id}/plants/path", response=schemas.FootPathOut)
def plant_path(
    request: HttpRequest, clip_id: int, revision: int, part: str, first: int, last: int
) -> Any:
    """Where a part goes over some frames: from above, and how high."""
    clip = load_clip(revision_for(request, clip_id, revision).state)
    limb_of(clip, part)
    if not 0 <= first <= last < max(clip.frames, 1):
        raise BadInput(f"expected a span of frames within 0 to {clip.frames - 1}")
    path = foot_path(clip, part, first, last)
    return {
        "frames": path.frames,
        **{
            name: np.round(getattr(path, name), 2).tolist()
            for name in ("level", "level_before", "height", "height_before")
        },
    }


@router.get("clips/{int:clip_id}/limbs", response=list[schemas.LimbOut])
def limbs(request: HttpRequest, clip_id: int, revision: int) -> Any:
    """Limbs of two bones, by which ends are pulled: about which axis each bends as a rule."""
    clip = load_clip(revision_for(request, clip_id, revision).state)
    found = limbs_of(clip.skeleton, clip.body)
    turns, points = posed(clip.unplanted).world(clip.skeleton)
    return [
        {
            "name": x.name,
            "joints": x.joints,
            "ball": x.ball,
            "sole": x.sole,
            "hinge": usual_hinge(
                turns[:, x.upper], (points[:, x.upper], points[:, x.middle], points[:, x.end])
            ).tolist(),
        }
        for x in found
    ]


@router.get("clips/{int:clip_id}/plan")
def plan(request: HttpRequest, clip_id: int, revision: int, solo: str = "") -> HttpResponse:
    """How plants are solved, for what is dragged in the browser: each limb's correction on each
    frame, and the poses that lie below, of the joints that plants turn."""
    wanted = revision_for(request, clip_id, revision)
    clip = soloed(load_clip(wanted.state), layers_named(solo))
    solved = plan_of(clip)
    joints = sorted({*solved.joints, *(() if solved.carrier is None else (solved.carrier,))})
    arrays = pose_arrays(clip, placed_pose(clip, times_of(clip, None), joints), joints)
    for k, limb in enumerate(solved.limbs):
        arrays[f"limb/{k}/shift"] = limb.shift.astype(np.float32)
        arrays[f"limb/{k}/turn"] = limb.turn.astype(np.float32)
        arrays[f"limb/{k}/share"] = limb.share.astype(np.float32)
        arrays[f"limb/{k}/by"] = limb.by.astype(np.uint8)
        arrays[f"limb/{k}/with"] = limb.carried_by.astype(np.int32)
    arrays["lowered"] = solved.lowered.astype(np.float32)
    about = {
        "carrier": solved.carrier,
        "limbs": [
            {
                "name": x.limb.name,
                "joints": list(x.limb.joints),
                "ball": x.limb.ball,
                "sole": x.limb.sole,
                "hinge": x.hinge.tolist(),
            }
            for x in solved.limbs
        ],
    }
    return immutable(request, message(arrays, about), wanted)
