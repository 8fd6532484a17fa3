"""Clips retargeted onto other skeletons: which there are, how joints are mapped, what comes out."""

from __future__ import annotations

import time
from typing import Any

import numpy as np
from computing.wanted import while_wanted
from django.db.models import QuerySet
from django.http import HttpRequest, HttpResponse
from documents.store import load_clip
from editing import joining, retargeting
from editing.models import Revision
from leancurve.document.clip import Clip as Document
from leancurve.document.evaluation import posed
from leancurve.errors import BadInput
from leancurve.operations import OPERATIONS, apply_patch
from leancurve.retarget.matching import ChainPair, match
from leancurve.retarget.profile import told
from leancurve.retarget.rest import RestFigure
from library.models import Take
from ninja import Router

from api.access import clip_for, revision_for, seen, workspace_for
from api.clips import clip_out, figure_out
from api.messages import message, pose_arrays
from api.schemas import retargeting as schemas
from api.schemas import shared

router = Router()


def _takes(request: HttpRequest) -> QuerySet[Take]:
    return Take.objects.seen_by(request.user).select_related("state__header", "skeleton")


@router.get("workspaces/{int:workspace_id}/skeletons", response=list[schemas.SkeletonOut])
def skeletons(request: HttpRequest, workspace_id: int) -> Any:
    """Skeletons to retarget onto: those that came without motion, then one take of each other."""
    workspace = workspace_for(request, workspace_id)
    takes = _takes(request).filter(workspace=workspace, retargeted=None)
    out: list[dict[str, Any]] = []
    shown: set[int] = set()
    for take in sorted(takes, key=lambda t: (t.frames > 1, -t.pk)):
        if take.skeleton_id in shown:
            continue
        shown.add(take.skeleton_id)
        still = take.frames <= 1
        out.append(
            {
                "take": take.pk,
                "state": take.state_id,
                "name": take.name if still else take.skeleton.name,
                "skeleton": take.skeleton.name,
                "joints": take.joints,
                "still": still,
            }
        )
    return out


def _figure(standing: RestFigure) -> dict[str, Any]:
    return {
        "names": list(standing.skeleton.names),
        "parents": list(standing.skeleton.parents),
        "points": [tuple(p) for p in np.round(standing.points, 5).tolist()],
        "height": standing.height,
        "is_pose": standing.is_pose,
    }


def _both(
    request: HttpRequest, revision: Revision, target: int | None
) -> tuple[Document, Document]:
    """What is retargeted, and onto what: what a retargeted clip came of if no target is named."""
    if target is None:
        return retargeting.beneath(revision)
    aim = seen(request, _takes(request), pk=target)
    return load_clip(revision.state), load_clip(aim.state)


@router.post("clips/{int:clip_id}/map", response=schemas.MapOut)
def joint_map(request: HttpRequest, clip_id: int, wanted: schemas.MapIn) -> Any:
    """Which joints of a clip give which of a target theirs, and how either stands at rest."""
    revision = revision_for(request, clip_id, wanted.revision)
    source, aim = _both(request, revision, wanted.target)
    kept = retargeting.map_for(revision.clip.workspace, source.skeleton, aim.skeleton)
    joints = kept.joints if wanted.joints is None else wanted.joints
    chains = kept.chains if wanted.chains is None else _pairs(wanted.chains)
    ours, theirs = (RestFigure.of(c.skeleton, c.reading) for c in (source, aim))
    links = match(ours, theirs, joints, chains)
    given = links.given
    return {
        "links": told(ours, theirs, links),
        "unused": [n for j, n in enumerate(source.skeleton.names) if j not in given],
        "joints": dict(joints),
        "chains": [c._asdict() for c in chains],
        "rest": dict(kept.rest),
        "source": _figure(ours),
        "target": _figure(theirs),
    }


def _pairs(given: list[schemas.ChainIO]) -> list[ChainPair]:
    return [ChainPair((c.source[0], c.source[1]), (c.target[0], c.target[1])) for c in given]


@router.get("clips/{int:clip_id}/retargeted", response=list[schemas.MadeOut])
def made_of(request: HttpRequest, clip_id: int) -> Any:
    """Clips that were retargeted from this one, the newest first."""
    return retargeting.made_of(clip_for(request, clip_id))


@router.post("clips/{int:clip_id}/retarget", response=list[shared.JobOut])
def retarget(request: HttpRequest, clip_id: int, wanted: schemas.RetargetIn) -> Any:
    """Retarget a revision onto skeletons: a job each, which makes a clip of its own."""
    revision = revision_for(request, clip_id, wanted.revision)
    mine = _takes(request).filter(workspace=revision.clip.workspace)
    targets = [seen(request, mine, pk=pk) for pk in wanted.targets]
    return retargeting.start(revision, targets, wanted.params, request.user)


@router.post("workspaces/{int:workspace_id}/retarget", response=list[shared.JobOut])
def retarget_many(request: HttpRequest, workspace_id: int, wanted: schemas.RetargetManyIn) -> Any:
    """Retarget what was last worked on of many takes onto one skeleton, a job each."""
    workspace = workspace_for(request, workspace_id)
    mine = _takes(request).filter(workspace=workspace)
    target = seen(request, mine, pk=wanted.target)
    takes = mine.select_related("workspace").in_bulk(wanted.takes)
    if len(takes) < len(set(wanted.takes)):
        raise BadInput("takes: one of them is not here any more")
    return [
        job
        for take in (takes[pk] for pk in dict.fromkeys(wanted.takes))
        for job in retargeting.start(
            retargeting.newest_of(take, request.user), [target], wanted.params, request.user
        )
    ]


@router.post("workspaces/{int:workspace_id}/join", response=shared.JobOut)
def join_many(request: HttpRequest, workspace_id: int, wanted: schemas.JoinManyIn) -> Any:
    """Join what was last worked on of several takes, in their order, as a clip of its own."""
    workspace = workspace_for(request, workspace_id)
    takes = _takes(request).filter(workspace=workspace).select_related("workspace")
    there = takes.in_bulk(wanted.takes)
    if len(there) < len(set(wanted.takes)):
        raise BadInput("takes: one of them is not here any more")
    newest = [retargeting.newest_of(there[pk], request.user) for pk in wanted.takes]
    return joining.start(workspace, newest, request.user)


@router.post("clips/{int:clip_id}/retarget/preview/whole")
def preview(request: HttpRequest, clip_id: int, wanted: schemas.RetargetPreviewIn) -> HttpResponse:
    """What retargeting would make of the clip: the target's poses and the numbers. Nothing is
    saved; latest wins."""
    revision = revision_for(request, clip_id, wanted.revision)
    source, aim = _both(request, revision, wanted.target)
    began = time.perf_counter()
    patch = OPERATIONS["retarget"].run(
        source, wanted.params, progress=while_wanted, inputs={"target": aim}
    )
    took = round(time.perf_counter() - began, 3)
    done = apply_patch(source, patch)
    joints = list(range(len(done.skeleton)))
    return message(
        pose_arrays(done, posed(done), joints),
        {
            "report": {**patch.report, "seconds": took},
            "frames": done.frames,
            "figure": _drawn(done, revision.clip.workspace_id),
        },
    )


def _drawn(clip: Document, workspace: int) -> dict[str, Any]:
    """What the stage needs to draw a clip that is nowhere kept."""
    return {
        **figure_out(clip, workspace),
        "height": clip.skeleton.rest_height,
        "metres_per_unit": clip.reading.metres_per_unit,
        "up_axis": clip.reading.up_axis,
        "roles": [r.role for r in clip.body.joints],
    }


@router.post(
    "clips/{int:clip_id}/retarget/again", response={200: shared.ClipOut, 409: shared.ConflictOut}
)
def again(request: HttpRequest, clip_id: int, wanted: schemas.AgainIn) -> Any:
    """Put what the clip was retargeted from, as it stands now, beneath its lines."""
    clip = clip_for(request, clip_id)
    retargeting.again(clip, wanted.revision, wanted.request_id, request.user)
    return clip_out(clip_for(request, clip_id))
