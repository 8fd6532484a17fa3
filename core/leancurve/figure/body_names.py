"""Joint names read as roles: many spellings, prefixes and numberings (common practice)."""

from __future__ import annotations

import re
from collections import Counter

from leancurve.figure.skeleton import Skeleton

LEFT = {"l", "left", "lft", "lt"}
RIGHT = {"r", "right", "rgt", "rt"}

# A word's pattern, and the parts it may mean with their probability. First match counts.
PATTERNS: tuple[tuple[str, dict[str, float]], ...] = (
    (r"twist|roll$", {"twist": 0.9}),
    (r"nub|^end|end$|endsite|tip$|effector|hdtop|headtop", {"end": 0.85}),
    (r"helper|dummy|prop|attach|socket|control|ctrl|^ik|ik$|weapon|null", {"helper": 0.8}),
    (r"thumb|pollex", {"thumb": 0.9}),
    (r"index|pointer|forefinger", {"index": 0.9}),
    (r"mid(dle)?(finger)?$|middle", {"middle": 0.85}),
    (r"^fingers$", {"middle": 0.6}),
    (r"ring", {"ring": 0.85}),
    (r"pinky|pinkie|little|small", {"little": 0.85}),
    (r"clav|collar|scapula", {"clavicle": 0.9}),
    (r"up(per)?arm|humerus|bicep", {"upper arm": 0.9}),
    (r"for[e]?arm|low(er)?arm|elbow|ulna|radius", {"forearm": 0.9}),
    (r"palm|metacarp|handbase", {"hand": 0.6}),
    (r"wrist|hand$|^hand|carpus", {"hand": 0.85}),
    (r"thigh|up(per)?leg|femur", {"thigh": 0.9}),
    (r"shin|calf|low(er)?leg|knee|tibia|crus", {"shin": 0.9}),
    (r"ankle|foot|tarsus|talus", {"foot": 0.85}),
    (r"toe|ball|metatars", {"toe": 0.85}),
    (r"shoulder", {"clavicle": 0.45, "upper arm": 0.45}),
    (r"arm$|^arm", {"upper arm": 0.55, "forearm": 0.25}),
    (r"leg$|^leg", {"thigh": 0.4, "shin": 0.45}),
    (r"pelvis|^hips|hips$", {"hips": 0.9}),
    (r"^hip$", {"hips": 0.55, "thigh": 0.5}),
    (r"jaw|chin|mandible", {"jaw": 0.9}),
    (r"eye|brow|lid", {"eye": 0.8}),
    (r"neck|cervic", {"neck": 0.9}),
    (r"head|skull|cranium", {"head": 0.85}),
    (r"spine|spn|chest|thorax|torso|back|abdomen|waist|lumbar|trunk|belly|rib", {"spine": 0.85}),
    (r"root|reference|armature|world|origin|trajectory", {"helper": 0.45, "hips": 0.3}),
)
SPLIT = re.compile(r"[A-Z]+(?=[A-Z][a-z])|[A-Z]?[a-z]+|[A-Z]+|\d+")
LIMB = {
    *("clavicle", "upper arm", "forearm", "hand", "thumb", "index", "middle", "ring", "little"),
    *("thigh", "shin", "foot", "toe"),
}


def words(name: str) -> list[str]:
    """``"rig:LeftUpLeg_01"`` → ``["left", "up", "leg", "01"]``."""
    bare = re.split(r"[:|]", name)[-1]
    return [w.lower() for w in SPLIT.findall(bare)]


def _side_of(tokens: list[str]) -> tuple[str, list[str]]:
    """The side that the words name, and the words without it."""
    for side, spellings in (("left", LEFT), ("right", RIGHT)):
        for k, token in enumerate(tokens):
            if token in spellings:
                return side, tokens[:k] + tokens[k + 1 :]
    # Grown together: "lthigh", "rfoot".
    for k, token in enumerate(tokens):
        for side, letter in (("left", "l"), ("right", "r")):
            rest = token.removeprefix("left" if side == "left" else "right")
            rest = rest if rest != token else token[1:] if token[:1] == letter else ""
            if rest and any(LIMB & set(parts) and re.search(p, rest) for p, parts in PATTERNS):
                known = any(re.search(p, token) for p, _ in PATTERNS if len(rest) > 2)
                if not known or token.startswith(("left", "right")) or len(rest) > 3:
                    return side, [*tokens[:k], rest, *tokens[k + 1 :]]
    return "", tokens


def read_names(skeleton: Skeleton) -> list[dict[str, float]]:
    """Per joint the roles its name may mean, with a probability each; empty if it says nothing."""
    split = [words(n) for n in skeleton.names]
    common = {
        w
        for w, count in Counter(w for tokens in split for w in set(tokens)).items()
        if len(split) > 4 and count >= 0.8 * len(split)
    }
    out: list[dict[str, float]] = []
    for tokens in split:
        side, rest = _side_of([t for t in tokens if t not in common])
        phrase = "".join(t for t in rest if not t.isdigit())
        found: dict[str, float] = next(
            (parts for pattern, parts in PATTERNS if phrase and re.search(pattern, phrase)), {}
        )
        roles: dict[str, float] = {}
        for part, probability in found.items():
            if part in LIMB:
                # A limb's joint without a side cannot be one role or the other.
                if side:
                    roles[f"{side} {part}"] = probability
            elif part in ("twist", "end"):
                roles[f"{side} {part}" if side else part] = probability
            elif not side or part not in ("hips",):
                roles[part] = probability
        out.append(roles)
    return _in_company(out)


PLAIN = 0.8
"""How surely a name by itself has to say what it is."""


def role_called(name: str) -> str | None:
    """The role that a name says by itself, plainly: ``"LeftForearm"`` → ``"left forearm"``."""
    (roles,) = read_names(Skeleton((name,), (-1,), ((0.0, 0.0, 0.0),)))
    best = max(roles, key=lambda r: roles[r], default=None)
    return best if best is not None and roles[best] >= PLAIN else None


# What settles a word with two meanings: another joint on that side whose name is plain.
COMPANY = (
    ("forearm", "upper arm", "forearm"),
    ("upper arm", "clavicle", "upper arm"),
    ("thigh", "shin", "thigh"),
    ("shin", "thigh", "shin"),
)


def _in_company(names: list[dict[str, float]]) -> list[dict[str, float]]:
    """Names with two meanings, settled by what the others on that side are called.

    Beside a ``LeftForeArm`` a ``LeftArm`` is the upper arm, and a ``LeftShoulder`` the collar bone.
    """
    for side in ("left", "right"):
        for plain, meant, other in COMPANY:
            surely = any(
                roles.get(f"{side} {plain}", 0.0) > 0.8 and len(roles) == 1 for roles in names
            )
            if not surely:
                continue
            for k, roles in enumerate(names):
                if {f"{side} {meant}", f"{side} {other}"} <= set(roles):
                    names[k] = {f"{side} {meant}": 0.85}
    return names
