"""What is found in a revision, and what its joints are."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

from computing.wanted import while_wanted
from django.http import HttpRequest
from documents.inspections import inspect
from documents.store import load_clip
from editing.outcomes import take_of
from editing.recipes import replay
from leancurve.cleaning.contacts import find_support
from leancurve.cleaning.gimbal import rate_orders
from leancurve.document.evaluation import evaluate
from leancurve.errors import BadInput
from leancurve.figure.body import ROLES
from leancurve.figure.masses import weights_of
from leancurve.measures.findings import KINDS
from leancurve.measures.flights import flights_of
from leancurve.measures.picture import body_picture
from leancurve.operations import OPERATIONS
from leancurve.operations.thin.tolerances import tolerances_of
from library.models import Profile
from library.profiles import profile_for
from ninja import Router

from api.access import revision_for, tracks_of_joints
from api.schemas import inspections as schemas

router = Router()


@router.get("clips/{int:clip_id}/findings", response=schemas.FindingsOut)
def findings(request: HttpRequest, clip_id: int, revision: int) -> Any:
    """What is measured to be wrong in a revision, and what the kinds mean."""
    found = inspect(revision_for(request, clip_id, revision).state, while_wanted)
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
    clip = load_clip(revision_for(request, clip_id, revision).state)
    support = find_support(clip)
    spans = support.contacts if clip.contacts is None else clip.contacts
    return {
        "contacts": [asdict(c) for c in spans],
        "by_hand": clip.contacts is not None,
        "floor_mm": support.floor * clip.millimetres,
        "floor_set": clip.reading.floor is not None,
    }


@router.get("clips/{int:clip_id}/flights", response=list[schemas.FlightOut])
def flights(request: HttpRequest, clip_id: int, revision: int) -> Any:
    """Where a figure flies, and how far that is from what gravity and momentum allow."""
    clip = load_clip(revision_for(request, clip_id, revision).state)
    return [asdict(flight) for flight in flights_of(clip)]


@router.get("clips/{int:clip_id}/body", response=schemas.BodyOut)
def body(request: HttpRequest, clip_id: int, revision: int) -> Any:
    """What the joints are taken for, and groups of them to select."""
    wanted = revision_for(request, clip_id, revision)
    clip = load_clip(wanted.state)
    names = clip.skeleton.names
    known = clip.body
    profile = profile_for(wanted.clip.workspace, names)
    own = profile.groups if profile else {}
    weights = weights_of(clip.skeleton, known)
    return {
        "joints": [asdict(j) for j in known.joints],
        "groups": {g: list(joints) for g, joints in known.groups.items()},
        "own_groups": {
            g: [names.index(n) for n in joints if n in names] for g, joints in own.items()
        },
        "roles": list(ROLES),
        "profile": profile.name if profile else None,
        "centre": None if weights is None else weights.centre_of_joints.tolist(),
        "figure": body_picture(clip),
    }


@router.put("clips/{int:clip_id}/profile", response=schemas.BodyOut)
def keep_profile(request: HttpRequest, clip_id: int, wanted: schemas.ProfileIn) -> Any:
    """Keep the clip's roles and own groups for skeletons of its family."""
    revision = revision_for(request, clip_id, wanted.revision)
    clip = load_clip(revision.state)
    names = clip.skeleton.names
    unknown = [n for joints in wanted.groups.values() for n in joints if n not in names]
    if unknown:
        raise BadInput(f"groups: no joint is named {unknown[0]!r}")
    workspace = revision.clip.workspace
    existing = profile_for(workspace, names)
    Profile.objects.update_or_create(
        workspace=workspace,
        name=existing.name if existing else revision.clip.take.skeleton.name,
        defaults={
            "names": list(names),
            "roles": dict(clip.reading.roles),
            "groups": wanted.groups,
        },
    )
    return body(request, clip_id, wanted.revision)


@router.get("clips/{int:clip_id}/tolerances", response=schemas.TolerancesOut)
def tolerances(request: HttpRequest, clip_id: int, revision: int) -> Any:
    """Keys against tolerance, of what stands before the clip is thinned."""
    wanted = revision_for(request, clip_id, revision)
    steps = replay(take_of(wanted).state, wanted.recipe, while_wanted)
    thin = next((k for k, s in enumerate(steps) if s.line["operation"] == "thin"), len(steps))
    state = steps[max(thin - 1, 0)].state
    return asdict(tolerances_of(load_clip(state)))


@router.get("clips/{int:clip_id}/orders", response=list[schemas.JointOrdersOut])
def orders(request: HttpRequest, clip_id: int, revision: int, joints: str) -> Any:
    """All six rotation orders of joints, the calmest first."""
    clip = load_clip(revision_for(request, clip_id, revision).state)
    chosen = sorted(
        {c.joint for c in tracks_of_joints(clip, joints) if len(clip.order(c.joint)) == 3}
    )
    local = evaluate(clip.below).rotation
    return [
        {
            "joint": clip.skeleton.names[j],
            "order": clip.order(j),
            "ratings": [asdict(r) for r in rate_orders(local[:, j])],
        }
        for j in chosen
    ]
