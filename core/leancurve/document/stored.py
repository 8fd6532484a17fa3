"""The stored form of a document: a header of plain JSON values, its skeleton apart.

It is the application's own and has a schema version and upgrades of its own; what people keep
and exchange is clip JSON (:mod:`leancurve.formats.clipjson`). Curves are kept beside it, one by
one, in the order of ``tracks``.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import asdict, fields
from fractions import Fraction
from typing import Any

from leancurve.curves.curve import Curve
from leancurve.document.clip import Accepted, Clip, Contact, Mark, Placement, Reading
from leancurve.document.layer import Layer, of_older_versions
from leancurve.document.plant import Plant
from leancurve.document.prop import Prop
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
        tuple(point(o) for o in values["offsets"]),
        tuple(EndSite(e["parent"], point(e["offset"]), e["before"]) for e in values["ends"]),
        tuple((float(x), float(y), float(z), float(w)) for x, y, z, w in values.get("rests", ())),
    )


def point(values: Sequence[float]) -> tuple[float, float, float]:
    x, y, z = (float(v) for v in values)
    return (x, y, z)


def reading_values(reading: Reading) -> dict[str, Any]:
    """How a take is read, as plain JSON values."""
    return {**asdict(reading), "ends": list(reading.ends), "roles": dict(reading.roles)}


def reading_of(values: Mapping[str, Any]) -> Reading:
    """The reading of :func:`reading_values`."""
    roles = tuple(dict(values.get("roles", {})).items())
    return Reading(**{**values, "ends": tuple(values["ends"]), "roles": roles})


def span_values(clip: Clip) -> dict[str, Any]:
    """Contacts, acceptances, marks, plants, props and placement as plain JSON values, what is empty
    left out."""
    out: dict[str, Any] = {}
    if clip.contacts is not None:
        out["contacts"] = [asdict(c) for c in clip.contacts]
    if clip.accepted:
        out["accepted"] = [asdict(a) for a in clip.accepted]
    if clip.marks:
        out["marks"] = [asdict(m) for m in clip.marks]
    if clip.plants:
        out["plants"] = [_plant_values(p) for p in clip.plants]
    if clip.props:
        out["props"] = [{**asdict(p), "size": list(p.size)} for p in clip.props]
    if clip.placement is not None:
        given = asdict(clip.placement)
        out["placement"] = {**given, "move": list(given["move"]), "about": list(given["about"])}
    return out


def _layer_values(layer: Layer) -> dict[str, Any]:
    """A layer as plain JSON values; what is as it is for most is left out."""
    usual = {f.name: f.default for f in fields(Layer)}
    values = {f: getattr(layer, f) for f in usual if getattr(layer, f) != usual[f]}
    for name in ("layout", "mask"):
        if name in values:
            values[name] = [[j, list(x) if name == "layout" else x] for j, x in values[name]]
    return values


def _layer_of(values: Mapping[str, Any]) -> Layer:
    return Layer(
        **{
            **values,
            "layout": tuple((j, tuple(names)) for j, names in values.get("layout", ())),
            "mask": tuple((j, float(share)) for j, share in values.get("mask", ())),
        }
    )


def _plant_values(plant: Plant) -> dict[str, Any]:
    """A plant as plain JSON values; what is as it is for most is left out."""
    usual = {f.name: f.default for f in fields(Plant)}
    return {k: v for k, v in asdict(plant).items() if v != usual[k]}


def _plant_of(values: Mapping[str, Any]) -> Plant:
    turn = values.get("turn")
    x, y, z = (float(v) for v in values["place"])
    whole = {**values, "place": (x, y, z)}
    if turn is not None:
        a, b, c, d = (float(v) for v in turn)
        whole["turn"] = (a, b, c, d)
    return Plant(**whole)


def _placement_of(values: Mapping[str, Any] | None) -> Placement | None:
    if values is None:
        return None
    whole = {n: point(values[n]) for n in ("move", "about") if n in values}
    return Placement(**{**values, **whole})


def spans_of(values: Mapping[str, Any]) -> dict[str, Any]:
    """The parts of a clip that :func:`span_values` gave."""
    contacts = values.get("contacts")
    return {
        "contacts": None if contacts is None else tuple(Contact(**c) for c in contacts),
        "accepted": tuple(Accepted(**a) for a in values.get("accepted", ())),
        "marks": tuple(Mark(**m) for m in values.get("marks", ())),
        "plants": tuple(_plant_of(p) for p in values.get("plants", ())),
        "placement": _placement_of(values.get("placement")),
        "props": tuple(Prop(**{**p, "size": point(p["size"])}) for p in values.get("props", ())),
    }


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
        **span_values(clip),
        **({"layers": [_layer_values(x) for x in clip.layers]} if clip.layers else {}),
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
        **spans_of(header),
        layers=tuple(_layer_of(x) for x in header.get("layers", ())),
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
