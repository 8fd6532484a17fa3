"""A figure and other nodes of a scene on the frames of an animation."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction

import numpy as np

from leancurve.document.limits import require_room
from leancurve.errors import BadInput
from leancurve.formats.scene.moves import Animation
from leancurve.formats.scene.nodes import Nodes
from leancurve.formats.scene.scene import Figure
from leancurve.formats.times import Told, told_by
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats

ON_FRAME = 0.003
"""Frames by which a key may be off one and still is on it: float32 is as coarse as that after ten
minutes."""


@dataclass(frozen=True)
class Over:
    """What a figure's root hangs on: place ``(F, 3)``, rotation ``(F, 4)`` and even scale ``(F,)``,
    F being 1 where it stands still."""

    place: Floats
    turn: Floats
    size: Floats

    @property
    def stands(self) -> bool:
        return len(self.place) == len(self.turn) == len(self.size) == 1


@dataclass(frozen=True)
class Motion:
    """A figure as an animation moves it: places and rotations in the joint above ``(F, J, ...)``,
    even scales of each joint in the world ``(F, J)``; ``uneven`` is the largest uneven scale over
    a turning joint, as a share."""

    told: Told
    place: Floats
    turn: Floats
    sizes: Floats
    uneven: float
    over: Over

    @property
    def seconds(self) -> Floats:
        """The file's times of the frames ``(F,)``."""
        return self.told.seconds

    @property
    def near(self) -> float:
        """How near a frame a key lies that is on it, seconds."""
        return _near(self.told)


def _near(told: Told) -> float:
    return ON_FRAME / float(told.rate)


def motion_of(
    figure: Figure, nodes: Nodes, animation: Animation, rate: Fraction | None,
    beside: frozenset[int] = frozenset(),
) -> Motion:  # fmt: skip
    """A figure on the frames of an animation; what stands over it is folded into its root, even
    scale into places. The nodes ``beside`` it count where the frames are told."""
    above = nodes.above(figure.nodes[0])
    own = [*above, *figure.nodes]
    counted = {*own, *beside}
    told = told_by([s.seconds for (n, _), s in animation.moves.items() if n in counted], rate)
    count, joints = told.frames, len(figure.nodes)
    require_room(joints, 6 * joints, count, "the animation")
    local = {n: local_of(nodes, animation, n, told.seconds, _near(told)) for n in own}
    # What the root hangs on, from the top down.
    place, turn = np.zeros((1, 3)), np.array([[0.0, 0.0, 0.0, 1.0]])
    size = np.ones(1)
    uneven = 0.0
    for node in reversed(above):
        p, q, s = local[node]
        place = place + size[:, None] * rotation.rotate(turn, p)
        turn = rotation.multiply(turn, q)
        even, odd = _even(s)
        size, uneven = size * even, max(uneven, odd)
    # Each joint's numbers lie together: they are written and read a joint at a time.
    places = np.empty((joints, count, 3)).transpose(1, 0, 2)
    turns = np.empty((joints, count, 4)).transpose(1, 0, 2)
    sizes = np.empty((joints, count)).T
    for k, node in enumerate(figure.nodes):
        p, q, s = local[node]
        even, odd = _even(s)
        parent = figure.parents[k]
        if parent < 0:
            places[:, k] = place + size[:, None] * rotation.rotate(turn, p)
            turns[:, k] = rotation.multiply(turn, q)
            sizes[:, k] = size * even
        else:
            places[:, k] = sizes[:, parent, None] * p
            turns[:, k] = q
            sizes[:, k] = sizes[:, parent] * even
        if k in figure.parents:
            uneven = max(uneven, odd)
    return Motion(told, places, turns, sizes, uneven, Over(place, turn, size))


def local_of(
    nodes: Nodes, animation: Animation, node: int, seconds: Floats, near: float
) -> tuple[Floats, Floats, Floats]:
    """Places, rotations and scales of a node in what it hangs on, a row for each time, or one of
    what stands still."""
    placed = nodes.placed[node]
    out = []
    for path, rest in (
        ("translation", placed.place), ("rotation", placed.turn), ("scale", placed.scale),
    ):  # fmt: skip
        sampler = animation.moves.get((node, path))
        if sampler is None:
            out.append(rest[None])
        else:
            out.append(sampler.at(seconds, path == "rotation", near))
    if np.any(np.prod(out[2], axis=1) <= 0.0):
        raise BadInput(f"{nodes.called(node)} is mirrored or flattened: joints cannot be")
    return out[0], out[1], out[2]


def _even(scale: Floats) -> tuple[Floats, float]:
    """Scales ``(F, 3)`` as even ones ``(F,)``, and by what share they are uneven at most."""
    even = np.cbrt(np.prod(scale, axis=1))
    return even, float(np.abs(scale / even[:, None] - 1.0).max())


class Worlds:
    """Matrices ``(F, 4, 4)`` of nodes in the world at some times of an animation, calculated with
    4 × 4 matrices in the file's own terms, each node once."""

    def __init__(self, nodes: Nodes, animation: Animation, seconds: Floats, near: float) -> None:
        self.nodes, self.animation, self.seconds, self.near = nodes, animation, seconds, near
        self._known: dict[int, Floats] = {}

    def of(self, node: int) -> Floats:
        return self.of_all([node])[0]

    def of_all(self, nodes: Sequence[int]) -> list[Floats]:
        needed: dict[int, None] = {}
        for node in nodes:
            needed |= dict.fromkeys(reversed([node, *self.nodes.above(node)]))
        new = [n for n in needed if n not in self._known]
        for node, own in zip(new, self._locals(new), strict=True):
            above = self._known.get(self.nodes.parents[node])
            self._known[node] = own if above is None else above @ own
        return [self._known[n] for n in nodes]

    def _locals(self, nodes: Sequence[int]) -> Floats:
        """Matrices ``(n, F, 4, 4)`` of nodes in what they hang on."""
        out = np.zeros((len(nodes), len(self.seconds), 4, 4))
        turns = np.empty((len(nodes), len(self.seconds), 4))
        sizes = np.empty((len(nodes), len(self.seconds), 3))
        for k, node in enumerate(nodes):
            place, turns[k], sizes[k] = local_of(
                self.nodes, self.animation, node, self.seconds, self.near
            )
            out[k, :, :3, 3] = place
        out[..., :3, :3] = rotation.matrix(turns) * sizes[..., None, :]
        out[..., 3, 3] = 1.0
        return out
