"""States to clips and back: blobs by content, and caches in each process.

States are immutable, so a cached one is never stale and processes need no word of each other.
"""

import hashlib
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from datetime import timedelta
from typing import Any

import numpy as np
import orjson
from django.conf import settings
from django.db.models import Sum
from django.db.models.functions import Length
from django.utils import timezone
from leancurve.curves.curve import Curve, stored_curve
from leancurve.document.clip import Clip
from leancurve.document.stored import (
    clip_of,
    header_of,
    skeleton_of,
    skeleton_values,
    tracks_of,
    upgraded,
)
from leancurve.document.track import TrackId
from leancurve.figure.skeleton import Skeleton
from leancurve.operations import Patch, apply_patch
from safetensors.numpy import load, save

from documents.blobs import keep_blobs, keep_lines, keeping
from documents.caches import Cache
from documents.models import Blob, State


def weight(curve: Curve) -> int:
    """What a curve takes in memory, bytes: a short one's objects weigh more than its numbers."""
    columns = curve.columns.values()
    return sum(a.nbytes for a in columns) + 128 * len(columns) + 700


_curves: Cache[Curve] = Cache(settings.DOCUMENT_CACHE_BYTES, weight)
# Clips share most of their curves with each other and with the cache above, from which they are
# put together in no time: a few are enough. They weigh what they would keep alive by themselves.
_clips: Cache[Clip] = Cache(
    settings.DOCUMENT_CACHE_BYTES // 4, lambda c: sum(weight(k) for k in c.curves.values())
)
_skeletons: Cache[Skeleton] = Cache(2**22, lambda s: 200 * len(s))
_manifests: Cache[dict[TrackId, str]] = Cache(2**22, lambda m: 300 * len(m))


def encode(curve: Curve) -> bytes:
    """A curve's columns in the safetensors layout: the same curve gives the same bytes."""
    return save({name: np.ascontiguousarray(c) for name, c in curve.stored.items()})


def decode(data: bytes) -> Curve:
    """The curve of :func:`encode`'s bytes."""
    # Each column by itself: as loaded, it keeps two more objects alive than its numbers need.
    return stored_curve({name: column.copy() for name, column in load(data).items()})


def _sha(data: bytes) -> str:
    return hashlib.sha256(data).hexdigest()


def skeleton_blob(skeleton: Skeleton) -> tuple[str, bytes]:
    """A skeleton's digest and bytes: the same skeleton has the same ones everywhere."""
    data = orjson.dumps(skeleton_values(skeleton))
    return _sha(data), data


def _header(clip: Clip) -> tuple[dict[str, bytes], str]:
    """The blobs of a clip's skeleton and header, and the header's digest."""
    skeleton, bones = skeleton_blob(clip.skeleton)
    data = orjson.dumps(header_of(clip, skeleton))
    header = _sha(data)
    return {skeleton: bones, header: data}, header


def _name(header: str, clip: Clip, digests: Mapping[TrackId, str]) -> tuple[str, bytes]:
    manifest = b"".join(bytes.fromhex(digests[t]) for t in clip.channels)
    return _sha(header.encode() + manifest), manifest


@dataclass(frozen=True)
class Made:
    """How a state came to be: by which line, of which state, with the take on its time."""

    before: State
    take: State
    line: dict[str, Any]
    ms: float


def _state(
    clip: Clip,
    digests: Mapping[TrackId, str],
    encoded: Mapping[TrackId, bytes],
    made: Made | None = None,
) -> State:
    """Keep a document, its curves as far as they are given; the same document is kept once."""
    blobs, header = _header(clip)
    name, manifest = _name(header, clip, digests)
    with keeping():
        keep_blobs({**{digests[t]: data for t, data in encoded.items()}, **blobs})
        how: dict[str, Any] = {}
        if made is not None and made.before.hash != name:
            (line,) = keep_lines([made.line])
            how = {"before": made.before, "with_take": made.take, "line": line, "ms": made.ms}
        state, fresh = State.objects.get_or_create(
            hash=name,
            defaults={
                "header_id": header, "manifest": manifest, "keys": clip.key_count, **how
            },
        )  # fmt: skip
        if not fresh and timezone.now() - state.used > RECENT:
            state.used = timezone.now()
            state.save(update_fields=["used"])
    _clips.put(name, clip)
    return state


RECENT = timedelta(minutes=10)


def store_clip(clip: Clip) -> State:
    """A whole clip as a state."""
    encoded = {c: encode(curve) for c, curve in clip.curves.items()}
    return _state(clip, {c: _sha(data) for c, data in encoded.items()}, encoded)


def _patched(before: State, patch: Patch) -> tuple[Clip, dict[TrackId, str], dict[TrackId, bytes]]:
    """The clip a patch makes, the digests of its tracks, and the bytes of those that changed."""
    changed = apply_patch(load_clip(before), patch)
    encoded = {c: encode(curve) for c, curve in patch.curves.items()}
    fresh = {c: _sha(data) for c, data in encoded.items()}
    return changed, {**manifest_of(before), **fresh}, encoded


def store_patch(before: State, patch: Patch, made: Made | None = None) -> State:
    """The state a patch makes of another: only changed tracks are written."""
    changed, digests, encoded = _patched(before, patch)
    for track in encoded:
        _curves.put(digests[track], patch.curves[track])
    return _state(changed, digests, encoded, made)


def hash_after(before: State, patch: Patch) -> str:
    """The name of the state a patch would make; nothing is stored."""
    changed, digests, _ = _patched(before, patch)
    return _name(_header(changed)[1], changed, digests)[0]


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
    changed, digests, encoded = _patched(state.before, patch)
    if _name(_header(changed)[1], changed, digests)[0] != state.hash:
        raise Gone(state.hash)
    with keeping():
        keep_blobs({digests[t]: data for t, data in encoded.items()})
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
BESIDE = FRAME | {"contacts", "accepted", "marks", "name"}


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
