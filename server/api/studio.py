"""Room, bin and people of a workspace; and the page of whoever runs the studio."""

from __future__ import annotations

from typing import Any

from django.contrib.auth.models import User
from django.db import transaction
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404
from django.utils.http import content_disposition_header
from leancurve.errors import BadInput
from library import jobs
from library.models import Job, Membership, StoredFile, Workspace
from ninja import File, Router, Status, UploadedFile
from ninja.errors import HttpError
from studio import bins, moving, people
from studio.overview import overview
from studio.usage import usage_of

from api.access import OWNERS_ONLY, owned_workspace, seen, workspace_for
from api.schemas import shared
from api.schemas import studio as schemas

router = Router()


@router.get("workspaces/{int:workspace_id}/usage", response=schemas.UsageOut)
def usage(request: HttpRequest, workspace_id: int) -> Any:
    """What the workspace holds, and what it may."""
    return usage_of(workspace_for(request, workspace_id))


@router.get("workspaces/{int:workspace_id}/bin", response=list[schemas.BinnedOut])
def bin_of(request: HttpRequest, workspace_id: int) -> Any:
    """What was deleted and can still be put back."""
    return bins.binned_in(workspace_for(request, workspace_id))


@router.post("workspaces/{int:workspace_id}/bin/put-back", response=list[schemas.BinnedOut])
def put_back(request: HttpRequest, workspace_id: int, wanted: schemas.BinnedIn) -> Any:
    workspace = workspace_for(request, workspace_id)
    bins.put_back(workspace, wanted.kind, wanted.id)
    return bins.binned_in(workspace)


@router.post("workspaces/{int:workspace_id}/bin/remove", response=list[schemas.BinnedOut])
def remove(request: HttpRequest, workspace_id: int, wanted: schemas.BinnedIn) -> Any:
    """One thing goes for good."""
    workspace = owned_workspace(request, workspace_id)
    bins.remove(workspace, wanted.kind, wanted.id)
    bins.sweep_soon.defer()
    return bins.binned_in(workspace)


@router.delete("workspaces/{int:workspace_id}/bin", response={204: None})
def empty_bin(request: HttpRequest, workspace_id: int) -> Any:
    """Everything in the bin goes for good."""
    bins.empty(owned_workspace(request, workspace_id))
    bins.sweep_soon.defer()
    return Status(204, None)


@router.get("workspaces/{int:workspace_id}/people", response=list[schemas.MemberOut])
def members(request: HttpRequest, workspace_id: int) -> Any:
    return _members(workspace_for(request, workspace_id))


def _members(workspace: Workspace) -> list[dict[str, Any]]:
    found = workspace.memberships.select_related("user").order_by("user__username")
    return [{"id": m.user_id, "name": m.user.get_username(), "role": m.role} for m in found]


@router.put("workspaces/{int:workspace_id}/people", response=list[schemas.MemberOut])
def set_member(request: HttpRequest, workspace_id: int, wanted: schemas.MemberIn) -> Any:
    """Somebody gets a role, and comes in where they were not in."""
    workspace = owned_workspace(request, workspace_id)
    user = User.objects.filter(username=wanted.name, is_active=True).first()
    if user is None:
        raise BadInput(f"name: no user called {wanted.name!r} can sign in here")
    people.set_role(workspace, user, wanted.role)
    return _members(workspace)


@router.delete(
    "workspaces/{int:workspace_id}/people/{int:user_id}", response=list[schemas.MemberOut]
)
def take_member_out(request: HttpRequest, workspace_id: int, user_id: int) -> Any:
    workspace = owned_workspace(request, workspace_id)
    people.take_out(workspace, get_object_or_404(User, pk=user_id))
    return _members(workspace)


@router.post("workspaces/{int:workspace_id}/export", response=shared.JobOut)
def export(request: HttpRequest, workspace_id: int) -> Any:
    """Begin to write the workspace's file; the job that is done can be fetched."""
    return moving.start_export(owned_workspace(request, workspace_id))


@router.get("jobs/{int:job_id}/file")
def exported_file(request: HttpRequest, job_id: int) -> HttpResponse:
    """The file that an export has written."""
    job = seen(request, Job.objects.filter(kind="export", state=Job.State.DONE), pk=job_id)
    if job.role != Membership.Role.OWNER:  # type: ignore[attr-defined]
        raise HttpError(403, OWNERS_ONLY)
    stored = StoredFile.objects.filter(pk=job.result["file"]).first()
    if stored is None:
        raise HttpError(404, "The file was kept for a day: export the workspace again.")
    response = HttpResponse(bytes(stored.data), content_type="application/zip")
    response["Content-Disposition"] = content_disposition_header(True, stored.name) or ""
    return response


def _runs_studio(request: HttpRequest) -> User:
    user = request.user
    assert isinstance(user, User)
    if not user.is_staff:
        raise HttpError(404, "Not Found")
    return user


@router.get("studio", response=schemas.OverviewOut)
def studio(request: HttpRequest) -> Any:
    """What whoever runs the studio looks at."""
    _runs_studio(request)
    return overview()


@router.post("studio/workspaces/files", response=shared.JobOut)
def bring_in_workspace(request: HttpRequest, file: File[UploadedFile]) -> Any:
    """Begin to bring in a workspace's file, under another name beside what is there."""
    by, size = _runs_studio(request), file.size or 0
    if size > moving.MOST_BYTES:
        raise BadInput("the file is too large for the browser: ./lean import reads it")
    return moving.start_bringing_in((file.name or "unnamed")[-255:], file.read(), by)


@router.delete("studio/jobs/{int:job_id}", response=schemas.OverviewOut)
def end_job(request: HttpRequest, job_id: int) -> Any:
    """Stop what is coming in, or forget what has ended."""
    _runs_studio(request)
    job = get_object_or_404(Job, pk=job_id, workspace=None)
    if job.state in Job.OPEN:
        jobs.cancel(job)
    else:
        job.delete()
    return overview()


@router.post("studio/people", response=schemas.OverviewOut)
def add_person(request: HttpRequest, wanted: schemas.PersonIn) -> Any:
    """Somebody new, in a workspace where one is named."""
    _runs_studio(request)
    with transaction.atomic():
        user = people.add_person(wanted.name, wanted.password, wanted.runs_studio)
        if wanted.workspace is not None:
            workspace = get_object_or_404(Workspace, pk=wanted.workspace)
            people.set_role(workspace, user, wanted.role)
    return overview()


@router.post("studio/people/{int:user_id}/password", response=schemas.OverviewOut)
def reset_password(request: HttpRequest, user_id: int, wanted: schemas.PasswordIn) -> Any:
    _runs_studio(request)
    people.give_password(get_object_or_404(User, pk=user_id), wanted.password)
    return overview()


@router.post("studio/people/{int:user_id}/let-in", response=schemas.OverviewOut)
def let_in(request: HttpRequest, user_id: int) -> Any:
    _runs_studio(request)
    people.let_in(get_object_or_404(User, pk=user_id))
    return overview()


@router.delete("studio/people/{int:user_id}", response=schemas.OverviewOut)
def shut_out(request: HttpRequest, user_id: int) -> Any:
    """Somebody cannot sign in any more; what they made stays."""
    by = _runs_studio(request)
    people.shut_out(get_object_or_404(User, pk=user_id), by)
    return overview()


@router.post("studio/workspaces", response=schemas.OverviewOut)
def add_workspace(request: HttpRequest, wanted: schemas.WorkspaceIn) -> Any:
    """A new workspace, with an owner."""
    by = _runs_studio(request)
    owner = get_object_or_404(User, username=wanted.owner, is_active=True) if wanted.owner else by
    with transaction.atomic():
        workspace = Workspace.objects.create(name=wanted.name)
        people.set_role(workspace, owner, Membership.Role.OWNER)
    return overview()


@router.patch("studio/workspaces/{int:workspace_id}", response=schemas.OverviewOut)
def change_workspace(request: HttpRequest, workspace_id: int, wanted: schemas.RoomIn) -> Any:
    """What a workspace is called, and what it may hold; null: what every workspace may."""
    _runs_studio(request)
    workspace = get_object_or_404(Workspace, pk=workspace_id)
    for name, value in wanted.model_dump(exclude_unset=True).items():
        if name != "name" or value is not None:
            setattr(workspace, name, value)
    workspace.save()
    return overview()
