"""How much a workspace holds, and whether there is room for more."""

import logging
import threading
import time
from dataclasses import dataclass, replace

from delivery.models import Delivery
from django.conf import settings
from django.db import DatabaseError, connections
from django.db.models import Q, QuerySet, Sum
from django.db.models.functions import Length
from documents.caches import Cache
from documents.models import Blob, State
from documents.store import stored_bytes
from editing.models import Clip, Revision, StoredMotion
from leancurve.errors import BadInput
from library.models import StoredFile, Take, Workspace
from library.room import most_takes_of

log = logging.getLogger("lean.usage")

NEARLY = 0.9
"""From this share on it is said that there is little room left."""


@dataclass(frozen=True)
class Usage:
    """Bytes of files, of deliveries and of what clips and stored motions keep; takes, those in the
    bin among them."""

    files: int
    deliveries: int
    clips: int
    takes: int
    most_bytes: int
    most_takes: int

    @property
    def bytes(self) -> int:
        return self.files + self.deliveries + self.clips

    @property
    def nearly_full(self) -> bool:
        return self.bytes > NEARLY * self.most_bytes or self.takes > NEARLY * self.most_takes


MEASURED_FOR_S = 60.0
"""A change is not measured for each time: so long a workspace counts as it did, and while it is
nearly full, a tenth of it."""

_measured: dict[int, tuple[float, Usage]] = {}
_clips: Cache[int] = Cache(2**18, lambda _: 100)


def usage_of(workspace: Workspace) -> Usage:
    """What a workspace holds now; whoever asks next what it held lately does not wait."""
    files = StoredFile.objects.filter(workspace=workspace)
    deliveries = Delivery.objects.filter(clip__workspace=workspace)
    found = Usage(
        files=files.aggregate(n=Sum("size"))["n"] or 0,
        deliveries=deliveries.aggregate(n=Sum("size"))["n"] or 0,
        clips=_bytes_of_clips(workspace),
        takes=Take.objects.filter(workspace=workspace).count(),
        **_limits(workspace),
    )
    _measured[workspace.pk] = (time.monotonic(), found)
    return found


def _limits(workspace: Workspace) -> dict[str, int]:
    most_bytes = workspace.most_bytes
    return {
        "most_bytes": settings.WORKSPACE_BYTES if most_bytes is None else most_bytes,
        "most_takes": most_takes_of(workspace),
    }


def _bytes_of_clips(workspace: Workspace) -> int:
    """Measured anew whenever a revision, a take or a stored motion is there that was not."""
    revisions = Revision.objects.filter(clip__workspace=workspace)
    takes = Take.objects.filter(workspace=workspace)
    stored = StoredMotion.objects.filter(workspace=workspace)
    newest = revisions.order_by("-pk").values_list("pk", flat=True).first()
    name = f"{workspace.pk} {newest} {revisions.count()} {takes.count()} {stored.count()}"
    known = _clips.get(name)
    if known is None:
        known = bytes_of(takes, revisions, stored) + bytes_of_skins(workspace)
        _clips.put(name, known)
    return known


_measuring: set[int] = set()
_one_at_a_time = threading.Lock()


def lately(workspace: Workspace) -> Usage:
    """What a workspace holds, as measured a moment ago, and what it may hold now.

    A large one takes seconds to measure: what was known is answered while it is measured anew.
    """
    now = time.monotonic()
    at, known = _measured.get(workspace.pk, (float("-inf"), None))
    if known is None:
        with _one_at_a_time:
            found = _measured.get(workspace.pk)
            known = found[1] if found else usage_of(workspace)
    elif now - at > MEASURED_FOR_S * (0.1 if known.nearly_full else 1.0):
        _measure_beside(workspace)
    return replace(known, **_limits(workspace))


def _measure_beside(workspace: Workspace) -> None:
    """In a thread of its own, one for a workspace."""
    with _one_at_a_time:
        if workspace.pk in _measuring:
            return
        _measuring.add(workspace.pk)

    def measure() -> None:
        try:
            usage_of(workspace)
        except DatabaseError:
            log.warning("a workspace could not be measured", exc_info=True)
        finally:
            _measuring.discard(workspace.pk)
            connections.close_all()

    threading.Thread(target=measure, daemon=True).start()


def measure_anew() -> None:
    """What was measured a moment ago does not count any more."""
    _measured.clear()


def refuse_full(workspace: Workspace) -> None:
    """Raise :class:`BadInput` where a workspace may hold no more: asked before anything is kept."""
    used = lately(workspace)
    if used.bytes >= used.most_bytes:
        measure_anew()
        raise BadInput(full(used))


def full(used: Usage) -> str:
    """That there is no room, and what to do about it."""
    return (
        f"the workspace holds {told(used.bytes)} of the {told(used.most_bytes)} it may: "
        "there is no room for more until something is deleted and the bin emptied"
    )


def bytes_of(
    takes: QuerySet[Take],
    revisions: QuerySet[Revision],
    stored: QuerySet[StoredMotion] | None = None,
) -> int:
    """Bytes that takes', revisions' and stored motions' documents and recipes hold, each once."""
    named = Q(pk__in=takes.values("state"))
    named |= Q(pk__in=revisions.values("state")) | Q(pk__in=revisions.values("take_state"))
    if stored is not None:
        named |= Q(pk__in=stored.values("state"))
    states = State.objects.filter(named)
    lines = {sha for row in revisions.values_list("lines", flat=True) for sha in row}
    return stored_bytes(states, lines)


def bytes_of_skins(workspace: Workspace) -> int:
    """Bytes that the bodies of a workspace's skeletons hold, each once."""
    skins = workspace.skeletons.exclude(skin="").values("skin")
    kept = Blob.objects.filter(sha__in=skins)
    return int(kept.aggregate(n=Sum(Length("data")))["n"] or 0)


def size_of(thing: Take | Clip) -> int:
    """What deleting a take, with its clips, or a clip would give back at the most."""
    if isinstance(thing, Take):
        takes, clips = Take.objects.filter(pk=thing.pk), Clip.objects.filter(binned_with=thing)
        own = 0 if thing.file.take_set.exclude(pk=thing.pk).exists() else thing.file.size
    else:
        takes, clips, own = Take.objects.none(), Clip.objects.filter(pk=thing.pk), 0
    delivered = Delivery.objects.filter(clip__in=clips).aggregate(n=Sum("size"))["n"] or 0
    return own + delivered + bytes_of(takes, Revision.objects.filter(clip__in=clips))


class Room:
    """What still fits into a workspace, while several files ask one after another."""

    def __init__(self, workspace: Workspace) -> None:
        self._used = usage_of(workspace)
        self._bytes, self._takes = self._used.bytes, self._used.takes

    def refuses(self, size: int) -> str | None:
        """Why something of that many bytes has no room, or None, and then it takes it up."""
        takes = self._used.most_takes
        trouble = self.refuses_file(max(size, 1))
        if trouble is not None:
            return trouble
        if size and self._takes + 1 > takes:
            return f"the workspace holds {self._takes:,} takes, as many as it may"
        self._bytes += size
        self._takes += 1 if size else 0
        return None

    def refuses_file(self, size: int) -> str | None:
        """The same of a file that is no take."""
        if self._bytes + size <= self._used.most_bytes:
            return None
        return full(replace(self._used, files=self._bytes, deliveries=0, clips=0))


def told(size: int) -> str:
    """Bytes in words."""
    for unit, worth in (("GB", 10**9), ("MB", 10**6), ("kB", 10**3)):
        if size >= worth:
            return f"{size / worth:.1f} {unit}"
    return f"{size} bytes"
