"""How the rests of two skeletons are brought to agree, limb by limb.

Arms, legs, hands and fingers of either are turned to one common pose: arms along X with palms
down, legs along -Y. What lies between the two turns is what a rest adds to a retargeted rotation.
"""

from __future__ import annotations

import numpy as np

from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats
from leancurve.retarget.rest import DOWN, FORWARD, LEFT, UPWARDS, RestFigure, between, frame, unit

BENDS_DEG = 15.0
"""A limb that rests bent by that much tells about which axis it bends: within 9° in the middle of
captures with 7.5 mm of noise; at 8° within 17°."""


def common_turns(standing: RestFigure) -> Floats:
    """Per joint the turn ``(J, 4)``, in figure space, that brings its rest to the common pose; none
    for the trunk, head and collar bones, which turn from a rest of their own."""
    count = len(standing.skeleton)
    out = np.tile(rotation.IDENTITY, (count, 1))
    for joint in range(count):
        role = standing.body.joints[joint].role
        side, _, part = role.partition(" ")
        parent = standing.skeleton.parents[joint]
        above = out[parent] if parent >= 0 else rotation.IDENTITY
        sign = -1.0 if side == "right" else 1.0
        bone = standing.bones[joint]
        if side not in ("left", "right") or np.linalg.norm(bone) < 1e-6:
            out[joint] = above if side in ("left", "right") or _loose(role) else rotation.IDENTITY
        elif part in ("upper arm", "forearm"):
            axis = _bend(standing, side, ("upper arm", "forearm", "hand"))
            out[joint] = _to(above, bone, sign * LEFT, axis, -sign * UPWARDS)
        elif part in ("thigh", "shin"):
            axis = _bend(standing, side, ("thigh", "shin", "foot"))
            out[joint] = _to(above, bone, DOWN, axis, LEFT)
        elif part == "hand" and standing.find(role) == joint:
            out[joint] = _to(above, bone, sign * LEFT, _palm(standing, side, joint), FORWARD)
        elif part == "foot":
            level = bone - (bone @ UPWARDS) * UPWARDS
            out[joint] = between(level, FORWARD)
        elif part in ("index", "middle", "ring", "little"):
            out[joint] = _to(above, bone, sign * LEFT, None, FORWARD)
        elif part == "thumb":
            out[joint] = _to(above, bone, sign * LEFT + FORWARD, None, FORWARD)
        elif part != "clavicle":
            out[joint] = above
    return out


def _loose(role: str) -> bool:
    """Joints that stand as what they hang on does."""
    return role.endswith(("twist", "end", "helper"))


def _to(above: Floats, bone: Floats, goal: Floats, second: Floats | None, other: Floats) -> Floats:
    """The turn of a bone to ``goal``: with a ``second`` direction known, that one to ``other``;
    else the shortest from where the joint above has brought it."""
    if second is not None:
        return rotation.multiply(frame(goal, other), rotation.conjugate(frame(bone, second)))
    return rotation.multiply(between(rotation.rotate(above, bone), goal), above)


def _bend(standing: RestFigure, side: str, parts: tuple[str, str, str]) -> Floats | None:
    """The axis about which a limb rests bent; None where it is nearly straight."""
    joints = [standing.find(f"{side} {part}") for part in parts]
    if any(j is None for j in joints):
        return None
    a, b, c = (standing.points[j] for j in joints if j is not None)
    across = np.cross(unit(b - a), unit(c - b))
    if np.linalg.norm(across) < np.sin(np.radians(BENDS_DEG)):
        return None
    return unit(across)


def _palm(standing: RestFigure, side: str, hand: int) -> Floats | None:
    """The way across a palm towards the index finger, or towards the thumb."""
    index, little = standing.find(f"{side} index"), standing.find(f"{side} little")
    if index is not None and little is not None and index != little:
        way = standing.points[index] - standing.points[little]
        if np.linalg.norm(way) > 1e-3 * standing.height:
            return np.asarray(way)
    thumb = standing.find(f"{side} thumb")
    if thumb is not None:
        bone = standing.bones[hand]
        way = standing.points[thumb] + standing.bones[thumb] - standing.points[hand]
        off = way - (way @ unit(bone)) * unit(bone)
        if np.linalg.norm(off) > 1e-3 * standing.height:
            return np.asarray(off)
    return None
