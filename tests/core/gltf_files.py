"""glTF files made for tests: a builder that knows nothing of the reader."""

from __future__ import annotations

import json
import struct
from typing import Any

import numpy as np

FLOAT = 5126
KINDS = {1: "SCALAR", 3: "VEC3", 4: "VEC4", 16: "MAT4"}


class Built:
    """A glTF document and its one buffer, put together piece by piece."""

    def __init__(self) -> None:
        self.json: dict[str, Any] = {
            "asset": {"version": "2.0"}, "nodes": [], "buffers": [{}],
            "bufferViews": [], "accessors": [], "animations": [], "skins": [],
        }  # fmt: skip
        self.binary = bytearray()

    def node(self, name: str | None = None, children: tuple[int, ...] = (), **given: Any) -> int:
        told = {k: list(v) if isinstance(v, tuple | np.ndarray) else v for k, v in given.items()}
        if name is not None:
            told["name"] = name
        if children:
            told["children"] = list(children)
        self.json["nodes"].append(told)
        return len(self.json["nodes"]) - 1

    def hang(self, parent: int, *children: int) -> None:
        self.json["nodes"][parent].setdefault("children", []).extend(children)

    def view(self, data: bytes, **given: Any) -> int:
        self.binary += b"\x00" * (-len(self.binary) % 4)
        told = {"buffer": 0, "byteOffset": len(self.binary), "byteLength": len(data), **given}
        self.json["bufferViews"].append(told)
        self.binary += data
        return len(self.json["bufferViews"]) - 1

    def accessor(
        self, values: Any, dtype: str = "<f4", component: int = FLOAT, **given: Any
    ) -> int:
        array = np.ascontiguousarray(values, dtype)
        array = array.reshape(len(array), -1)
        told = {
            "bufferView": self.view(array.tobytes()), "componentType": component,
            "count": len(array), "type": KINDS[array.shape[1]], **given,
        }  # fmt: skip
        self.json["accessors"].append(told)
        return len(self.json["accessors"]) - 1

    def animation(self, name: str | None = None) -> dict[str, Any]:
        told: dict[str, Any] = {"samplers": [], "channels": []}
        if name is not None:
            told["name"] = name
        self.json["animations"].append(told)
        return told

    def move(
        self, animation: dict[str, Any], node: int, path: str, times: Any, values: Any,
        way: str | None = None, **given: Any,
    ) -> None:  # fmt: skip
        sampler = {"input": self.accessor(times), "output": self.accessor(values, **given)}
        if way is not None:
            sampler["interpolation"] = way
        animation["samplers"].append(sampler)
        target = {"node": node, "path": path}
        channel = {"sampler": len(animation["samplers"]) - 1, "target": target}
        animation["channels"].append(channel)

    def skin(self, *joints: int, **given: Any) -> None:
        self.json["skins"].append({"joints": list(joints), **given})

    def mesh(self, points: Any, triangles: Any, **given: Any) -> int:
        """A mesh of points ``(N, 3)`` and triangles ``(T, 3)``; other attributes are given."""
        points = np.asarray(points, "<f4")
        low, high = points.min(axis=0).tolist(), points.max(axis=0).tolist()
        primitive = {
            "attributes": {"POSITION": self.accessor(points, min=low, max=high), **given},
            "indices": self.accessor(np.ravel(triangles), "<u4", 5125),
        }  # fmt: skip
        self.json.setdefault("meshes", []).append({"primitives": [primitive]})
        return len(self.json["meshes"]) - 1

    def document(self) -> dict[str, Any]:
        told = {k: v for k, v in self.json.items() if v}
        told["buffers"] = [{"byteLength": len(self.binary)}] if self.binary else []
        return told

    def glb(self) -> bytes:
        return glb(self.document(), bytes(self.binary))


def glb(document: Any, binary: bytes = b"") -> bytes:
    """A binary glTF of a JSON document, or of JSON as text."""
    text = document if isinstance(document, bytes) else json.dumps(document).encode()
    text += b" " * (-len(text) % 4)
    binary += b"\x00" * (-len(binary) % 4)
    chunks = struct.pack("<II", len(text), 0x4E4F534A) + text
    if binary:
        chunks += struct.pack("<II", len(binary), 0x004E4942) + binary
    return struct.pack("<4sII", b"glTF", 2, 12 + len(chunks)) + chunks
