"""A workspace as one file of open parts, and back, under another name beside what is there.

The file is a zip: ``workspace.json`` says what is in it (:class:`Told`), ``takes/`` holds the files
as they were brought in, ``deliveries/`` those that went out, ``blobs/`` the parts that documents
are made of, each named by its SHA-256: channels and bodies in the safetensors layout, headers and
skeletons as JSON, lines of recipes as JSON compressed by zlib.

What comes in is somebody's file: it is looked at in a child process with limits before anything of
it is stored, and what lines have made is computed anew here, never believed.
"""

import json
import uuid
import zipfile
from collections.abc import Iterable, Iterator, Mapping
from pathlib import Path
from typing import IO

from delivery.models import Delivery, Handed, Handover, Preset
from django.contrib.auth.models import AbstractBaseUser
from django.db import connection, transaction
from django.db.models import Model
from django.utils import timezone
from documents.blobs import keep_blobs, keeping
from documents.models import Blob, Inspection, State
from documents.store import held_by
from editing.models import (
    Batch,
    Chosen,
    Clip,
    JointMap,
    Memo,
    Presence,
    Recipe,
    Retargeted,
    Revision,
    StoredMotion,
)
from leancurve import __version__
from leancurve.delivery.preset import Preset as Form
from leancurve.progress import Progress, silent
from library.models import (
    Job,
    Membership,
    Preferences,
    Profile,
    Pulse,
    Skeleton,
    StoredFile,
    Take,
    Workspace,
)

from studio.checking import blob_names
from studio.told import (
    VERSION,
    WHAT,
    Told,
    ToldChain,
    ToldChoices,
    ToldClip,
    ToldDelivery,
    ToldMap,
    ToldPreset,
    ToldProfile,
    ToldRecipe,
    ToldRetargeted,
    ToldRevision,
    ToldSkeleton,
    ToldState,
    ToldStored,
    ToldTake,
)

EXPORTED: Mapping[type[Model], str] = {
    Skeleton: "workspace", Profile: "workspace", StoredFile: "take__workspace",
    Take: "workspace", Retargeted: "take__workspace", Clip: "workspace",
    Revision: "clip__workspace", Chosen: "clip__workspace", JointMap: "workspace",
    StoredMotion: "workspace", Recipe: "workspace", Preset: "workspace",
    Delivery: "clip__workspace",
}  # fmt: skip
"""Models of which a workspace's file holds what belongs to it, and by which way it does."""
LEFT_OUT: Mapping[type[Model], str] = {
    Workspace: "it gets a name of its own where it is brought in",
    Membership: "whoever brings it in is alone in it at first",
    Preferences: "of a person, not of a workspace",
    Presence: "of the moment", Pulse: "of the installation", Job: "of the moment",
    Batch: "of the moment; what it made are clips",
    Handover: "of the moment; what it made are deliveries",
    Handed: "of the moment; what it made are deliveries",
    Memo: "made again when it is asked for", Inspection: "made again when it is asked for",
    State: "goes along with what refers to it", Blob: "goes along with what refers to it",
}  # fmt: skip
"""Models of which it holds nothing by themselves, and why."""

AT_ONCE = 200
"""Blobs that are looked up together."""


# --- out ------------------------------------------------------------------------------------------


def export(workspace: Workspace, out: IO[bytes], report: Progress = silent) -> Told:
    """Write a workspace's file, what is in its bin left out; returns what it says."""
    with transaction.atomic():
        if not connection.savepoint_ids:
            with connection.cursor() as cursor:
                # One moment, whatever people do meanwhile.
                cursor.execute("SET TRANSACTION ISOLATION LEVEL REPEATABLE READ")
        told, shas = _told(workspace)
        with zipfile.ZipFile(out, "w", zipfile.ZIP_STORED) as file:
            text = json.dumps(told.model_dump(mode="json"), indent=1)
            file.writestr("workspace.json", text, zipfile.ZIP_DEFLATED)
            # Several takes may have come in one file.
            for path, take in {t.file: t.id for t in told.takes}.items():
                stored = StoredFile.objects.get(take=take)
                file.writestr(path, bytes(stored.data), zipfile.ZIP_DEFLATED)
            for at, delivery in zip(told.deliveries, _deliveries(workspace), strict=True):
                file.writestr(at.file, bytes(delivery.data), zipfile.ZIP_DEFLATED)
            for k, some in enumerate(_in_turns(sorted(shas))):
                report(k * AT_ONCE / len(shas))
                for sha, data in Blob.objects.filter(sha__among=some).values_list("sha", "data"):
                    file.writestr(f"blobs/{sha}", bytes(data))
    return told


def _in_turns(shas: list[str]) -> Iterator[list[str]]:
    for start in range(0, len(shas), AT_ONCE):
        yield shas[start : start + AT_ONCE]


def _deliveries(workspace: Workspace) -> Iterable[Delivery]:
    live = Delivery.objects.filter(clip__workspace=workspace, clip__binned=None)
    return live.order_by("pk").iterator(chunk_size=10)


def _told(workspace: Workspace) -> tuple[Told, set[str]]:
    """What the file says, and the blobs it holds."""
    takes = list(Take.objects.filter(workspace=workspace, binned=None).select_related("skeleton"))
    clips = Clip.objects.filter(workspace=workspace, binned=None)
    revisions = list(
        Revision.objects.filter(clip__in=clips).select_related("author").order_by("pk")
    )
    beneath = {c.take_id for c in clips} | {r.take_id for r in revisions if r.take_id}
    swapped = beneath - {t.pk for t in takes}
    # A take in the bin that lies beneath a revision goes along.
    takes += Take.objects.filter(pk__among=swapped).select_related("skeleton")
    stored = list(StoredMotion.objects.filter(workspace=workspace, binned=None))
    chosen = list(Chosen.objects.filter(clip__in=clips))
    retargeted = {
        m.take_id: m for m in Retargeted.objects.filter(take__among=[t.pk for t in takes])
    }
    states = _states((x.state_id for x in (*takes, *stored, *chosen)), revisions)
    lines = {sha for r in revisions for sha in r.lines} | {s.line for s in states if s.line}
    skeletons = list(Skeleton.objects.filter(workspace=workspace))
    files = dict(
        StoredFile.objects.filter(pk__among={t.file_id for t in takes}).values_list("pk", "name")
    )
    told = Told(
        what=WHAT,
        version=VERSION,
        application=__version__,
        name=workspace.name,
        skeletons=[
            ToldSkeleton(
                name=s.name, digest=s.digest, joints=s.joints, skin=s.skin, triangles=s.triangles
            )
            for s in skeletons
        ],
        profiles=[
            ToldProfile(name=p.name, names=p.names, roles=p.roles, groups=p.groups)
            for p in Profile.objects.filter(workspace=workspace)
        ],
        recipes=[
            ToldRecipe(name=r.name, lines=r.lines, rate=r.rate)
            for r in Recipe.objects.filter(workspace=workspace, binned=None)
        ],
        presets=[
            ToldPreset(name=p.name, values=Form.model_validate(p.values))
            for p in Preset.objects.filter(workspace=workspace)
        ],
        stored=[
            ToldStored(
                name=s.name,
                tags=s.tags,
                joints=s.joints,
                frames=s.frames,
                state=s.state_id,
                picture=s.picture,
            )
            for s in stored
        ],
        maps=[
            ToldMap(
                source=m.source,
                target=m.target,
                joints=m.joints,
                chains=[ToldChain.model_validate(c) for c in m.chains],
                rest=m.rest,
            )
            for m in JointMap.objects.filter(workspace=workspace).order_by("changed")
        ],
        takes=[
            _told_take(
                t,
                files[t.file_id],
                t.pk in swapped,
                _told_retargeted(
                    retargeted.get(t.pk), {r.pk for r in revisions}, {x.pk for x in takes}
                ),
            )
            for t in takes
        ],
        clips=[
            _told_clip(
                c,
                [r for r in revisions if r.clip_id == c.pk],
                [x.state_id for x in chosen if x.clip_id == c.pk],
            )
            for c in clips
        ],
        deliveries=[
            ToldDelivery(
                clip=d.clip_id,
                revision=d.revision_id,
                file=f"deliveries/{d.pk}/{_plain(d.file_name)}",
                file_name=d.file_name,
                preset=Form.model_validate(d.preset) if d.preset else None,
                report=d.report,
            )
            for d in _deliveries(workspace)
        ],
        states={s.pk: _told_state(s, {x.pk for x in states}) for s in states},
    )
    bones = {sha for s in skeletons for sha in (s.digest, s.skin) if sha}
    return told, held_by(states) | lines | bones


def _plain(name: str) -> str:
    return name.replace("/", "_").replace("\\", "_")


def _states(named: Iterable[str], revisions: Iterable[Revision]) -> list[State]:
    """States that are named, those of revisions, and those from which pruned ones are made."""
    wanted: set[str | None] = set(named)
    for r in revisions:
        wanted |= {r.state_id, r.before_id, r.take_state_id}
    found: dict[str, State] = {}
    fresh = wanted - {None}
    while fresh:
        new = list(State.objects.filter(hash__among=fresh))
        found.update({s.pk: s for s in new})
        made = {x for s in new if s.pruned for x in (s.before_id, s.with_take_id)}
        fresh = made - {None} - set(found)
    return list(found.values())


def _told_retargeted(
    made: Retargeted | None, revisions: set[int], takes: set[int]
) -> ToldRetargeted | None:
    """What a take was made of to be retargeted, as far as it goes along."""
    if made is None:
        return None
    return ToldRetargeted(
        source=made.source_id if made.source_id in revisions else None,
        target=made.target_id if made.target_id in takes else None,
        version_of=made.version_of_id if made.version_of_id in takes else None,
    )


def _told_take(
    take: Take, file_name: str, hidden: bool, retargeted: ToldRetargeted | None
) -> ToldTake:
    return ToldTake(
        id=take.pk,
        name=take.name,
        file=f"takes/{take.file_id}/{_plain(file_name)}",
        file_name=file_name,
        state=take.state_id,
        skeleton=take.skeleton.digest,
        rate=(take.rate_numerator, take.rate_denominator),
        frames=take.frames,
        joints=take.joints,
        channels=take.channels,
        keys=take.keys,
        notes=take.notes,
        warnings=take.warnings,
        picture=take.picture,
        part=take.part,
        choices=ToldChoices(**take.choices),
        hidden=hidden,
        retargeted=retargeted,
    )


def _told_clip(clip: Clip, revisions: list[Revision], chosen: list[str]) -> ToldClip:
    assert clip.head_id is not None
    assert clip.tip_id is not None
    return ToldClip(
        id=clip.pk,
        take=clip.take_id,
        name=clip.name,
        camera=clip.camera,
        head=clip.head_id,
        tip=clip.tip_id,
        chosen=chosen,
        revisions=[
            ToldRevision(
                id=r.pk,
                take=r.take_id,
                parent=r.parent_id,
                number=r.number,
                lines=r.lines,
                state=r.state_id,
                before=r.before_id,
                take_state=r.take_state_id,
                cause=r.cause,
                report=r.report,
                author=r.author.get_username() if r.author else "",
                created=r.created,
            )
            for r in revisions
        ],
    )


def _told_state(state: State, here: set[str]) -> ToldState:
    made = state.before_id in here and state.with_take_id in here
    return ToldState(
        header=state.header_id,
        manifest=bytes(state.manifest).hex(),
        keys=state.keys,
        before=state.before_id if made else None,
        with_take=state.with_take_id if made else None,
        line=state.line if made else "",
        ms=state.ms if made else None,
        pruned=state.pruned,
        witness=bytes(state.witness).hex() if state.pruned and state.witness else None,
    )


# --- in -------------------------------------------------------------------------------------------


def bring_in(source: Path, told: Told, workspace: Workspace) -> None:
    """Fill a new workspace from a file that was checked."""
    with zipfile.ZipFile(source) as file, keeping():
        for some in _few_bytes(file):
            keep_blobs({sha: file.read(f"blobs/{sha}") for sha in some})
        _keep_states(told)
        for s in told.skeletons:
            Skeleton.objects.create(
                workspace=workspace,
                name=s.name[:120],
                digest=s.digest,
                joints=s.joints,
                skin=s.skin,
                triangles=s.triangles,
            )
        for p in told.profiles:
            Profile.objects.create(workspace=workspace, **p.model_dump())
        for r in told.recipes:
            Recipe.objects.create(workspace=workspace, **r.model_dump(mode="json"))
        for form in told.presets:
            Preset.objects.create(workspace=workspace, **form.model_dump(mode="json"))
        for kept in told.maps:
            JointMap.objects.create(workspace=workspace, **kept.model_dump(mode="json"))
        for m in told.stored:
            values = m.model_dump(exclude={"state"})
            StoredMotion.objects.create(workspace=workspace, state_id=m.state, **values)
        files = {
            t.file: StoredFile.objects.create(
                workspace=workspace,
                name=t.file_name[:255],
                data=(data := file.read(t.file)),
                size=len(data),
            )
            for t in {t.file: t for t in told.takes}.values()
        }
        takes = {t.id: _bring_take(t, files[t.file], workspace) for t in told.takes}
        revisions: dict[int, Revision] = {}
        clips = {c.id: _bring_clip(c, takes, revisions, workspace) for c in told.clips}
        for t in told.takes:
            if t.retargeted is not None:
                _bring_retargeted(t, t.retargeted, takes, revisions)
        for d in told.deliveries:
            data = file.read(d.file)
            Delivery.objects.create(
                clip=clips[d.clip],
                revision=revisions[d.revision],
                file_name=d.file_name,
                preset={} if d.preset is None else d.preset.model_dump(mode="json"),
                data=data,
                size=len(data),
                report=d.model_dump(mode="json")["report"],
            )


MOST_AT_ONCE = 32 * 2**20


def _few_bytes(file: zipfile.ZipFile) -> Iterator[list[str]]:
    """Names of blobs, a few at a time that together take little memory."""
    some: list[str] = []
    size = 0
    for sha in blob_names(file):
        some.append(sha)
        size += file.getinfo(f"blobs/{sha}").file_size
        if len(some) >= AT_ONCE or size > MOST_AT_ONCE:
            yield some
            some, size = [], 0
    if some:
        yield some


def _keep_states(told: Told) -> None:
    """What is here already stays as it is: a file changes nothing of anybody else's."""
    State.objects.bulk_create(
        [
            State(
                hash=name,
                header_id=s.header,
                manifest=bytes.fromhex(s.manifest),
                keys=s.keys,
                before_id=s.before,
                with_take_id=s.with_take,
                line=s.line,
                ms=s.ms,
                pruned=s.pruned,
                witness=None if s.witness is None else bytes.fromhex(s.witness),
            )
            for name, s in told.states.items()
        ],
        ignore_conflicts=True,
        batch_size=1_000,
    )


def _bring_take(told: ToldTake, stored: StoredFile, workspace: Workspace) -> Take:
    return Take.objects.create(
        workspace=workspace,
        name=told.name[:255],
        file=stored,
        state_id=told.state,
        skeleton=Skeleton.objects.get(workspace=workspace, digest=told.skeleton),
        rate_numerator=told.rate[0],
        rate_denominator=told.rate[1],
        frames=told.frames,
        joints=told.joints,
        channels=told.channels,
        keys=told.keys,
        notes=told.notes,
        warnings=told.warnings,
        picture=told.picture.model_dump(),
        part=told.part,
        choices=told.choices.model_dump(exclude_defaults=True),
        hidden=told.hidden,
        binned=timezone.now() if told.hidden else None,
    )


def _bring_retargeted(
    take: ToldTake, told: ToldRetargeted, takes: dict[int, Take], revisions: dict[int, Revision]
) -> None:
    Retargeted.objects.create(
        take=takes[take.id],
        source=None if told.source is None else revisions[told.source],
        target=None if told.target is None else takes[told.target],
        version_of=None if told.version_of is None else takes[told.version_of],
        request=uuid.uuid4(),
    )


def _bring_clip(
    told: ToldClip,
    takes: dict[int, Take],
    revisions: dict[int, Revision],
    workspace: Workspace,
) -> Clip:
    clip = Clip.objects.create(
        workspace=workspace,
        take=takes[told.take],
        beneath=takes[told.take],
        name=told.name[:255],
        camera=None if told.camera is None else told.camera.model_dump(),
    )
    for r in sorted(told.revisions, key=lambda r: r.id):
        revisions[r.id] = Revision.objects.create(
            clip=clip,
            take=None if r.take is None else takes[r.take],
            parent=None if r.parent is None else revisions[r.parent],
            number=r.number,
            lines=r.lines,
            state_id=r.state,
            before_id=r.before,
            take_state_id=r.take_state,
            cause=r.cause,
            report=r.report,
        )
        Revision.objects.filter(pk=revisions[r.id].pk).update(created=r.created)
    Chosen.objects.bulk_create([Chosen(clip=clip, state_id=s) for s in told.chosen])
    clip.head, clip.tip = revisions[told.head], revisions[told.tip]
    clip.beneath = clip.head.take or clip.take
    clip.save(update_fields=["head", "tip", "beneath"])
    return clip


def new_workspace(name: str, owner: AbstractBaseUser | None) -> Workspace:
    """An empty workspace of a name that no other has."""
    taken = set(Workspace.objects.values_list("name", flat=True))
    chosen, count = name[:120], 1
    while chosen in taken:
        count += 1
        chosen = f"{name[:110]} {count}"
    workspace = Workspace.objects.create(name=chosen)
    if owner is not None:
        Membership.objects.create(workspace=workspace, user=owner, role=Membership.Role.OWNER)
    return workspace
