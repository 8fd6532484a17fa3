"""The stored form of a document: a header of plain JSON values, its skeleton apart.

It is the application's own and has a schema version and upgrades of its own; what people keep
and exchange is clip JSON (:mod:`leancurve.formats.clipjson`). Curves are kept beside it, one by
one, in the order of ``tracks``.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict
from fractions import Fraction
from typing import Any

from leancurve.curves.curve import Curve
from leancurve.document.clip import Clip, Reading
from leancurve.document.layer import of_older_versions
from leancurve.document.moves import point_of
from leancurve.document.parts.registry import part_values, parts_of
from leancurve.document.track import BASE, TrackId
from leancurve.errors import BadInput
from leancurve.figure.skeleton import EndSite, Skeleton

SCHEMA = "leancurve.stored"
SCHEMA_VERSION = 3


def skeleton_values(skeleton: Skeleton) -> dict[str, Any]:
    """A skeleton as plain JSON values; rest rotations are left out where all are straight."""
    rests = {} if skeleton.rests_straight else {"rests": [list(r) for r in skeleton.rests]}
    return {
        "names": list(skeleton.names),
        "parents": list(skeleton.parents),
        "offsets": [list(o) for o in skeleton.offsets],
        "ends": [
            {"parent": e.parent, "offset": list(e.offset), "before": e.before}
            for e in skeleton.ends
        ],
        **rests,
    }


def skeleton_of(values: Mapping[str, Any]) -> Skeleton:
    """The skeleton of :func:`skeleton_values`."""
    return Skeleton(
        tuple(values["names"]),
        tuple(values["parents"]),
        tuple(point_of(o) for o in values["offsets"]),
        tuple(EndSite(e["parent"], point_of(e["offset"]), e["before"]) for e in values["ends"]),
        tuple((float(x), float(y), float(z), float(w)) for x, y, z, w in values.get("rests", ())),
    )


def reading_values(reading: Reading) -> dict[str, Any]:
    """How a take is read, as plain JSON values."""
    values = {**asdict(reading), "ends": list(reading.ends), "roles": dict(reading.roles)}
    # Documents that were stored before there were any keep their bytes.
    originals = dict(values.pop("originals"))
    return {**values, **({"originals": originals} if originals else {})}


def reading_of(values: Mapping[str, Any]) -> Reading:
    """The reading of :func:`reading_values`."""
    pairs = {n: tuple(dict(values.get(n, {})).items()) for n in ("roles", "originals")}
    return Reading(**{**values, "ends": tuple(values["ends"]), **pairs})


def header_of(clip: Clip, skeleton: str) -> dict[str, Any]:
    """Everything of a clip but its curves and its skeleton, which is named: by its digest."""
    return {
        "schema": SCHEMA,
        "schema_version": SCHEMA_VERSION,
        "skeleton": skeleton,
        "tracks": [list(t) for t in clip.tracks],
        "name": clip.name,
        "rate": [clip.rate.numerator, clip.rate.denominator],
        "frames": clip.frames,
        "reading": reading_values(clip.reading),
        **part_values(clip),
    }


def tracks_of(header: Mapping[str, Any]) -> tuple[TrackId, ...]:
    """The tracks of a header, in the order in which their curves are kept."""
    return tuple(TrackId(owner, joint, name) for owner, joint, name in header["tracks"])


def clip_of(header: Mapping[str, Any], skeleton: Skeleton, curves: Mapping[TrackId, Curve]) -> Clip:
    """The clip of :func:`header_of`, its skeleton and its curves."""
    layout: list[list[str]] = [[] for _ in skeleton.names]
    for owner, joint, name in tracks_of(header):
        if owner == BASE:
            layout[joint].append(name)
    return Clip(
        skeleton,
        tuple(tuple(names) for names in layout),
        curves,
        Fraction(*header["rate"]),
        header["frames"],
        reading_of(header["reading"]),
        header["name"],
        **parts_of(header),
    )


def upgraded(header: Mapping[str, Any]) -> tuple[dict[str, Any], dict[str, Any] | None]:
    """A stored header in the newest version, and the skeleton's values where it held them itself.

    Version 2 had other words for the kinds of layers, and solo in them. Version 1 had no version:
    joints with their channels stood in the header, and curves went by their position in it.
    """
    version = header.get("schema_version", 1)
    if version == SCHEMA_VERSION:
        return dict(header), None
    if version == 2:
        out = {**header, "schema_version": SCHEMA_VERSION}
        if header.get("layers"):
            out["layers"] = of_older_versions(header["layers"])
        return out, None
    if version != 1:
        raise BadInput(f"a document is stored in version {version}; this is {SCHEMA_VERSION}")
    old = header["skeleton"]
    joints = old["joints"]
    skeleton = {
        "names": [j["name"] for j in joints],
        "parents": [j["parent"] for j in joints],
        "offsets": [j["offset"] for j in joints],
        "ends": old["ends"],
    }
    tracks = [[BASE, k, name] for k, j in enumerate(joints) for name in j["channels"]]
    kept = {k: v for k, v in header.items() if k != "skeleton"}
    return {
        **kept,
        "schema": SCHEMA,
        "schema_version": SCHEMA_VERSION,
        "tracks": tracks,
    }, skeleton
