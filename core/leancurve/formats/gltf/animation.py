"""Animations of a glTF file."""

from __future__ import annotations

from typing import Any

import numpy as np

from leancurve.errors import BadInput, short
from leancurve.formats.gltf.accessors import Accessors
from leancurve.formats.gltf.container import Document, index_of, listed, name_of
from leancurve.formats.scene.moves import WIDE, Animation, Sampler

WAYS = ("LINEAR", "STEP", "CUBICSPLINE")


def read_animations(document: Document, accessors: Accessors, nodes: int) -> list[Animation]:
    """The animations of a document, in its order."""
    return [
        _animation(told, f"animation {k}", accessors, nodes)
        for k, told in enumerate(listed(document.json, "animations"))
    ]


def _animation(told: dict[str, Any], where: str, accessors: Accessors, nodes: int) -> Animation:
    samplers = listed(told, "samplers")
    moves: dict[tuple[int, str], Sampler] = {}
    ignored = 0
    for k, channel in enumerate(listed(told, "channels")):
        here = f"{where}, channel {k}"
        target = channel.get("target")
        if not isinstance(target, dict):
            raise BadInput(f"{here} has no target")
        path = target.get("path")
        if path not in WIDE or "node" not in target:
            ignored += 1
            continue
        node = index_of(target, "node", nodes, here)
        if (node, path) in moves:
            raise BadInput(f"{here}: the {path} of node {node} is moved twice")
        sampler = samplers[index_of(channel, "sampler", len(samplers), here)]
        moves[node, path] = _sampler(sampler, path, here, accessors)
    return Animation(name_of(told), moves, ignored)


def _sampler(told: dict[str, Any], path: str, where: str, accessors: Accessors) -> Sampler:
    way = told.get("interpolation", "LINEAR")
    if way not in WAYS:
        raise BadInput(f"{where}: interpolation {short(repr(way), 30)} does not exist")
    count = len(accessors.told)
    seconds = accessors.floats(index_of(told, "input", count, where), "SCALAR", where)[:, 0]
    kind = "VEC4" if path == "rotation" else "VEC3"
    values = accessors.floats(index_of(told, "output", count, where), kind, where)
    n = WIDE[path]
    if not len(seconds):
        raise BadInput(f"{where} has no keys")
    if np.any(np.diff(seconds) <= 0.0):
        raise BadInput(f"{where}: its times do not rise")
    per_key = 3 if way == "CUBICSPLINE" else 1
    if len(values) != per_key * len(seconds):
        raise BadInput(
            f"{where}: expected {per_key * len(seconds):,} values for {len(seconds):,} keys, "
            f"found {len(values):,}"
        )
    if way != "CUBICSPLINE":
        return Sampler(seconds, values, way)
    each = values.reshape(-1, 3, n)
    return Sampler(seconds, each[:, 1], way, each[:, [0, 2]])
