"""The bin: what was deleted lies there for some days, can be put back, and then goes for good."""

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from django.db import transaction
from django.db.models import Model, QuerySet
from django.utils import timezone
from documents.models import State
from documents.store import stored_bytes
from editing.models import Clip, Recipe, StoredMotion
from editing.storage import bin_take, clips_on, forget_clip, forget_take
from editing.sweeping import sweep
from editing.undoing import bring_out
from leancurve.errors import BadInput
from library.models import Take, Workspace
from procrastinate.contrib.django import app as queue

from studio.usage import size_of

KEPT = timedelta(days=30)
KINDS: dict[str, type[Model]] = {
    "take": Take,
    "clip": Clip,
    "recipe": Recipe,
    "stored": StoredMotion,
}


@dataclass(frozen=True)
class Binned:
    """Something in the bin: until when it can be put back, and how many bytes it holds.

    ``clips`` go for good with it, by name; those of ``kept_for`` lie on it and stay, and so does
    the take beneath them, seen by nobody.
    """

    kind: str
    id: int
    name: str
    binned: datetime
    until: datetime
    bytes: int
    clips: tuple[str, ...] = ()
    kept_for: tuple[str, ...] = ()


def put_in(thing: Any) -> None:
    """Into the bin; a take's clips, those that lie on it now, go along."""
    if isinstance(thing, Take):
        bin_take(thing)
    else:
        type(thing).objects.filter(pk=thing.pk).update(binned=timezone.now())


def binned_in(workspace: Workspace) -> list[Binned]:
    """What lies in a workspace's bin, the latest first."""
    found = [_binned(kind, thing) for kind, thing in _things(workspace)]
    return sorted(found, key=lambda b: b.binned, reverse=True)


def _binned(kind: str, thing: Any) -> Binned:
    clips: tuple[str, ...] = ()
    kept_for: tuple[str, ...] = ()
    if isinstance(thing, Take):
        along = Clip.objects.filter(binned_with=thing)
        clips = tuple(along.order_by("name").values_list("name", flat=True))
        kept_for = tuple(clips_on(thing).order_by("name").values_list("name", flat=True))
    until = thing.binned + KEPT
    size = 0 if kept_for else _size(thing)
    return Binned(kind, thing.pk, thing.name, thing.binned, until, size, clips, kept_for)


def _size(thing: Any) -> int:
    if isinstance(thing, StoredMotion):
        return stored_bytes(State.objects.filter(pk=thing.state_id))
    return 0 if isinstance(thing, Recipe) else size_of(thing)


def _things(workspace: Workspace) -> Iterator[tuple[str, Any]]:
    for kind, model in KINDS.items():
        for thing in _among(model, workspace):
            yield kind, thing


def _among(model: type[Model], workspace: Workspace) -> QuerySet[Any]:
    """What of a kind lies in the bin; a clip of a take that does is told with it."""
    found = model._default_manager.filter(workspace=workspace).exclude(binned=None)
    if model is Take:
        return found.filter(hidden=False)
    return found.filter(binned_with=None) if model is Clip else found


def put_back(workspace: Workspace, kind: str, pk: int) -> None:
    """Back where it was: a take with the clips that went along, a clip with the take beneath it.
    What is known by a name that was taken meanwhile gets another."""
    with _held(workspace, kind, pk) as thing:
        if isinstance(thing, (Recipe, StoredMotion)):
            alike = type(thing)._default_manager.filter(workspace=workspace, binned=None)
            names = set(alike.values_list("name", flat=True))
            name, count = thing.name, 1
            while name in names:
                count += 1
                name = f"{thing.name[:112]} {count}"
            thing.name = name
        thing.binned = None
        thing.save()
        if isinstance(thing, Take):
            Clip.objects.filter(binned_with=thing).update(binned=None, binned_with=None)
        if isinstance(thing, Clip):
            bring_out(thing.beneath_id)


def remove(workspace: Workspace, kind: str, pk: int) -> None:
    """Gone for good; what it alone held is swept away."""
    with _held(workspace, kind, pk) as thing:
        _forget(thing)


def empty(workspace: Workspace, before: datetime | None = None) -> int:
    """Everything in the bin, or what was deleted before a time, is gone for good; how many.

    What is put back meanwhile stays.
    """
    count = 0
    for kind, listed in list(_things(workspace)):
        try:
            with _held(workspace, kind, listed.pk) as thing:
                if before is None or thing.binned < before:
                    _forget(thing)
                    count += 1
        except BadInput:
            continue
    return count


@contextmanager
def _held(workspace: Workspace, kind: str, pk: int) -> Iterator[Any]:
    """One that lies in the bin, and does until this ends."""
    model = KINDS.get(kind)
    if model is None:
        raise BadInput(f"kind: expected {', '.join(KINDS)}")
    with transaction.atomic():
        thing = _among(model, workspace).select_for_update(of=("self",)).filter(pk=pk).first()
        if thing is None:
            raise BadInput("that is not in the bin any more")
        yield thing


def _forget(thing: Any) -> None:
    if isinstance(thing, Take):
        forget_take(thing)
    elif isinstance(thing, Clip):
        forget_clip(thing)
    else:
        thing.delete()


@queue.periodic(cron="43 * * * *")
@queue.task(name="empty_bins", queue="jobs", pass_context=False)
def empty_now_and_then(timestamp: int) -> None:
    """Every hour: what lay in a bin for its days goes."""
    for workspace in Workspace.objects.all():
        empty(workspace, timezone.now() - KEPT)


@queue.task(name="sweep_storage", queue="jobs", pass_context=False)
def sweep_soon() -> None:
    """After a bin was emptied: its room is given back by a worker."""
    sweep()
