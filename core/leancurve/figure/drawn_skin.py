"""The drawn figure as a simple skin: a tapered limb along each bone, each following its own joint.

How thick limbs are the stage's solids have from the same table.
"""

from __future__ import annotations

import numpy as np

from leancurve.figure.body import Body
from leancurve.figure.body_shape import FINGERS
from leancurve.figure.radii import FINGER, LIMBS
from leancurve.figure.skeleton import Skeleton
from leancurve.figure.skin import Skin, binds_at_rest, skin_from
from leancurve.numbers.arrays import Floats, Ints

SIDES = 8
"""Of a limb's cross section."""
SLIM = 0.012
"""Share of the height: how thick a bone of no known part is, at most a quarter of its length."""
HEAD = 0.062
"""Share of the height that a head is wide, half of it."""
SHORTEST = 1e-4
"""Share of the height: shorter bones are not drawn."""


def drawn_skin(skeleton: Skeleton, body: Body) -> Skin:
    """A skin for any skeleton: it has no other body."""
    points: list[Floats] = []
    triangles: list[Ints] = []
    joints: list[Ints] = []
    height = max(skeleton.rest_height, 1e-9)
    places = skeleton.rest_positions
    bones = [(p, places[j], j) for j, p in enumerate(skeleton.parents) if p >= 0]
    tips = zip((e.parent for e in skeleton.ends), skeleton.rest_tips, strict=True)
    bones += [(parent, tip, -1) for parent, tip in tips]
    for parent, end, joint in bones:
        begin, length = places[parent], float(np.linalg.norm(end - places[parent]))
        if length < SHORTEST * height or not _drawn(body, parent, joint):
            continue
        a, b = (height * r for r in _radii(body, parent, length / height))
        first = sum(len(p) for p in points)
        points.append(_limb(begin, end, a, b))
        triangles.append(TRIANGLES + first)
        joints.append(np.full(2 * SIDES + 2, parent))
    if not points:
        points, triangles = [places[:1] + height * CORNERS], [TETRAHEDRON]
        joints = [np.zeros(len(CORNERS), dtype=np.int64)]
    which = np.concatenate(joints)[:, None]
    return skin_from(
        np.concatenate(points), np.concatenate(triangles), which,
        np.ones(which.shape), binds_at_rest(skeleton),
    )  # fmt: skip


def _drawn(body: Body, parent: int, joint: int) -> bool:
    roles = [body.joints[j].role.split()[-1] for j in (parent, joint) if j >= 0]
    return "helper" not in roles and roles[0] not in ("twist", "jaw", "eye")


def _radii(body: Body, joint: int, length: float) -> tuple[float, float]:
    """Radii at a bone's two ends, shares of the height."""
    part = body.joints[joint].part
    if part in LIMBS:
        a, b = LIMBS[part]
    elif part in FINGERS:
        a, b = FINGER
    else:
        a = b = {"head": HEAD, "hips": LIMBS["spine"][0]}.get(part, SLIM)
    most = length if part in ("spine", "hips", "head") else length / 2.5
    return min(a, most), min(b, most)


def _limb(begin: Floats, end: Floats, a: float, b: float) -> Floats:
    """Points of a limb: its two tips, a ring about either end."""
    along = (end - begin) / np.linalg.norm(end - begin)
    aside = np.eye(3)[int(np.argmin(np.abs(along)))]
    across = np.cross(along, aside)
    across /= np.linalg.norm(across)
    up = np.cross(along, across)
    angles = 2.0 * np.pi * np.arange(SIDES) / SIDES
    ring = np.outer(np.cos(angles), across) + np.outer(np.sin(angles), up)
    tips = np.stack([begin - 0.5 * a * along, end + 0.5 * b * along])
    return np.concatenate([tips, begin + a * ring, end + b * ring])


def _triangles() -> list[tuple[int, int, int]]:
    out = []
    for k in range(SIDES):
        near, after = 2 + k, 2 + (k + 1) % SIDES
        far, beyond = near + SIDES, after + SIDES
        out += [(0, after, near), (near, after, beyond), (near, beyond, far), (1, far, beyond)]
    return out


TRIANGLES = np.array(_triangles(), dtype=np.int64)
CORNERS = 0.05 * np.array([(1, 1, 1), (1, -1, -1), (-1, 1, -1), (-1, -1, 1.0)])
TETRAHEDRON = np.array([(0, 1, 2), (0, 3, 1), (0, 2, 3), (1, 3, 2)], dtype=np.int64)
