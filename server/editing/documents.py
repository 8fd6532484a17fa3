"""States to clips and back: blobs by content, and a byte-bounded cache in each process.

States are immutable, so a cached one is never stale and processes need no word of each other.
"""

import hashlib
import threading
from collections.abc import Iterable, Mapping

import numpy as np
import orjson
from cachetools import LRUCache
from django.conf import settings
from django.db.models import Sum
from django.db.models.functions import Length
from leancurve.curves.curve import Curve, stored_curve
from leancurve.document.clip import ChannelId, Clip
from leancurve.formats.clipjson import clip_from_header, clip_header
from leancurve.operations import Patch, apply_patch
from safetensors.numpy import load, save

from editing.models import Blob, State

_lock = threading.Lock()
_curves: LRUCache[str, Curve] = LRUCache(
    settings.DOCUMENT_CACHE_BYTES, getsizeof=lambda c: sum(a.nbytes for a in c.columns.values())
)
_clips: LRUCache[str, Clip] = LRUCache(64)


def encode(curve: Curve) -> bytes:
    """A curve's columns in the safetensors layout: the same curve gives the same bytes."""
    return save({name: np.ascontiguousarray(c) for name, c in curve.stored.items()})


def decode(data: bytes) -> Curve:
    """The curve of :func:`encode`'s bytes."""
    return stored_curve(load(data))


def _sha(data: bytes) -> str:
    return hashlib.sha256(data).hexdigest()


def _keep(blobs: Mapping[str, bytes]) -> None:
    Blob.objects.bulk_create(
        [Blob(sha=sha, data=data) for sha, data in blobs.items()], ignore_conflicts=True
    )


def _state(clip: Clip, header: bytes, digests: Mapping[ChannelId, str]) -> State:
    header_sha = _sha(header)
    manifest = b"".join(bytes.fromhex(digests[c]) for c in clip.channels)
    name = _sha(header_sha.encode() + manifest)
    _keep({header_sha: header})
    state, _ = State.objects.get_or_create(
        hash=name,
        defaults={"header_id": header_sha, "manifest": manifest, "keys": clip.key_count},
    )
    with _lock:
        _clips[name] = clip
    return state


def store_clip(clip: Clip) -> State:
    """A whole clip as a state."""
    encoded = {c: encode(curve) for c, curve in clip.curves.items()}
    digests = {c: _sha(data) for c, data in encoded.items()}
    _keep({digests[c]: data for c, data in encoded.items()})
    return _state(clip, orjson.dumps(clip_header(clip)), digests)


def store_patch(before: State, patch: Patch) -> State:
    """The state a patch makes of another: only changed channels are written."""
    clip = load_clip(before)
    changed = apply_patch(clip, patch)
    digests = manifest_of(before, clip)
    encoded = {c: encode(curve) for c, curve in patch.curves.items()}
    fresh = {c: _sha(data) for c, data in encoded.items()}
    _keep({fresh[c]: data for c, data in encoded.items()})
    with _lock:
        for channel, sha in fresh.items():
            _curves[sha] = patch.curves[channel]
    return _state(changed, orjson.dumps(clip_header(changed)), {**digests, **fresh})


def manifest_of(state: State, clip: Clip) -> dict[ChannelId, str]:
    """Digest of each channel's blob."""
    raw = bytes(state.manifest)
    return {c: raw[32 * k : 32 * k + 32].hex() for k, c in enumerate(clip.channels)}


def load_clip(state: State) -> Clip:
    """The clip of a state, from the cache where it is there."""
    with _lock:
        cached = _clips.get(state.hash)
    if cached is not None:
        return cached
    header = orjson.loads(bytes(state.header.data))
    bare = clip_from_header(header, {})
    digests = manifest_of(state, bare)
    with _lock:
        found = {sha: _curves[sha] for sha in set(digests.values()) if sha in _curves}
    missing = set(digests.values()) - set(found)
    for sha, data in Blob.objects.filter(pk__in=missing).values_list("sha", "data"):
        found[sha] = decode(bytes(data))
    clip = clip_from_header(header, {c: found[sha] for c, sha in digests.items()})
    with _lock:
        for sha in missing:
            _curves[sha] = found[sha]
        _clips[state.hash] = clip
    return clip


def changed_channels(a: State, b: State) -> set[ChannelId]:
    """Channels whose curves differ between two states of one layout."""
    if a.hash == b.hash:
        return set()
    clip = load_clip(b)
    before, after = manifest_of(a, load_clip(a)), manifest_of(b, clip)
    return {c for c in clip.channels if before.get(c) != after[c]}


def header_changed(a: State, b: State) -> bool:
    return a.header_id != b.header_id


def frame_changed(a: State, b: State) -> bool:
    """Whether two states differ in what poses are made of beside curves."""
    if not header_changed(a, b):
        return False
    parts = [(c.layout, c.rate, c.frames, c.reading) for c in (load_clip(a), load_clip(b))]
    return parts[0] != parts[1]


def stored_bytes(states: Iterable[State], lines: Iterable[str] = ()) -> int:
    """Bytes of all blobs that some states and recipes hold, each counted once."""
    shas = set(lines)
    for state in states:
        raw = bytes(state.manifest)
        shas |= {raw[k : k + 32].hex() for k in range(0, len(raw), 32)}
        shas.add(state.header_id)
    total = Blob.objects.filter(pk__in=shas).aggregate(total=Sum(Length("data")))["total"]
    return int(total or 0)
