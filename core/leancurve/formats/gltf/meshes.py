"""Meshes of a glTF file with what their points follow."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np

from leancurve.errors import BadInput
from leancurve.figure.skin import MOST_POINTS, MOST_TRIANGLES
from leancurve.formats.gltf.accessors import Accessors
from leancurve.formats.gltf.container import Document, index_of, listed, whole
from leancurve.formats.scene.nodes import Nodes
from leancurve.formats.scene.scene import SkinnedMesh
from leancurve.numbers.arrays import Floats, Ints

TRIANGLES, STRIP, FAN = 4, 5, 6


def read_meshes(
    document: Document, accessors: Accessors, nodes: Nodes, binds: Mapping[int, Floats]
) -> tuple[list[SkinnedMesh], list[str]]:
    """The meshes of all nodes that have one, those with a skin after their joints, with what is
    left out of them. ``binds`` are the inverse bind matrices ``(n, 4, 4)`` of skins."""
    told = listed(document.json, "nodes")
    meshes = listed(document.json, "meshes")
    skins = listed(document.json, "skins")
    out: list[SkinnedMesh] = []
    points = triangles = morphs = 0
    for node in sorted(nodes.meshed):
        where = f"node {node}"
        mesh = meshes[index_of(told[node], "mesh", len(meshes), where)]
        skin = index_of(told[node], "skin", len(skins), where) if "skin" in told[node] else None
        for primitive in listed(mesh, "primitives"):
            morphs += bool(primitive.get("targets"))
            found = _one(primitive, accessors, node, skin, nodes, binds)
            if found is None:
                continue
            points, triangles = points + len(found.points), triangles + len(found.triangles)
            if points > MOST_POINTS or triangles > MOST_TRIANGLES:
                return [], [f"its meshes have more than {MOST_TRIANGLES:,} triangles: left out"]
            out.append(found)
    return out, ["morph targets of the meshes are left out"] if morphs else []


def _one(
    primitive: Mapping[str, Any], accessors: Accessors, node: int, skin: int | None,
    nodes: Nodes, binds: Mapping[int, Floats],
) -> SkinnedMesh | None:  # fmt: skip
    where = f"the mesh of node {node}"
    mode = whole(primitive, "mode", where, TRIANGLES)
    attributes = primitive.get("attributes")
    if mode not in (TRIANGLES, STRIP, FAN) or not isinstance(attributes, dict):
        return None
    if "POSITION" not in attributes:
        return None

    def read(holder: Mapping[str, Any], name: str, kind: str) -> Floats:
        at = index_of(holder, name, len(accessors.told), where)
        count = whole(accessors.told[at], "count", where)
        if count > 3 * MOST_POINTS:
            raise BadInput(f"{where}: {count:,} values of {name} are too many")
        return accessors.floats(at, kind, where)

    points = read(attributes, "POSITION", "VEC3")
    if "indices" in primitive:
        corners = read(primitive, "indices", "SCALAR")[:, 0].astype(np.int64)
    else:
        corners = np.arange(len(points))
    if len(corners) and corners.max() >= len(points):
        raise BadInput(f"{where} has a triangle of point {corners.max():,} of {len(points):,}")
    triangles = _triangles(corners, mode)
    if skin is None:
        ones = np.ones((len(points), 1))
        return SkinnedMesh((node,), points, triangles, 0 * ones.astype(np.int64), ones, None)
    joints, weights = [], []
    for k in range(2):
        if f"JOINTS_{k}" not in attributes:
            break
        joints.append(read(attributes, f"JOINTS_{k}", "VEC4"))
        weights.append(read(attributes, f"WEIGHTS_{k}", "VEC4"))
    own = nodes.skins[skin]
    if not joints or not own:
        return None
    which, share = np.concatenate(joints, 1).astype(np.int64), np.concatenate(weights, 1)
    if len(which) != len(points) or len(share) != len(points):
        raise BadInput(f"{where} has weights for {len(share):,} of {len(points):,} points")
    which = np.where(share > 0.0, which, 0)
    if which.size and which.max() >= len(own):
        raise BadInput(f"{where} follows joint {which.max():,} of {len(own):,}")
    nothing = share.sum(axis=1) <= 0.0
    share[nothing, 0] = 1.0
    matrices = binds.get(skin, np.tile(np.eye(4), (len(own), 1, 1)))
    return SkinnedMesh(own, points, triangles, which, share, matrices)


def _triangles(corners: Ints, mode: int) -> Ints:
    """Corners three by three (glTF 2.0, 3.7.2.1)."""
    if mode == TRIANGLES:
        return corners[: len(corners) // 3 * 3].reshape(-1, 3)
    if len(corners) < 3:
        return np.zeros((0, 3), dtype=np.int64)
    if mode == FAN:
        first = np.full(len(corners) - 2, corners[0])
        return np.stack([corners[1:-1], corners[2:], first], axis=1)
    a, b, c = corners[:-2], corners[1:-1], corners[2:]
    odd = np.arange(len(a)) % 2 == 1
    return np.stack([a, np.where(odd, c, b), np.where(odd, b, c)], axis=1)
