"""What a glTF file is made of: its JSON and its buffers, looked at before anything is made of them.

Nothing a file says is believed: sizes are compared with the bytes that are there, names of buffers
are looked up only among the files that came with it.
"""

from __future__ import annotations

import base64
import binascii
import math
import re
import struct
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, TypeAlias
from urllib.parse import unquote

import orjson

from leancurve.errors import BadInput, short
from leancurve.formats.nesting import weighed

MAGIC = b"glTF"
JSON_CHUNK, BINARY_CHUNK = 0x4E4F534A, 0x004E4942
DEEPEST = 64
"""Levels of JSON: real files have fewer than ten."""
MOST_SIGNS = 2_000_000
"""Brackets and commas of JSON: each may become an object of a hundred bytes."""
HARMLESS = (
    "KHR_materials_",
    "KHR_texture_",
    "KHR_lights_",
    "EXT_texture_",
    "KHR_mesh_quantization",
)
"""Extensions that a file may require: they say nothing of what moves."""


@dataclass(frozen=True)
class Document:
    """A file's JSON, and the bytes of each of its buffers."""

    json: Mapping[str, Any]
    buffers: Sequence[bytes]


Beside: TypeAlias = Callable[[str], bytes | None]
"""The file of a name that came with another one; None where there is none."""


def nothing_beside(name: str) -> bytes | None:
    """For a file that came by itself."""
    return None


def open_document(data: bytes, beside: Beside = nothing_beside) -> Document:
    """A GLB or a glTF file as its JSON and its buffers; those named by it are looked up ``beside``
    it. :class:`BadInput` says what is wrong with it."""
    text, binary = _chunks(data) if data[:4] == MAGIC else (data, None)
    json = _parsed(text)
    asset = json.get("asset")
    version = asset.get("version") if isinstance(asset, dict) else None
    if not isinstance(version, str) or not re.fullmatch(r"2\.\d+", version):
        raise BadInput(f"expected glTF 2.0, found version {short(repr(version), 20)}")
    for name in listed(json, "extensionsRequired", str):
        if not name.startswith(HARMLESS):
            raise BadInput(f"it requires the extension {short(name)}, which is not read here")
    buffers = listed(json, "buffers")
    return Document(json, [_buffer(b, k, binary, beside) for k, b in enumerate(buffers)])


def _chunks(data: bytes) -> tuple[bytes, bytes | None]:
    if len(data) < 20:
        raise BadInput("the file ends within its header")
    _, version, length = struct.unpack_from("<4sII", data)
    if version != 2:
        raise BadInput(f"expected glTF 2.0, found version {version}")
    if length != len(data):
        raise BadInput(f"it says it has {length:,} bytes, and has {len(data):,}")
    found: list[tuple[int, bytes]] = []
    at = 12
    while at < length:
        if at + 8 > length:
            raise BadInput("the file ends within the header of a chunk")
        size, kind = struct.unpack_from("<II", data, at)
        if at + 8 + size > length:
            raise BadInput(f"a chunk of {size:,} bytes reaches past the end of the file")
        found.append((kind, data[at + 8 : at + 8 + size]))
        at += 8 + size
    if not found or found[0][0] != JSON_CHUNK:
        raise BadInput("its first chunk is not JSON")
    binary = next((d for kind, d in found[1:] if kind == BINARY_CHUNK), None)
    return found[0][1], binary


IN_QUOTES = re.compile(rb'"(?:[^"\\]|\\.)*"', re.S)


def _parsed(text: bytes) -> dict[str, Any]:
    """JSON, after a look at how much would be made of it."""
    signs, deepest = weighed(text, IN_QUOTES, b"[]{}")
    if signs > MOST_SIGNS:
        raise BadInput("its JSON holds more than two million values")
    if deepest > DEEPEST:
        raise BadInput(f"its JSON is nested more than {DEEPEST} deep")
    try:
        found = orjson.loads(text.rstrip(b"\x00 "))
    except orjson.JSONDecodeError as trouble:
        raise BadInput(f"not valid JSON: {trouble.msg}") from None
    if not isinstance(found, dict):
        raise BadInput("expected a JSON object")
    return found


def _buffer(told: Mapping[str, Any], which: int, binary: bytes | None, beside: Beside) -> bytes:
    length = whole(told, "byteLength", f"buffer {which}")
    uri = told.get("uri")
    if uri is None:
        if which or binary is None:
            raise BadInput(f"buffer {which} has no bytes in this file")
        found = binary
    elif not isinstance(uri, str):
        raise BadInput(f"buffer {which}: its address is not text")
    elif uri.startswith("data:"):
        found = _inline(uri, which)
    else:
        found = _beside(uri, beside)
    if len(found) < length:
        raise BadInput(f"buffer {which} has {len(found):,} bytes of {length:,}")
    return found


def _inline(uri: str, which: int) -> bytes:
    head, comma, body = uri.partition(",")
    if not comma or not head.endswith(";base64"):
        raise BadInput(f"buffer {which}: expected its data in base64")
    try:
        return base64.b64decode(body, validate=True)
    except (binascii.Error, ValueError):
        raise BadInput(f"buffer {which}: its base64 is damaged") from None


def _beside(uri: str, beside: Beside) -> bytes:
    name = unquote(uri)
    if re.search(r"[:\\\x00]|^/|(^|/)\.\.(/|$)", name):
        raise BadInput(f"it refers to {short(name)}, outside of what came with it")
    plain = name.removeprefix("./")
    found = beside(plain)
    if found is None:
        raise BadInput(f"it needs {short(plain)}, which did not come with it")
    return found


# --- what JSON may hold where -----------------------------------------------------------------


def listed(holder: Mapping[str, Any], name: str, kind: type = dict) -> list[Any]:
    """A list of some kind, empty where it is absent."""
    found = holder.get(name, [])
    if not isinstance(found, list) or not all(isinstance(x, kind) for x in found):
        raise BadInput(f"{name}: expected a list of {'objects' if kind is dict else 'texts'}")
    return found


def whole(holder: Mapping[str, Any], name: str, where: str, default: int | None = None) -> int:
    """A whole number from 0."""
    found = holder.get(name, default)
    if isinstance(found, float) and found.is_integer():
        found = int(found)
    if isinstance(found, bool) or not isinstance(found, int) or found < 0:
        raise BadInput(f"{where}: {name} must be a whole number from 0")
    return found


def index_of(holder: Mapping[str, Any], name: str, count: int, where: str) -> int:
    """A whole number below ``count``: one of so many things."""
    found = whole(holder, name, where)
    if found >= count:
        raise BadInput(f"{where}: {name} {found} is not one of {count}")
    return found


def indices(holder: Mapping[str, Any], name: str, count: int, where: str) -> list[int]:
    """Different whole numbers below ``count``."""
    found = holder.get(name, [])
    if not isinstance(found, list):
        raise BadInput(f"{where}: {name} must be a list")
    out = [index_of({name: f}, name, count, where) for f in found]
    if len(set(out)) < len(out):
        raise BadInput(f"{where}: {name} holds one of them twice")
    return out


def numbers(holder: Mapping[str, Any], name: str, count: int, where: str) -> list[float] | None:
    """So many finite numbers, None where they are absent."""
    found = holder.get(name)
    if found is None:
        return None
    sound = (
        isinstance(found, list)
        and len(found) == count
        and all(
            isinstance(v, int | float) and not isinstance(v, bool) and math.isfinite(v)
            for v in found
        )
    )
    if not sound:
        raise BadInput(f"{where}: {name} must be {count} finite numbers")
    return [float(v) for v in found]


def name_of(holder: Mapping[str, Any]) -> str:
    """A thing's name, none where it has none."""
    found = holder.get("name")
    return found if isinstance(found, str) else ""
