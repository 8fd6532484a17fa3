"""The rules of each format, checked on the bytes of a file before it is handed over.

glTF 2.0: what a validator does not see (rotations of another length than 1, scales of 0), and the
rules that our own writer could break (bounds, weights, times from 0). USD: usd-core's own
validators, and what they do not see (joints before those they hang on, arrays of another length,
weights that do not add up to 1). What a reader refuses, clip JSON's schema among it, it refuses
when the file is read back.
"""

from __future__ import annotations

from pathlib import PurePath

import numpy as np

from leancurve.formats.gltf.accessors import Accessors
from leancurve.formats.gltf.animation import read_animations
from leancurve.formats.gltf.container import Document, listed, open_document
from leancurve.numbers.arrays import Floats

UNIT = 1e-4
"""How far the length of a rotation, or the sum of a point's weights, may be from 1."""


def broken_rules(data: bytes, file: str) -> list[str]:
    """The rules of its format that a file breaks, in words; none where all is well."""
    ending = PurePath(file).suffix.lower()
    if ending in (".glb", ".gltf"):
        return _of_gltf(open_document(data))
    if ending in (".usda", ".usdc"):
        from leancurve.delivery.usd_rules import of_usd  # only here: it is slow to load

        return of_usd(data, ending)
    return []


def _of_gltf(document: Document) -> list[str]:
    accessors = Accessors(document)
    out = [*_bounds(accessors), *_nodes(document), *_weights(document, accessors)]
    for animation in read_animations(document, accessors, len(listed(document.json, "nodes"))):
        for (node, path), sampler in animation.moves.items():
            where = f"animation {animation.name}, the {path} of node {node}"
            if sampler.seconds[0] < 0.0:
                out.append(f"{where} begins before 0")
            if path == "rotation" and _off(np.linalg.norm(sampler.values, axis=1)):
                out.append(f"{where} has rotations of another length than 1")
            if path == "scale" and np.any(sampler.values == 0.0):
                out.append(f"{where} has scales of 0")
            if sampler.way == "CUBICSPLINE" and len(sampler.seconds) < 2:
                out.append(f"{where} is a spline of one key")
    return out


def _off(values: Floats) -> bool:
    return bool(np.any(np.abs(values - 1.0) > UNIT))


def _bounds(accessors: Accessors) -> list[str]:
    out = []
    for k, told in enumerate(accessors.told):
        if "min" not in told and "max" not in told:
            continue
        values = accessors.floats(k, told["type"], f"accessor {k}")
        if told.get("min") != values.min(axis=0).tolist():
            out.append(f"accessor {k} has smaller values than it says")
        if told.get("max") != values.max(axis=0).tolist():
            out.append(f"accessor {k} has larger values than it says")
    return out


def _nodes(document: Document) -> list[str]:
    out = []
    for k, node in enumerate(listed(document.json, "nodes")):
        if "rotation" in node and _off(np.linalg.norm([node["rotation"]], axis=1)):
            out.append(f"node {k} has a rotation of another length than 1")
        if 0.0 in node.get("scale", ()):
            out.append(f"node {k} has a scale of 0")
    return out


def _weights(document: Document, accessors: Accessors) -> list[str]:
    out = []
    for k, mesh in enumerate(listed(document.json, "meshes")):
        for primitive in listed(mesh, "primitives"):
            told = primitive.get("attributes", {})
            sets = [v for n, v in told.items() if n.startswith("WEIGHTS_")]
            where = f"mesh {k}"
            if sets and _off(sum(accessors.floats(v, "VEC4", where).sum(axis=1) for v in sets)):
                out.append(f"mesh {k} has weights that do not add up to 1")
    return out
