"""Stored poses and motions: kept in a workspace, and how a clip would stand in one."""

from typing import Any

from django.db import IntegrityError, transaction
from django.http import HttpRequest
from documents.blobs import keeping
from documents.store import load_clip, store_clip
from editing.models import StoredMotion
from leancurve.document.limits import require_name
from leancurve.errors import BadInput
from leancurve.measures.picture import picture
from leancurve.retarget.stored import excerpt, pose_on
from library.room import require_room
from ninja import Router, Status
from studio import bins

from api.access import clip_for, revision_for, seen, workspace_for
from api.schemas import stored as schemas
from api.takes import picture_out

router = Router()


def _out(stored: StoredMotion) -> dict[str, Any]:
    return {
        "id": stored.pk,
        "name": stored.name,
        "tags": stored.tags,
        "joints": stored.joints,
        "frames": stored.frames,
        "state": stored.state_id,
        "picture": picture_out(stored.picture),
        "changed": stored.changed,
    }


def _tags(given: list[str]) -> list[str]:
    """Words, each once, in their order."""
    words = [" ".join(tag.split())[:40] for tag in given]
    for word in words:
        require_name(word)
    return list(dict.fromkeys(w for w in words if w))


def _named(stored: StoredMotion) -> StoredMotion:
    """Saved under its name, which nothing else that is stored here may have."""
    require_name(stored.name)
    try:
        with transaction.atomic():
            stored.save()
    except IntegrityError:
        raise BadInput(f"name: {stored.name!r} is stored already") from None
    return stored


@router.get("workspaces/{int:workspace_id}/stored", response=list[schemas.StoredOut])
def all_stored(request: HttpRequest, workspace_id: int) -> Any:
    return [_out(s) for s in workspace_for(request, workspace_id).stored.filter(binned=None)]


@router.post("clips/{int:clip_id}/stored", response=schemas.StoredOut)
def store(request: HttpRequest, clip_id: int, wanted: schemas.StoredIn) -> Any:
    """Keep what a revision shows: a pose where it is one frame."""
    clip = clip_for(request, clip_id)
    require_room(clip.workspace)
    document = load_clip(revision_for(request, clip_id, wanted.revision).state)
    unknown = [n for n in wanted.joints if n not in document.skeleton.names]
    if unknown:
        raise BadInput(f"joints: no joint is named {unknown[0]!r}")
    kept = excerpt(document, wanted.first, wanted.last)
    with keeping():
        stored = StoredMotion(
            workspace=clip.workspace,
            name=wanted.name,
            tags=_tags(wanted.tags),
            joints=wanted.joints or list(document.skeleton.names),
            frames=kept.frames,
            state=store_clip(kept),
            picture=picture(kept),
        )
        return _out(_named(stored))


@router.patch("stored/{int:stored_id}", response=schemas.StoredOut)
def change_stored(request: HttpRequest, stored_id: int, wanted: schemas.StoredChange) -> Any:
    stored = seen(request, StoredMotion.objects.filter(binned=None), pk=stored_id)
    stored.name = stored.name if wanted.name is None else wanted.name
    stored.tags = stored.tags if wanted.tags is None else _tags(wanted.tags)
    return _out(_named(stored))


@router.delete("stored/{int:stored_id}", response={204: None})
def forget_stored(request: HttpRequest, stored_id: int) -> Any:
    bins.put_in(seen(request, StoredMotion.objects.filter(binned=None), pk=stored_id))
    return Status(204, None)


@router.post("clips/{int:clip_id}/stored/{int:stored_id}/pose", response=schemas.StoredPoseOut)
def stored_pose(
    request: HttpRequest, clip_id: int, stored_id: int, wanted: schemas.StoredPoseIn
) -> Any:
    """How a clip's joints would be turned in a stored pose. Nothing is saved."""
    document = load_clip(revision_for(request, clip_id, wanted.revision).state)
    stored = seen(
        request, StoredMotion.objects.filter(binned=None, workspace__clips=clip_id), pk=stored_id
    )
    if wanted.frame >= document.frames:
        raise BadInput(f"frame: expected one within 0 to {document.frames - 1}")
    turns = pose_on(document, load_clip(stored.state), wanted.at, wanted.frame, wanted.mirrored)
    return {"turns": {j: q.tolist() for j, q in turns.items()}}
