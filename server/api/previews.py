"""Previews: what an operation would make. Nothing is saved; the latest one wins."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

from computing.wanted import while_wanted
from django.http import HttpRequest, HttpResponse
from documents.inspections import counts_of
from documents.store import load_clip
from editing import outcomes
from editing.asking import asked_line
from editing.inputs import require_ours
from editing.models import Revision
from editing.previews import whole_preview
from editing.recipes import Standing, begin, compute, known, replay
from leancurve.document.evaluation import affected
from leancurve.document.track import BASE, TrackId
from leancurve.errors import BadInput
from leancurve.operations import OPERATIONS, Scope
from ninja import Router

from api.access import revision_for
from api.messages import curve_arrays, message, pose_arrays, prop_arrays
from api.schemas import previews as schemas

router = Router()


def standing_before(revision: Revision, line_id: str | None) -> Standing:
    """What a preview works on: where the revision stands, or what stood before one of its lines."""
    if line_id is None:
        return outcomes.standing(revision)
    ids = [x["line_id"] for x in revision.recipe]
    if line_id not in ids:
        raise BadInput("that line is not in the recipe any more")
    beneath = outcomes.take_of(revision).state
    steps = replay(beneath, revision.recipe[: ids.index(line_id)])
    return steps[-1].after if steps else begin(beneath)


@router.get("clips/{int:clip_id}/lines/{line_id}/states", response=schemas.AroundLineOut)
def states_around(request: HttpRequest, clip_id: int, line_id: str, revision: int) -> Any:
    """What stood before a line of a revision's recipe and after it, as digests."""
    wanted = revision_for(request, clip_id, revision)
    before = standing_before(wanted, line_id)
    ids = [x["line_id"] for x in wanted.recipe]
    then = ids.index(line_id) + 1
    after = wanted.state if then == len(ids) else standing_before(wanted, ids[then]).state
    return {"before": before.state.pk, "after": after.pk}


@router.post("clips/{int:clip_id}/preview")
def preview_joints(request: HttpRequest, clip_id: int, wanted: schemas.PreviewIn) -> HttpResponse:
    """What an operation would make of a few joints' curves. Nothing is saved; latest wins."""
    revision = revision_for(request, clip_id, wanted.revision)
    require_ours(revision.clip.workspace, wanted.operation, wanted.inputs, revision)
    clip = load_clip(revision.state)
    scope = wanted.scope.model_dump()
    within = {c.joint for c in Scope.model_validate(scope).resolve(clip)}
    joints = {j for j in within if clip.skeleton.names[j] in set(wanted.joints)}
    inside = [clip.skeleton.names[j] for j in sorted(joints)]

    def of_joints(track: TrackId) -> bool:
        return track.owner == BASE and track.joint in joints

    line = asked_line(revision, wanted.operation, wanted.params, scope, wanted.inputs)
    at = standing_before(revision, wanted.line)
    operation = OPERATIONS.get(wanted.operation)
    limited = operation is not None and operation.scoped
    if operation is not None and operation.by_joint and known(line, at.state, at.take) is None:
        # It would bring all of the clip to its new time: here these joints are enough.
        before = load_clip(at.state)
        few = before.with_only({c: k for c, k in before.curves.items() if of_joints(c)})
        patch = operation.run(few, wanted.params, Scope.model_validate(scope), while_wanted)
        return message(curve_arrays(clip, patch.curves), {"report": patch.report})
    # Where joints share key times or a budget, a few of them alone are only nearly right: once
    # the whole clip has been previewed its own curves are shown.
    patch = known(line, at.state, at.take) or compute(
        asked_line(
            revision,
            wanted.operation,
            wanted.params,
            {**scope, "joints": inside, "groups": None} if limited else scope,
            wanted.inputs,
        ),
        at.state,
        at.take,
        while_wanted,
    )
    curves = {c: curve for c, curve in patch.curves.items() if of_joints(c)}
    return message(curve_arrays(clip, curves), {"report": patch.report})


@router.post("clips/{int:clip_id}/preview/whole")
def preview_whole(request: HttpRequest, clip_id: int, wanted: schemas.PreviewIn) -> HttpResponse:
    """The numbers and poses an operation would give the whole clip. Nothing is saved."""
    revision = revision_for(request, clip_id, wanted.revision)
    require_ours(revision.clip.workspace, wanted.operation, wanted.inputs, revision)
    scope = wanted.scope.model_dump()
    line = asked_line(revision, wanted.operation, wanted.params, scope, wanted.inputs)
    at = standing_before(revision, wanted.line)
    result = whole_preview(line, at.state, at.take, while_wanted)
    joints = list(affected(result.clip, result.patch.curves, load_clip(at.state)))
    # Thinning mends no finding, and whoever drags its slider waits for its numbers.
    looks = OPERATIONS[wanted.operation].step != "thin"
    left = counts_of(result.clip, while_wanted) if looks else None
    return message(
        {**pose_arrays(result.clip, result.pose.of(joints), joints), **prop_arrays(result.clip)},
        {
            "report": result.patch.report,
            "drift": None if result.drift is None else asdict(result.drift),
            "frames": result.clip.frames,
            "keys": result.clip.key_count,
            "findings": left,
        },
    )
