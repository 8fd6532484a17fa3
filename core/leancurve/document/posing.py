"""Poses by hand: the same pose on the other side of the body."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TypeAlias

import numpy as np

from leancurve.document.clip import Clip
from leancurve.document.root_motion import heading
from leancurve.document.rotations import angles_near, quaternions
from leancurve.document.track import TrackId, base_track
from leancurve.errors import BadInput
from leancurve.figure.skeleton import UP
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats

Values: TypeAlias = Mapping[int, Mapping[str, float]]
"""Joints' channel values: ``{3: {"rx": 12.5}}``, degrees and the skeleton's unit."""

ALIKE = 0.1
"""How far from mirrored the zero pose may be, as a share of its size."""


def opposites(clip: Clip) -> tuple[int, ...]:
    """Each joint's counterpart on the other side of the body; its own index without one."""
    out = list(range(len(clip.skeleton)))
    roles = {j.role for j in clip.body.joints}
    for role in roles:
        if role.startswith("left "):
            there = "right " + role.removeprefix("left ")
            for a, b in zip(clip.body.all(role), clip.body.all(there), strict=False):
                out[a], out[b] = b, a
    return tuple(out)


def side_axis(clip: Clip) -> int:
    """The axis from side to side in the zero pose; :class:`BadInput` where no sides are known."""
    left, right = _sides(clip)
    return int(np.argmax(np.abs(left - right).mean(axis=0)))


def ahead(clip: Clip) -> Floats:
    """Where the figure faces at rest, level ``(3,)``; :class:`BadInput` where it has no sides."""
    left, right = _sides(clip, "travel")
    roles = [clip.body.joints[a].role for a, _ in _pairs(clip)]
    signs = np.array([1.0 if role.startswith("left ") else -1.0 for role in roles])
    across = (signs[:, None] * (left - right)).mean(axis=0)
    out = np.cross(across, np.eye(3)[UP[clip.reading.up_axis]])
    return np.asarray(out / max(float(np.linalg.norm(out)), 1e-12))


def _pairs(clip: Clip) -> list[tuple[int, int]]:
    return [(a, b) for a, b in enumerate(opposites(clip)) if a < b]


def _sides(clip: Clip, what: str = "mirror") -> tuple[Floats, Floats]:
    """Where joints of both sides rest ``(N, 3)``, each beside its counterpart."""
    pairs = _pairs(clip)
    if not pairs:
        raise BadInput(f"{what}: no joints of the left and the right side are known")
    at = clip.skeleton.rest_positions
    return at[[a for a, _ in pairs]], at[[b for _, b in pairs]]


def lateral_axis(clip: Clip) -> int:
    """The axis from side to side in the zero pose; :class:`BadInput` where the two sides are
    not alike, as mirrored rotations would mean nothing."""
    axis = side_axis(clip)
    at = clip.skeleton.rest_positions
    left, right = _sides(clip)
    centre = (left + right)[:, axis].mean() / 2
    flipped = right.copy()
    flipped[:, axis] = 2 * centre - flipped[:, axis]
    off = np.linalg.norm(flipped - left, axis=1).max()
    if off > ALIKE * float(np.ptp(at, axis=0).max()):
        raise BadInput("mirror: the skeleton's two sides are not alike in its zero pose")
    return axis


def mirrored(clip: Clip, values: Values, frame: float) -> dict[int, dict[str, float]]:
    """A pose's values as they are on the other side of the body, at a frame.

    Each joint's rotation is reflected through the plane between the sides and goes to its
    counterpart. The root keeps its place and its heading. Angles are the solution nearest to
    what stands at the frame.
    """
    axis = lateral_axis(clip)
    across = opposites(clip)
    up = "xyz".index(clip.reading.up_axis)
    out: dict[int, dict[str, float]] = {}
    for joint, given in values.items():
        there = across[joint]
        made: dict[str, float] = {}
        order, goal = clip.order(joint), clip.order(there)
        turns = [f"r{a.lower()}" for a in order]
        if len(order) == 3 and len(goal) == 3 and all(c in given for c in turns):
            q = quaternions(np.array([given[c] for c in turns]), order)
            whole = _in_figure(clip, joint, q)
            root = _is_root(clip, joint)
            whole = _reflected_root(whole, axis, up) if root else _reflected(whole, axis)
            q = _in_joint(clip, there, whole)
            near = np.array([_now(clip, base_track(there, f"r{a.lower()}"), frame) for a in goal])
            angles = angles_near(q, goal, near)
            made |= {f"r{a.lower()}": float(x) for a, x in zip(goal, angles, strict=True)}
        if not _is_root(clip, joint):
            made |= _moved_across(clip, joint, there, given, axis)
        out[there] = made
    return out


def _is_root(clip: Clip, joint: int) -> bool:
    return clip.skeleton.parents[joint] < 0


def _now(clip: Clip, channel: TrackId, frame: float) -> float:
    return float(clip.curves[channel].at(np.array([frame]))[0])


def _reflected(q: Floats, axis: int) -> Floats:
    """A rotation reflected through the plane across ``axis``: turns about it stay."""
    out = -q
    out[[axis, 3]] = q[[axis, 3]]
    return out


def _reflected_root(q: Floats, axis: int, up: int) -> Floats:
    """The root's lean reflected, its heading (the twist about the up axis) kept."""
    facing = heading(q, up)
    lean = rotation.multiply(rotation.conjugate(facing), q)
    return np.asarray(rotation.multiply(facing, _reflected(lean, axis)))


def _parent_world(clip: Clip, joint: int) -> Floats:
    """The world rotation ``(4,)`` at rest of the axes in which a joint stands."""
    parent = clip.skeleton.parents[joint]
    return rotation.IDENTITY if parent < 0 else clip.skeleton.rest_world[0][parent]


def _in_figure(clip: Clip, joint: int, local: Floats) -> Floats:
    """A joint's turn from its rest, in the figure's axes, all above it being at rest."""
    world = rotation.multiply(_parent_world(clip, joint), local)
    rest = clip.skeleton.rest_world[0][joint]
    return np.asarray(rotation.multiply(world, rotation.conjugate(rest)))


def _in_joint(clip: Clip, joint: int, turn: Floats) -> Floats:
    """The local rotation with which a joint stands turned from its rest by ``turn``."""
    world = rotation.multiply(turn, clip.skeleton.rest_world[0][joint])
    return np.asarray(rotation.multiply(rotation.conjugate(_parent_world(clip, joint)), world))


def _moved_across(
    clip: Clip, joint: int, there: int, given: Mapping[str, float], axis: int
) -> dict[str, float]:
    """Position channels on the other side: the way from rest, reflected in the figure's axes."""
    names = [n for n in ("tx", "ty", "tz") if n in given and n in clip.layout[there]]
    offsets = clip.skeleton.offset_array
    away = np.zeros(3)
    for name in names:
        k = "xyz".index(name[1])
        away[k] = given[name] - (0.0 if clip.adds_offset(joint) else offsets[joint, k])
    world = rotation.rotate(_parent_world(clip, joint), away)
    world[axis] = -world[axis]
    back = rotation.rotate(rotation.conjugate(_parent_world(clip, there)), world)
    if not clip.adds_offset(there):
        back = back + offsets[there]
    return {name: float(back["xyz".index(name[1])]) for name in names}
