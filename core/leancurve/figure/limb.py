"""Two-bone limbs: moved to a target, the end's own orientation kept.

The shin turns about one axis, the hinge, and the limb about its hip by the shortest arc. Near
straight the captured bend's normal says nothing (under 1° it is up to 180° wrong): there the
limb's usual hinge takes its place, softly, so that a straight leg bends as it always does.
"""

from __future__ import annotations

from typing import TypeAlias

import numpy as np

from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats

Three: TypeAlias = tuple[Floats, Floats, Floats]

BENT_DEG = 10.0
"""Bends from here on tell about which axis a limb bends."""
BLEND = (np.sin(np.radians(2.0)), np.sin(np.radians(6.0)))
"""Sines of the bends between which the usual hinge gives way to the frame's own."""
WRONG_SIDE = np.radians(-15.0)
"""A bend further back than this is another way to bend, not an over-straight one."""
LEAST_BACK = np.radians(4.0)
SOFT = 0.01
"""Share of the limb's length over which it comes to its full length softly."""
TINY = 1e-12


def _dot(a: Floats, b: Floats) -> Floats:
    return np.asarray(np.sum(a * b, axis=-1))


def _unit(a: Floats) -> Floats:
    return np.asarray(a / np.maximum(np.linalg.norm(a, axis=-1, keepdims=True), TINY))


def _smoothstep(x: Floats, low: Floats | float, high: Floats | float) -> Floats:
    t = np.clip((x - low) / (high - low), 0.0, 1.0)
    return np.asarray(t * t * (3.0 - 2.0 * t))


def _across(a: Floats) -> Floats:
    """A unit vector across each ``a (…, 3)``: across its smallest coordinate's axis too."""
    return _unit(np.cross(a, np.eye(3)[np.argmin(np.abs(a), axis=-1)]))


def _square_to(a: Floats, line: Floats) -> Floats:
    """Directions ``a (F, 3)`` made square to unit ones, any such where they lie along them."""
    out = a - _dot(a, line)[:, None] * line
    lost = np.linalg.norm(out, axis=-1) < 1e-9
    return _unit(np.where(lost[:, None], _across(line), out))


def _about(axis: Floats, angle: Floats) -> Floats:
    return np.concatenate([axis * np.sin(angle / 2)[:, None], np.cos(angle / 2)[:, None]], axis=-1)


def arc(a: Floats, b: Floats, axis: Floats) -> Floats:
    """The shortest rotations ``(F, 4)`` that turn directions ``a`` into ``b``, ``(F, 3)``.

    Opposite ones turn half a turn about ``axis``; a direction of no length turns nothing.
    """
    u, v = _unit(a), _unit(b)
    q = np.concatenate([np.cross(u, v), 1.0 + _dot(u, v)[:, None]], axis=-1)
    size = np.linalg.norm(q, axis=-1)
    half = np.concatenate([_square_to(axis, u), np.zeros((len(u), 1))], axis=-1)
    q = np.where((size < 1e-9)[:, None], half, q / np.maximum(size, TINY)[:, None])
    none = (np.linalg.norm(a, axis=-1) < TINY) | (np.linalg.norm(b, axis=-1) < TINY)
    return np.asarray(np.where(none[:, None], rotation.IDENTITY, q))


def usual_hinge(upper: Floats, points: Three) -> Floats:
    """About which axis ``(3,)`` a limb bends as a rule, in its upper bone's own axes.

    ``upper`` are the upper joint's world rotations ``(F, 4)``, ``points`` the positions of its
    three joints ``(F, 3)``. A limb that is never bent gets an axis across its bone.
    """
    h, k, a = points
    u, v = _unit(k - h), _unit(a - k)
    n = np.cross(u, v)
    bend = np.arctan2(np.linalg.norm(n, axis=-1), _dot(u, v))
    own = rotation.rotate(rotation.conjugate(upper), n)
    bent = bend > np.radians(BENT_DEG)
    sum_ = own[bent].sum(axis=0) if np.any(bent) else own.sum(axis=0)
    if np.linalg.norm(sum_) > 1e-3:
        return _unit(sum_)
    bone = rotation.rotate(rotation.conjugate(upper[:1]), u[:1])
    return np.asarray(_across(bone)[0])


def reach(rotations: Three, parent: Floats, points: Three, target: Floats, hinge: Floats) -> Three:
    """Local rotations of upper, middle and end joint that bring the end to ``target (F, 3)``.

    ``rotations`` are the three joints' world rotations ``(F, 4)``, ``parent`` that of the upper
    one's parent, ``points`` their positions, ``hinge`` is of :func:`usual_hinge`. The end keeps its
    orientation in the world, bones their lengths; an end that is at its target stays as it is. A
    target out of reach is approached as far as the limb goes, softly.
    """
    h, k, a = points
    upper, lower = np.linalg.norm(k - h, axis=-1), np.linalg.norm(a - k, axis=-1)
    u, v = _unit(k - h), _unit(a - k)
    normal, along = np.cross(u, v), _dot(u, v)
    usual = _square_to(rotation.rotate(rotations[0], np.broadcast_to(hinge, u.shape)), u)
    axis, bend = _bend(u, normal, along, usual)
    was = np.linalg.norm(a - h, axis=-1)
    wanted = _within_reach(np.linalg.norm(target - h, axis=-1), was, upper, lower)
    bones = np.maximum(2.0 * upper * lower, TINY)
    level = np.maximum(np.hypot(along, _dot(axis, normal)), TINY)
    cosine = (wanted**2 - upper**2 - lower**2) / bones / level
    angle = np.arccos(np.clip(cosine, -1.0, 1.0))
    # An over-straight limb stays so as far as it stays nearly straight.
    margin = np.maximum(LEAST_BACK, -bend)
    back = 2.0 * np.minimum(bend, 0.0) * (1.0 - _smoothstep(angle, margin, 2.5 * margin))
    still = np.abs(wanted - was) <= TINY * (upper + lower)
    turn = _about(axis, np.where(still, 0.0, angle + back - bend))
    end = k + rotation.rotate(turn, a - k)
    swing = arc(end - h, target - h, axis)
    world_upper = rotation.multiply(swing, rotations[0])
    world_middle = rotation.multiply(rotation.multiply(swing, turn), rotations[1])
    return (
        rotation.multiply(rotation.conjugate(parent), world_upper),
        rotation.multiply(rotation.conjugate(world_upper), world_middle),
        rotation.multiply(rotation.conjugate(world_middle), rotations[2]),
    )


def _bend(u: Floats, normal: Floats, along: Floats, usual: Floats) -> tuple[Floats, Floats]:
    """The axis about which each frame bends, square to the upper bone, and by how much (rad)."""
    size = np.linalg.norm(normal, axis=-1)
    own = np.where(along < 0, 1.0, _smoothstep(size, *BLEND))[:, None]
    side = np.where(_dot(normal, usual) < 0, -1.0, 1.0)[:, None]
    axis = _square_to((1.0 - own) * usual + own * side * _unit(normal), u)
    bend = np.arctan2(_dot(axis, normal), along)
    wrong = bend < WRONG_SIDE
    return np.where(wrong[:, None], -axis, axis), np.where(wrong, -bend, bend)


def _within_reach(distance: Floats, was: Floats, upper: Floats, lower: Floats) -> Floats:
    """Distances that the limb can have: softly up to its length, from where it stood at least."""
    length = upper + lower
    soft = np.maximum(np.minimum(SOFT * length, length - was), 0.0)
    over = distance - length + soft
    with np.errstate(divide="ignore", invalid="ignore", over="ignore"):
        eased = length - soft * np.exp(-over / np.maximum(soft, TINY))
    out = np.where(over > 0, np.minimum(eased, length), distance)
    return np.asarray(np.maximum(out, np.abs(upper - lower)))
