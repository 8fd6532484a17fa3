"""The bin: what was deleted lies there for some days, can be put back, and then goes for good."""

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from django.db import transaction
from django.db.models import Model
from django.utils import timezone
from documents.store import stored_bytes
from editing.models import Clip, Recipe, StoredMotion
from editing.storage import forget_clip, forget_take, sweep
from leancurve.errors import BadInput
from library.models import Take, Workspace
from procrastinate.contrib.django import app as queue

from place.usage import size_of

KEPT = timedelta(days=30)
KINDS: dict[str, type[Model]] = {
    "take": Take,
    "clip": Clip,
    "recipe": Recipe,
    "stored": StoredMotion,
}


@dataclass(frozen=True)
class Binned:
    """Something in the bin: until when it can be put back, and how many bytes it holds."""

    kind: str
    id: int
    name: str
    binned: datetime
    until: datetime
    bytes: int


def put_in(thing: Any) -> None:
    type(thing).objects.filter(pk=thing.pk).update(binned=timezone.now())


def binned_in(workspace: Workspace) -> list[Binned]:
    """What lies in a workspace's bin, the latest first."""
    found = [
        Binned(kind, thing.pk, thing.name, thing.binned, thing.binned + KEPT, _size(thing))
        for kind, thing in _things(workspace)
    ]
    return sorted(found, key=lambda b: b.binned, reverse=True)


def _size(thing: Any) -> int:
    if isinstance(thing, StoredMotion):
        return stored_bytes([thing.state])
    return 0 if isinstance(thing, Recipe) else size_of(thing)


def _things(workspace: Workspace) -> Iterator[tuple[str, Any]]:
    for kind, model in KINDS.items():
        for thing in model._default_manager.filter(workspace=workspace).exclude(binned=None):
            yield kind, thing


def put_back(workspace: Workspace, kind: str, pk: int) -> None:
    """Back where it was. What is known by a name that was taken meanwhile gets another."""
    with transaction.atomic():
        thing = _one(workspace, kind, pk)
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


def remove(workspace: Workspace, kind: str, pk: int) -> None:
    """Gone for good; what it alone held is swept away."""
    _forget(_one(workspace, kind, pk))


def empty(workspace: Workspace, before: datetime | None = None) -> int:
    """Everything in the bin, or what was deleted before a time, is gone for good; how many."""
    count = 0
    for _, thing in list(_things(workspace)):
        if (before is None or thing.binned < before) and _there(thing):
            _forget(thing)
            count += 1
    return count


def _there(thing: Any) -> bool:
    # A clip goes with its take.
    return bool(type(thing)._default_manager.filter(pk=thing.pk).exists())


def _one(workspace: Workspace, kind: str, pk: int) -> Any:
    model = KINDS.get(kind)
    if model is None:
        raise BadInput(f"kind: expected {', '.join(KINDS)}")
    among = model._default_manager.filter(workspace=workspace, pk=pk).exclude(binned=None)
    thing = among.first()
    if thing is None:
        raise BadInput("that is not in the bin any more")
    return thing


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
