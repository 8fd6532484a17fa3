"""What somebody may see and change: somebody else's is not there, and a viewer changes nothing.

Everything is looked up here. Whoever looks something up in a request that changes it needs the
role of an editor, unless the request only asks: those are listed.
"""

from typing import TypeVar

from django.db.models import F, Model, QuerySet
from django.http import HttpRequest
from django.shortcuts import get_object_or_404
from editing.models import Clip, Revision
from leancurve.document.clip import Clip as Document
from leancurve.document.track import TrackId
from leancurve.errors import BadInput
from library.models import Membership, Workspace
from ninja.errors import HttpError

M = TypeVar("M", bound=Model)

ASKING = (
    "/preview",
    "/preview/whole",
    "/mirror",
    "/moved",
    "/refit",
    "/here",
    "/map",
    "/pose",
    "/plan",
)
"""Posted, since what they ask takes room, but nothing is changed by them."""
LOOKS_ON = "You are a viewer in this workspace: you can see, play and download, but change nothing."
OWNERS_ONLY = "Only an owner of the workspace can do this."


def only_asks(request: HttpRequest) -> bool:
    return request.method in ("GET", "HEAD") or request.path_info.endswith(ASKING)


def seen(request: HttpRequest, among: QuerySet[M], workspace: str = "workspace", **by: object) -> M:
    """The one that is asked for, if it is in a workspace of the asker's; 404 otherwise.

    ``workspace`` is the way from it to its workspace, empty where it is one itself.
    """
    way = f"{workspace}__" if workspace else ""
    mine = among.filter(**{f"{way}memberships__user": request.user})
    found: M = get_object_or_404(mine.annotate(role=F(f"{way}memberships__role")), **by)
    if not only_asks(request):
        require_editor(found.role)  # type: ignore[attr-defined]
    return found


def require_editor(role: str) -> None:
    if role == Membership.Role.VIEWER:
        raise HttpError(403, LOOKS_ON)


def workspace_for(request: HttpRequest, workspace_id: int) -> Workspace:
    return seen(request, Workspace.objects.all(), "", pk=workspace_id)


def owned_workspace(request: HttpRequest, workspace_id: int) -> Workspace:
    """A workspace that the asker is an owner of."""
    found = workspace_for(request, workspace_id)
    if found.role != Membership.Role.OWNER:  # type: ignore[attr-defined]
        raise HttpError(403, OWNERS_ONLY)
    return found


def clip_for(request: HttpRequest, clip_id: int) -> Clip:
    return seen(request, Clip.objects.seen_by(request.user), pk=clip_id)


def revision_for(request: HttpRequest, clip_id: int, revision_id: int) -> Revision:
    revisions = Revision.objects.select_related(
        "state__header",
        "take_state__header",
        "clip__workspace",
        "clip__take__state__header",
        "take__state__header",
    )
    live = revisions.filter(clip__binned=None)
    return seen(request, live, "clip__workspace", pk=revision_id, clip_id=clip_id)


def joints_named(clip: Document, joints: str) -> set[int]:
    try:
        wanted = {int(j) for j in joints.split(",") if j}
    except ValueError:
        raise BadInput("joints: expected indices separated by commas") from None
    return {j for j in wanted if 0 <= j < len(clip.skeleton)}


def tracks_of_joints(clip: Document, joints: str) -> list[TrackId]:
    wanted = joints_named(clip, joints)
    return [c for c in clip.channels if c.joint in wanted]
