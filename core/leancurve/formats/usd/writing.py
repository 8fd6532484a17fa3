"""Clips as one USD file: their skeleton with UsdSkel, each clip an animation of it, the body where
there is one.

The unit is the skeleton's; Y or Z is up as it is, X is brought to Y: USD knows no third way. Motion
is what plays, with layers and plants, a sample on every frame; arrays that never change have one.
"""

from __future__ import annotations

import tempfile
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from pxr import Gf, Sdf, Tf, Usd, UsdGeom, UsdSkel, Vt

from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.document.placement import placed_props
from leancurve.figure.skeleton import UPRIGHT, Skeleton
from leancurve.figure.skin import WHOLE, Skin, binds_at_rest
from leancurve.formats.scene.written import CORNERS, first_of_one_skeleton
from leancurve.numbers import rotation
from leancurve.numbers.arrays import AnyArray, Floats

FIGURE = Sdf.Path("/Figure")
AXES = {"x": UsdGeom.Tokens.y, "y": UsdGeom.Tokens.y, "z": UsdGeom.Tokens.z}
"""The axis that is up in the file: USD has no X."""
STILL = 1e-9
"""What differs by less stands still: a share of the figure's height, or a quaternion's parts."""
SIDES = ((0, 1, 3, 2), (4, 6, 7, 5), (0, 4, 5, 1), (2, 3, 7, 6), (0, 2, 6, 4), (1, 5, 7, 3))
"""Faces of a box of corners (x, y, z) in the order of their bits, outwards."""
ROOM = 0.1
"""Share of the figure's height by which its extent reaches beyond its joints."""


def write_usd(clips: Sequence[Clip], skin: Skin | None = None, ending: str = ".usdc") -> bytes:
    """Clips on one skeleton as USD: text for ``.usda``, a crate for ``.usdc``."""
    first = first_of_one_skeleton(clips)
    stage = Usd.Stage.CreateInMemory()
    made = _Written(stage, first)
    skeleton = made.skeleton(first.skeleton, skin)
    if skin is not None:
        made.body(skin, skeleton)
    paths = [made.animation(clip, k) for k, clip in enumerate(clips)]
    api = UsdSkel.BindingAPI.Apply(skeleton.GetPrim())
    api.CreateAnimationSourceRel().SetTargets([paths[0]])
    made.things(first)
    stage.SetEndTimeCode(max(made.code_of(c, c.frames - 1) for c in clips))
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder, f"take{ending}")
        stage.GetRootLayer().Export(str(path))
        return path.read_bytes()


@dataclass
class _Written:
    """A stage that is being written, with the unit, axis and time codes of its first clip."""

    stage: Usd.Stage
    first: Clip

    def __post_init__(self) -> None:
        up = self.first.reading.up_axis
        self.upright = UPRIGHT["x"] if up == "x" else np.array(rotation.IDENTITY)
        UsdGeom.SetStageMetersPerUnit(self.stage, self.first.reading.metres_per_unit)
        UsdGeom.SetStageUpAxis(self.stage, AXES[up])
        self.stage.SetTimeCodesPerSecond(float(self.first.rate))
        self.stage.SetFramesPerSecond(float(self.first.rate))
        self.stage.SetStartTimeCode(0.0)
        root = UsdSkel.Root.Define(self.stage, FIGURE)
        self.stage.SetDefaultPrim(root.GetPrim())
        root.CreateExtentAttr(_extent(self.seen(self.first)))
        self.paths = joint_paths(self.first.skeleton)

    def seen(self, clip: Clip) -> Floats:
        """The joints of a clip with some room around them ``(n, 3)``, in the world."""
        _, places = evaluate(clip).world(clip.skeleton)
        points = rotation.rotate(self.upright, places.reshape(-1, 3))
        room = ROOM * max(clip.skeleton.rest_height, 1e-9)
        return np.concatenate([points - room, points + room])

    def code_of(self, clip: Clip, frame: float) -> float:
        """The time code of a clip's frame: a frame, unless its rate is another than the first's."""
        return frame * float(self.first.rate / clip.rate)

    def skeleton(self, told: Skeleton, skin: Skin | None) -> UsdSkel.Skeleton:
        out = UsdSkel.Skeleton.Define(self.stage, FIGURE.AppendChild("Skeleton"))
        out.CreateJointsAttr(Vt.TokenArray(self.paths))
        originals = dict(self.first.reading.originals)
        names = [originals.get(n) or n for n in told.names]
        if names != [p.rsplit("/", 1)[-1] for p in self.paths] and len(set(names)) == len(names):
            out.CreateJointNamesAttr(Vt.TokenArray(names))
        turns, places = self._in_joints(told, told.rest_rotations[None], told.offset_array[None])
        out.CreateRestTransformsAttr(_matrices(turns[0], places[0]))
        binds = binds_at_rest(told) if skin is None else skin.binds
        whole = np.tile(np.eye(4), (len(told), 1, 1))
        whole[:, :3] = binds
        bound = np.tile(np.eye(4), (len(told), 1, 1))
        bound[:, :3, :3] = rotation.matrix(self.upright)
        worlds = bound @ np.linalg.inv(whole)
        out.CreateBindTransformsAttr(
            Vt.Matrix4dArray.FromNumpy(np.ascontiguousarray(worlds.transpose(0, 2, 1)))
        )
        UsdSkel.BindingAPI.Apply(out.GetPrim())
        return out

    def _in_joints(self, told: Skeleton, turns: Floats, places: Floats) -> tuple[Floats, Floats]:
        """Local rotations ``(F, J, 4)`` and places ``(F, J, 3)`` with roots brought upright."""
        turns, places = turns.copy(), places.copy()
        for joint in told.roots:
            turns[:, joint] = rotation.multiply(self.upright, turns[:, joint])
            places[:, joint] = rotation.rotate(self.upright, places[:, joint])
        return turns, places

    def animation(self, clip: Clip, number: int) -> Sdf.Path:
        pose = evaluate(clip)
        turns, places = self._in_joints(clip.skeleton, pose.rotation, pose.translation)
        own = Tf.MakeValidIdentifier(clip.name) or "Take"
        taken = self.stage.GetPrimAtPath(FIGURE.AppendChild(own))
        path = FIGURE.AppendChild(f"{own}_{number + 1}" if taken else own)
        out = UsdSkel.Animation.Define(self.stage, path)
        out.GetPrim().SetDisplayName(clip.name)
        out.CreateJointsAttr(Vt.TokenArray(self.paths))
        height = max(clip.skeleton.rest_height, 1e-9)
        turned = rotation.normalise(rotation.hemisphere(turns)).astype(np.float32)
        still = [
            np.ptp(places, axis=0).max() < STILL * height,
            np.ptp(turned, axis=0).max() < STILL,
        ]
        translations, rotations = out.CreateTranslationsAttr(), out.CreateRotationsAttr()
        for frame in range(clip.frames):
            code = Usd.TimeCode(self.code_of(clip, frame))
            # One sample of what stands still, and a clip's first and last frame are always told.
            ends = frame in (0, clip.frames - 1)
            if not still[0] or ends:
                row = np.ascontiguousarray(places[frame], dtype=np.float32)
                translations.Set(Vt.Vec3fArray.FromNumpy(row), code)
            if not still[1] or ends:
                row = np.ascontiguousarray(turned[frame])
                rotations.Set(Vt.QuatfArray.FromNumpy(row), code)
        ones = np.ones((len(clip.skeleton), 3), dtype=np.float16)
        out.CreateScalesAttr(Vt.Vec3hArray.FromNumpy(ones))
        return path

    def body(self, skin: Skin, skeleton: UsdSkel.Skeleton) -> None:
        """The mesh, bound to the skeleton."""
        points = rotation.rotate(self.upright, skin.points.astype(np.float64)).astype(np.float32)
        counts = np.full(len(skin.triangles), 3, dtype=np.int32)
        mesh = self._mesh(FIGURE.AppendChild("Body"), points, counts, skin.triangles.ravel())
        api = UsdSkel.BindingAPI.Apply(mesh.GetPrim())
        api.CreateSkeletonRel().SetTargets([skeleton.GetPath()])
        api.CreateGeomBindTransformAttr(Gf.Matrix4d(1.0))
        width = skin.joints.shape[1]
        which = np.ascontiguousarray(skin.joints.ravel(), dtype=np.int32)
        shares = np.ascontiguousarray(skin.weights.ravel() / WHOLE, dtype=np.float32)
        api.CreateJointIndicesPrimvar(False, width).Set(Vt.IntArray.FromNumpy(which))
        api.CreateJointWeightsPrimvar(False, width).Set(Vt.FloatArray.FromNumpy(shares))

    def _mesh(
        self, path: Sdf.Path, points: AnyArray, counts: AnyArray, corners: AnyArray
    ) -> UsdGeom.Mesh:
        mesh = UsdGeom.Mesh.Define(self.stage, path)
        told = np.ascontiguousarray(points, dtype=np.float32)
        mesh.CreatePointsAttr(Vt.Vec3fArray.FromNumpy(told))
        mesh.CreateFaceVertexCountsAttr(Vt.IntArray.FromNumpy(counts.astype(np.int32)))
        mesh.CreateFaceVertexIndicesAttr(Vt.IntArray.FromNumpy(corners.astype(np.int32)))
        mesh.CreateSubdivisionSchemeAttr(UsdGeom.Tokens.none)
        mesh.CreateExtentAttr(_extent(told))
        return mesh

    def things(self, clip: Clip) -> None:
        """Each prop as a box that moves, beside the figure."""
        if not clip.props:
            return
        holder = UsdGeom.Xform.Define(self.stage, FIGURE.AppendChild("Props"))
        turned, placed = placed_props(clip)
        for k, prop in enumerate(clip.props):
            name = Tf.MakeValidIdentifier(prop.name)
            path = holder.GetPath().AppendChild(name)
            if self.stage.GetPrimAtPath(path):
                path = holder.GetPath().AppendChild(f"{name}_{k + 1}")
            thing = UsdGeom.Xform.Define(self.stage, path)
            thing.GetPrim().SetDisplayName(prop.name)
            points = CORNERS * np.array(prop.size)
            corners = np.array(SIDES, dtype=np.int32)
            self._mesh(path.AppendChild("Box"), points, np.full(6, 4), corners.ravel())
            place, turn = thing.AddTranslateOp(UsdGeom.XformOp.PrecisionDouble), thing.AddOrientOp()
            places = rotation.rotate(self.upright, placed[:, k])
            turns = rotation.hemisphere(rotation.multiply(self.upright, turned[:, k]))
            for frame in range(clip.frames):
                code = Usd.TimeCode(self.code_of(clip, frame))
                place.Set(Gf.Vec3d(*map(float, places[frame])), code)
                x, y, z, w = map(float, turns[frame])
                turn.Set(Gf.Quatf(w, x, y, z), code)


def joint_paths(skeleton: Skeleton) -> list[str]:
    """A path for each joint, such as ``Hips/Spine``, of names that USD allows; no two are one."""
    out: list[str] = []
    taken: set[str] = set()
    for joint, name in enumerate(skeleton.names):
        above = skeleton.parents[joint]
        own = Tf.MakeValidIdentifier(name)
        path = plain = own if above < 0 else f"{out[above]}/{own}"
        number = 1
        while path in taken:
            number += 1
            path = f"{plain}_{number}"
        taken.add(path)
        out.append(path)
    return out


def _matrices(turns: Floats, places: Floats) -> Vt.Matrix4dArray:
    """Rotations ``(J, 4)`` and places ``(J, 3)`` as USD's matrices, which are for row vectors."""
    out = np.tile(np.eye(4), (len(turns), 1, 1))
    out[:, :3, :3] = rotation.matrix(turns).transpose(0, 2, 1)
    out[:, 3, :3] = places
    return Vt.Matrix4dArray.FromNumpy(out)


def _extent(points: AnyArray) -> Vt.Vec3fArray:
    box = np.array([points.min(axis=0), points.max(axis=0)], dtype=np.float32)
    return Vt.Vec3fArray.FromNumpy(box)
