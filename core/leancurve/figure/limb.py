"""Two-bone limbs: moved to a target, the end's own orientation kept.

The shin turns about one axis, the hinge, and the limb about its hip by the shortest arc. Near
straight the captured bend's normal says nothing (under 1° it is up to 180° wrong): there the
limb's usual hinge takes its place, softly, so that a straight leg bends as it always does.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
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
LIMITS = np.array([*BLEND, WRONG_SIDE, LEAST_BACK, SOFT])
TINY = 1e-12


def _dot(a: Floats, b: Floats) -> Floats:
    return np.asarray(np.sum(a * b, axis=-1))


def _unit(a: Floats) -> Floats:
    return np.asarray(a / np.maximum(np.linalg.norm(a, axis=-1, keepdims=True), TINY))


def _across(a: Floats) -> Floats:
    """A unit vector across each ``a (…, 3)``: across its smallest coordinate's axis too."""
    return _unit(np.cross(a, np.eye(3)[np.argmin(np.abs(a), axis=-1)]))


def arc(a: Floats, b: Floats, axis: Floats) -> Floats:
    """The shortest rotations ``(F, 4)`` that turn directions ``a`` into ``b``, ``(F, 3)``.

    Opposite ones turn half a turn about ``axis``; a direction of no length turns nothing.
    """
    from leancurve.numbers.kernels import limbs  # numba loads late

    out = np.empty((len(a), 4))
    one, other, about = (np.ascontiguousarray(x) for x in (a, b, axis))
    limbs.arcs(one, other, about, out)
    return out


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


def said_under(
    solved: Three,
    joints: tuple[int, int, int],
    parents: Sequence[int],
    turn: Callable[[int], Floats],
) -> Three:
    """Local rotations of a limb's three joints, each seen from the one above it in the limb, as
    seen from their parents: twist joints may lie between, whose own rotations stay. ``turn`` gives
    a joint's world rotations ``(F, 4)`` as they stand."""
    out = [solved[0]]
    for top, low, local in zip(joints, joints[1:], solved[1:], strict=False):
        parent = parents[low]
        if parent != top:
            between = rotation.multiply(rotation.conjugate(turn(top)), turn(parent))
            local = rotation.multiply(rotation.conjugate(between), local)
        out.append(local)
    return out[0], out[1], out[2]


def reach(rotations: Three, parent: Floats, points: Three, target: Floats, hinge: Floats) -> Three:
    """Local rotations of upper, middle and end joint that bring the end to ``target (F, 3)``, each
    seen from the one above it (:func:`said_under` where others lie between).

    ``rotations`` are the three joints' world rotations ``(F, 4)``, ``parent`` that of the upper
    one's parent, ``points`` their positions, ``hinge`` is of :func:`usual_hinge`. The end keeps its
    orientation in the world, bones their lengths; an end that is at its target stays as it is. A
    target out of reach is approached as far as the limb goes, softly.
    """
    from leancurve.numbers.kernels import limbs  # numba loads late

    out = np.empty((len(target), 3, 4))
    upper, middle, end = (np.ascontiguousarray(q) for q in rotations)
    hip, knee, foot = (np.ascontiguousarray(p) for p in points)
    above, goal = np.ascontiguousarray(parent), np.ascontiguousarray(target)
    limbs.reach(upper, middle, end, above, hip, knee, foot, goal, hinge, LIMITS, out)
    return out[:, 0], out[:, 1], out[:, 2]
