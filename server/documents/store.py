"""States to clips and back: blobs by content, and caches in each process.

States are immutable, so a cached one is never stale and processes need no word of each other.
"""

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from datetime import timedelta
from typing import Any

import orjson
from django.conf import settings
from django.db.models import Sum
from django.db.models.functions import Length
from django.utils import timezone
from leancurve.curves.curve import Curve
from leancurve.document.clip import Clip
from leancurve.document.stored import (
    clip_of,
    skeleton_of,
    tracks_of,
    upgraded,
)
from leancurve.document.track import TrackId
from leancurve.figure.skeleton import Skeleton
from leancurve.operations import Patch, apply_patch

from documents.blobs import keep_blobs, keep_lines, keeping
from documents.caches import Cache
from documents.models import Blob, State
from documents.packing import Packed, decode, digest, encode, packed


def weight(curve: Curve) -> int:
    """What a curve takes in memory, bytes: a short one's objects weigh more than its numbers."""
    columns = curve.columns.values()
    return sum(a.nbytes for a in columns) + 128 * len(columns) + 700


PLANNED = 800
"""Bytes a frame that a clip's plants take once they are planned, both feet and two hands."""

_curves: Cache[Curve] = Cache(settings.DOCUMENT_CACHE_BYTES, weight)
# Clips share most of their curves with each other and with the cache above, from which they are
# put together in no time: a few are enough. They weigh what they would keep alive by themselves.
_clips: Cache[Clip] = Cache(
    settings.DOCUMENT_CACHE_BYTES // 4,
    lambda c: sum(weight(k) for k in c.curves.values()) + (PLANNED * c.frames if c.plants else 0),
)
_skeletons: Cache[Skeleton] = Cache(2**22, lambda s: 200 * len(s))
_manifests: Cache[dict[TrackId, str]] = Cache(2**22, lambda m: 300 * len(m))


@dataclass(frozen=True)
class Made:
    """How a state came to be: by which line, of which state, with the take on its time."""

    before: State
    take: State
    line: dict[str, Any]
    ms: float


def store_packed(document: Packed, made: Made | None = None) -> State:
    """Keep a document; the same document is kept once."""
    with keeping():
        keep_blobs(document.blobs)
        how: dict[str, Any] = {}
        if made is not None and made.before.hash != document.name:
            (line,) = keep_lines([made.line])
            how = {"before": made.before, "with_take": made.take, "line": line, "ms": made.ms}
        state, fresh = State.objects.get_or_create(
            hash=document.name,
            defaults={
                "header_id": document.header,
                "manifest": document.manifest,
                "keys": document.keys,
                **how,
            },
        )
        if not fresh and timezone.now() - state.used > RECENT:
            state.used = timezone.now()
            state.save(update_fields=["used"])
    return state


RECENT = timedelta(minutes=10)


def store_clip(clip: Clip) -> State:
    """A whole clip as a state."""
    state = store_packed(packed(clip))
    _clips.put(state.hash, clip)
    return state


def _patched(before: State, patch: Patch) -> tuple[Clip, Packed, dict[TrackId, str]]:
    """The clip a patch makes, what it is kept as, and the digests of the tracks that changed."""
    changed = apply_patch(load_clip(before), patch)
    encoded = {t: encode(curve) for t, curve in patch.curves.items()}
    fresh = {t: digest(data) for t, data in encoded.items()}
    blobs = {fresh[t]: data for t, data in encoded.items()}
    return changed, packed(changed, {**manifest_of(before), **fresh}, blobs), fresh


def store_patch(before: State, patch: Patch, made: Made | None = None) -> State:
    """The state a patch makes of another: only changed tracks are written."""
    changed, document, fresh = _patched(before, patch)
    for track, sha in fresh.items():
        _curves.put(sha, patch.curves[track])
    state = store_packed(document, made)
    _clips.put(state.hash, changed)
    return state


def hash_after(before: State, patch: Patch) -> str:
    """The name of the state a patch would make; nothing is stored."""
    return _patched(before, patch)[1].name


def _read_header(state: State) -> tuple[dict, Skeleton]:  # type: ignore[type-arg]
    """A state's header in the newest version, and its skeleton."""
    header, own = upgraded(orjson.loads(bytes(state.header.data)))
    if own is not None:
        return header, skeleton_of(own)
    return header, load_skeleton(header["skeleton"])


def load_skeleton(digest: str) -> Skeleton:
    """The skeleton of a digest; :class:`Blob.DoesNotExist` where it is not kept."""
    skeleton = _skeletons.get(digest)
    if skeleton is None:
        skeleton = skeleton_of(orjson.loads(bytes(Blob.objects.get(pk=digest).data)))
        _skeletons.put(digest, skeleton)
    return skeleton


def _split(state: State) -> list[str]:
    """A state's digests, in its header's order of tracks."""
    raw = bytes(state.manifest)
    return [raw[k : k + 32].hex() for k in range(0, len(raw), 32)]


def _digests(header: dict, state: State) -> dict[TrackId, str]:  # type: ignore[type-arg]
    return dict(zip(tracks_of(header), _split(state), strict=True))


def manifest_of(state: State) -> dict[TrackId, str]:
    """Digest of each track's blob."""
    found = _manifests.get(state.hash)
    if found is None:
        found = _digests(upgraded(orjson.loads(bytes(state.header.data)))[0], state)
        _manifests.put(state.hash, found)
    return found


def load_clip(state: State) -> Clip:
    """The clip of a state, from the cache where it is there."""
    cached = _clips.get(state.hash)
    if cached is not None:
        return cached
    if state.pruned:
        return _made_again(state)
    header, skeleton = _read_header(state)
    digests = _digests(header, state)
    found = _curves.some(set(digests.values()))
    missing = set(digests.values()) - set(found)
    for sha, data in Blob.objects.filter(pk__in=missing).values_list("sha", "data"):
        found[sha] = decode(bytes(data))
        _curves.put(sha, found[sha])
    clip = clip_of(header, skeleton, {t: found[sha] for t, sha in digests.items()})
    _clips.put(state.hash, clip)
    return clip


class Gone(Exception):
    """A state that was not kept comes out otherwise than it was."""


_again: Callable[[State], Patch] | None = None


def make_again_with(make: Callable[[State], Patch]) -> None:
    """Who knows operations says how a state's patch is made again; documents know none."""
    global _again
    _again = make


def _made_again(state: State) -> Clip:
    """A state whose curves were not kept: made again as it was made, and kept from now on."""
    assert _again is not None
    assert state.before is not None
    patch = _again(state)
    changed, document, _ = _patched(state.before, patch)
    if document.name != state.hash:
        raise Gone(state.hash)
    with keeping():
        keep_blobs(document.blobs)
        State.objects.filter(pk=state.pk).update(pruned=False, used=timezone.now())
    _clips.put(state.hash, changed)
    return changed


def changed_channels(a: State, b: State) -> set[TrackId]:
    """Tracks of the second whose curves differ between two states."""
    if a.hash == b.hash:
        return set()
    before, after = manifest_of(a), manifest_of(b)
    return {t for t, sha in after.items() if before.get(t) != sha}


FRAME = frozenset({"skeleton", "layout", "rate", "frames", "reading"})
"""What poses are made of beside curves."""
BESIDE = FRAME | {"contacts", "accepted", "marks", "plants", "props", "name"}


def changed_parts(a: State, b: State) -> set[str]:
    """What differs between two states beside their curves, by the clip's own names."""
    if a.header_id == b.header_id:
        return set()
    one, other = load_clip(a), load_clip(b)
    return {part for part in BESIDE if getattr(one, part) != getattr(other, part)}


def frame_changed(a: State, b: State) -> bool:
    """Whether two states differ in what poses are made of beside curves."""
    return bool(changed_parts(a, b) & FRAME)


def held_by(states: Iterable[State]) -> set[str]:
    """Digests of the blobs that states hold; of pruned ones the header and the skeleton alone."""
    shas: set[str] = set()
    headers: set[str] = set()
    for state in states:
        headers.add(state.header_id)
        if not state.pruned:
            shas.update(_split(state))
    for data in Blob.objects.filter(pk__in=headers).values_list("data", flat=True):
        skeleton = orjson.loads(bytes(data)).get("skeleton")
        if isinstance(skeleton, str):
            shas.add(skeleton)
    return shas | headers


def stored_bytes(states: Iterable[State], lines: Iterable[str] = ()) -> int:
    """Bytes of all blobs that some states and recipes hold, each counted once."""
    shas = set(lines) | held_by(states)
    total = Blob.objects.filter(pk__in=shas).aggregate(total=Sum(Length("data")))["total"]
    return int(total or 0)
