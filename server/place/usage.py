"""How much a workspace holds, and whether there is room for more."""

from dataclasses import dataclass

from delivery.models import Delivery
from django.conf import settings
from django.db.models import Q, QuerySet, Sum
from documents.caches import Cache
from documents.models import State
from documents.store import stored_bytes
from editing.models import Clip, Revision
from library.models import StoredFile, Take, Workspace

NEARLY = 0.9
"""From this share on it is said that there is little room left."""


@dataclass(frozen=True)
class Usage:
    """Bytes of files, of deliveries and of what clips keep; takes, those in the bin among them."""

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


_clips: Cache[int] = Cache(2**18, lambda _: 100)


def usage_of(workspace: Workspace) -> Usage:
    """What a workspace holds now."""
    files = StoredFile.objects.filter(workspace=workspace)
    deliveries = Delivery.objects.filter(clip__workspace=workspace)
    return Usage(
        files=files.aggregate(n=Sum("size"))["n"] or 0,
        deliveries=deliveries.aggregate(n=Sum("size"))["n"] or 0,
        clips=_bytes_of_clips(workspace),
        takes=Take.objects.filter(workspace=workspace).count(),
        most_bytes=workspace.most_bytes or settings.WORKSPACE_BYTES,
        most_takes=workspace.most_takes or settings.WORKSPACE_TAKES,
    )


def _bytes_of_clips(workspace: Workspace) -> int:
    """Measured anew whenever a revision or a take is there that was not."""
    revisions = Revision.objects.filter(clip__workspace=workspace)
    takes = Take.objects.filter(workspace=workspace)
    newest = revisions.order_by("-pk").values_list("pk", flat=True).first()
    name = f"{workspace.pk} {newest} {revisions.count()} {takes.count()}"
    known = _clips.get(name)
    if known is None:
        known = bytes_of(takes, revisions)
        _clips.put(name, known)
    return known


def bytes_of(takes: QuerySet[Take], revisions: QuerySet[Revision]) -> int:
    """Bytes that takes' and revisions' documents and recipes hold, each counted once."""
    states = State.objects.filter(
        Q(take__in=takes)
        | Q(pk__in=revisions.values("state"))
        | Q(pk__in=revisions.values("take_state"))
    ).distinct()
    lines = {sha for row in revisions.values_list("lines", flat=True) for sha in row}
    return stored_bytes(states, lines)


def size_of(thing: Take | Clip) -> int:
    """What deleting a take, with its clips, or a clip would give back at the most."""
    if isinstance(thing, Take):
        takes, clips = Take.objects.filter(pk=thing.pk), Clip.objects.filter(take=thing)
        own = thing.file.size
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
        most, takes = self._used.most_bytes, self._used.most_takes
        if self._bytes + size > most:
            return (
                f"the workspace holds {told(self._bytes)} of the {told(most)} it may: "
                "there is no room for more until something is deleted and the bin emptied"
            )
        if size and self._takes + 1 > takes:
            return f"the workspace holds {self._takes:,} takes, as many as it may"
        self._bytes += size
        self._takes += 1 if size else 0
        return None


def told(size: int) -> str:
    """Bytes in words."""
    for unit, worth in (("GB", 10**9), ("MB", 10**6), ("kB", 10**3)):
        if size >= worth:
            return f"{size / worth:.1f} {unit}"
    return f"{size} bytes"
