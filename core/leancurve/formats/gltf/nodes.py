"""Nodes of a glTF file."""

from __future__ import annotations

import numpy as np

from leancurve.errors import BadInput
from leancurve.formats.gltf.container import Document, indices, listed, name_of, numbers
from leancurve.formats.scene.nodes import MOST_NODES, Nodes, Placed, parted, require_tree


def read_nodes(document: Document) -> Nodes:
    """The nodes of a document; :class:`BadInput` for one that hangs on two or on itself."""
    told = listed(document.json, "nodes")
    if len(told) > MOST_NODES:
        raise BadInput(f"it has {len(told):,} nodes; at most {MOST_NODES:,}")
    parents = [-1] * len(told)
    for k, node in enumerate(told):
        for child in indices(node, "children", len(told), f"node {k}"):
            if parents[child] >= 0:
                raise BadInput(f"node {child} hangs on two others")
            parents[child] = k
    require_tree(parents)
    skins = tuple(
        tuple(indices(skin, "joints", len(told), f"skin {k}"))
        for k, skin in enumerate(listed(document.json, "skins"))
    )
    return Nodes(
        tuple(name_of(node) for node in told),
        tuple(parents),
        tuple(_placed(node, k) for k, node in enumerate(told)),
        skins,
        frozenset(k for k, node in enumerate(told) if "mesh" in node),
        frozenset(k for k, node in enumerate(told) if {"mesh", "camera", "extensions"} & set(node)),
    )


def _placed(node: dict[str, object], which: int) -> Placed:
    where = f"node {which}"
    matrix = numbers(node, "matrix", 16, where)
    if matrix is not None:
        return parted(np.array(matrix).reshape(4, 4).T, where)
    place = numbers(node, "translation", 3, where) or [0.0, 0.0, 0.0]
    turn = np.array(numbers(node, "rotation", 4, where) or [0.0, 0.0, 0.0, 1.0])
    scale = numbers(node, "scale", 3, where) or [1.0, 1.0, 1.0]
    if np.linalg.norm(turn) < 1e-6:
        raise BadInput(f"{where}: its rotation has no length")
    return Placed(np.array(place), turn / np.linalg.norm(turn), np.array(scale))
