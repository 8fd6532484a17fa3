"""Accessors of a glTF file as arrays, each bound compared with the bytes that are there."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np

from leancurve.errors import BadInput
from leancurve.formats.gltf.container import Document, index_of, listed, whole
from leancurve.numbers.arrays import AnyArray, Floats

KINDS: Mapping[int, str] = {
    5120: "<i1", 5121: "<u1", 5122: "<i2", 5123: "<u2", 5125: "<u4", 5126: "<f4",
}  # fmt: skip
PER_ELEMENT = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT4": 16}
MOST_BYTES = 512 * 2**20
"""Of one accessor, as float64."""


class Accessors:
    """The accessors of a document, each read once."""

    def __init__(self, document: Document) -> None:
        self.document = document
        self.told = listed(document.json, "accessors")
        self.views = listed(document.json, "bufferViews")
        self._read: dict[int, Floats] = {}

    def floats(self, which: int, kind: str, where: str) -> Floats:
        """An accessor's numbers ``(count, n)`` of a kind such as ``VEC3``; whole numbers that are
        normalised mean shares of their range (glTF 2.0, 3.11)."""
        told = self.told[which]
        if told.get("type") != kind:
            raise BadInput(f"{where}: expected an accessor of {kind}, found {told.get('type')!r}")
        if which not in self._read:
            self._read[which] = self._of(told, f"accessor {which}")
        return self._read[which]

    def _of(self, told: Mapping[str, Any], where: str) -> Floats:
        n = PER_ELEMENT[told["type"]]
        count = whole(told, "count", where)
        if count * n * 8 > MOST_BYTES:
            raise BadInput(f"{where}: {count:,} values of {n} numbers are too many")
        kind = told.get("componentType")
        if not isinstance(kind, int) or kind not in KINDS:
            raise BadInput(f"{where}: component type {kind!r} does not exist")
        dtype = np.dtype(KINDS[kind])
        if "bufferView" in told:
            at = index_of(told, "bufferView", len(self.views), where)
            raw = self._view(at, whole(told, "byteOffset", where, 0), count, n, dtype, where)
        else:
            raw = np.zeros((count, n), dtype)
        if isinstance(sparse := told.get("sparse"), dict):
            raw = self._replaced(raw, sparse, n, dtype, where)
        values = raw.astype(np.float64)
        if told.get("normalized") is True and dtype.kind in "iu":
            values = np.maximum(values / np.iinfo(dtype).max, -1.0)
        if not np.all(np.isfinite(values)):
            raise BadInput(f"{where}: it holds what is not a finite number")
        return values

    def _replaced(
        self, raw: AnyArray, sparse: Mapping[str, Any], n: int, dtype: np.dtype[Any], where: str
    ) -> AnyArray:
        count = whole(sparse, "count", f"{where}, sparse")
        places, values = sparse.get("indices"), sparse.get("values")
        if not isinstance(places, dict) or not isinstance(values, dict):
            raise BadInput(f"{where}: its sparse values have no places")
        kind = places.get("componentType")
        if kind not in (5121, 5123, 5125):
            raise BadInput(f"{where}: component type {kind!r} counts no places")
        found = []
        for part, width, of in ((places, 1, np.dtype(KINDS[kind])), (values, n, dtype)):
            view = index_of(part, "bufferView", len(self.views), where)
            start = whole(part, "byteOffset", where, 0)
            found.append(self._view(view, start, count, width, of, where))
        at = found[0][:, 0].astype(np.int64)
        if len(at) and (at.max() >= len(raw) or np.any(np.diff(at) <= 0)):
            raise BadInput(f"{where}: its sparse places are out of order or out of range")
        out = raw.copy()
        out[at] = found[1]
        return out

    def _view(
        self, which: int, start: int, count: int, n: int, dtype: np.dtype[Any], where: str
    ) -> AnyArray:
        told = self.views[which]
        named = f"buffer view {which}"
        buffer = self.document.buffers[index_of(told, "buffer", len(self.document.buffers), named)]
        offset = whole(told, "byteOffset", named, 0)
        length = whole(told, "byteLength", named)
        each = n * dtype.itemsize
        stride = whole(told, "byteStride", named, 0) or each
        if offset + length > len(buffer):
            raise BadInput(f"{named} reaches past the end of its buffer")
        if stride < each or (count and start + stride * (count - 1) + each > length):
            raise BadInput(f"{where} reaches past the end of its view")
        if count == 0:
            return np.zeros((0, n), dtype)
        return np.ndarray((count, n), dtype, buffer, offset + start, (stride, dtype.itemsize))
