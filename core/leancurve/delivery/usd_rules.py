"""USD's rules: usd-core's own validators, and what these do not see."""

from __future__ import annotations

import tempfile
from pathlib import Path

import numpy as np
from pxr import Usd, UsdGeom, UsdSkel, UsdValidation

UNIT = 1e-4
"""How far the length of a rotation, or the sum of a point's weights, may be from 1."""


def of_usd(data: bytes, ending: str) -> list[str]:
    """The rules of USD that a file's bytes break, in words."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder, f"file{ending}")
        path.write_bytes(data)
        stage = Usd.Stage.Open(str(path))
        registry = UsdValidation.ValidationRegistry()
        context = UsdValidation.ValidationContext(registry.GetOrLoadAllValidators())
        out = [e.GetMessage() for e in context.Validate(stage)]
        for prim in stage.Traverse():
            if prim.IsA(UsdSkel.Skeleton):
                out += _skeleton(UsdSkel.Skeleton(prim))
            elif prim.IsA(UsdSkel.Animation):
                out += _animation(UsdSkel.Animation(prim))
            elif prim.IsA(UsdGeom.Mesh) and prim.HasAPI(UsdSkel.BindingAPI):
                out += _body(UsdSkel.BindingAPI(prim), UsdGeom.Mesh(prim))
        return out


def _skeleton(skeleton: UsdSkel.Skeleton) -> list[str]:
    out = []
    joints = list(skeleton.GetJointsAttr().Get())
    seen: set[str] = set()
    for joint in joints:
        over = joint.rpartition("/")[0]
        if over and over not in seen:
            out.append(f"joint {joint} stands before the one it hangs on")
        seen.add(joint)
    for name in ("restTransforms", "bindTransforms"):
        found = skeleton.GetPrim().GetAttribute(name).Get()
        if len(found) != len(joints):
            out.append(f"{name} has {len(found)} entries for {len(joints)} joints")
    return out


def _animation(animation: UsdSkel.Animation) -> list[str]:
    out = []
    count = len(animation.GetJointsAttr().Get())
    where = animation.GetPrim().GetName()
    for attribute, name in (
        (animation.GetTranslationsAttr(), "translations"),
        (animation.GetRotationsAttr(), "rotations"),
        (animation.GetScalesAttr(), "scales"),
    ):
        if not attribute.HasAuthoredValue():
            out.append(f"{where} has no {name}: queries then give the pose at rest")
            continue
        for code in attribute.GetTimeSamples() or [Usd.TimeCode.Default()]:
            found = np.array(attribute.Get(code), dtype=np.float64)
            if len(found) != count:
                out.append(f"{where}: {len(found)} {name} at {code} for {count} joints")
                break
            if name == "rotations" and np.any(np.abs(np.linalg.norm(found, axis=1) - 1.0) > UNIT):
                out.append(f"{where}: rotations of another length than 1 at {code}")
                break
            if name == "scales" and np.any(found == 0.0):
                out.append(f"{where}: scales of 0 at {code}")
                break
    return out


def _body(binding: UsdSkel.BindingAPI, mesh: UsdGeom.Mesh) -> list[str]:
    out = []
    weights = binding.GetJointWeightsPrimvar()
    points = len(mesh.GetPointsAttr().Get())
    rows = np.array(weights.Get(), dtype=np.float64).reshape(-1, weights.GetElementSize())
    if len(rows) != points:
        out.append(f"{len(rows)} points have weights, of {points}")
    elif np.any(np.abs(rows.sum(axis=1) - 1.0) > UNIT):
        out.append("points have weights that do not add up to 1")
    return out
