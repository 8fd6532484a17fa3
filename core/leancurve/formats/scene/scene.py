"""A scene as a file holds it, whatever its format: what stands where, and what moves it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Literal

import numpy as np

from leancurve.document.limits import LONGEST_NAME
from leancurve.formats.scene.moves import Animation
from leancurve.formats.scene.nodes import Nodes
from leancurve.numbers.arrays import Floats, Ints

LONGEST_ORIGINAL = 1_000
"""A joint's name that is longer is not written back."""


@dataclass(frozen=True)
class SkinnedMesh:
    """A mesh: points ``(N, 3)``, triangles ``(T, 3)``, and of its ``nodes`` those that each point
    follows, ``joints (N, K)`` with ``weights (N, K)``.

    ``binds (n, 4, 4)`` put a point into each node's space as its skin was put on; None of a mesh
    without a skin, whose points are in the space of its one node.
    """

    nodes: tuple[int, ...]
    points: Floats
    triangles: Ints
    joints: Ints
    weights: Floats
    binds: Floats | None


@dataclass(frozen=True)
class Scene:
    """Nodes, and the animations that move them, in a unit and with an axis that is up.

    ``boxes`` are the extents ``(2, 3)`` of nodes' own meshes, in the node; ``binds`` how joints
    stood when a skin was put on them, as matrices ``(4, 4)`` in one space. ``told`` says in words
    what the format tells of units.
    """

    nodes: Nodes
    animations: Sequence[Animation]
    boxes: Mapping[int, Floats] = field(default_factory=dict)
    binds: Mapping[int, Floats] = field(default_factory=dict)
    meshes: Sequence[SkinnedMesh] = ()
    metres_per_unit: float = 1.0
    up_axis: Literal["x", "y", "z"] = "y"
    told: str = "unit m, Y up"
    notes: tuple[str, ...] = ()


@dataclass(frozen=True)
class Figure:
    """The joints of a figure, parents first: their nodes, names and parents among them.
    ``originals`` are the names that the file has for those that are called otherwise."""

    nodes: tuple[int, ...]
    names: tuple[str, ...]
    parents: tuple[int, ...]
    originals: tuple[tuple[str, str], ...] = ()

    @staticmethod
    def of(nodes: Nodes, joints: Sequence[int]) -> Figure:
        at = {node: k for k, node in enumerate(joints)}
        parents = tuple(at.get(nodes.parents[node], -1) for node in joints)
        told = [nodes.names[n] for n in joints]
        names = unlike(told)
        others = zip(names, told, strict=True)
        originals = tuple((a, b) for a, b in others if a != b and len(b) <= LONGEST_ORIGINAL)
        return Figure(tuple(joints), names, parents, originals)


def unlike(names: Sequence[str]) -> tuple[str, ...]:
    """Names that can be told apart: what is missing is numbered, what is there twice as well, and
    what is longer than a name may be is cut."""
    out: list[str] = []
    taken: Counter[str] = Counter()
    for k, given in enumerate(names):
        plain = "".join(c if c.isprintable() else " " for c in given).strip() or f"joint {k}"
        name = plain = plain[: LONGEST_NAME - 6]
        while name in taken:
            taken[plain] += 1
            name = f"{plain} {taken[plain]}"
        taken[name] = max(taken[name], 1)
        out.append(name)
    return tuple(out)


def size_of(points: Floats) -> float:
    """How far points ``(…, 3)`` reach along their longest axis."""
    cloud = points.reshape(-1, 3)
    return float(np.ptp(cloud, axis=0).max()) if len(cloud) else 0.0
