"""Poses by hand: the same pose on the other side of the body."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TypeAlias

import numpy as np

from leancurve.document.clip import ChannelId, Clip
from leancurve.errors import BadInput
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


def lateral_axis(clip: Clip) -> int:
    """The axis from side to side in the zero pose; :class:`BadInput` where the two sides are
    not alike, as mirrored rotations would mean nothing."""
    pairs = [(a, b) for a, b in enumerate(opposites(clip)) if a < b]
    if not pairs:
        raise BadInput("mirror: no joints of the left and the right side are known")
    at = clip.skeleton.rest_positions
    left, right = (at[[p[side] for p in pairs]] for side in (0, 1))
    axis = int(np.argmax(np.abs(left - right).mean(axis=0)))
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
            q = rotation.from_euler(np.array([given[c] for c in turns]), order)
            q = _reflected_root(q, axis, up) if _is_root(clip, joint) else _reflected(q, axis)
            near = np.array([_now(clip, ChannelId(there, f"r{a.lower()}"), frame) for a in goal])
            angles = rotation.angles_near(q, goal, near)
            made |= {f"r{a.lower()}": float(x) for a, x in zip(goal, angles, strict=True)}
        if not _is_root(clip, joint):
            for k, name in enumerate(("tx", "ty", "tz")):
                if name in given and name in clip.layout[there]:
                    made[name] = _across(clip, joint, there, k, given[name], k == axis)
        out[there] = made
    return out


def _is_root(clip: Clip, joint: int) -> bool:
    return clip.skeleton.parents[joint] < 0


def _now(clip: Clip, channel: ChannelId, frame: float) -> float:
    return float(clip.curves[channel].at(np.array([frame]))[0])


def _reflected(q: Floats, axis: int) -> Floats:
    """A rotation reflected through the plane across ``axis``: turns about it stay."""
    out = -q
    out[[axis, 3]] = q[[axis, 3]]
    return out


def _reflected_root(q: Floats, axis: int, up: int) -> Floats:
    """The root's lean reflected, its heading (the twist about the up axis) kept."""
    twist = np.zeros(4)
    twist[[up, 3]] = q[[up, 3]]
    size = np.linalg.norm(twist)
    heading = twist / size if size > 1e-9 else np.array([0.0, 0.0, 0.0, 1.0])
    lean = rotation.multiply(rotation.conjugate(heading), q)
    return np.asarray(rotation.multiply(heading, _reflected(lean, axis)))


def _across(clip: Clip, joint: int, there: int, k: int, value: float, lateral: bool) -> float:
    """A position channel's value on the other side: its way from rest, turned round across."""
    offsets = clip.skeleton.offset_array
    away = value if clip.adds_offset(joint) else value - offsets[joint, k]
    away = -away if lateral else away
    return float(away if clip.adds_offset(there) else away + offsets[there, k])
