"""A clip on the bench: its document, its history, its recipe, and changes of it."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

from django.http import HttpRequest
from django.shortcuts import get_object_or_404
from documents.models import State
from documents.packing import skeleton_blob
from documents.store import load_clip, stored_bytes
from editing import (
    company,
    history,
    outcomes,
    parting,
    preparing,
    retargeting,
    undoing,
    versions,
)
from editing.asking import asked_line
from editing.inputs import require_ours
from editing.models import Clip, Revision
from editing.moving import moved_frames
from editing.recipes import Line, current, replay, title
from editing.refitting import refit_edits
from leancurve.document.clip import Clip as Document
from leancurve.document.evaluation import VERSION as EVALUATION
from leancurve.document.parts.registry import public_parts
from leancurve.document.scope import Scope
from leancurve.errors import BadInput
from leancurve.operations import operation_named
from leancurve.progress import silent
from library.models import Skeleton, Take
from ninja import Router, Status
from studio import bins

from api.access import clip_for, revision_for, seen
from api.messages import mark_of
from api.recipes import kept_recipe
from api.schemas import clips as schemas
from api.schemas import shared

router = Router()


def revision_out(revision: Revision) -> dict[str, Any]:
    return {
        "id": revision.pk,
        "number": revision.number,
        "cause": revision.cause,
        "recipe": [
            {**line, "params": {}, "scope": {}}
            if operation_named(line["operation"]).grows
            else current(line)
            for line in revision.recipe
        ],
        "report": revision.report,
        "state": revision.state_id,
        "mark": mark_of(revision),
        "keys": revision.state.keys,
        "created": revision.created,
    }


def figure_out(document: Document, workspace: int) -> dict[str, Any]:
    """A document's joints and the points at their tips, and the body that its skeleton has in a
    workspace."""
    skeleton = document.skeleton
    known = Skeleton.objects.filter(workspace=workspace, digest=skeleton_blob(skeleton)[0])
    row = known.exclude(skin="").first()
    return {
        "skin": None if row is None else {"digest": row.skin, "triangles": row.triangles},
        "joints": [
            {
                "name": name,
                "parent": skeleton.parents[j],
                "offset": skeleton.offsets[j],
                "rest": skeleton.rests[j],
                "channels": document.layout[j],
            }
            for j, name in enumerate(skeleton.names)
        ],
        "end_sites": [{"parent": e.parent, "offset": e.offset} for e in skeleton.ends],
    }


def clip_out(clip: Clip) -> dict[str, Any]:
    head = Revision.objects.select_related(
        "state__header", "take__skeleton", "clip__take__skeleton"
    ).get(pk=clip.head_id)
    take = head.take or clip.take
    document = load_clip(head.state)
    skeleton = document.skeleton
    return {
        "id": clip.pk,
        "name": clip.name,
        "take": take.pk,
        "take_name": take.name,
        "skeleton": take.skeleton.name,
        "workspace": clip.workspace_id,
        "rate": [document.rate.numerator, document.rate.denominator],
        "take_rate": [take.rate_numerator, take.rate_denominator],
        "frames": document.frames,
        "height": skeleton.rest_height,
        **figure_out(document, clip.workspace_id),
        "reading": asdict(document.reading),
        **public_parts(document),
        "retargeted": _retargeted(take),
        "newer_take": _newer(clip),
        "camera": clip.camera,
        "evaluation": EVALUATION,
        "notes": take.notes,
        "warnings": take.warnings,
        "head": revision_out(head),
        "can_undo": head.parent_id is not None,
        "can_redo": clip.tip_id != clip.head_id,
    }


def _retargeted(take: Take) -> dict[str, Any] | None:
    """What the clip was retargeted from."""
    made = retargeting.source_of(take)
    if made is None:
        return None
    source = made.source
    gone = source is None or source.clip.binned is not None
    return {
        "clip": None if gone or source is None else source.clip_id,
        "clip_name": take.name if source is None else source.clip.name,
        "revision": None if source is None else source.number,
        "target": made.target_id,
        "newest": retargeting.newer_than(made),
    }


def _newer(clip: Clip) -> dict[str, Any] | None:
    """A newer version of the take that a clip lies on, which it may go on from."""
    take = versions.offered(clip)
    return None if take is None else {"id": take.pk, "name": take.name}


@router.get("clips/{int:clip_id}", response=shared.ClipOut)
def one_clip(request: HttpRequest, clip_id: int) -> Any:
    return clip_out(clip_for(request, clip_id))


@router.patch("clips/{int:clip_id}", response=shared.ClipOut)
def rename_clip(request: HttpRequest, clip_id: int, wanted: shared.RenameIn) -> Any:
    clip = clip_for(request, clip_id)
    clip.name = wanted.name
    clip.save(update_fields=["name"])
    return clip_out(clip)


@router.delete("clips/{int:clip_id}", response={204: None})
def bin_clip(request: HttpRequest, clip_id: int) -> Any:
    """Into the bin: for some days it can be put back."""
    bins.put_in(clip_for(request, clip_id))
    return Status(204, None)


@router.get("clips/{int:clip_id}/history", response=list[schemas.HistoryOut])
def clip_history(request: HttpRequest, clip_id: int) -> Any:
    clip = clip_for(request, clip_id)
    return [
        {
            "id": r.pk,
            "parent": r.parent_id,
            "number": r.number,
            "cause": r.cause,
            "created": r.created,
            "head": r.pk == clip.head_id,
        }
        for r in clip.revisions.defer("lines", "report")
    ]


@router.get("clips/{int:clip_id}/storage", response=schemas.StorageOut)
def clip_storage(request: HttpRequest, clip_id: int) -> Any:
    clip = clip_for(request, clip_id)
    states = State.objects.filter(revision__clip=clip).distinct()
    recipes = clip.revisions.values_list("lines", flat=True)
    lines = {sha for recipe in recipes for sha in recipe}
    return {"bytes": stored_bytes(states, lines), "revisions": len(recipes)}


@router.put("clips/{int:clip_id}/camera", response=shared.ClipOut)
def place_camera(request: HttpRequest, clip_id: int, wanted: shared.CameraIO) -> Any:
    """Place the clip's camera: no change of its motion, and so no revision."""
    clip = clip_for(request, clip_id)
    clip.camera = wanted.model_dump()
    clip.save(update_fields=["camera"])
    return clip_out(clip)


@router.get("clips/{int:clip_id}/recipe", response=list[schemas.RecipeLineOut])
def recipe(request: HttpRequest, clip_id: int, revision: int) -> Any:
    """The lines of a revision's recipe, each with what it did in numbers."""
    wanted = revision_for(request, clip_id, revision)
    steps = replay(outcomes.take_of(wanted).state, wanted.recipe)
    return [
        {**current(s.line), "told": title(s.line), "report": s.report, "keys": s.state.keys}
        for s in steps
    ]


@router.post("clips/{int:clip_id}/writes", response={200: shared.ClipOut, 409: shared.ConflictOut})
def write(request: HttpRequest, clip_id: int, wanted: schemas.WriteIn) -> Any:
    """Change the recipe: append a line, give one other parameters, take one out; append one in the
    place of another that is taken out."""
    clip = clip_for(request, clip_id)
    asked = [wanted.append, wanted.edit, wanted.remove, wanted.recipe, wanted.swap]
    exchanged = wanted.append is not None and wanted.remove is not None
    if sum(a is not None for a in asked) != (2 if exchanged else 1):
        raise BadInput("expected one of append, edit, remove, recipe, swap, or append and remove")
    append = edit = None
    asked_for = wanted.append or wanted.edit
    if asked_for is not None:
        base = revision_for(request, clip_id, wanted.revision)
        if asked_for.inputs:
            require_ours(clip.workspace, asked_for.operation, asked_for.inputs, base)
        line = _line(asked_for, base)
        if wanted.edit is None:
            append = line
        else:
            edit = {**line, "line_id": wanted.edit.line_id}
    recipe = None
    if wanted.recipe is not None:
        recipe = kept_recipe(clip.workspace, wanted.recipe)
    swap = None if wanted.swap is None else _other_take(request, clip, wanted.swap)
    change = outcomes.Change(append, edit, wanted.remove, recipe, swap, wanted.goes_on)
    history.write(
        clip.pk, wanted.revision, wanted.request_id, change, request.user, after=wanted.after
    )
    return clip_out(clip_for(request, clip_id))


def _other_take(request: HttpRequest, clip: Clip, pk: int) -> Take:
    takes = Take.objects.seen_by(request.user).filter(workspace=clip.workspace)
    return get_object_or_404(takes.select_related("state__header"), pk=pk)


@router.get("clips/{int:clip_id}/swap", response=schemas.SwapOut)
def swap_look(request: HttpRequest, clip_id: int, revision: int, take: int) -> Any:
    """What putting another take beneath a revision's recipe would set aside; changes nothing."""
    wanted = revision_for(request, clip_id, revision)
    other = _other_take(request, wanted.clip, take)
    result = outcomes.outcome_of(wanted, outcomes.Change(swap=other), silent)
    unplaced = result.report["unplaced"]
    aside = {line["line_id"] for line in result.recipe if line.get("aside")}
    return {
        "lines": [title(line) for line in result.recipe if line["line_id"] in aside],
        "edits": sum(what["line_id"] not in aside for what in unplaced),
    }


@router.post("clips/{int:clip_id}/prepare", response=shared.JobOut)
def prepare(request: HttpRequest, clip_id: int, wanted: schemas.PrepareIn) -> Any:
    """Begin the work of a line, or of a recipe, ahead of its write, as a job: for what takes
    long."""
    revision = revision_for(request, clip_id, wanted.revision)
    if (wanted.line is None) == (wanted.recipe is None):
        raise BadInput("expected a line or a recipe")
    if wanted.recipe is not None:
        return preparing.start_recipe(revision, kept_recipe(revision.clip.workspace, wanted.recipe))
    assert wanted.line is not None
    require_ours(revision.clip.workspace, wanted.line.operation, wanted.line.inputs, revision)
    return preparing.start(revision, _line(wanted.line, revision), wanted.in_place_of)


@router.post("clips/{int:clip_id}/parts", response=list[schemas.PartOut])
def parts(request: HttpRequest, clip_id: int, wanted: schemas.PartsIn) -> Any:
    """Spans of a revision as clips of their own: each may go its own way from there."""
    revision = revision_for(request, clip_id, wanted.revision)
    spans = [parting.Span(s.first, s.last, s.name, s.loop) for s in wanted.spans]
    made = parting.clips_of(revision, spans, wanted.request_id, request.user)
    return [{"clip": clip.pk, "name": clip.name} for clip in made]


@router.post("clips/{int:clip_id}/version", response=schemas.VersionOut)
def version(request: HttpRequest, clip_id: int, wanted: schemas.VersionIn) -> Any:
    """Make a revision the next version of the take that it lies on: who may go on from it?"""
    revision = revision_for(request, clip_id, wanted.revision)
    return version_out(versions.next_version(revision, wanted.request_id))


@router.post("takes/{int:take_id}/version/swaps", response=schemas.VersionOut)
def swap_to_version(request: HttpRequest, take_id: int, wanted: schemas.SwapsIn) -> Any:
    """Let clips go on from a newer version of the take that they lie on; those that are left."""
    take = seen(request, Take.objects.seen_by(request.user).select_related("state__header"),
                pk=take_id)  # fmt: skip
    there = {clip.pk: clip for clip in versions.on_older(take)}
    gone = [pk for pk in wanted.clips if pk not in there]
    if gone:
        raise BadInput("clips: one of them does not lie on an older version of the take any more")
    versions.swap_all(take, [there[pk] for pk in wanted.clips], wanted.request_id, request.user)
    return version_out(take)


def version_out(take: Take) -> dict[str, Any]:
    clips = [{"clip": clip.pk, "name": clip.name} for clip in versions.on_older(take)]
    return {"take": take.pk, "name": take.name, "clips": clips}


@router.post("clips/{int:clip_id}/refit", response=schemas.RefitOut)
def refit(request: HttpRequest, clip_id: int, wanted: schemas.RefitIn) -> Any:
    """Handles fitted again to the keys in scope, as edits to be written."""
    revision = revision_for(request, clip_id, wanted.revision)
    return {"keys": refit_edits(revision, Scope.model_validate(wanted.scope.model_dump()))}


@router.post("clips/{int:clip_id}/moved", response=schemas.MovedOut)
def moved(request: HttpRequest, clip_id: int, wanted: schemas.MovedIn) -> Any:
    """Where frames of one revision lie on a later one, through the lines that moved time."""
    before = revision_for(request, clip_id, wanted.since)
    after = revision_for(request, clip_id, wanted.revision)
    return {"frames": moved_frames(before, after, wanted.frames)}


@router.post("clips/{int:clip_id}/here", response=schemas.HereOut)
def here(request: HttpRequest, clip_id: int, wanted: schemas.HereIn) -> Any:
    """Note that a page shows the clip; who else does, and what was done since."""
    clip = clip_for(request, clip_id)
    assert clip.head_id is not None
    return {
        "head": clip.head_id,
        "others": company.here(clip, request.user, wanted.page),
        "changes": company.changes_since(clip.pk, wanted.revision, clip.head_id),
    }


def _line(wanted: shared.AppendIn, base: Revision) -> Line:
    scope = wanted.scope.model_dump()
    return asked_line(base, wanted.operation, wanted.params, scope, wanted.inputs)


@router.post("clips/{int:clip_id}/undo", response={200: shared.ClipOut, 409: shared.ConflictOut})
def undo(request: HttpRequest, clip_id: int, on: schemas.OnRevision) -> Any:
    clip = clip_for(request, clip_id)
    undoing.undo(clip.pk, on.revision)
    return clip_out(clip_for(request, clip_id))


@router.post("clips/{int:clip_id}/jump", response={200: shared.ClipOut, 409: shared.ConflictOut})
def jump(request: HttpRequest, clip_id: int, wanted: schemas.JumpIn) -> Any:
    """Make any revision of the clip its head; nothing is lost."""
    clip = clip_for(request, clip_id)
    undoing.jump(clip.pk, wanted.revision, wanted.to)
    return clip_out(clip_for(request, clip_id))


@router.post("clips/{int:clip_id}/redo", response={200: shared.ClipOut, 409: shared.ConflictOut})
def redo(request: HttpRequest, clip_id: int, on: schemas.OnRevision) -> Any:
    clip = clip_for(request, clip_id)
    undoing.redo(clip.pk, on.revision)
    return clip_out(clip_for(request, clip_id))
