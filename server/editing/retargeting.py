"""A clip retargeted onto other skeletons: a take made of its revision, and a clip over that.

The take is clip JSON of the source as it stood, so it exports, backs up and opens like any other;
the first lines of its clip are how it is read and how it is retargeted. Retargeting again puts a
newer revision beneath the same lines.
"""

import uuid
from collections.abc import Callable, Sequence
from typing import Any

from django.contrib.auth.models import AbstractBaseUser
from django.db import transaction
from documents.inspections import inspect
from documents.models import State
from documents.store import load_clip
from leancurve.document.clip import Clip as Document
from leancurve.errors import BadInput
from leancurve.figure.skeleton import Skeleton
from leancurve.formats.clipjson import write_clip
from leancurve.formats.files import read_take
from leancurve.measures.picture import picture
from leancurve.retarget.matching import ChainPair
from leancurve.retarget.profile import Profile, family
from library import jobs
from library.intake import store_take
from library.kinds import job_kind
from library.models import Job, StoredFile, Take, Workspace
from library.parsing import look
from library.room import require_room

from editing import history, outcomes
from editing.models import Clip, JointMap, Retargeted, Revision
from editing.recipes import new_line

MOST_TARGETS = 20


def newest_of(take: Take, user: AbstractBaseUser) -> Revision:
    """What was last worked on of a take, which is opened where nobody did."""
    clip = history.clip_of(take, user)
    return Revision.objects.select_related("state__header", "clip__workspace").get(pk=clip.head_id)


def start(
    revision: Revision, targets: Sequence[Take], params: dict[str, Any], user: AbstractBaseUser
) -> list[Job]:
    """Queue a retargeting onto each target; the parameters are checked before anything is queued.

    Joints and rest that are given are kept for the pair; where neither is, what is kept counts.
    """
    if not targets:
        raise BadInput("targets: choose at least one skeleton")
    if len(targets) > MOST_TARGETS:
        raise BadInput(f"targets: at most {MOST_TARGETS} at once, got {len(targets)}")
    require_room(revision.clip.workspace)
    source = load_clip(revision.state)
    started = []
    for target in targets:
        aim = load_clip(target.state)
        workspace = revision.clip.workspace
        by_hand = any(name in params for name in ("joints", "rest", "chains"))
        if by_hand:
            fitting = _fitting(params, aim.skeleton)
        else:
            kept = map_for(workspace, source.skeleton, aim.skeleton)
            fitting = {**params, **as_params(kept)}
        new_line("retarget", fitting, {}, {"target": target.state_id})
        if by_hand:
            keep_map(workspace, source.skeleton, aim.skeleton, fitting)
        payload = {
            "revision": revision.pk,
            "target": target.pk,
            "params": fitting,
            "user": user.pk,
            "request": str(uuid.uuid4()),
        }
        title = f"{revision.clip.name} onto {target.name}"[:255]
        started.append(jobs.start(workspace, "retarget", title, payload))
    return started


def _fitting(params: dict[str, Any], target: Skeleton) -> dict[str, Any]:
    """The parameters with what a target has joints for: several are retargeted onto at once."""
    out = dict(params)
    for name in ("joints", "rest"):
        if isinstance(out.get(name), dict):
            out[name] = {t: v for t, v in out[name].items() if t in target.names}
    if isinstance(out.get("chains"), list):
        out["chains"] = [
            c
            for c in out["chains"]
            if not isinstance(c, dict) or set(c.get("target", ())) <= set(target.names)
        ]
    return out


def as_params(kept: Profile) -> dict[str, Any]:
    """What was kept of a pair, as parameters of the retargeting."""
    return {
        "joints": dict(kept.joints),
        "rest": dict(kept.rest),
        "chains": [c._asdict() for c in kept.chains],
    }


@job_kind("retarget")
def retarget(job: Job, report: Callable[[float], None]) -> dict[str, Any]:
    """The job behind it; taken up again it goes on where it was."""
    given = job.payload
    source = Revision.objects.select_related("state__header", "clip__workspace").get(
        pk=given["revision"]
    )
    target = Take.objects.select_related("state").get(pk=given["target"])
    user = source.clip.workspace.members.get(pk=given["user"])
    name = free_name(source, f"{source.clip.name} · {target.name}")
    take = take_of_revision(source, target, uuid.UUID(given["request"]), name)
    report(0.4)
    clip = history.first_clip(take, user)
    assert clip.head_id is not None
    line = new_line("retarget", given["params"], {}, {"target": target.state_id})
    revision = history.write(
        clip.pk, clip.head_id, uuid.UUID(given["request"]), outcomes.Change(append=line), user
    )
    report(0.9)
    show(take, revision.state)
    inspect(revision.state)
    return {"clip": clip.pk, "take": take.pk, "report": revision.report}


def free_name(source: Revision, name: str) -> str:
    """A name that no take of the workspace has: a second one says so."""
    taken = set(
        Take.objects.filter(
            workspace=source.clip.workspace, name__startswith=name[:200]
        ).values_list("name", flat=True)
    )
    free, n = name[:250], 1
    while free in taken:
        n += 1
        free = f"{name[:240]}, {n}"
    return free


def take_of_revision(
    source: Revision,
    target: Take | None,
    request: uuid.UUID,
    name: str,
    version_of: Take | None = None,
) -> Take:
    """A take that is a revision as it stands, made once a request."""
    there = Retargeted.objects.filter(request=request).select_related("take").first()
    if there is not None:
        return there.take
    workspace = source.clip.workspace
    require_room(workspace)
    data = write_clip(load_clip(source.state))
    file_name = f"{name[:200]}.json"
    looked = look(read_take(data, file_name), file_name)
    with transaction.atomic():
        stored = StoredFile.objects.create(
            workspace=workspace, name=file_name, data=data, size=len(data)
        )
        take = store_take(workspace, stored, looked, name)
        Retargeted.objects.create(
            take=take, source=source, target=target, version_of=version_of, request=request
        )
    return take


def show(take: Take, state: State) -> None:
    """The take's picture is of what the lines of its clip make of it."""
    take.picture = picture(load_clip(state))
    take.save(update_fields=["picture"])


def source_of(take: Take) -> Retargeted | None:
    """What a take was made of, where it was made to be retargeted."""
    found = Retargeted.objects.filter(take=take)
    return found.select_related("source__clip", "target").first()


def newer_than(made: Retargeted) -> int | None:
    """The newest revision of what a take was made of, if it has gone on since; None where it is in
    the bin, or gone."""
    source = made.source
    if source is None or source.clip.binned is not None or source.clip.head_id == source.pk:
        return None
    return source.clip.head_id


def again(clip: Clip, base_id: int, request: uuid.UUID, user: AbstractBaseUser) -> Revision:
    """The newest revision of the source beneath the clip's own lines."""
    done = clip.revisions.filter(request_id=request).first()
    if done is not None:
        return done
    head = Revision.objects.select_related("clip__take", "take").get(pk=clip.head_id)
    made = source_of(outcomes.take_of(head))
    newest = None if made is None else newer_than(made)
    if made is None or newest is None:
        raise BadInput("what this clip was retargeted from has not changed since")
    now = Revision.objects.select_related("state__header", "clip__workspace").get(pk=newest)
    take = take_of_revision(now, made.target, uuid.uuid5(request, "take"), clip.take.name)
    return history.write(clip.pk, base_id, request, outcomes.Change(swap=take), user)


def beneath(revision: Revision) -> tuple[Document, Document]:
    """What a retargeted clip was retargeted from, and onto; :class:`BadInput` where it was not."""
    line = next((x for x in revision.recipe if x["operation"] == "retarget"), None)
    target = State.objects.filter(pk=line["inputs"]["target"]).first() if line else None
    if target is None:
        raise BadInput("target: choose a skeleton to retarget onto")
    return load_clip(outcomes.take_of(revision).state), load_clip(target)


def made_of(clip: Clip) -> list[dict[str, Any]]:
    """Clips that were retargeted from a clip, the newest first."""
    found = Retargeted.objects.filter(source__clip=clip, take__binned=None).select_related("source")
    out = []
    for made in found.order_by("-pk"):
        theirs = made.take.worked_on.filter(binned=None).order_by("-pk").first()
        if theirs is not None and made.source is not None:
            current = made.source_id == clip.head_id
            out.append(
                {"clip": theirs.pk, "name": theirs.name, "revision": made.source.number,
                 "current": current}
            )  # fmt: skip
    return out


def map_for(workspace: Workspace, source: Skeleton, target: Skeleton) -> Profile:
    """What was set by hand between two skeletons of these families, as far as it fits."""
    for kept in workspace.joint_maps.order_by("-changed"):
        if family(kept.source, source.names) and family(kept.target, target.names):
            rest = {n: (x, y, z) for n, (x, y, z) in kept.rest.items()}
            chains = [ChainPair(tuple(c["source"]), tuple(c["target"])) for c in kept.chains]
            return Profile(kept.joints, rest, chains).fitting(source, target)
    return Profile()


def keep_map(
    workspace: Workspace, source: Skeleton, target: Skeleton, params: dict[str, Any]
) -> None:
    """Keep what was set by hand for the pair, in the place of what was kept before."""
    joints, rest = params.get("joints", {}), params.get("rest", {})
    chains = params.get("chains", [])
    pair = {"source": list(source.names), "target": list(target.names)}
    kept = workspace.joint_maps.filter(**pair).first()
    if kept is None and not (joints or rest or chains):
        return
    if kept is None:
        kept = JointMap(workspace=workspace, **pair)
    kept.joints, kept.rest, kept.chains = joints, rest, chains
    kept.save()
