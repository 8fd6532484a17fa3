"""Lean Curve's own open format: one clip as JSON, with keyed curves and the recipe.

Described in docs/clip-json.md and by the JSON schema beside this file. Angles degrees,
lengths the skeleton's unit, time frames.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from fractions import Fraction
from functools import cache
from importlib import resources
from typing import Any

import numpy as np
import orjson

from leancurve.curves.curve import (
    HELD,
    KEY_COLUMNS,
    Curve,
    Extend,
    Handle,
    KeyedCurve,
    SampledCurve,
    Segment,
)
from leancurve.document.clip import Clip
from leancurve.document.layer import NOBODY, layer_owner, of_older_versions
from leancurve.document.limits import (
    MOST_JOINTS,
    require_name,
    require_rate,
    require_room,
)
from leancurve.document.parts.layers import LAYERS
from leancurve.document.parts.registry import PARTS, part_values, parts_of
from leancurve.document.plant import Plant
from leancurve.document.prop import PROP, prop_track
from leancurve.document.stored import (
    reading_of,
    reading_values,
    skeleton_of,
    skeleton_values,
)
from leancurve.document.track import BASE, TrackId
from leancurve.errors import BadInput, short
from leancurve.figure.skeleton import STRAIGHT
from leancurve.formats.bvh import Take
from leancurve.numbers.arrays import AnyArray

SCHEMA = "leancurve.clip"
SCHEMA_VERSION = 4


def _header(clip: Clip) -> dict[str, Any]:
    """Everything of a clip but its curves, as plain JSON values."""
    skeleton = clip.skeleton
    joints: list[dict[str, Any]] = [
        {
            "name": name,
            "parent": skeleton.parents[j],
            "offset": list(skeleton.offsets[j]),
            "channels": list(clip.layout[j]),
        }
        for j, name in enumerate(skeleton.names)
    ]
    for joint, rest in zip(joints, skeleton.rests, strict=True):
        if rest != STRAIGHT:
            joint["rest"] = list(rest)
    ends = skeleton_values(skeleton)["ends"]
    return {
        "name": clip.name,
        "rate": [clip.rate.numerator, clip.rate.denominator],
        "frames": clip.frames,
        "reading": reading_values(clip.reading),
        "skeleton": {"joints": joints, "ends": ends},
        **part_values(clip, by_names=True),
    }


def _clip(header: Mapping[str, Any], curves: Mapping[TrackId, Curve]) -> Clip:
    """The clip of a checked document and its curves."""
    joints = header["skeleton"]["joints"]
    skeleton = skeleton_of(
        {
            "names": [j["name"] for j in joints],
            "parents": [j["parent"] for j in joints],
            "offsets": [j["offset"] for j in joints],
            "rests": [_rest(j) for j in joints],
            "ends": header["skeleton"]["ends"],
        }
    )
    clip = Clip(
        skeleton,
        tuple(tuple(j["channels"]) for j in joints),
        curves,
        Fraction(*header["rate"]),
        header["frames"],
        reading_of(header["reading"]),
        header["name"],
        **parts_of(header, skeleton.names),
    )
    return replace(clip, plants=tuple(sorted(_whole_turn(p) for p in clip.plants)))


def _whole_turn(plant: Plant) -> Plant:
    """A plant whose turn, if it has one, is of length one exactly."""
    if plant.turn is None:
        return plant
    size = float(np.linalg.norm(plant.turn))
    if not abs(size - 1.0) < 1e-3:
        raise BadInput(f"the plant of {short(plant.part)}: its turn must have length 1")
    x, y, z, w = (v / size for v in plant.turn)
    return replace(plant, turn=(x, y, z, w))


def _rest(joint: Mapping[str, Any]) -> list[float]:
    """A joint's rest rotation, of length one exactly."""
    rest = np.array(joint.get("rest", STRAIGHT), dtype=np.float64)
    size = float(np.linalg.norm(rest))
    if not abs(size - 1.0) < 1e-3:
        raise BadInput(f"joint {joint['name']!r}: its rest rotation must have length 1")
    return list(STRAIGHT) if tuple(rest.tolist()) == STRAIGHT else (rest / size).tolist()


def write_clip(clip: Clip, recipe: Sequence[Mapping[str, Any]] = ()) -> bytes:
    """The clip as JSON text, numbers in their shortest exact form."""
    curves: list[dict[str, Any]] = []
    props = {p.id: p.name for p in clip.props}
    for channel in clip.tracks:
        curve = clip.curves[channel]
        entry: dict[str, Any] = {}
        layer = clip.layer(channel.owner)
        if layer is not None:
            entry["layer"] = layer.name
        if channel.owner == PROP:
            entry["prop"] = props[channel.joint]
        elif channel.joint != NOBODY:
            entry["joint"] = clip.skeleton.names[channel.joint]
        entry["channel"] = channel.name
        if isinstance(curve, SampledCurve):
            entry["values"] = np.ascontiguousarray(curve.values)
        else:
            keys: dict[str, Any] = {n: np.ascontiguousarray(c) for n, c in curve.stored.items()}
            keys.pop("extend", None)
            if curve.extend != HELD:
                entry["extend"] = [Extend(k).name.lower() for k in curve.extend]
            keys["handle"] = [Handle(k).name.lower() for k in curve.handle.tolist()]
            keys["segment"] = [Segment(k).name.lower() for k in curve.segment.tolist()]
            entry["keys"] = keys
        curves.append(entry)
    document = {
        "schema": SCHEMA,
        "schema_version": SCHEMA_VERSION,
        **_header(clip),
        "curves": curves,
        "recipe": list(recipe),
    }
    return orjson.dumps(document, option=orjson.OPT_SERIALIZE_NUMPY | orjson.OPT_APPEND_NEWLINE)


def read_clip(data: bytes, name: str | None = None) -> Take:
    """Read clip JSON. Raises :class:`BadInput` naming the field and what was expected."""
    try:
        document = orjson.loads(data)
    except orjson.JSONDecodeError as trouble:
        raise BadInput(f"not valid JSON: {trouble.msg}", line=trouble.lineno) from None
    document = _upgraded(document)
    _require_counts(document)
    # Loading the schema's checker costs more than most files: only here.
    import jsonschema  # jsonschema loads late

    broken = next(
        iter(jsonschema.Draft202012Validator(schema()).iter_errors(_without_numbers(document))),
        None,
    )
    if broken is not None:
        raise BadInput(f"{broken.json_path}: {broken.message[:200]}")
    document = _with_whole_numbers(document)
    joints = document["skeleton"]["joints"]
    names = [j["name"] for j in joints]
    for text in (*names, document["name"]):
        require_name(text)
    require_rate(Fraction(*document["rate"]))
    require_room(len(joints), sum(len(j["channels"]) for j in joints), document["frames"])
    _check_tree(document["skeleton"], names)
    unknown = set(document["reading"].get("ends", ())) - set(names)
    if unknown:
        raise BadInput(f"$.reading.ends: no joint is named {short(min(unknown))!r}")
    curves: dict[TrackId, Curve] = {}
    props = {p["name"]: p["id"] for p in document.get("props", ())}
    layers = {x["name"]: x["id"] for x in document.get("layers", ())}
    for entry in document["curves"]:
        where = f"{entry.get('prop', entry.get('joint'))} {entry['channel']}"
        owner = BASE
        if "layer" in entry:
            if entry["layer"] not in layers:
                raise BadInput(f"curve {where}: there is no such layer")
            owner = layer_owner(layers[entry["layer"]])
            where = f"{where} of {entry['layer']}"
        if owner != BASE and "joint" not in entry:
            channel = TrackId(owner, NOBODY, entry["channel"])
        elif "prop" in entry:
            if entry["prop"] not in props:
                raise BadInput(f"curve {where}: there is no such prop")
            channel = prop_track(props[entry["prop"]], entry["channel"])
        else:
            if entry["joint"] not in names:
                raise BadInput(f"curve {where}: the skeleton has no such joint")
            channel = TrackId(owner, names.index(entry["joint"]), entry["channel"])
        if channel in curves:
            raise BadInput(f"curve {where} stands twice")
        try:
            curves[channel] = _curve(entry, document["frames"])
        except BadInput as problem:
            raise BadInput(f"curve {where}: {problem.message}") from None
    clip = _clip(document, curves)
    missing = set(clip.tracks) ^ set(curves)
    if missing:
        first = min(missing)
        raise BadInput(f"curve {clip.named(first)}: channels and curves must match one to one")
    if name is not None:
        clip = replace(clip, name=name)
    return Take(clip)


MOST_OF = {"curves": 60_000, "recipe": 10_000}
MOST_IN_SKELETON = {"joints": MOST_JOINTS, "ends": MOST_JOINTS}


def _require_counts(document: Mapping[str, Any]) -> None:
    """Refuse more of anything than a clip holds before each is looked at."""
    skeleton = document.get("skeleton")
    parts = [
        (document, {**MOST_OF, **{part.name: part.most for part in PARTS if not part.single}}),
        (skeleton if isinstance(skeleton, dict) else {}, MOST_IN_SKELETON),
    ]
    layers = document.get("layers")
    for layer in layers[: LAYERS.most] if isinstance(layers, list) else ():
        if isinstance(layer, dict):
            parts.append((layer, {"channels": MOST_JOINTS, "mask": MOST_JOINTS}))
    reading = document.get("reading")
    if isinstance(reading, dict):
        parts.append((reading, dict.fromkeys(("ends", "roles", "originals"), MOST_JOINTS)))
    for values, most in parts:
        for name, limit in most.items():
            found = values.get(name)
            if isinstance(found, list | dict) and len(found) > limit:
                raise BadInput(f"{name}: {len(found):,} of them; at most {limit:,}")


def _upgraded(document: Any) -> dict[str, Any]:
    """The document in the newest schema version; older ones are brought up here."""
    if not isinstance(document, dict) or document.get("schema") != SCHEMA:
        raise BadInput(f'expected an object with "schema": "{SCHEMA}"')
    version = document.get("schema_version")
    if version not in range(1, SCHEMA_VERSION + 1) or isinstance(version, bool):
        raise BadInput(f"schema_version: expected {SCHEMA_VERSION} or lower, got {version!r}")
    # Version 1 knew no plants and no props, version 2 no layers, version 3 other words for them.
    out = {**document, "schema_version": SCHEMA_VERSION}
    layers = document.get("layers")
    if version == 3 and isinstance(layers, list) and all(isinstance(x, dict) for x in layers):
        out["layers"] = of_older_versions(layers)
    return out


def _without_numbers(document: dict[str, Any]) -> dict[str, Any]:
    """The document with its long lists of numbers empty: those are checked as whole arrays."""
    curves = document.get("curves")
    if not isinstance(curves, list):
        return document

    def bare(entry: Any) -> Any:
        if not isinstance(entry, dict):
            return entry
        out = dict(entry)
        if isinstance(out.get("values"), list):
            out["values"] = []
        if isinstance(out.get("keys"), dict):
            keys = out["keys"].items()
            out["keys"] = {
                k: [] if isinstance(v, list) and k in KEY_COLUMNS else v for k, v in keys
            }
        return out

    return {**document, "curves": [bare(entry) for entry in curves]}


WHOLE = frozenset(
    {"rate", "frames", "parent", "before", "first", "last", "ease_in", "ease_out", "id"}
)
"""What a document counts: ``40.0`` is 40 to JSON, and to its schema."""


def _with_whole_numbers(value: Any, name: str = "") -> Any:
    if isinstance(value, dict):
        if name == "curves":
            return value
        return {k: v if k == "curves" else _with_whole_numbers(v, k) for k, v in value.items()}
    if isinstance(value, list):
        return [_with_whole_numbers(v, name) for v in value]
    return int(value) if name in WHOLE and isinstance(value, float) else value


def _column(name: str, values: list[Any], kind: type[np.generic]) -> AnyArray:
    """A list of JSON numbers as an array of ``kind``."""
    try:
        array = np.array(values) if values else np.zeros(0)
    except ValueError:
        raise BadInput(f"{name}: expected a list of numbers") from None
    if array.ndim != 1 or array.dtype.kind not in "iuf":
        raise BadInput(f"{name}: expected a list of numbers")
    if kind is not np.float64 and not np.array_equal(array, array.astype(kind)):
        raise BadInput(f"{name}: expected whole numbers of 0 or more")
    return array.astype(kind)


def _kinds(name: str, values: list[Any], kinds: type[Handle | Segment | Extend]) -> list[int]:
    """Names of handle or segment kinds as their numbers."""
    known = {kind.name.lower(): int(kind) for kind in kinds}
    unknown = [v for v in values if not isinstance(v, str) or v not in known]
    if unknown:
        found = short(repr(unknown[0]))
        raise BadInput(f"{name}: expected one of {', '.join(known)}, found {found}")
    return [known[v] for v in values]


def _check_tree(skeleton: Mapping[str, Any], names: list[str]) -> None:
    if len(set(names)) != len(names):
        raise BadInput("skeleton: joint names must differ")
    for index, joint in enumerate(skeleton["joints"]):
        if not -1 <= joint["parent"] < index:
            raise BadInput(f"joint {joint['name']!r}: its parent must stand before it")
    for end in skeleton["ends"]:
        if end["parent"] >= len(names):
            raise BadInput(f"skeleton: an end's parent {end['parent']} does not exist")


def _curve(entry: Mapping[str, Any], frames: int) -> Curve:
    if "values" in entry:
        values = _column("values", entry["values"], np.float64)
        if len(values) != frames:
            raise BadInput(f"expected {frames} values, found {len(values)}")
        return SampledCurve(values)
    columns = dict(entry["keys"])
    columns["handle"] = _kinds("handle", columns["handle"], Handle)
    columns["segment"] = _kinds("segment", columns["segment"], Segment)
    arrays = {n: _column(n, columns[n], kind) for n, kind in KEY_COLUMNS.items() if n in columns}
    before, after = _kinds("extend", entry.get("extend", ["hold", "hold"]), Extend)
    return KeyedCurve(**arrays, extend=(Extend(before), Extend(after))).checked()


@cache
def schema() -> dict[str, Any]:
    """The JSON schema of clip JSON (draft 2020-12)."""
    text = resources.files("leancurve.formats").joinpath("clip.schema.json").read_bytes()
    loaded: dict[str, Any] = orjson.loads(text)
    return loaded
