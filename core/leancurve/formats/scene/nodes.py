"""Nodes of a scene: the tree, how each stands, and which of them are a figure's joints."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from leancurve.document.limits import MOST_JOINTS
from leancurve.errors import BadInput, short
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats

MOST_NODES = 50_000


@dataclass(frozen=True)
class Placed:
    """How something stands in what it hangs on: a place ``(3,)``, a rotation ``(4,)`` of length
    one, a scale ``(3,)``."""

    place: Floats
    turn: Floats
    scale: Floats


@dataclass(frozen=True)
class Nodes:
    """All nodes: names, parents (-1 for none), how they stand, and the joints of each skin.

    ``bearing`` are those that carry something: a mesh, a camera, a light.
    """

    names: tuple[str, ...]
    parents: tuple[int, ...]
    placed: tuple[Placed, ...]
    skins: tuple[tuple[int, ...], ...]
    meshed: frozenset[int]
    bearing: frozenset[int] = frozenset()

    def called(self, node: int) -> str:
        """A node in words."""
        return short(self.names[node], 60) if self.names[node] else f"node {node}"

    @cached_property
    def children(self) -> list[list[int]]:
        out: list[list[int]] = [[] for _ in self.parents]
        for node, parent in enumerate(self.parents):
            if parent >= 0:
                out[parent].append(node)
        return out

    def above(self, node: int) -> list[int]:
        """What a node hangs on, the nearest first."""
        out = []
        while (node := self.parents[node]) >= 0:
            out.append(node)
        return out

    def below(self, node: int) -> list[int]:
        """A node and all that hangs on it, parents first."""
        out, left = [], [node]
        while left:
            at = left.pop()
            out.append(at)
            left.extend(reversed(self.children[at]))
        return out


def require_tree(parents: Sequence[int]) -> None:
    """No node hangs on itself, however long the way round."""
    sure = [False] * len(parents)
    for start in range(len(parents)):
        way, at = [], start
        while at >= 0 and not sure[at]:
            sure[at] = True
            way.append(at)
            at = parents[at]
        if at >= 0 and at in set(way):
            raise BadInput(f"node {at} hangs on itself")


def turns_of(matrices: Floats) -> Floats:
    """The rotations ``(..., 4)`` nearest to matrices ``(..., 4, 4)`` for column vectors: those of
    their polar decomposition (Higham 1986)."""
    left, _, right = np.linalg.svd(matrices[..., :3, :3])
    return rotation.from_frame(*np.moveaxis(left @ right, -1, 0))


def parted(matrix: Floats, where: str) -> Placed:
    """A matrix ``(4, 4)`` for column vectors as place, rotation and scale, by its polar
    decomposition."""
    _, sizes, right = np.linalg.svd(matrix[:3, :3])
    if np.linalg.det(matrix[:3, :3]) < 0.0:
        raise BadInput(f"{where} is mirrored: a figure's joints cannot be")
    if sizes.min() < 1e-9:
        raise BadInput(f"{where} is flattened to nothing")
    stretch = right.T @ np.diag(sizes) @ right
    return Placed(matrix[:3, 3].copy(), turns_of(matrix), np.diag(stretch).copy())


def figures(nodes: Nodes, moving: Collection[int]) -> tuple[list[list[int]], list[int]]:
    """The joints of each figure, parents first, and the moving nodes that are of none.

    Joints are those of skins and all between them, skins that share one together; below them what
    moves and is no mesh, above them a moving node with just one figure under it. Without skins,
    nodes that move and hang together are a figure, with all that hangs on them and is no mesh.
    """
    groups: list[set[int]] = []
    for skin in nodes.skins:
        if skin:
            _join(groups, _between(nodes, skin))
    free = [n for n in sorted(moving) if not any(n in group for group in groups)]
    for node in free:
        above = nodes.above(node)
        held = next((g for g in groups if g & set(above)), None)
        if held is not None and node not in nodes.meshed:
            held |= _between(nodes, [_top(nodes, held), node])
    for node in sorted(free, key=lambda n: len(nodes.above(n)), reverse=True):
        under = [g for g in groups if node in nodes.above(_top(nodes, g))]
        if len(under) == 1 and not any(node in g for g in groups):
            under[0].update(_between(nodes, [node, _top(nodes, under[0])]))
    left = [n for n in free if not any(n in g for g in groups)]
    chains: list[set[int]] = []
    for node in left:
        kin = {n for n in nodes.above(node) if n in moving and not any(n in g for g in groups)}
        if kin:
            _join(chains, _between(nodes, [node, *kin]))
    for chain in chains:
        top = _top(nodes, chain)
        chain |= set(nodes.below(top)) - nodes.meshed
    groups += chains
    found = [[n for n in nodes.below(_top(nodes, g)) if n in g] for g in groups]
    for joints in found:
        if len(joints) > MOST_JOINTS:
            raise BadInput(f"a figure of {len(joints):,} joints; at most {MOST_JOINTS:,}")
    return found, [n for n in left if not any(n in g for g in groups)]


def _join(groups: list[set[int]], fresh: set[int]) -> None:
    """Put a group in, together with those that it shares anything with."""
    shared = [g for g in groups if g & fresh]
    for group in shared:
        groups.remove(group)
        fresh |= group
    groups.append(fresh)


def _between(nodes: Nodes, some: Sequence[int]) -> set[int]:
    """Some nodes with all between them, from what all hang on down to each."""
    ways = [[n, *nodes.above(n)][::-1] for n in some]
    shared = 0
    while all(len(w) > shared for w in ways) and len({w[shared] for w in ways}) == 1:
        shared += 1
    if shared == 0:
        raise BadInput(
            f"joint {short(nodes.names[some[0]])!r} and others hang on nothing in common"
        )
    return {n for way in ways for n in way[shared - 1 :]}


def _top(nodes: Nodes, group: Collection[int]) -> int:
    return min(group, key=lambda n: len(nodes.above(n)))
