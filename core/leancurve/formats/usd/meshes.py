"""Meshes of a USD stage with the joints that their points follow."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np
from pxr import Sdf, Usd, UsdGeom, UsdSkel

from leancurve.errors import BadInput, short
from leancurve.figure.skin import MOST_POINTS, MOST_TRIANGLES
from leancurve.formats.scene.scene import SkinnedMesh
from leancurve.numbers.arrays import Floats, Ints


def meshes_on(
    stage: Usd.Stage, skeleton: Sdf.Path, nodes: Mapping[str, int], order: Sequence[str],
    binds: Floats,
) -> tuple[list[SkinnedMesh], list[str]]:  # fmt: skip
    """The meshes bound to a skeleton, and what is left out of them. ``nodes`` are those of its
    joints by path, ``order`` its joints' paths, ``binds (J, 4, 4)`` how they stood in the world
    when meshes were bound to them."""
    cache = UsdSkel.Cache()
    out: list[SkinnedMesh] = []
    points = triangles = shapes = 0
    inverse = np.asarray(np.linalg.inv(binds))
    instances = Usd.TraverseInstanceProxies()
    for prim in Usd.PrimRange.Stage(stage, instances):
        if not prim.IsA(UsdSkel.Root):
            continue
        cache.Populate(UsdSkel.Root(prim), instances)
        for binding in cache.ComputeSkelBindings(UsdSkel.Root(prim), instances):
            if binding.GetSkeleton().GetPath() != skeleton:
                continue
            for query in binding.GetSkinningTargets():
                shapes += query.HasBlendShapes()
                found = _one(query, nodes, order, inverse)
                if found is None:
                    continue
                points, triangles = points + len(found.points), triangles + len(found.triangles)
                if points > MOST_POINTS or triangles > MOST_TRIANGLES:
                    told = f"its meshes have more than {MOST_TRIANGLES:,} triangles: left out"
                    return [], [told]
                out.append(found)
    return out, ["blend shapes of the meshes are left out"] if shapes else []


def _one(
    query: UsdSkel.SkinningQuery, nodes: Mapping[str, int], order: Sequence[str], inverse: Floats
) -> SkinnedMesh | None:
    prim = query.GetPrim()
    if not prim.IsA(UsdGeom.Mesh) or not query.HasJointInfluences():
        return None
    where = short(prim.GetPath().pathString)
    points, triangles = _surface(UsdGeom.Mesh(prim), where)
    if not len(triangles):
        return None
    influences = query.ComputeVaryingJointInfluences(len(points))
    if influences is None or len(influences[0]) % max(len(points), 1):
        raise BadInput(f"{where}: its weights are not one set for each point")
    joints = np.array(influences[0], dtype=np.int64).reshape(len(points), -1)
    weights = np.array(influences[1], dtype=np.float64).reshape(joints.shape)
    if not np.all(np.isfinite(weights)) or np.any(weights < 0.0):
        raise BadInput(f"{where}: a weight is below 0 or not finite")
    named = query.GetJointOrder()
    own = [str(j) for j in named] if named else list(order)
    joints = np.where(weights > 0.0, joints, 0)
    if not own or joints.min() < 0 or joints.max() >= len(own):
        raise BadInput(f"{where} follows joint {int(joints.max()):,} of {len(own):,}")
    if any(path not in nodes for path in own):
        return None
    weights[weights.sum(axis=1) <= 0.0, 0] = 1.0
    put = np.array(query.GetGeomBindTransform(), dtype=np.float64).reshape(4, 4).T
    if not np.all(np.isfinite(put)):
        raise BadInput(f"{where}: its bind transform is not finite")
    at = {path: k for k, path in enumerate(order)}
    matrices = np.stack([inverse[at[path]] @ put for path in own])
    return SkinnedMesh(
        tuple(nodes[path] for path in own), points, triangles, joints, weights, matrices
    )


def _surface(mesh: UsdGeom.Mesh, where: str) -> tuple[Floats, Ints]:
    """Points ``(N, 3)`` and triangles ``(T, 3)``: faces with more corners are fanned out."""
    first = Usd.TimeCode.EarliestTime()
    told = mesh.GetPointsAttr().Get(first)
    counts = np.array(mesh.GetFaceVertexCountsAttr().Get(first) or [], dtype=np.int64)
    corners = np.array(mesh.GetFaceVertexIndicesAttr().Get(first) or [], dtype=np.int64)
    none = np.zeros((0, 3))
    if told is None or not len(told):
        return none, none.astype(np.int64)
    if len(told) > MOST_POINTS or len(corners) > 6 * MOST_TRIANGLES:
        raise BadInput(f"{where} has {len(told):,} points: too many")
    points = np.array(told, dtype=np.float64)
    if not np.all(np.isfinite(points)):
        raise BadInput(f"{where}: a point is not finite")
    if np.any(counts < 0) or counts.sum() != len(corners):
        raise BadInput(f"{where}: its faces and their corners do not fit together")
    if len(corners) and not 0 <= corners.min() <= corners.max() < len(points):
        raise BadInput(f"{where} has a face of points that are not there")
    starts = np.cumsum(counts) - counts
    fans = np.maximum(counts - 2, 0)
    face = np.repeat(np.arange(len(counts)), fans)
    step = np.arange(len(face)) - np.repeat(np.cumsum(fans) - fans, fans)
    at = starts[face]
    triangles = np.stack([corners[at], corners[at + step + 1], corners[at + step + 2]], axis=1)
    if mesh.GetOrientationAttr().Get() == UsdGeom.Tokens.leftHanded:
        triangles = triangles[:, ::-1]
    return points, triangles.reshape(-1, 3)
