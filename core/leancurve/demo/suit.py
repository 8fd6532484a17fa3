"""The "Deckhand suit": 65 joints, 198 channels, centimetres, Y up, facing Z, arms along X."""

from __future__ import annotations

from functools import cache

from leancurve.figure.skeleton import EndSite, Skeleton

Offset = tuple[float, float, float]

_SPINE: list[tuple[str, str | None, Offset]] = [
    ("Hips", None, (0, 0, 0)),
    ("Spine1", "Hips", (0, 8, -0.5)),
    ("Spine2", "Spine1", (0, 10, -0.5)),
    ("Spine3", "Spine2", (0, 11, 0.5)),
    ("Spine4", "Spine3", (0, 11, 0.5)),
    ("Neck1", "Spine4", (0, 13, -1)),
    ("Neck2", "Neck1", (0, 5, 0.5)),
    ("Head", "Neck2", (0, 5, 1)),
    ("Jaw", "Head", (0, 2, 5)),
]

_ARM: list[tuple[str, str, Offset]] = [
    ("Clavicle", "Spine4", (3, 9, 1)),
    ("UpperArm", "Clavicle", (14.5, 1, -2)),
    ("UpperArmTwist", "UpperArm", (14, 0, 0)),
    ("Forearm", "UpperArm", (28.5, 0, 0)),
    ("ForearmTwist", "Forearm", (12.5, 0, 0)),
    ("Hand", "Forearm", (25.5, 0, 0)),
    ("Palm", "Hand", (3, 0, 0)),
]

_FINGERS: dict[str, tuple[tuple[str, Offset], Offset, Offset]] = {
    "Thumb": (("Hand", (3, -1, 3)), (3.5, -0.5, 2.2), (2.8, 0, 1.2)),
    "Index": (("Palm", (6, 0, 2.6)), (4, 0, 0.2), (2.4, 0, 0)),
    "Middle": (("Palm", (6.2, 0, 0.6)), (4.4, 0, 0), (2.7, 0, 0)),
    "Ring": (("Palm", (5.9, 0, -1.3)), (4.1, 0, -0.1), (2.6, 0, 0)),
    "Little": (("Palm", (5.3, 0, -3)), (3.2, 0, -0.3), (1.9, 0, 0)),
}

_LEG: list[tuple[str, str, Offset]] = [
    ("Thigh", "Hips", (9.5, -4, 0)),
    ("ThighTwist", "Thigh", (0, -21, 0)),
    ("Shin", "Thigh", (0, -43, 0)),
    ("ShinTwist", "Shin", (0, -20, 0)),
    ("Foot", "Shin", (0, -42, 0)),
    ("Toe", "Foot", (0, -7, 13)),
]

ANKLE_HEIGHT = 9.0
THIGH, SHIN = 43.0, 42.0
UPPER_ARM, FOREARM = 28.5, 25.5

_ENDS: dict[str, Offset] = {"Head": (0, 17, 1), "Jaw": (0, -3, 6)}


def _mirrored(offset: Offset, side: str) -> Offset:
    return offset if side == "Left" else (-offset[0], offset[1], offset[2])


@cache
def deckhand() -> Skeleton:
    """The skeleton. Left is +X."""
    rows: list[tuple[str, str | None, Offset]] = list(_SPINE)
    tips: dict[str, Offset] = dict(_ENDS)
    for side in ("Left", "Right"):
        body = {name for name, _, _ in _SPINE}
        for name, parent, offset in (*_ARM, *_LEG):
            up = parent if parent in body else side + parent
            rows.append((side + name, up, _mirrored(offset, side)))
            if name == "Toe":
                tips[side + name] = (0, -1, 7)
            if name == "Palm":
                rows.extend(_fingers(side))
    tips.update(
        {
            row[0]: _mirrored((2.2, 0, 0), row[0][:-7])
            for row in rows
            if "3" in row[0][-1:] and row[0] not in tips and not row[0].startswith("Spine")
        }
    )
    # Depth first, as files list joints.
    names: list[str] = []
    parents: list[int] = []
    offsets: list[Offset] = []
    ends: list[EndSite] = []

    def visit(name: str, parent: int, offset: Offset) -> None:
        index = len(names)
        names.append(name)
        parents.append(parent)
        offsets.append(offset)
        if name in tips:
            ends.append(EndSite(index, tips[name], len(names)))
        for child, up, child_offset in rows:
            if up == name:
                visit(child, index, child_offset)
        if name not in tips and not any(up == name for _, up, _ in rows):
            ends.append(EndSite(index, _stub(offset), len(names)))

    visit("Hips", -1, (0, 0, 0))
    return Skeleton(tuple(names), tuple(parents), tuple(offsets), tuple(ends))


def _stub(offset: Offset) -> Offset:
    """A short tip along a leaf joint's own offset."""
    x, y, z = (round(0.4 * v, 3) for v in offset)
    return (x, y, z)


def _fingers(side: str) -> list[tuple[str, str | None, Offset]]:
    rows: list[tuple[str, str | None, Offset]] = []
    for finger, ((parent, base), middle, last) in _FINGERS.items():
        names = [f"{side}{finger}{k}" for k in (1, 2, 3)]
        rows.append((names[0], side + parent, _mirrored(base, side)))
        rows.append((names[1], names[0], _mirrored(middle, side)))
        rows.append((names[2], names[1], _mirrored(last, side)))
    return rows


def layout(skeleton: Skeleton) -> tuple[tuple[str, ...], ...]:
    """Channels a joint in file order; arms turn in another order than the body, as rigs do."""
    out: list[tuple[str, ...]] = []
    for name in skeleton.names:
        arm = any(part in name for part in ("Arm", "Forearm", "Hand", "Clavicle"))
        turns = ("ry", "rz", "rx") if arm else ("rz", "rx", "ry")
        out.append(("tx", "ty", "tz", *turns) if name == "Hips" else turns)
    return tuple(out)
