"""States to clips and back: blobs by content, and caches in each process.

States are immutable, so a cached one is never stale and processes need no word of each other.
"""

from collections.abc import Callable, Collection, Iterable
from dataclasses import dataclass
from datetime import timedelta
from typing import Any

import orjson
from django.conf import settings
from django.db import connection
from django.db.models import QuerySet
from django.db.models.functions import Now
from django.utils import timezone
from leancurve.curves.curve import Curve
from leancurve.document.clip import Clip
from leancurve.document.parts.registry import Touched, touched
from leancurve.document.stored import (
    clip_of,
    skeleton_of,
    tracks_of,
    upgraded,
)
from leancurve.document.track import TrackId
from leancurve.errors import BadInput
from leancurve.figure.skeleton import Skeleton
from leancurve.operations import Patch, apply_patch

from documents.blobs import all_kept, keep_blobs, keep_lines, keeping
from documents.caches import Cache
from documents.models import Blob, State
from documents.packing import Packed, decode, digest, encode, packed
from documents.witness import agrees, headers_agree


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


_nearly: set[str] = set()
"""States that this process has made again with numbers that are not to the last bit what they were:
what is made of one is named by the numbers it has."""


@dataclass(frozen=True)
class Made:
    """How a state came to be: by which line, of which state, with the take on its time."""

    before: State
    take: State
    line: dict[str, Any]
    ms: float


def store_packed(document: Packed, made: Made | None = None) -> State:
    """Keep a document, all of whose blobs are at hand or kept; the same document is kept once."""
    with keeping():
        keep_blobs(document.blobs)
        state, fresh = State.objects.get_or_create(
            hash=document.name,
            defaults={
                "header_id": document.header,
                "manifest": document.manifest,
                "keys": document.keys,
                **_how(document, made),
            },
        )
        if not fresh and (state.pruned or timezone.now() - state.used > RECENT):
            State.objects.filter(pk=state.pk).update(pruned=False, used=Now())
            state.pruned, state.used = False, timezone.now()
    return state


def _how(document: Packed, made: Made | None) -> dict[str, Any]:
    """How a state was made, where what it was made of is still there to make it of again."""
    if made is None or made.before.hash == document.name:
        return {}
    of = {made.before.pk, made.take.pk}
    if State.objects.filter(hash__among=of).count() < len(of):
        return {}
    (line,) = keep_lines([made.line])
    return {"before": made.before, "with_take": made.take, "line": line, "ms": made.ms}


RECENT = timedelta(minutes=10)
"""How exactly it is known when a state was last used."""


def touch(states: Iterable[State]) -> bool:
    """Note that states are used, so that they are neither pruned nor swept for a while; False where
    one of them is gone."""
    now = timezone.now()
    stale = {s.pk: s for s in states if now - s.used > RECENT}
    if not stale:
        return True
    with keeping(), connection.cursor() as cursor:
        # Whoever else touches one of them at this moment does as well.
        cursor.execute(
            "UPDATE editing_state SET used = statement_timestamp() WHERE hash IN (SELECT hash FROM "
            "editing_state WHERE hash = ANY(%s) ORDER BY hash FOR UPDATE SKIP LOCKED)",
            [list(stale)],
        )
        there = State.objects.filter(hash__among=stale).count()
    for state in stale.values():
        state.used = now
    return there == len(stale)


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
    """The state a patch makes of another: only changed tracks are written.

    What the other one was kept as may be given up meanwhile, by any process: while nobody sweeps it
    is looked whether all of it is there, and where it is not the whole clip is kept.
    """
    changed, document, fresh = _patched(before, patch)
    for track, sha in fresh.items():
        _curves.put(sha, patch.curves[track])
    with keeping():
        old = set(_split(document.manifest)) - set(document.blobs)
        if before.hash in _nearly or not all_kept(old):
            document = packed(changed)
        state = store_packed(document, made)
    _clips.put(state.hash, changed)
    return state


def hash_after(before: State, patch: Patch) -> str:
    """The name of the state a patch would make; nothing is stored."""
    return _patched(before, patch)[1].name


def time_of(state: State) -> tuple[int, list[int]]:
    """A state's frames, and its rate as numerator and denominator: of its header alone."""
    header, _ = upgraded(orjson.loads(bytes(state.header.data)))
    return int(header["frames"]), list(header["rate"])


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


def _split(manifest: bytes) -> list[str]:
    """A manifest's digests, in its header's order of tracks."""
    raw = bytes(manifest)
    return [raw[k : k + 32].hex() for k in range(0, len(raw), 32)]


def _digests(header: dict, state: State) -> dict[TrackId, str]:  # type: ignore[type-arg]
    return dict(zip(tracks_of(header), _split(state.manifest), strict=True))


def manifest_of(state: State) -> dict[TrackId, str]:
    """Digest of each track's blob."""
    found = _manifests.get(state.hash)
    if found is None:
        found = _digests(upgraded(orjson.loads(bytes(state.header.data)))[0], state)
        _manifests.put(state.hash, found)
    return found


def load_clip(state: State) -> Clip:
    """The clip of a state, from the cache where it is there.

    Raises :class:`Gone` where its curves were given up and cannot be made again as they were.
    """
    touch([state])
    cached = _clips.get(state.hash)
    if cached is not None:
        return cached
    if state.pruned:
        return _made_again(state)
    header, skeleton = _read_header(state)
    digests = _digests(header, state)
    found = _curves.some(set(digests.values()))
    missing = set(digests.values()) - set(found)
    for sha, data in Blob.objects.filter(sha__among=missing).values_list("sha", "data"):
        found[sha] = decode(bytes(data))
        _curves.put(sha, found[sha])
    if len(found) < len(set(digests.values())):
        return _made_again(_given_up(state))
    clip = clip_of(header, skeleton, {t: found[sha] for t, sha in digests.items()})
    _clips.put(state.hash, clip)
    return clip


def without_curves(state: State) -> Clip:
    """All of a state's clip but its curves: of its header alone, so as quick for a long clip."""
    header, skeleton = _read_header(state)
    return clip_of(header, skeleton, {})


def _given_up(state: State) -> State:
    """A state whose curves were swept away while it was read, as it stands now."""
    now = State.objects.select_related("header").filter(pk=state.pk).first()
    if now is None or not now.pruned:
        raise Gone(state.hash, "a part of it is not there any more")
    return now


class Gone(Exception):
    """A state whose curves are not kept, and that does not come out again as it was."""

    def __init__(self, name: str, why: str) -> None:
        self.name, self.why = name, why
        super().__init__(f"{name[:12]}: {why}")


_again: Callable[[State], Patch] | None = None


def make_again_with(make: Callable[[State], Patch]) -> None:
    """Who knows operations says how a state's patch is made again; documents know none."""
    global _again
    _again = make


def made_anew(state: State) -> Clip:
    """What comes out where a state is made once more as it was made; :class:`Gone` where that
    cannot be done any more."""
    assert _again is not None
    if state.before is None or state.with_take is None:
        raise Gone(state.hash, "what it was made of is not there any more")
    try:
        return apply_patch(load_clip(state.before), _again(state))
    except (BadInput, LookupError, TypeError, ValueError, AttributeError) as trouble:
        raise Gone(state.hash, f"the line that made it fails: {trouble}") from trouble


def _made_again(state: State) -> Clip:
    """A state whose curves were not kept: made again as it was made. Where that gives the very
    bytes, they are kept from now on; where it gives the same within :data:`witness.SAME`, as on
    another kind of processor, it is that state all the same."""
    clip = made_anew(state)
    document = packed(clip)
    if document.name == state.hash:
        with keeping():
            keep_blobs(document.blobs)
            State.objects.filter(pk=state.pk).update(pruned=False, used=Now())
    elif not is_that(state, clip, document):
        raise Gone(state.hash, "this version makes other numbers of it")
    else:
        _nearly.add(state.hash)
    _clips.put(state.hash, clip)
    return clip


def is_that(state: State, clip: Clip, document: Packed) -> bool:
    """Whether a clip that was made again, and is packed as ``document``, is a pruned state."""
    if not headers_agree(bytes(state.header.data), document.blobs[document.header]):
        return False
    # Those that were given up before there were witnesses came out exactly then.
    return state.witness is None or agrees(clip, bytes(state.witness))


def changed_channels(a: State, b: State) -> set[TrackId]:
    """Tracks of the second whose curves differ between two states."""
    return touched_channels(a, b) & manifest_of(b).keys()


def touched_channels(a: State, b: State) -> set[TrackId]:
    """Tracks whose curves differ between two states, those included that only one of them has."""
    if a.hash == b.hash:
        return set()
    before, after = manifest_of(a), manifest_of(b)
    return {t for t in before.keys() | after.keys() if before.get(t) != after.get(t)}


FRAME = frozenset({"skeleton", "layout", "rate", "frames", "reading"})
"""What poses are made of beside curves."""


def changed_parts(a: State, b: State) -> frozenset[Touched]:
    """What differs between two states beside their curves: items of the clip's parts by their keys,
    and what else it is by its name."""
    return frozenset() if a.header_id == b.header_id else touched(load_clip(a), load_clip(b))


def frame_changed(a: State, b: State) -> bool:
    """Whether two states differ in what poses are made of beside curves."""
    return any(name in FRAME for name, _ in changed_parts(a, b))


def held_by(states: Iterable[State]) -> set[str]:
    """Digests of the blobs that states hold; of pruned ones the header and the skeleton alone."""
    shas: set[str] = set()
    headers: set[str] = set()
    for state in states:
        headers.add(state.header_id)
        if not state.pruned:
            shas.update(_split(state.manifest))
    return shas | headers | skeletons_of(headers)


_named: Cache[str] = Cache(2**24, lambda name: 180)


def skeletons_of(headers: Collection[str]) -> set[str]:
    """Digests of the skeletons that headers name; one that cannot be read names none."""
    found = _named.some(headers)
    missing = [sha for sha in headers if sha not in found]
    for k in range(0, len(missing), 1000):
        some = Blob.objects.filter(sha__among=missing[k : k + 1000])
        for sha, data in some.values_list("sha", "data"):
            try:
                name = orjson.loads(bytes(data)).get("skeleton")
            except (orjson.JSONDecodeError, AttributeError):
                name = None
            found[sha] = name if isinstance(name, str) else ""
            _named.put(sha, found[sha])
    return set(found.values()) - {""}


DIGESTS = (
    "SELECT DISTINCT encode(substring(m.raw FROM k * 32 + 1 FOR 32), 'hex') AS sha FROM "
    # Unpacked once a state, not once a digest.
    "(SELECT manifest || ''::bytea AS raw FROM {states} WHERE NOT pruned OFFSET 0) m, "
    "generate_series(0, length(m.raw) / 32 - 1) k"
)
"""The digests that the manifests of some states hold, as SQL."""
MISSING = f"({DIGESTS.format(states='editing_state')}) EXCEPT SELECT sha FROM editing_blob"
"""Those that states hold and that are not there, as SQL."""


def stored_bytes(states: QuerySet[State], lines: Collection[str] = ()) -> int:
    """Bytes of all blobs that some states and recipes hold, each counted once."""
    chosen, params = states.order_by().values("pk").query.sql_with_params()
    query = (
        f"WITH chosen AS MATERIALIZED (SELECT header_id, manifest, pruned FROM editing_state "
        f"WHERE hash IN ({chosen})), held AS ({DIGESTS.format(states='chosen')} "
        "UNION SELECT header_id FROM chosen UNION SELECT unnest(%s::text[])) "
        "SELECT coalesce(sum(length(data)), 0) FROM editing_blob "
        "WHERE sha = ANY(ARRAY(SELECT sha FROM held))"
    )
    with connection.cursor() as cursor:
        cursor.execute(query, [*params, list(lines)])
        return int(cursor.fetchone()[0])
