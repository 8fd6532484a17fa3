"""USD files made for tests with usd-core, and what its own queries say of them."""

from __future__ import annotations

import tempfile
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np
from leancurve.numbers.arrays import Floats
from pxr import Gf, Usd, UsdGeom, UsdSkel, Vt

HUMAN = ("Hips", "Hips/Spine", "Hips/Spine/Head", "Hips/Leg")
OFFSETS = np.array([(0, 0.9, 0), (0, 0.3, 0), (0, 0.4, 0.1), (0.1, -0.1, 0)])


def matrix(place: Any, turn: Any = (0, 0, 0, 1), scale: float = 1.0) -> Gf.Matrix4d:
    x, y, z, w = (float(v) for v in turn)
    out = Gf.Matrix4d().SetScale(scale)
    out *= Gf.Matrix4d().SetRotate(Gf.Quatd(w, x, y, z))
    return out * Gf.Matrix4d().SetTranslate(Gf.Vec3d(*(float(v) for v in place)))


def new_stage(metres: float | None = 1.0, up: str = "Y", codes: float = 30.0) -> Usd.Stage:
    stage = Usd.Stage.CreateInMemory()
    if metres is not None:
        UsdGeom.SetStageMetersPerUnit(stage, metres)
    UsdGeom.SetStageUpAxis(stage, getattr(UsdGeom.Tokens, up.lower()))
    stage.SetTimeCodesPerSecond(codes)
    return stage


def add_skeleton(
    stage: Usd.Stage, path: str = "/Root/Rig", joints: Sequence[str] = HUMAN,
    offsets: Floats = OFFSETS, turns: Floats | None = None, root: str = "/Root",
) -> UsdSkel.Skeleton:  # fmt: skip
    UsdSkel.Root.Define(stage, root)
    out = UsdSkel.Skeleton.Define(stage, path)
    out.CreateJointsAttr(Vt.TokenArray(list(joints)))
    turns = np.tile([0.0, 0, 0, 1], (len(joints), 1)) if turns is None else turns
    rests = [matrix(o, q) for o, q in zip(offsets, turns, strict=True)]
    out.CreateRestTransformsAttr(Vt.Matrix4dArray(rests))
    return out


def bind(skeleton: UsdSkel.Skeleton, animation: UsdSkel.Animation) -> None:
    api = UsdSkel.BindingAPI.Apply(skeleton.GetPrim())
    api.CreateAnimationSourceRel().SetTargets([animation.GetPath()])


def add_animation(
    stage: Usd.Stage, path: str, joints: Sequence[str], times: Floats | None,
    places: Floats | None, turns: Floats | None, scales: Floats | None = None,
) -> UsdSkel.Animation:  # fmt: skip
    """Values ``(F, J, n)`` at time codes; None for an array that is not there."""
    out = UsdSkel.Animation.Define(stage, path)
    out.CreateJointsAttr(Vt.TokenArray(list(joints)))
    whole = [None] if times is None else list(times)
    for k, time in enumerate(whole):
        at = Usd.TimeCode.Default() if time is None else Usd.TimeCode(float(time))
        if places is not None:
            rows = [Gf.Vec3f(*map(float, p)) for p in places[k]]
            out.CreateTranslationsAttr().Set(Vt.Vec3fArray(rows), at)
        if turns is not None:
            quats = [Gf.Quatf(float(w), float(x), float(y), float(z)) for x, y, z, w in turns[k]]
            out.CreateRotationsAttr().Set(Vt.QuatfArray(quats), at)
        if scales is not None:
            sizes = [Gf.Vec3h(*map(float, s)) for s in scales[k]]
            out.CreateScalesAttr().Set(Vt.Vec3hArray(sizes), at)
    return out


def written(stage: Usd.Stage, ending: str = ".usda") -> bytes:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder, f"x{ending}")
        stage.GetRootLayer().Export(str(path))
        return path.read_bytes()


def queried(stage: Usd.Stage, skeleton: UsdSkel.Skeleton, codes: Floats) -> dict[str, Floats]:
    """Where usd-core puts joints: matrices in the world ``(F, 4, 4)`` for row vectors, by path."""
    cache = UsdSkel.Cache()
    for prim in stage.Traverse():
        if prim.IsA(UsdSkel.Root):
            cache.Populate(UsdSkel.Root(prim), Usd.TraverseInstanceProxies())
    query = cache.GetSkelQuery(skeleton)
    out = []
    for code in codes:
        xforms = UsdGeom.XformCache(Usd.TimeCode(float(code)))
        own = np.array(query.ComputeJointSkelTransforms(Usd.TimeCode(float(code))))
        world = np.array(xforms.GetLocalToWorldTransform(skeleton.GetPrim()))
        out.append(own.reshape(-1, 4, 4) @ world)
    return {str(p): np.stack(out)[:, k] for k, p in enumerate(query.GetJointOrder())}
