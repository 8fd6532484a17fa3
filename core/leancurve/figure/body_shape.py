"""Joints read by their place: pairs of like limbs, the line between them, and bone lengths."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import combinations, pairwise

import numpy as np

from leancurve.figure.skeleton import UP, Skeleton
from leancurve.numbers.arrays import Floats

Placed = tuple[str, float]
FINGERS = ("thumb", "index", "middle", "ring", "little")


@dataclass(frozen=True)
class _Pair:
    """Two like limbs that leave the body at ``centre``: their paths from there to their ends."""

    centre: int
    paths: tuple[tuple[int, ...], tuple[int, ...]]
    length: float
    lowest: float


def read_shape(
    skeleton: Skeleton,
    up_axis: str,
    helpers: frozenset[int] = frozenset(),
    left: Floats | None = None,
) -> list[Placed]:
    """Per joint a role and how far its place can be trusted; ``("", 0)`` where it says nothing.

    Legs are the pair of like limbs that reaches lowest at rest, arms the longest pair higher up
    the line from the hips. In a limb the two longest bones in a row are the upper and the lower
    one. Left is where ``left (3,)`` points, if it is known; else up × forward, forward where the
    toes point. ``helpers`` are no part of a limb; what hangs on one counts as its parent's.
    """
    reader = _Reader(skeleton, up_axis, helpers, left)
    return reader.read()


class _Reader:
    def __init__(
        self, skeleton: Skeleton, up_axis: str, helpers: frozenset[int], left: Floats | None
    ) -> None:
        self.skeleton = skeleton
        self.points = skeleton.rest_positions
        self.up = np.zeros(3)
        self.up[UP[up_axis]] = 1.0
        self.helpers = helpers
        self.known_left = left
        self.children: list[list[int]] = [[] for _ in skeleton.names]
        self.bones = [0.0] * len(skeleton)
        for joint in range(len(skeleton)):
            up = skeleton.parents[joint]
            while up in helpers:
                up = skeleton.parents[up]
            if up >= 0 and joint not in helpers:
                self.children[up].append(joint)
                self.bones[joint] = float(np.linalg.norm(self.points[joint] - self.points[up]))
        self.height = max(skeleton.rest_height, 1e-9)
        self.out: list[Placed] = [("", 0.0)] * len(skeleton)
        self.paths = self._all_paths()

    def read(self) -> list[Placed]:
        pairs = self._pairs()
        if not pairs:
            return self.out
        legs = min(pairs, key=lambda p: p.lowest - 0.1 * p.length)
        # Pairs nested in the legs (a foot's toes) are no arms.
        inside = self._below(legs.paths[0][0]) | self._below(legs.paths[1][0])
        above = [p for p in pairs if p is not legs and p.paths[0][0] not in inside]
        arms = max(above, key=lambda p: p.length, default=None)
        left = self._left(legs)
        self._put(legs.centre, "hips", 0.7)
        for up in self.skeleton.chain(legs.centre)[1:]:
            self._put(up, "helper", 0.6)
        for path, side in self._sides(legs, left):
            self._leg(path, side)
        if arms is not None:
            self._trunk(legs, arms)
            for path, side in self._sides(arms, left):
                self._arm(path, side)
        self._rest()
        return self.out

    def _put(self, joint: int, role: str, trust: float) -> None:
        if joint not in self.helpers and not self.out[joint][0]:
            self.out[joint] = (role, trust)

    def _below(self, joint: int) -> set[int]:
        found = {joint}
        for j in range(joint + 1, len(self.skeleton)):
            if self.skeleton.parents[j] in found:
                found.add(j)
        return found

    def _all_paths(self) -> list[tuple[tuple[int, ...], float]]:
        """The longest way down from each joint, by bone length, and its length: children stand
        behind their parents."""
        out: list[tuple[tuple[int, ...], float]] = [((), 0.0)] * len(self.skeleton)
        for joint in reversed(range(len(self.skeleton))):
            below = self.children[joint]
            if not below:
                out[joint] = ((joint,), 0.0)
                continue
            child = max(below, key=lambda c: out[c][1] + self.bones[c])
            way, length = out[child]
            out[joint] = ((joint, *way), length + self.bones[child])
        return out

    def _pairs(self) -> list[_Pair]:
        """Pairs of children with like paths: as many joints, lengths within a tenth."""
        out: list[_Pair] = []
        for centre in range(len(self.skeleton)):
            limbs = []
            for child in self.children[centre]:
                path, length = self.paths[child]
                if len(path) >= 3:
                    limbs.append((path, length + self.bones[child]))
            for (one, length), (two, other) in combinations(limbs, 2):
                longest = max(length, other)
                if len(one) != len(two) or abs(length - other) > 0.1 * longest:
                    continue
                if longest < 0.2 * self.height:
                    continue
                low = min(float((self.points[p[-1]]) @ self.up) for p in (one, two))
                out.append(_Pair(centre, (one, two), longest, low))
        return out

    def _left(self, legs: _Pair) -> Floats:
        """The direction of the figure's left, level."""
        forward = np.zeros(3)
        for path in legs.paths:
            start = self._two_long(path)
            if start is not None and len(path) > start + 3:
                forward += self.points[path[-1]] - self.points[path[start + 2]]
        forward -= (forward @ self.up) * self.up
        across = self.points[legs.paths[0][0]] - self.points[legs.paths[1][0]]
        across -= (across @ self.up) * self.up
        if self.known_left is not None:
            return np.asarray(across if across @ self.known_left >= 0 else -across)
        if np.linalg.norm(forward) < 0.01 * self.height:
            # Without toes a figure is taken to face Z, or X where Z is up (common practice).
            forward = np.array([0.0, 0.0, 1.0]) if self.up[2] == 0 else np.array([0.0, -1.0, 0.0])
        left = np.cross(self.up, forward)
        return np.asarray(across if across @ left >= 0 else -across)

    def _sides(self, pair: _Pair, left: Floats) -> list[tuple[tuple[int, ...], str]]:
        one, two = pair.paths
        gap = self.points[list(one)].mean(axis=0) - self.points[list(two)].mean(axis=0)
        first = "left" if gap @ left >= 0 else "right"
        return [(one, first), (two, "right" if first == "left" else "left")]

    def _two_long(self, path: tuple[int, ...]) -> int | None:
        """Where on a path the joint sits that begins the two longest bones in a row."""
        lengths = [self.bones[j] for j in path[1:]]
        if len(lengths) < 2:
            return None
        # The upper bone of a limb is hardly ever the shorter one: a collar bone is.
        pairs = pairwise(lengths)
        return int(np.argmax([min(a, b) * (0.8 if b > 1.15 * a else 1.0) for a, b in pairs]))

    def _leg(self, path: tuple[int, ...], side: str) -> None:
        start = self._two_long(path)
        if start is None:
            return
        for k, role in enumerate(("thigh", "shin", "foot", "toe")):
            if start + k < len(path):
                self._put(path[start + k], f"{side} {role}", 0.65 if k < 3 else 0.55)
        for joint in path[start + 4 :]:
            self._put(joint, f"{side} end" if not self.children[joint] else f"{side} toe", 0.4)

    def _arm(self, path: tuple[int, ...], side: str) -> None:
        start = self._two_long(path)
        if start is None:
            return
        for joint in path[:start]:
            self._put(joint, f"{side} clavicle", 0.6)
        for k, role in enumerate(("upper arm", "forearm", "hand")):
            if start + k < len(path):
                self._put(path[start + k], f"{side} {role}", 0.65)
        if start + 2 < len(path):
            self._fingers(path[start + 2], side)

    def _fingers(self, hand: int, side: str) -> None:
        """Chains that leave the hand, or one joint beyond it; five are named by their bases."""
        bases: list[int] = []
        for child in self.children[hand]:
            if len(self.children[child]) > 1:
                self._put(child, f"{side} hand", 0.45)
                bases += self.children[child]
            elif self.children[child]:
                bases.append(child)
        if not bases:
            return
        away = self.points[bases] - self.points[hand]
        if len(bases) == 5:
            # The thumb's base lies nearest the wrist; the others follow in order from it.
            thumb = int(np.argmin(np.linalg.norm(away, axis=1)))
            gaps = np.linalg.norm(away - away[thumb], axis=1)
            axis = np.linalg.svd(away - away.mean(axis=0))[2][0]
            others = [k for k in range(5) if k != thumb]
            axis = np.linalg.svd(away[others] - away[others].mean(axis=0))[2][0]
            across = away @ axis
            if across[thumb] > np.mean(across[others]):
                across = -across
            order = [thumb, *sorted(others, key=lambda k: (across[k], gaps[k]))]
            for finger, k in zip(FINGERS, order, strict=True):
                self._chain(bases[k], f"{side} {finger}", 0.5)
        else:
            for k, base in enumerate(bases):
                self._chain(base, f"{side} {FINGERS[1 + k % 4]}", 0.2)

    def _chain(self, joint: int, role: str, trust: float) -> None:
        for j in sorted(self._below(joint)):
            self._put(j, role, trust)

    def _trunk(self, legs: _Pair, arms: _Pair) -> None:
        line = list(self.skeleton.chain(arms.centre))
        if legs.centre in line:
            for joint in line[: line.index(legs.centre)]:
                self._put(joint, "spine", 0.65)
        taken = {p[0] for p in arms.paths}
        ways = [self.paths[c][0] for c in self.children[arms.centre] if c not in taken]
        if not ways:
            return
        neck = max(ways, key=lambda w: float(self.points[w[-1]] @ self.up))
        fork = next((k for k, j in enumerate(neck) if self._branches(j)), None)
        top = len(neck) - 1 if fork is None else fork
        if fork is None and top >= 2 and not self._moves(neck[top]):
            top -= 1
        for joint in neck[:top]:
            self._put(joint, "neck", 0.6)
        self._put(neck[top], "head", 0.6)
        for joint in neck[top + 1 :]:
            self._put(joint, "end", 0.3)

    def _branches(self, joint: int) -> bool:
        """Whether several things hang on a joint, as eyes, a jaw and the crown do on a head."""
        return len(self.children[joint]) + self._moves(joint) > 1

    def _moves(self, joint: int) -> bool:
        """Whether a joint carries an end site: a bone of its own, not only a point."""
        return any(e.parent == joint for e in self.skeleton.ends)

    def _rest(self) -> None:
        """Leaves beside a limb's bone are twist joints; others say nothing."""
        for joint, parent in enumerate(self.skeleton.parents):
            if self.out[joint][0] or parent < 0 or self.skeleton.children[joint]:
                continue
            limb = self.out[parent][0]
            if not limb.endswith(("arm", "forearm", "thigh", "shin")):
                continue
            following = [c for c in self.skeleton.children[parent] if self.out[c][0]]
            for other in following:
                bone = self.skeleton.offset_array[other]
                share = float(self.skeleton.offset_array[joint] @ bone / max(bone @ bone, 1e-12))
                off = np.linalg.norm(self.skeleton.offset_array[joint] - share * bone)
                if 0.05 < share < 0.95 and off < 0.05 * np.linalg.norm(bone):
                    self._put(joint, f"{limb.split()[0]} twist", 0.6)
