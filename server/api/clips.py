"""A clip on the bench: its document, poses, curves, previews, writes, undo and redo."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

import numpy as np
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404
from editing import history
from editing.baseline import baseline_of
from editing.documents import changed_channels, frame_changed, load_clip, stored_bytes
from editing.inspections import counts_of, inspect
from editing.models import Clip, Revision, State
from editing.previews import latest, whole_preview
from editing.recipes import (
    Line,
    compute,
    known,
    needs_take,
    new_line,
    replay,
    take_on_time,
    title,
)
from leancurve.cleaning.contacts import find_support
from leancurve.cleaning.gimbal import rate_orders
from leancurve.curves.curve import SampledCurve
from leancurve.document.clip import ChannelId
from leancurve.document.clip import Clip as Document
from leancurve.document.evaluation import evaluate
from leancurve.document.posing import mirrored
from leancurve.document.tracks import curves_near
from leancurve.errors import BadInput
from leancurve.figure.body import ROLES
from leancurve.measures.cycles import whole_cycles
from leancurve.measures.drift import drift, end_gap_mm, world_track
from leancurve.measures.findings import KINDS
from leancurve.operations import OPERATIONS, Scope
from library.models import Profile, Take
from library.profiles import profile_for
from ninja import Router

from api import schemas
from api.messages import curve_arrays, immutable, message, pose_arrays
from api.recipes import kept_recipe

router = Router()


def _clip(request: HttpRequest, clip_id: int) -> Clip:
    return get_object_or_404(Clip.objects.seen_by(request.user), pk=clip_id)


def _revision(request: HttpRequest, clip_id: int, revision_id: int) -> Revision:
    return get_object_or_404(
        Revision.objects.select_related(
            "state__header", "clip__take__state__header", "take__state__header"
        ),
        pk=revision_id,
        clip_id=clip_id,
        clip__workspace__members=request.user,
    )


BY_HAND = {"edit", "brush", "slide", "soft_offset"}
"""Lines whose parameters or keys grow with the work: they are not sent whole with each head."""


def revision_out(revision: Revision) -> dict[str, Any]:
    return {
        "id": revision.pk,
        "number": revision.number,
        "cause": revision.cause,
        "recipe": [
            {**line, "params": {}, "scope": {}} if line["operation"] in BY_HAND else line
            for line in revision.recipe
        ],
        "report": revision.report,
        "state": revision.state_id,
        "keys": revision.state.keys,
        "created": revision.created,
    }


def clip_out(clip: Clip) -> dict[str, Any]:
    head = Revision.objects.select_related("state__header", "take").get(pk=clip.head_id)
    take = head.take or clip.take
    document = load_clip(head.state)
    skeleton = document.skeleton
    return {
        "id": clip.pk,
        "name": clip.name,
        "take": take.pk,
        "take_name": take.name,
        "skeleton": take.skeleton_name,
        "workspace": clip.workspace_id,
        "rate": [document.rate.numerator, document.rate.denominator],
        "frames": document.frames,
        "height": skeleton.rest_height,
        "joints": [
            {
                "name": name,
                "parent": skeleton.parents[j],
                "offset": skeleton.offsets[j],
                "channels": document.layout[j],
            }
            for j, name in enumerate(skeleton.names)
        ],
        "end_sites": [{"parent": e.parent, "offset": e.offset} for e in skeleton.ends],
        "reading": asdict(document.reading),
        "marks": [asdict(m) for m in document.marks],
        "camera": clip.camera,
        "notes": take.notes,
        "warnings": take.warnings,
        "head": revision_out(head),
        "can_undo": head.parent_id is not None,
        "can_redo": clip.tip_id != clip.head_id,
    }


@router.get("clips/{int:clip_id}", response=schemas.ClipOut)
def one_clip(request: HttpRequest, clip_id: int) -> Any:
    return clip_out(_clip(request, clip_id))


@router.patch("clips/{int:clip_id}", response=schemas.ClipOut)
def rename_clip(request: HttpRequest, clip_id: int, wanted: schemas.RenameIn) -> Any:
    clip = _clip(request, clip_id)
    clip.name = wanted.name
    clip.save(update_fields=["name"])
    return clip_out(clip)


@router.get("clips/{int:clip_id}/history", response=list[schemas.HistoryOut])
def clip_history(request: HttpRequest, clip_id: int) -> Any:
    clip = _clip(request, clip_id)
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


@router.get("clips/{int:clip_id}/poses")
def poses(
    request: HttpRequest, clip_id: int, revision: int, since: int | None = None
) -> HttpResponse:
    """Evaluated poses for play and scrub; with ``since`` only joints that changed from there."""
    wanted = _revision(request, clip_id, revision)
    clip = load_clip(wanted.state)
    joints = list(range(len(clip.skeleton)))
    if since is not None:
        before = _revision(request, clip_id, since)
        if not frame_changed(before.state, wanted.state):
            changed = changed_channels(before.state, wanted.state)
            joints = sorted({c.joint for c in changed})
    pose = evaluate(clip, joints=joints)
    return immutable(message(pose_arrays(clip, pose, joints), {"frames": clip.frames}))


@router.get("clips/{int:clip_id}/storage", response=schemas.StorageOut)
def clip_storage(request: HttpRequest, clip_id: int) -> Any:
    clip = _clip(request, clip_id)
    states = State.objects.filter(revision__clip=clip).distinct()
    recipes = clip.revisions.values_list("lines", flat=True)
    lines = {sha for recipe in recipes for sha in recipe}
    return {"bytes": stored_bytes(states, lines), "revisions": len(recipes)}


def _joints(clip: Document, joints: str) -> set[int]:
    try:
        wanted = {int(j) for j in joints.split(",") if j}
    except ValueError:
        raise BadInput("joints: expected indices separated by commas") from None
    return {j for j in wanted if 0 <= j < len(clip.skeleton)}


def _joint_channels(clip: Document, joints: str) -> list[ChannelId]:
    wanted = _joints(clip, joints)
    return [c for c in clip.channels if c.joint in wanted]


@router.get("clips/{int:clip_id}/curves")
def curves(
    request: HttpRequest, clip_id: int, revision: int, joints: str, take: bool = False
) -> HttpResponse:
    """The curves of joints given by index, ``joints=3,4``; with ``take`` those of the take as
    read, on the revision's time, as they lie over its curves."""
    wanted = _revision(request, clip_id, revision)
    clip = load_clip(wanted.state)
    if take:
        over = curves_near(clip, baseline_of(wanted), sorted(_joints(clip, joints)))
        return immutable(message(curve_arrays(clip, over), {}))
    chosen = {c: clip.curves[c] for c in _joint_channels(clip, joints)}
    return immutable(message(curve_arrays(clip, chosen), {}))


@router.get("clips/{int:clip_id}/keys")
def keys(
    request: HttpRequest, clip_id: int, revision: int, since: int | None = None
) -> HttpResponse:
    """All keyed curves of a revision; with ``since`` those that changed from there. Channels
    with a value on every frame are named in ``dense``, as ``joint/channel``."""
    wanted = _revision(request, clip_id, revision)
    clip = load_clip(wanted.state)
    chosen = set(clip.channels)
    if since is not None:
        chosen = changed_channels(_revision(request, clip_id, since).state, wanted.state)
    keyed = {c: clip.curves[c] for c in clip.channels if c in chosen}
    dense = [c for c, curve in keyed.items() if isinstance(curve, SampledCurve)]
    about = {"dense": [f"{c.joint}/{c.name}" for c in dense]}
    for channel in dense:
        del keyed[channel]
    return immutable(message(curve_arrays(clip, keyed), about))


@router.post("clips/{int:clip_id}/mirror", response=schemas.MirrorOut)
def mirror(request: HttpRequest, clip_id: int, wanted: schemas.MirrorIn) -> Any:
    """A pose as it is on the other side of the body. Nothing is saved."""
    clip = load_clip(_revision(request, clip_id, wanted.revision).state)
    unknown = [
        f"{j} {c}"
        for j, given in wanted.values.items()
        for c in given
        if not 0 <= j < len(clip.layout) or c not in clip.layout[j]
    ]
    if unknown:
        raise BadInput(f"mirror: the skeleton has no channel {unknown[0]}")
    return {"values": mirrored(clip, wanted.values, wanted.frame)}


@router.put("clips/{int:clip_id}/camera", response=schemas.ClipOut)
def place_camera(request: HttpRequest, clip_id: int, wanted: schemas.CameraIO) -> Any:
    """Place the clip's camera: no change of its motion, and so no revision."""
    clip = _clip(request, clip_id)
    clip.camera = wanted.model_dump()
    clip.save(update_fields=["camera"])
    return clip_out(clip)


@router.get("clips/{int:clip_id}/cycles", response=schemas.CyclesOut | None)
def cycles(request: HttpRequest, clip_id: int, revision: int, first: int, last: int) -> Any:
    """The longest run of whole cycles that begins at ``first``, null where there is none."""
    clip = load_clip(_revision(request, clip_id, revision).state)
    if not 0 <= first < last < clip.frames:
        raise BadInput(f"expected a span of frames within 0 to {clip.frames - 1}")
    found = whole_cycles(clip, first, last)
    return None if found is None else asdict(found)


@router.get("clips/{int:clip_id}/findings", response=schemas.FindingsOut)
def findings(request: HttpRequest, clip_id: int, revision: int) -> Any:
    """What is measured to be wrong in a revision, and what the kinds mean."""
    found = inspect(_revision(request, clip_id, revision).state)
    return {"findings": found.findings, "work": found.work}


@router.get("findings/kinds", response=list[schemas.KindOut])
def kinds(request: HttpRequest) -> Any:
    """The kinds of findings in the order of their lanes, and what mends them."""
    return [
        {
            "name": kind.name,
            "plural": kind.plural,
            "meaning": kind.meaning,
            "remedy": kind.remedy,
            "step": OPERATIONS[kind.remedy].step if kind.remedy else "inspect",
        }
        for kind in KINDS
    ]


@router.get("clips/{int:clip_id}/contacts", response=schemas.ContactsOut)
def contacts(request: HttpRequest, clip_id: int, revision: int) -> Any:
    """When feet and hands are held: as set, else as found; and the floor, in millimetres."""
    clip = load_clip(_revision(request, clip_id, revision).state)
    support = find_support(clip)
    spans = support.contacts if clip.contacts is None else clip.contacts
    return {
        "contacts": [asdict(c) for c in spans],
        "by_hand": clip.contacts is not None,
        "floor_mm": support.floor * clip.millimetres,
        "floor_set": clip.reading.floor is not None,
    }


@router.get("clips/{int:clip_id}/body", response=schemas.BodyOut)
def body(request: HttpRequest, clip_id: int, revision: int) -> Any:
    """What the joints are taken for, and groups of them to select."""
    wanted = _revision(request, clip_id, revision)
    clip = load_clip(wanted.state)
    names = clip.skeleton.names
    known = clip.body
    profile = profile_for(wanted.clip.workspace, names)
    own = profile.groups if profile else {}
    return {
        "joints": [asdict(j) for j in known.joints],
        "groups": {g: list(joints) for g, joints in known.groups.items()},
        "own_groups": {
            g: [names.index(n) for n in joints if n in names] for g, joints in own.items()
        },
        "roles": list(ROLES),
        "profile": profile.name if profile else None,
    }


@router.put("clips/{int:clip_id}/profile", response=schemas.BodyOut)
def keep_profile(request: HttpRequest, clip_id: int, wanted: schemas.ProfileIn) -> Any:
    """Keep the clip's roles and own groups for skeletons of its family."""
    revision = _revision(request, clip_id, wanted.revision)
    clip = load_clip(revision.state)
    names = clip.skeleton.names
    unknown = [n for joints in wanted.groups.values() for n in joints if n not in names]
    if unknown:
        raise BadInput(f"groups: no joint is named {unknown[0]!r}")
    workspace = revision.clip.workspace
    existing = profile_for(workspace, names)
    Profile.objects.update_or_create(
        workspace=workspace,
        name=existing.name if existing else revision.clip.take.skeleton_name,
        defaults={
            "names": list(names),
            "roles": dict(clip.reading.roles),
            "groups": wanted.groups,
        },
    )
    return body(request, clip_id, wanted.revision)


@router.get("clips/{int:clip_id}/orders", response=list[schemas.JointOrdersOut])
def orders(request: HttpRequest, clip_id: int, revision: int, joints: str) -> Any:
    """All six rotation orders of joints, the calmest first."""
    clip = load_clip(_revision(request, clip_id, revision).state)
    chosen = sorted(
        {c.joint for c in _joint_channels(clip, joints) if len(clip.order(c.joint)) == 3}
    )
    local = evaluate(clip).rotation
    return [
        {
            "joint": clip.skeleton.names[j],
            "order": clip.order(j),
            "ratings": [asdict(r) for r in rate_orders(local[:, j])],
        }
        for j in chosen
    ]


@router.get("clips/{int:clip_id}/recipe", response=list[schemas.RecipeLineOut])
def recipe(request: HttpRequest, clip_id: int, revision: int) -> Any:
    """The lines of a revision's recipe, each with what it did in numbers."""
    wanted = _revision(request, clip_id, revision)
    steps = replay(history.take_of(wanted).state, wanted.recipe)
    return [
        {**s.line, "told": title(s.line), "report": s.report, "keys": s.state.keys} for s in steps
    ]


@router.get("clips/{int:clip_id}/drift", response=schemas.DriftOut)
def clip_drift(
    request: HttpRequest, clip_id: int, revision: int, baseline: int | None = None
) -> Any:
    """Drift of a revision from the take as read, or from another revision."""
    wanted = _revision(request, clip_id, revision)
    clip = load_clip(wanted.state)
    if baseline is not None:
        return asdict(drift(clip, load_clip(_revision(request, clip_id, baseline).state)))
    return asdict(drift(clip, baseline_of(wanted)))


@router.get("clips/{int:clip_id}/drift/frames")
def drift_frames(request: HttpRequest, clip_id: int, revision: int) -> HttpResponse:
    """Per frame how far any end is from the take as read, millimetres."""
    wanted = _revision(request, clip_id, revision)
    gap = end_gap_mm(load_clip(wanted.state), baseline_of(wanted))
    return immutable(message({"mm": gap.astype(np.float32)}, {}))


@router.get("clips/{int:clip_id}/tracks")
def tracks(request: HttpRequest, clip_id: int, revision: int, joints: str) -> HttpResponse:
    """World position, speed and acceleration of joints, as curves to read by."""
    clip = load_clip(_revision(request, clip_id, revision).state)
    chosen = _joints(clip, joints)
    arrays = {
        f"{j}/{name}/values": values
        for j in sorted(chosen)
        for name, values in world_track(clip, j).items()
    }
    return immutable(message(arrays, {}))


def states_before(
    revision: Revision, line: Line, line_id: str | None
) -> tuple[State, State | None]:
    """What a preview works on: the revision's state, or what stood before one of its lines; and
    the take on that time, where the operation brings it back."""
    beneath = history.take_of(revision).state
    above, state = revision.recipe, revision.state
    if line_id is not None:
        ids = [x["line_id"] for x in revision.recipe]
        if line_id not in ids:
            raise BadInput("that line is not in the recipe any more")
        above = revision.recipe[: ids.index(line_id)]
        steps = replay(beneath, above)
        state = steps[-1].state if steps else beneath
    return state, take_on_time(beneath, above) if needs_take(line) else None


@router.post("clips/{int:clip_id}/preview")
def preview_joints(request: HttpRequest, clip_id: int, wanted: schemas.PreviewIn) -> HttpResponse:
    """What an operation would make of a few joints' curves. Nothing is saved; latest wins."""
    revision = _revision(request, clip_id, wanted.revision)
    check = latest((wanted.view, clip_id, "joints"), wanted.sequence)
    clip = load_clip(revision.state)
    scope = wanted.scope.model_dump()
    within = {c.joint for c in Scope.model_validate(scope).resolve(clip)}
    joints = {j for j in within if clip.skeleton.names[j] in set(wanted.joints)}
    inside = [clip.skeleton.names[j] for j in sorted(joints)]
    line = new_line(wanted.operation, wanted.params, scope)
    state, take = states_before(revision, line, wanted.line)
    operation = OPERATIONS.get(wanted.operation)
    if operation is not None and operation.by_joint and known(line, state) is None:
        # It would bring all of the clip to its new time: here these joints are enough.
        before = load_clip(state)
        few = before.with_only({c: k for c, k in before.curves.items() if c.joint in joints})
        patch = operation.run(few, wanted.params, Scope.model_validate(scope), check)
        return message(curve_arrays(clip, patch.curves), {"report": patch.report})
    # Where joints share key times or a budget, a few of them alone are only nearly right: once
    # the whole clip has been previewed its own curves are shown.
    patch = known(line, state, take) or compute(
        new_line(wanted.operation, wanted.params, {**scope, "joints": inside, "groups": None}),
        state,
        check,
        take,
    )
    curves = {c: curve for c, curve in patch.curves.items() if c.joint in joints}
    return message(curve_arrays(clip, curves), {"report": patch.report})


@router.post("clips/{int:clip_id}/preview/whole")
def preview_whole(request: HttpRequest, clip_id: int, wanted: schemas.PreviewIn) -> HttpResponse:
    """The numbers and poses an operation would give the whole clip. Nothing is saved."""
    revision = _revision(request, clip_id, wanted.revision)
    check = latest((wanted.view, clip_id, "whole"), wanted.sequence)
    line = new_line(wanted.operation, wanted.params, wanted.scope.model_dump())
    result = whole_preview(line, *states_before(revision, line, wanted.line), check)
    joints = sorted({c.joint for c in result.patch.curves})
    # Thinning mends no finding, and whoever drags its slider waits for its numbers.
    looks = OPERATIONS[wanted.operation].step != "thin"
    left = counts_of(result.clip, check) if looks else None
    return message(
        pose_arrays(result.clip, result.pose.of(joints), joints),
        {
            "report": result.patch.report,
            "drift": None if result.drift is None else asdict(result.drift),
            "frames": result.clip.frames,
            "keys": result.clip.key_count,
            "findings": left,
        },
    )


@router.post(
    "clips/{int:clip_id}/writes", response={200: schemas.ClipOut, 409: schemas.ConflictOut}
)
def write(request: HttpRequest, clip_id: int, wanted: schemas.WriteIn) -> Any:
    """Change the recipe: append a line, give one other parameters, take one out."""
    clip = _clip(request, clip_id)
    asked = [wanted.append, wanted.edit, wanted.remove, wanted.recipe, wanted.swap]
    if sum(a is not None for a in asked) != 1:
        raise BadInput("expected one of append, edit, remove, recipe, swap")
    edit = {**_line(wanted.edit), "line_id": wanted.edit.line_id} if wanted.edit else None
    append = _line(wanted.append) if wanted.append else None
    recipe = None
    if wanted.recipe is not None:
        name, lines = kept_recipe(clip.workspace, wanted.recipe)
        recipe = (
            name,
            [new_line(x["operation"], x.get("params", {}), x.get("scope", {})) for x in lines],
        )
    swap = None
    if wanted.swap is not None:
        takes = Take.objects.seen_by(request.user).filter(workspace=clip.workspace)
        swap = get_object_or_404(takes.select_related("state__header"), pk=wanted.swap)
    change = history.Change(append, edit, wanted.remove, recipe, swap)
    history.write(clip.pk, wanted.revision, wanted.request_id, change, request.user)
    return clip_out(_clip(request, clip_id))


def _line(wanted: schemas.AppendIn) -> Line:
    return new_line(wanted.operation, wanted.params, wanted.scope.model_dump())


@router.post("clips/{int:clip_id}/undo", response={200: schemas.ClipOut, 409: schemas.ConflictOut})
def undo(request: HttpRequest, clip_id: int, on: schemas.OnRevision) -> Any:
    clip = _clip(request, clip_id)
    history.undo(clip.pk, on.revision)
    return clip_out(_clip(request, clip_id))


@router.post("clips/{int:clip_id}/jump", response={200: schemas.ClipOut, 409: schemas.ConflictOut})
def jump(request: HttpRequest, clip_id: int, wanted: schemas.JumpIn) -> Any:
    """Make any revision of the clip its head; nothing is lost."""
    clip = _clip(request, clip_id)
    history.jump(clip.pk, wanted.revision, wanted.to)
    return clip_out(_clip(request, clip_id))


@router.post("clips/{int:clip_id}/redo", response={200: schemas.ClipOut, 409: schemas.ConflictOut})
def redo(request: HttpRequest, clip_id: int, on: schemas.OnRevision) -> Any:
    clip = _clip(request, clip_id)
    history.redo(clip.pk, on.revision)
    return clip_out(_clip(request, clip_id))
