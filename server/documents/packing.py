"""Documents as bytes: what a clip is kept as, before anybody keeps it. No database here."""

import hashlib
from collections.abc import Mapping
from dataclasses import dataclass, fields

import numpy as np
import orjson
from leancurve.curves.curve import Curve, stored_curve
from leancurve.document.clip import Clip
from leancurve.document.stored import header_of, skeleton_values
from leancurve.document.track import TrackId
from leancurve.figure.skeleton import Skeleton
from leancurve.figure.skin import Skin
from safetensors.numpy import load, save


@dataclass(frozen=True)
class Packed:
    """A document's name, the digest of its header, its tracks' digests one after another, its keys,
    and those of its blobs that may be new."""

    name: str
    header: str
    manifest: bytes
    keys: int
    blobs: Mapping[str, bytes]


def encode(curve: Curve) -> bytes:
    """A curve's columns in the safetensors layout: the same curve gives the same bytes."""
    return save({name: np.ascontiguousarray(c) for name, c in curve.stored.items()})


def decode(data: bytes) -> Curve:
    """The curve of :func:`encode`'s bytes."""
    # Each column by itself: as loaded, it keeps two more objects alive than its numbers need.
    return stored_curve({name: column.copy() for name, column in load(data).items()})


def digest(data: bytes) -> str:
    """What bytes are called wherever they are kept."""
    return hashlib.sha256(data).hexdigest()


def skeleton_blob(skeleton: Skeleton) -> tuple[str, bytes]:
    """A skeleton's digest and bytes: the same skeleton has the same ones everywhere."""
    data = orjson.dumps(skeleton_values(skeleton))
    return digest(data), data


def skin_blob(skin: Skin) -> tuple[str, bytes]:
    """A body's digest and bytes, in the safetensors layout."""
    data = save({f.name: np.ascontiguousarray(getattr(skin, f.name)) for f in fields(Skin)})
    return digest(data), data


def skin_of(data: bytes) -> Skin:
    """The body of :func:`skin_blob`'s bytes; what is in them is not looked at."""
    found = load(data)
    return Skin(**{f.name: found[f.name] for f in fields(Skin)})


def packed(
    clip: Clip, digests: Mapping[TrackId, str] | None = None, encoded: Mapping[str, bytes] = {}
) -> Packed:
    """A clip as bytes. ``digests`` of its tracks are made here unless they are known; with them
    ``encoded`` holds the tracks' blobs that may be new, by digest."""
    if digests is None:
        made = {t: encode(curve) for t, curve in clip.curves.items()}
        digests = {t: digest(data) for t, data in made.items()}
        encoded = {digests[t]: data for t, data in made.items()}
    skeleton, bones = skeleton_blob(clip.skeleton)
    data = orjson.dumps(header_of(clip, skeleton))
    header = digest(data)
    manifest = b"".join(bytes.fromhex(digests[t]) for t in clip.tracks)
    name = digest(header.encode() + manifest)
    blobs = {**encoded, skeleton: bones, header: data}
    return Packed(name, header, manifest, clip.key_count, blobs)
