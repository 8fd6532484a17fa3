"""What was set by hand between two skeletons, kept for the next clip: a small JSON file."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import orjson

from leancurve.errors import BadInput, short
from leancurve.figure.skeleton import Skeleton
from leancurve.retarget.matching import ChainPair, JointMap
from leancurve.retarget.rest import RestFigure

SCHEMA = "leancurve.map"
SCHEMA_VERSION = 1
FAMILY = 0.8
"""Skeletons that share four fifths of their joints' names are of one family."""

Turn = tuple[float, float, float]


@dataclass(frozen=True)
class Profile:
    """Target joints with their source joint by name, empty for none; chains that follow others; and
    turns of target joints at rest, rotation vectors in degrees about the figure's left, up and
    forward."""

    joints: Mapping[str, str] = field(default_factory=dict)
    rest: Mapping[str, Turn] = field(default_factory=dict)
    chains: Sequence[ChainPair] = ()

    def fitting(self, source: Skeleton, target: Skeleton) -> Profile:
        """What of it both skeletons have joints for."""
        joints = {
            t: s
            for t, s in self.joints.items()
            if t in target.names and (not s or s in source.names)
        }
        chains = [
            c
            for c in self.chains
            if set(c.source) <= set(source.names) and set(c.target) <= set(target.names)
        ]
        rest = {t: v for t, v in self.rest.items() if t in target.names}
        return Profile(joints, rest, tuple(chains))


def family(a: Iterable[str], b: Iterable[str]) -> bool:
    """Whether most joints of two skeletons, by their names, carry the same ones."""
    one, other = set(a), set(b)
    return len(one & other) >= FAMILY * max(len(one), len(other))


def write_profile(profile: Profile) -> bytes:
    """A file that :func:`read_profile` reads."""
    document = {
        "schema": SCHEMA,
        "schema_version": SCHEMA_VERSION,
        "joints": dict(profile.joints),
        "rest": {name: list(turn) for name, turn in profile.rest.items()},
        **({"chains": [c._asdict() for c in profile.chains]} if profile.chains else {}),
    }
    return orjson.dumps(document, option=orjson.OPT_INDENT_2 | orjson.OPT_APPEND_NEWLINE)


def read_profile(data: bytes, name: str | None = None) -> Profile:
    """A profile from its file; :class:`BadInput` says what is wrong with it."""
    try:
        document = orjson.loads(data)
    except orjson.JSONDecodeError:
        raise BadInput("this is not JSON", file=name) from None
    if not isinstance(document, dict) or document.get("schema") != SCHEMA:
        raise BadInput(f"this is not a joint map: its schema is not {SCHEMA!r}", file=name)
    if document.get("schema_version") != SCHEMA_VERSION:
        raise BadInput(
            f"a map of version {short(repr(document.get('schema_version')))}; "
            f"this reads {SCHEMA_VERSION}", file=name,
        )  # fmt: skip
    joints, rest = document.get("joints", {}), document.get("rest", {})
    if not isinstance(joints, dict) or not all(isinstance(v, str) for v in joints.values()):
        raise BadInput("joints: expected names of joints by names of joints", file=name)
    if not isinstance(rest, dict):
        raise BadInput("rest: expected turns by names of joints", file=name)
    chains = document.get("chains", [])
    if not isinstance(chains, list):
        raise BadInput("chains: expected a list of chains", file=name)
    turns = {n: _turn(v, n, name) for n, v in rest.items()}
    return Profile(joints, turns, tuple(_chain(c, name) for c in chains))


def _chain(value: Any, name: str | None) -> ChainPair:
    pairs = [value.get(k) for k in ("source", "target")] if isinstance(value, dict) else []
    named = [p for p in pairs if isinstance(p, list) and [type(n) for n in p] == [str, str]]
    if len(named) != 2:
        raise BadInput("chains: each needs a source and a target, two joints each", file=name)
    (a, b), (c, d) = named
    return ChainPair((a, b), (c, d))


def _turn(value: Any, joint: str, name: str | None) -> Turn:
    numbers = isinstance(value, list) and all(type(v) in (int, float) for v in value)
    if not numbers or len(value) != 3 or max(abs(v) for v in value) > 360:
        raise BadInput(f"rest: {short(joint)} needs three angles within ±360°", file=name)
    x, y, z = (float(v) for v in value)
    return (x, y, z)


def told(source: RestFigure, target: RestFigure, links: JointMap) -> list[dict[str, Any]]:
    """Each target joint with where it has its rotation from, for people and programs; what is
    doubtful first, then as the tree has it."""
    rows = [
        {
            "target": target.skeleton.names[link.target],
            "role": target.body.joints[link.target].role,
            "sources": [source.skeleton.names[j] for j in link.sources],
            "weights": [round(w, 4) for w in link.weights],
            "how": link.how,
            "confidence": round(link.confidence, 3),
            "word": link.word,
        }
        for link in links.links
    ]
    return sorted(rows, key=lambda row: row["word"] != "doubtful")
