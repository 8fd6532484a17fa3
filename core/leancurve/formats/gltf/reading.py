"""Takes of a glTF file: what its JSON says, put together as a scene."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from leancurve.errors import BadInput
from leancurve.formats.bvh import Take
from leancurve.formats.choices import AS_TOLD, Choices
from leancurve.formats.gltf.accessors import Accessors
from leancurve.formats.gltf.animation import read_animations
from leancurve.formats.gltf.container import (
    Beside,
    Document,
    index_of,
    listed,
    nothing_beside,
    numbers,
    open_document,
)
from leancurve.formats.gltf.meshes import read_meshes
from leancurve.formats.gltf.nodes import read_nodes
from leancurve.formats.scene.nodes import Nodes
from leancurve.formats.scene.scene import Scene
from leancurve.formats.scene.takes import takes_of
from leancurve.numbers.arrays import Floats


def read_gltf(
    data: bytes, name: str = "take", beside: Beside = nothing_beside, choices: Choices = AS_TOLD
) -> list[Take]:
    """Every animation of every figure in a GLB or glTF file, as a take of its own; see
    :func:`leancurve.formats.scene.takes.takes_of`."""
    document = open_document(data, beside)
    accessors = Accessors(document)
    nodes = read_nodes(document)
    binds = _binds(document, accessors, nodes)
    meshes, left_out = read_meshes(document, accessors, nodes, binds)
    scene = Scene(
        nodes,
        read_animations(document, accessors, len(nodes.names)),
        _boxes(document, nodes),
        _bound(nodes, binds),
        meshes,
        told="unit m, Y up, as glTF is",
        notes=tuple(left_out),
    )
    return takes_of([scene], name, choices)


def _boxes(document: Document, nodes: Nodes) -> dict[int, Floats]:
    """The extents ``(2, 3)`` of the meshes of nodes without a skin, as their positions' bounds
    tell them (glTF 2.0, 3.7.2.1: they must be there)."""
    told = listed(document.json, "nodes")
    meshes = listed(document.json, "meshes")
    accessors = listed(document.json, "accessors")
    out = {}
    for node in sorted(nodes.meshed):
        if "skin" in told[node]:
            continue
        mesh = meshes[index_of(told[node], "mesh", len(meshes), f"node {node}")]
        corners = [
            c for p in listed(mesh, "primitives") if (c := _bounds(p, accessors)) is not None
        ]
        if corners:
            lows, highs = np.stack(corners, axis=1)
            out[node] = np.stack([lows.min(axis=0), highs.max(axis=0)])
    return out


def _bounds(primitive: Mapping[str, Any], accessors: Sequence[Any]) -> Floats | None:
    attributes = primitive.get("attributes")
    if not isinstance(attributes, dict) or "POSITION" not in attributes:
        return None
    where = "a mesh's positions"
    told = accessors[index_of(attributes, "POSITION", len(accessors), where)]
    low, high = (numbers(told, side, 3, where) for side in ("min", "max"))
    return None if low is None or high is None else np.array([low, high])


def _binds(document: Document, accessors: Accessors, nodes: Nodes) -> dict[int, Floats]:
    """The inverse bind matrices ``(n, 4, 4)`` of each skin that tells them."""
    out: dict[int, Floats] = {}
    for k, skin in enumerate(listed(document.json, "skins")):
        if "inverseBindMatrices" not in skin:
            continue
        where = f"skin {k}"
        at = index_of(skin, "inverseBindMatrices", len(accessors.told), where)
        found = accessors.floats(at, "MAT4", where)
        joints = nodes.skins[k]
        if len(found) < len(joints):
            raise BadInput(f"{where} has {len(found):,} bind matrices for {len(joints):,} joints")
        # Matrices are written column by column.
        out[k] = found[: len(joints)].reshape(-1, 4, 4).transpose(0, 2, 1)
    return out


def _bound(nodes: Nodes, binds: Mapping[int, Floats]) -> dict[int, Floats]:
    """How joints stood when the first skin that knows them was put on."""
    out: dict[int, Floats] = {}
    for k, matrices in binds.items():
        for node, matrix in zip(nodes.skins[k], matrices, strict=True):
            if node not in out and np.linalg.det(matrix[:3, :3]) > 1e-12:
                out[node] = np.asarray(np.linalg.inv(matrix))
    return out
