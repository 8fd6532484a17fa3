"""A revision's motion as numbers: poses, curves, keys, drift, tracks in the world."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

import numpy as np
from django.http import HttpRequest, HttpResponse
from documents.store import changed_channels, frame_changed, load_clip
from editing.accounts import account_of, as_told, lanes_of
from editing.baseline import baseline_of
from leancurve.curves.curve import SampledCurve
from leancurve.document.evaluation import affected, effective, evaluate
from leancurve.document.layering import soloed
from leancurve.document.posing import mirrored
from leancurve.document.track import BASE, base_track
from leancurve.document.tracks import curves_near
from leancurve.errors import BadInput
from leancurve.joining.loops import loops_of
from leancurve.measures.cycles import whole_cycles
from leancurve.measures.drift import drift, world_track
from leancurve.measures.layers import layer_changes
from ninja import Router

from api.access import joints_named, revision_for, tracks_of_joints
from api.messages import curve_arrays, immutable, layers_named, message, pose_arrays, prop_arrays
from api.schemas import motion as schemas

router = Router()


@router.get("clips/{int:clip_id}/poses")
def poses(
    request: HttpRequest, clip_id: int, revision: int, since: int | None = None, solo: str = ""
) -> HttpResponse:
    """Evaluated poses for play and scrub; with ``since`` only joints that changed from there, with
    ``solo=3,5`` as they are with these layers alone."""
    wanted = revision_for(request, clip_id, revision)
    alone = layers_named(solo)
    clip = soloed(load_clip(wanted.state), alone)
    joints = list(range(len(clip.skeleton)))
    before = None if since is None else revision_for(request, clip_id, since)
    if before is not None and not frame_changed(before.state, wanted.state):
        changed = changed_channels(before.state, wanted.state)
        joints = list(affected(clip, changed, soloed(load_clip(before.state), alone)))
    pose = evaluate(clip, joints=joints)
    arrays = {**pose_arrays(clip, pose, joints), **prop_arrays(clip)}
    return immutable(request, message(arrays, {"frames": clip.frames}), wanted, before)


@router.get("clips/{int:clip_id}/curves")
def curves(
    request: HttpRequest,
    clip_id: int,
    revision: int,
    joints: str = "",
    others: bool = False,
    take: bool = False,
    result: bool = False,
) -> HttpResponse:
    """The curves of joints given by index, ``joints=3,4``, with ``others`` those of all props and
    layers; with ``take`` those of the take as read, on the revision's time, as they lie over its
    curves; with ``result`` what layers and plants make of them, on each frame."""
    wanted = revision_for(request, clip_id, revision)
    clip = load_clip(wanted.state)
    if take:
        over = curves_near(clip, baseline_of(wanted), sorted(joints_named(clip, joints)))
        return immutable(request, message(curve_arrays(clip, over), {}), wanted)
    wanted_tracks = set(tracks_of_joints(clip, joints))
    if result:
        found = effective(clip, channels=[t for t in clip.tracks if t in wanted_tracks])
        made = {t: SampledCurve(values) for t, values in found.items()}
        return immutable(request, message(curve_arrays(clip, made), {}), wanted)
    chosen = {
        t: clip.curves[t] for t in clip.tracks if t in wanted_tracks or (others and t.owner != BASE)
    }
    return immutable(request, message(curve_arrays(clip, chosen), {}), wanted)


@router.get("clips/{int:clip_id}/keys")
def keys(
    request: HttpRequest, clip_id: int, revision: int, since: int | None = None
) -> HttpResponse:
    """All keyed curves of a revision; with ``since`` those that changed from there. Channels
    with a value on every frame are named in ``dense``, as ``owner/joint/channel``."""
    wanted = revision_for(request, clip_id, revision)
    clip = load_clip(wanted.state)
    chosen = set(clip.tracks)
    before = None if since is None else revision_for(request, clip_id, since)
    if before is not None:
        chosen = changed_channels(before.state, wanted.state)
    keyed = {c: clip.curves[c] for c in clip.tracks if c in chosen}
    dense = [c for c, curve in keyed.items() if isinstance(curve, SampledCurve)]
    about = {"dense": [str(c) for c in dense]}
    for channel in dense:
        del keyed[channel]
    return immutable(request, message(curve_arrays(clip, keyed), about), wanted, before)


@router.post("clips/{int:clip_id}/mirror", response=schemas.MirrorOut)
def mirror(request: HttpRequest, clip_id: int, wanted: schemas.MirrorIn) -> Any:
    """A pose as it is on the other side of the body. Nothing is saved."""
    clip = load_clip(revision_for(request, clip_id, wanted.revision).state)
    unknown = [
        f"{j} {c}"
        for j, given in wanted.values.items()
        for c in given
        if not 0 <= j < len(clip.layout) or c not in clip.layout[j]
    ]
    if unknown:
        raise BadInput(f"mirror: the skeleton has no channel {unknown[0]}")
    return {"values": mirrored(clip, wanted.values, wanted.frame)}


@router.get("clips/{int:clip_id}/cycles", response=schemas.CyclesOut | None)
def cycles(request: HttpRequest, clip_id: int, revision: int, first: int, last: int) -> Any:
    """The longest run of whole cycles that begins at ``first``, null where there is none."""
    clip = load_clip(revision_for(request, clip_id, revision).state)
    if not 0 <= first < last < clip.frames:
        raise BadInput(f"expected a span of frames within 0 to {clip.frames - 1}")
    found = whole_cycles(clip, first, last)
    return None if found is None else asdict(found)


@router.get("clips/{int:clip_id}/loops", response=list[schemas.LoopOut])
def loops(request: HttpRequest, clip_id: int, revision: int, first: int, last: int) -> Any:
    """The spans within some frames that make the best loops, best first."""
    clip = load_clip(revision_for(request, clip_id, revision).state)
    return [
        {
            "first": found.first, "last": found.last, "distance_mm": found.distance_mm,
            "travel_mm": found.goes_on.travel_mm, "turned_deg": found.goes_on.turned_deg,
            "unlike": list(found.seam.unlike),
        }
        for found in loops_of(clip, first, last)
    ]  # fmt: skip


@router.get("clips/{int:clip_id}/drift", response=schemas.DriftOut)
def clip_drift(
    request: HttpRequest, clip_id: int, revision: int, baseline: int | None = None
) -> Any:
    """Drift of a revision from the take as read, or from another revision."""
    wanted = revision_for(request, clip_id, revision)
    clip = load_clip(wanted.state)
    if baseline is not None:
        return asdict(drift(clip, load_clip(revision_for(request, clip_id, baseline).state)))
    return asdict(drift(clip, baseline_of(wanted)))


@router.get("clips/{int:clip_id}/account", response=schemas.AccountOut)
def clip_account(request: HttpRequest, clip_id: int, revision: int) -> Any:
    """What a revision's recipe did: costs, mends, and each line's own drift."""
    return as_told(account_of(revision_for(request, clip_id, revision)))


@router.get("clips/{int:clip_id}/account/frames")
def account_frames(request: HttpRequest, clip_id: int, revision: int) -> HttpResponse:
    """Per frame how far any end was moved, millimetres: by mends, and by all the rest."""
    wanted = revision_for(request, clip_id, revision)
    mends, rest = lanes_of(wanted)
    lanes = {"mended_mm": mends.astype(np.float32), "mm": rest.astype(np.float32)}
    return immutable(request, message(lanes, {}), wanted)


@router.get("clips/{int:clip_id}/layers", response=list[schemas.LayerChangeOut])
def layers(request: HttpRequest, clip_id: int, revision: int) -> Any:
    """What each of a revision's layers changes, bottom to top."""
    clip = load_clip(revision_for(request, clip_id, revision).state)
    return [
        {**asdict(c.change), "name": c.layer.name, "parts": list(c.parts)}
        for c in layer_changes(clip)
    ]


@router.get("clips/{int:clip_id}/tracks")
def tracks(request: HttpRequest, clip_id: int, revision: int, joints: str) -> HttpResponse:
    """World position, speed and acceleration of joints, as curves to read by."""
    wanted = revision_for(request, clip_id, revision)
    clip = load_clip(wanted.state)
    chosen = joints_named(clip, joints)
    arrays = {
        f"{base_track(j, name)}/values": values
        for j in sorted(chosen)
        for name, values in world_track(clip, j).items()
    }
    return immutable(request, message(arrays, {}), wanted)
