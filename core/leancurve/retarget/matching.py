"""Which joints of one skeleton give which of another theirs.

Chains are matched to chains by what their joints are: the trunk from hips to chest, the neck from
chest to head, collar bones, arms, fingers, legs, toes. Joints of no body go by their names.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Literal, NamedTuple

import numpy as np

from leancurve.errors import BadInput
from leancurve.figure.body import SIDED
from leancurve.figure.skeleton import Skeleton
from leancurve.numbers.arrays import Floats
from leancurve.retarget.rest import TINY, RestFigure

How = Literal["joint", "chain", "twist", "follows", "hand"]
HAND = ("index", "middle", "ring", "little")
SURE, LIKELY = 0.8, 0.55
SAME_NAME = 0.6
SHARED = 0.9
"""What is left of the confidence where chains of different counts share."""
LIMB = tuple(part for part in SIDED if part not in ("twist", "end"))


@dataclass(frozen=True)
class Link:
    """Where a target joint has its rotation from: source joints, with ``weights`` that add up to 1
    where it lies between several; from none where it follows its parent. ``confidence`` 0 to 1."""

    target: int
    sources: tuple[int, ...]
    weights: tuple[float, ...]
    how: How
    confidence: float

    @property
    def mapped(self) -> bool:
        return len(self.sources) > 0

    @property
    def word(self) -> str:
        """The confidence in a word."""
        if not self.mapped:
            return "follows" if self.how == "follows" else "shares a twist"
        sure, likely = self.confidence >= SURE, self.confidence >= LIKELY
        return "sure" if sure else "likely" if likely else "doubtful"


@dataclass(frozen=True)
class JointMap:
    """A link for each target joint, in joint order."""

    links: tuple[Link, ...]

    @property
    def given(self) -> frozenset[int]:
        """Source joints that give something."""
        return frozenset(j for link in self.links for j in link.sources)


class ChainPair(NamedTuple):
    """A chain of the target set by hand to follow one of the source: each by the names of its first
    and its last joint, from the top."""

    source: tuple[str, str]
    target: tuple[str, str]


def _one(target: int, source: int, how: How, confidence: float) -> Link:
    return Link(target, (source,), (1.0,), how, confidence)


def _none(target: int, how: How) -> Link:
    return Link(target, (), (), how, 1.0)


def match(
    source: RestFigure,
    target: RestFigure,
    by_hand: Mapping[str, str] | None = None,
    chains: Sequence[ChainPair] = (),
) -> JointMap:
    """The map of a source onto a target; ``by_hand`` gives target joints their source joint by
    name, or none: ``{"wrist.l": "LeftHand", "tail": ""}``. ``chains`` are shared along their
    lengths, end to end; a joint that is given by itself counts before its chain."""
    links: dict[int, Link] = {}
    for chain, other, exact in _chains(source, target):
        for link in _shared(source, target, chain, other, exact):
            links.setdefault(link.target, link)
    given = {j for link in links.values() for j in link.sources}
    for joint, name in enumerate(target.skeleton.names):
        if joint in links:
            continue
        role = target.body.joints[joint].role
        twin = _named(source.skeleton, name)
        if twin is not None and twin not in given and source.body.joints[twin].role == role:
            how: How = "twist" if role.endswith("twist") else "joint"
            links[joint] = _one(joint, twin, how, SAME_NAME)
    for twist, twin, confidence in _twists(source, target):
        if twist not in links:
            links[twist] = _one(twist, twin, "twist", confidence)
    for pair in chains:
        one = chain_between(source.skeleton, *pair.source, "the source")
        other = chain_between(target.skeleton, *pair.target, "the target")
        for link in _shared(source, target, one, other, True):
            links[link.target] = replace(link, how="hand", confidence=1.0)
    for name, chosen in (by_hand or {}).items():
        joint = _index(target.skeleton, name, "the target")
        if chosen == "":
            links[joint] = _none(joint, "follows")
        else:
            links[joint] = _one(joint, _index(source.skeleton, chosen, "the source"), "hand", 1.0)
    count = len(target.skeleton)
    return JointMap(tuple(links.get(j, _none(j, _without(target, j))) for j in range(count)))


def _without(target: RestFigure, joint: int) -> How:
    return "twist" if target.body.joints[joint].role.endswith("twist") else "follows"


def _index(skeleton: Skeleton, name: str, whose: str) -> int:
    try:
        return skeleton.index(name)
    except KeyError:
        raise BadInput(f"map: {whose} has no joint named {name!r}") from None


def chain_between(skeleton: Skeleton, top: str, end: str, whose: str) -> list[int]:
    """The joints from one down to another; :class:`BadInput` where the second does not hang on the
    first."""
    first, last = (_index(skeleton, name, whose) for name in (top, end))
    up = list(skeleton.chain(last))
    if first not in up:
        raise BadInput(f"map: {end!r} does not hang on {top!r} in {whose}")
    return up[: up.index(first) + 1][::-1]


def _named(skeleton: Skeleton, name: str) -> int | None:
    return skeleton.names.index(name) if name in skeleton.names else None


def _chains(
    source: RestFigure, target: RestFigure
) -> Iterator[tuple[Sequence[int], Sequence[int], bool]]:
    """Pairs of chains; the last says whether both of their ends are the same thing."""
    trunks = [_line(s, "hips", "spine") for s in (source, target)]
    if all(trunks):
        yield trunks[0], trunks[1], True
        necks = [_line(s, "neck", "head", t[-1]) for s, t in zip((source, target), trunks,
                                                               strict=True)]  # fmt: skip
        if all(len(n) > 1 for n in necks):
            yield necks[0], necks[1], True
    for role in ("jaw", "eye"):
        yield source.body.all(role), target.body.all(role), False
    for side in ("left", "right"):
        for part in LIMB:
            role = f"{side} {part}"
            one, other = (_run(s, role) for s in (source, target))
            if part in HAND and not one:
                one = _run(source, f"{side} {_nearest_finger(source, side, part)}")
            yield one, other, False


def _nearest_finger(standing: RestFigure, side: str, part: str) -> str:
    """The finger that stands for one that a hand has not: the one beside it."""
    there = [f for f in HAND if standing.find(f"{side} {f}") is not None]
    return min(there, key=lambda f: abs(HAND.index(f) - HAND.index(part)), default=part)


def _line(standing: RestFigure, first: str, second: str, above: int | None = None) -> list[int]:
    """Joints of two roles that follow each other, from the top; with ``above`` before them."""
    found = sorted((*standing.body.all(first), *standing.body.all(second)))
    if not found:
        return []
    if first == "hips":
        found = found[: 1 + len(standing.body.all(second))]
    last = found[-1]
    line = [j for j in reversed(standing.skeleton.chain(last)) if j in found]
    return line if above is None else [above, *line]


def _run(standing: RestFigure, role: str) -> list[int]:
    """Joints of a role that hang one under another, from the topmost."""
    found = standing.body.all(role)
    return [j for j in found if j == found[0] or standing.skeleton.parents[j] in found]


def _middles(standing: RestFigure, chain: Sequence[int]) -> Floats:
    """Where on a chain's length the middle of each joint's bone lies, 0 to 1."""
    points = standing.points[list(chain)]
    last = standing.bones[chain[-1]]
    lengths = np.linalg.norm([*np.diff(points, axis=0), last], axis=1)
    ends = np.cumsum(lengths)
    return np.asarray((ends - 0.5 * lengths) / max(float(ends[-1]), TINY))


def _shared(
    source: RestFigure, target: RestFigure, chain: Sequence[int], other: Sequence[int], exact: bool
) -> Iterator[Link]:
    """Links of a chain onto another: joint by joint where they are as many; else the first and,
    where ``exact``, the last are the same, and the others lie between by their bones' middles."""
    if not len(chain) or not len(other):
        return
    trust = [source.body.joints[j].confidence for j in chain]
    own = [target.body.joints[j].confidence for j in other]
    if len(chain) == len(other):
        for one, joint, a, b in zip(chain, other, trust, own, strict=True):
            yield _one(joint, one, "joint", min(a, b))
        return
    sure = SHARED * min(*trust, *own)
    if not exact and len(other) == 1:
        yield _one(other[0], chain[0], "joint", min(trust[0], own[0]))
        return
    lengths = np.linalg.norm(np.diff(source.points[list(chain)], axis=0), axis=1)
    # A bone of no length turns nothing of its own: it would take over what lies around it.
    kept = [0, *(k for k in range(1, len(chain)) if k == len(chain) - 1
                 or lengths[k] > 1e-3 * source.height)]  # fmt: skip
    giving = [chain[k] for k in kept]
    at, wanted = _middles(source, giving), _middles(target, other)
    for k, joint in enumerate(other):
        if k == 0 or (exact and k == len(other) - 1):
            yield _one(joint, chain[0] if k == 0 else chain[-1], "chain", sure)
            continue
        near, weights = _between(at, float(wanted[k]))
        yield Link(joint, tuple(giving[n] for n in near), weights, "chain", sure)


def _between(at: Floats, here: float) -> tuple[list[int], tuple[float, ...]]:
    """Which of ascending places lie around one, and how each weighs there: on the cubic through the
    nearest four, or what there is of them. A straight line between two loses up to three times as
    much on the way there and back."""
    here = float(np.clip(here, at[0], at[-1]))
    high = int(np.searchsorted(at, here))
    near = list(range(max(high - 2, 0), min(high + 2, len(at))))
    weights = []
    for k in near:
        others = [n for n in near if n != k]
        weights.append(float(np.prod([(here - at[n]) / (at[k] - at[n]) for n in others])))
    return near, tuple(weights)


def twist_place(standing: RestFigure, joint: int) -> tuple[int, float] | None:
    """The limb's joint that a twist joint hangs on, and how far down its bone it sits, 0 to 1."""
    if not standing.body.joints[joint].role.endswith("twist"):
        return None
    parent = standing.skeleton.parents[joint]
    # Several may lie in line on one bone.
    while parent >= 0 and standing.body.joints[parent].role.endswith("twist"):
        parent = standing.skeleton.parents[parent]
    if parent < 0:
        return None
    bone = standing.bones[parent]
    along = float((standing.points[joint] - standing.points[parent]) @ bone)
    return parent, float(np.clip(along / max(float(bone @ bone), TINY), 0.0, 1.0))


def _twists(source: RestFigure, target: RestFigure) -> Iterator[tuple[int, int, float]]:
    """Twist joints of the target with those of the source that sit on the same limb."""
    theirs: dict[str, list[tuple[float, int]]] = {}
    for joint in range(len(source.skeleton)):
        place = twist_place(source, joint)
        if place is not None:
            role = source.body.joints[place[0]].role
            theirs.setdefault(role, []).append((place[1], joint))
    for joint in range(len(target.skeleton)):
        place = twist_place(target, joint)
        if place is None:
            continue
        near = theirs.get(target.body.joints[place[0]].role, [])
        if near:
            off, twin = min((abs(share - place[1]), j) for share, j in near)
            if off < 0.25:
                yield joint, twin, min(SURE, target.body.joints[joint].confidence)
