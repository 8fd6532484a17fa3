"""What is to be delivered, planned: which clips, in which forms, and what files are called."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from django.contrib.auth.models import AbstractBaseUser
from django.db import transaction
from django.db.models import Max, Q
from documents.store import time_of, without_curves
from editing.models import Revision
from leancurve.delivery.files import (
    MOST_VERSIONS,
    Part,
    groups_of,
    parts_of,
    with_more,
    with_part,
)
from leancurve.delivery.preset import Preset as Form
from leancurve.delivery.preset import about_bytes, preset_of
from leancurve.errors import BadInput
from leancurve.formats.names import delivery_name, tidy_name
from leancurve.time.resample import sample_times
from library import jobs
from library.models import Job, Workspace
from library.room import require_room

from delivery.models import Delivery, Handed, Handover

MOST_CLIPS = 500


@dataclass(frozen=True)
class Named:
    """A preset as it was asked for: what it is called, if anything, and what it says."""

    name: str
    form: Form

    def told(self) -> dict[str, Any]:
        return {"name": self.name, "values": self.form.model_dump(mode="json")}


@dataclass(frozen=True)
class Asked:
    """A clip's revision and the frames of it, all where none are said; and what its files are
    called by, where that is not the clip's and its skeleton's own name."""

    revision: Revision
    first: int = 0
    last: int | None = None
    character: str = ""
    action: str = ""
    version: int | None = None

    @property
    def until(self) -> int:
        """The last frame."""
        frames, _ = time_of(self.revision.state)
        return max(frames - 1, 0) if self.last is None else self.last


@dataclass(frozen=True)
class Planned:
    """A file that will be made."""

    preset: int
    part: Part
    version: int
    name: str
    taken: bool
    about: int
    """Bytes, roughly."""

    def told(self, others: Sequence[int] = ()) -> dict[str, Any]:
        """As it is kept until it is made: with the clips of the handover that go into it too."""
        more = {"with": list(others)} if others else {}
        return {
            "preset": self.preset, "first": self.part.first, "last": self.part.last,
            "part": self.part.name, "version": self.version, "name": self.name, **more,
        }  # fmt: skip


def planned(workspace: Workspace, asked: Asked, presets: Sequence[Named]) -> list[Planned]:
    """The files of a clip; no two of them, nor one that was delivered before, have one name unless
    a version was asked for. Nothing is kept of it."""
    before = _before(workspace)
    return [f for k, preset in enumerate(presets) for f in _files(asked, k, preset.form, before)]


@dataclass
class _Before:
    """What was delivered or is under way: all names, and those of which the version is known."""

    taken: set[str]
    versions: list[tuple[int, str]]

    def free(self, name: Callable[[int], str]) -> int:
        """The version above the highest that a name was delivered in."""
        version = 1 + max((v for v, told in self.versions if name(v) == told), default=0)
        while name(version) in self.taken and version < MOST_VERSIONS:
            version += 1
        return version

    def add(self, version: int, name: str) -> None:
        self.taken.add(name)
        self.versions.append((version, name))


def _files(
    asked: Asked, preset: int, form: Form, before: _Before, others: Sequence[Asked] = ()
) -> list[Planned]:
    """The files of a clip in one form, with others in it where it holds several."""
    clip, own = without_curves(asked.revision.state), asked.revision.clip
    rate = form.at_rate(clip.rate)
    out: list[Planned] = []
    for part in parts_of(clip, form, asked.first, asked.until):
        frames = len(sample_times(clip, rate, part.first, part.last))
        action = with_part(asked.action or tidy_name(own.name).lower() or "take", part)
        action = with_more(action, 1 + len(others))

        def name(version: int, action: str = action) -> str:
            stem = delivery_name(
                form.pattern, character=asked.character or _character(own), action=action,
                version=version,
            )  # fmt: skip
            return stem + form.ending

        version = asked.version or before.free(name)
        told = name(version)
        frames += sum(_count(one, form) for one in others)
        about = about_bytes(form, len(clip.skeleton), len(clip.channels), frames)
        out.append(Planned(preset, part, version, told, told in before.taken, about))
        before.add(version, told)
    return out


def _count(asked: Asked, form: Form) -> int:
    """How many frames of a clip are in its file."""
    clip = without_curves(asked.revision.state)
    return len(sample_times(clip, form.at_rate(clip.rate), asked.first, asked.until))


def _character(clip: Any) -> str:
    return tidy_name(clip.beneath.skeleton.name).lower() or "figure"


def _before(workspace: Workspace) -> _Before:
    delivered = Delivery.objects.filter(clip__workspace=workspace)
    names = set(delivered.values_list("file_name", flat=True))
    handed = Handed.objects.filter(handover__workspace=workspace)
    plans = handed.filter(Q(job__state__in=Job.OPEN) | ~Q(report=None))
    files = [f for plan in plans.values_list("plan", flat=True) for f in plan]
    return _Before(names | {f["name"] for f in files}, [(f["version"], f["name"]) for f in files])


def start(
    workspace: Workspace,
    user: AbstractBaseUser,
    asked: Sequence[Asked],
    presets: Sequence[Named],
    again: bool = True,
) -> Handover:
    """Queue a delivery: a job for each clip, under names that no other file of the workspace has.

    Unless it is to be made ``again``, a clip that was delivered in these forms and has not changed
    since is not made once more, and says which delivery has it. :class:`BadInput` where a name is
    taken, something cannot be delivered so, or the workspace is full.
    """
    if not 1 <= len(asked) <= MOST_CLIPS:
        raise BadInput(f"clips: choose 1 to {MOST_CLIPS}")
    require_room(workspace)
    with transaction.atomic():
        # One at a time: two that ask at once must not both find a name free.
        Workspace.objects.select_for_update().get(pk=workspace.pk)
        same = {} if again else _unchanged(asked, presets)
        before = _before(workspace)
        handover = _numbered(workspace, user, presets)
        clips = [
            Handed.objects.create(
                handover=handover, clip=one.revision.clip, revision=one.revision,
                first=one.first, last=one.until, unchanged=same.get(one.revision.pk),
            )
            for one in asked
        ]  # fmt: skip
        new = [
            (handed, one)
            for handed, one in zip(clips, asked, strict=True)
            if handed.unchanged is None
        ]
        for k, preset in enumerate(presets):
            _plan(new, k, preset, before)
        for handed, _ in new:
            _queue(handed)
    return handover


def _plan(
    clips: Sequence[tuple[Handed, Asked]], number: int, preset: Named, before: _Before
) -> None:
    """Plan the files of clips in one form. What cannot be delivered so is refused at once where it
    is the only clip; among others it is listed, and stops none of them."""
    documents = [without_curves(asked.revision.state) for _, asked in clips]
    for group in groups_of(documents, preset.form):
        (lead, asked), *others = (clips[k] for k in group)
        try:
            files = _files(asked, number, preset.form, before, [one for _, one in others])
            taken = next((f.name for f in files if f.taken), None)
            if taken is not None:
                raise BadInput(f"{taken} was delivered already: choose another version or name")
        except BadInput as trouble:
            if len(clips) == 1:
                raise
            lead.refused.append({"name": preset.name, "why": trouble.message})
            continue
        lead.plan += [f.told([handed.pk for handed, _ in others]) for f in files]
        for handed, _ in others:
            handed.plan += [{**f.told(), "in": lead.pk} for f in files]


def _queue(handed: Handed) -> None:
    if handed.plan:
        first = handed.plan[0]["name"]
        title = first if len(handed.plan) == 1 else f"{first} and more"
        workspace = handed.handover.workspace
        handed.job = jobs.start(workspace, "deliver", title, {"handed": handed.pk})
    handed.save()


def _unchanged(asked: Sequence[Asked], presets: Sequence[Named]) -> dict[int, Handover]:
    """By the revision that is asked for, the handover in which the clip went out as it is now, in
    all of these forms."""
    values = [p.form.model_dump(mode="json") for p in presets]
    out = {}
    for one in asked:
        before = Handed.objects.filter(
            clip=one.revision.clip, revision__state=one.revision.state_id, first=one.first,
            last=one.until, refused=[], report__isnull=False,
        )  # fmt: skip
        for handed in before.select_related("handover").order_by("-id"):
            made = [p["values"] for p in handed.handover.presets]
            if all(v in made for v in values):
                out[one.revision.pk] = handed.handover
                break
    if any(p.form.files == "together" for p in presets):
        # A file of several clips is new when one of them is, or when they are not the same ones.
        handovers = set(out.values())
        whole = len(handovers) == 1 and handovers.pop().clips.count() == len(asked) == len(out)
        return out if whole else {}
    return out


def adopted(job: Job) -> Handed:
    """What a job of an older version was to deliver, planned under the name that it has."""
    told = job.payload
    revision = Revision.objects.select_related("clip").get(pk=told["revision"])
    assert job.workspace is not None
    form = preset_of(
        {k: told[k] for k in ("format", "rate", "pattern")} | {"props": bool(told.get("props"))}
    )
    part = Part(told["first"], told["last"])
    with transaction.atomic():
        Workspace.objects.select_for_update().get(pk=job.workspace.pk)
        handover = _numbered(job.workspace, None, [Named("", form)])
        planned = Planned(0, part, told["version"], job.title, False, 0)
        handed = Handed.objects.create(
            handover=handover, clip=revision.clip, revision=revision, first=part.first,
            last=part.last, plan=[planned.told()], job=job,
        )  # fmt: skip
        Job.objects.filter(pk=job.pk).update(payload={"handed": handed.pk})
    return handed


def _numbered(
    workspace: Workspace, user: AbstractBaseUser | None, presets: Sequence[Named]
) -> Handover:
    """The next handover of a workspace that is held."""
    last = Handover.objects.filter(workspace=workspace).aggregate(n=Max("number"))["n"] or 0
    return Handover.objects.create(
        workspace=workspace, number=last + 1, author=user, presets=[p.told() for p in presets]
    )


def cancel(handover: Handover) -> None:
    """Stop what has not ended; clips that are delivered stay so."""
    for handed in handover.clips.filter(job__state__in=Job.OPEN).select_related("job"):
        assert handed.job is not None
        jobs.cancel(handed.job)
