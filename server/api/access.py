"""Workspaces, clips and revisions as somebody may see them: somebody else's are not there."""

from django.http import HttpRequest
from django.shortcuts import get_object_or_404
from editing.models import Clip, Revision
from leancurve.document.clip import Clip as Document
from leancurve.document.track import TrackId
from leancurve.errors import BadInput
from library.models import Workspace


def workspace_for(request: HttpRequest, workspace_id: int) -> Workspace:
    return get_object_or_404(Workspace, pk=workspace_id, members=request.user)


def clip_for(request: HttpRequest, clip_id: int) -> Clip:
    return get_object_or_404(Clip.objects.seen_by(request.user), pk=clip_id)


def revision_for(request: HttpRequest, clip_id: int, revision_id: int) -> Revision:
    return get_object_or_404(
        Revision.objects.select_related(
            "state__header",
            "take_state__header",
            "clip__take__state__header",
            "take__state__header",
        ),
        pk=revision_id,
        clip_id=clip_id,
        clip__workspace__members=request.user,
    )


def joints_named(clip: Document, joints: str) -> set[int]:
    try:
        wanted = {int(j) for j in joints.split(",") if j}
    except ValueError:
        raise BadInput("joints: expected indices separated by commas") from None
    return {j for j in wanted if 0 <= j < len(clip.skeleton)}


def tracks_of_joints(clip: Document, joints: str) -> list[TrackId]:
    wanted = joints_named(clip, joints)
    return [c for c in clip.channels if c.joint in wanted]
