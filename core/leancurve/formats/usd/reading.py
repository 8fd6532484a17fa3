"""Takes of a USD file: its skeletons and their animations, put together as scenes."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace
from typing import Literal, cast

import numpy as np
from pxr import Sdf, Tf, Usd, UsdGeom, UsdSkel

from leancurve.document.limits import require_room
from leancurve.errors import BadInput, short
from leancurve.formats.bvh import Take
from leancurve.formats.choices import AS_TOLD, Choices
from leancurve.formats.scene.moves import Animation, Sampler
from leancurve.formats.scene.nodes import MOST_NODES, Nodes, Placed, parted
from leancurve.formats.scene.scene import Scene, SkinnedMesh
from leancurve.formats.scene.takes import takes_of
from leancurve.formats.usd.meshes import meshes_on
from leancurve.formats.usd.opening import open_stage
from leancurve.numbers.arrays import Floats

Moves = dict[tuple[int, str], Sampler]
PROPERTIES = (("translations", "translation"), ("rotations", "rotation"), ("scales", "scale"))


def read_usd(data: bytes, name: str = "take", choices: Choices = AS_TOLD) -> list[Take]:
    """Every animation of every skeleton in a USD file, as a take of its own; see
    :func:`leancurve.formats.scene.takes.takes_of`."""
    try:
        return takes_of(_scenes(open_stage(data)), name, choices)
    except (Tf.ErrorException, RuntimeError, UnicodeError):
        # A crate's values are unpacked when they are asked for, and may be damaged.
        raise BadInput("it holds values that cannot be read") from None


def _scenes(stage: Usd.Stage) -> list[Scene]:
    if not (skeletons := list(_skeletons(stage))):
        raise BadInput("it holds no skeleton")
    made = _Made(stage)
    for prim in skeletons:
        made.add_skeleton(prim)
    made.add_things()
    return made.scenes()


def _skeletons(stage: Usd.Stage) -> Iterator[Usd.Prim]:
    """Each skeleton once, however many instances show it."""
    seen = set()
    for prim in Usd.PrimRange.Stage(stage, Usd.TraverseInstanceProxies()):
        own = prim.GetPrimInPrototype() if prim.IsInstanceProxy() else prim
        if prim.IsA(UsdSkel.Skeleton) and own.GetPath() not in seen:
            seen.add(own.GetPath())
            yield prim


@dataclass
class _Bound:
    """A skeleton of the stage: the nodes of its joints in the order it lists them, the paths they
    have there, and how they stood when a skin was put on."""

    prim: Usd.Prim
    nodes: list[int]
    paths: list[str]
    binds: dict[int, Floats]
    notes: list[str] = field(default_factory=list)


class _Made:
    """Nodes put together of a stage's prims and joints."""

    def __init__(self, stage: Usd.Stage) -> None:
        self.stage = stage
        self.names: list[str] = []
        self.parents: list[int] = []
        self.placed: list[Placed] = []
        self.at: dict[Sdf.Path, int] = {}
        self.bound: list[_Bound] = []
        self.moves: Moves = {}
        """What prims do themselves, whatever animation a skeleton follows."""
        self.boxes: dict[int, Floats] = {}
        self.codes = float(stage.GetTimeCodesPerSecond())
        if not 1e-3 <= self.codes <= 1e6:
            raise BadInput(f"{self.codes:g} time codes a second are no rate")

    def _node(self, name: str, parent: int, placed: Placed) -> int:
        if len(self.names) >= MOST_NODES:
            raise BadInput(f"it has more than {MOST_NODES:,} nodes")
        self.names.append(name)
        self.parents.append(parent)
        self.placed.append(placed)
        return len(self.names) - 1

    def node_of(self, prim: Usd.Prim) -> int:
        """The node of a prim, made with those of all it hangs on; -1 of the stage itself."""
        if prim.IsPseudoRoot():
            return -1
        if prim.GetPath() not in self.at:
            shaped = UsdGeom.Xformable(prim)
            free = bool(shaped) and shaped.GetResetXformStack()
            self._prim(prim, -1 if free else self.node_of(prim.GetParent()))
        return self.at[prim.GetPath()]

    def _prim(self, prim: Usd.Prim, parent: int) -> None:
        shaped = UsdGeom.Xformable(prim)
        where = short(prim.GetPath().pathString)
        if not shaped:
            node = self._node(_called(prim), parent, parted(np.eye(4), where))
        else:
            first = shaped.GetTimeSamples()[:1] or [Usd.TimeCode.Default()]
            node = self._node(_called(prim), parent, self._standing(shaped, first[0], where))
            if shaped.TransformMightBeTimeVarying():
                self._move(shaped, node, where)
        self.at[prim.GetPath()] = node

    @staticmethod
    def _standing(shaped: UsdGeom.Xformable, time: float, where: str) -> Placed:
        matrix = np.array(shaped.GetLocalTransformation(time), dtype=np.float64).T
        if not np.all(np.isfinite(matrix)):
            raise BadInput(f"{where}: its transform is not finite")
        return parted(matrix, where)

    def _move(self, shaped: UsdGeom.Xformable, node: int, where: str) -> None:
        times = shaped.GetTimeSamples()
        require_room(1, 6, len(times), where)
        stood = [self._standing(shaped, time, where) for time in times]
        seconds = np.array(times) / self.codes
        for path, values in (
            ("translation", [s.place for s in stood]),
            ("rotation", [s.turn for s in stood]),
            ("scale", [s.scale for s in stood]),
        ):
            rows = np.array(values)
            # What stands still although it is told frame by frame is meant to be something.
            if path == "translation" or np.ptp(rows, axis=0).max() > 0.0:
                self.moves[node, path] = Sampler(seconds, rows, "LINEAR")

    def add_skeleton(self, prim: Usd.Prim) -> None:
        """The joints of a skeleton as nodes, whatever order it lists them in."""
        skeleton = UsdSkel.Skeleton(prim)
        where = short(prim.GetPath().pathString)
        paths = [str(p) for p in skeleton.GetJointsAttr().Get() or []]
        if not paths:
            raise BadInput(f"{where} has no joints")
        if len(set(paths)) < len(paths):
            raise BadInput(f"{where} lists a joint twice")
        if not all(p and p.count("/") < 2_000 for p in paths):
            raise BadInput(f"{where}: a joint has no path, or one without end")
        require_room(len(paths), 6 * len(paths), 1, where)
        binds = _matrices(skeleton.GetBindTransformsAttr(), len(paths), where)
        rests = _matrices(skeleton.GetRestTransformsAttr(), len(paths), where)
        above = _parents(paths)
        notes = []
        if rests is None:
            if binds is None:
                raise BadInput(f"{where} says neither how its joints rest nor how they were bound")
            for j, bind in enumerate(binds):
                parted(bind, f"{where}, {short(paths[j])}")
            pairs = zip(binds, above, strict=True)
            rests = np.array([b if p < 0 else np.linalg.solve(binds[p], b) for b, p in pairs])
            notes.append("the skeleton tells no rest: its joints rest as its skin was put on")
        own = self.node_of(prim)
        nodes = [-1] * len(paths)
        placed = [parted(rests[j], f"{where}, {short(paths[j])}") for j in range(len(paths))]
        names = [str(n) for n in skeleton.GetJointNamesAttr().Get() or []]
        if len(names) != len(paths):
            names = [path.rsplit("/", 1)[-1] for path in paths]
        for j in sorted(range(len(paths)), key=lambda j: paths[j].count("/")):
            parent = own if above[j] < 0 else nodes[above[j]]
            nodes[j] = self._node(names[j], parent, placed[j])
        bound = {}
        if binds is not None and np.all(np.linalg.det(binds[:, :3, :3]) > 1e-12):
            bound = dict(zip(nodes, binds, strict=True))
        self.bound.append(_Bound(prim, nodes, paths, bound, notes))

    def add_things(self) -> None:
        """Nodes of what moves and carries no skeleton, and how large it is."""
        carrying = set(self.at)
        sizes = UsdGeom.BBoxCache(Usd.TimeCode.EarliestTime(), [UsdGeom.Tokens.default_])
        for prim in Usd.PrimRange.Stage(self.stage, Usd.TraverseInstanceProxies()):
            shaped = UsdGeom.Xformable(prim)
            if not shaped or prim.GetPath() in carrying or prim.IsA(UsdSkel.Skeleton):
                continue
            if not shaped.TransformMightBeTimeVarying():
                continue
            node = self.node_of(prim)
            box = _box(prim, sizes)
            if box is not None:
                self.boxes[node] = box

    def scenes(self) -> list[Scene]:
        """A scene for each skeleton, with its animations."""
        metres = float(UsdGeom.GetStageMetersPerUnit(self.stage))
        if not 1e-6 <= metres <= 1e6:
            raise BadInput(f"{metres:g} m is no unit")
        up = cast(Literal["y", "z"], str(UsdGeom.GetStageUpAxis(self.stage)).lower())
        authored = UsdGeom.StageHasAuthoredMetersPerUnit(self.stage)
        says = "as the stage says" if authored else "as a stage that says nothing has"
        told = f"unit {metres:g} m, {up.upper()} up, {says}; {self.codes:g} time codes a second"
        nodes = Nodes(
            tuple(self.names),
            tuple(self.parents),
            tuple(self.placed),
            (),
            frozenset(self.boxes),
        )
        out = []
        for bound in self.bound:
            own = replace(nodes, skins=(tuple(bound.nodes),))
            animations = [self._animation(prim, bound) for prim in self._followed(bound)]
            if not animations and self.moves:
                animations = [Animation("", self.moves, 0)]
            meshes: list[SkinnedMesh] = []
            if len(bound.binds) == len(bound.nodes):
                at = dict(zip(bound.paths, bound.nodes, strict=True))
                binds = np.stack([bound.binds[n] for n in bound.nodes])
                meshes, more = meshes_on(self.stage, bound.prim.GetPath(), at, bound.paths, binds)
                bound.notes += more
            notes = tuple(dict.fromkeys(bound.notes))
            out.append(
                Scene(own, animations, self.boxes, bound.binds, meshes, metres, up, told, notes)
            )
        return out

    def _followed(self, bound: _Bound) -> list[Usd.Prim]:
        """The animation that a skeleton is bound to, and those of its joints that none is."""
        taken = {p.GetPath() for b in self.bound if (p := _source(b.prim))}
        out = [p] if (p := _source(bound.prim)) else []
        for prim in self.stage.Traverse():
            if prim.IsA(UsdSkel.Animation) and prim.GetPath() not in taken:
                joints = UsdSkel.Animation(prim).GetJointsAttr().Get() or []
                if joints and {str(j) for j in joints} <= set(bound.paths):
                    out.append(prim)
        return out

    def _animation(self, prim: Usd.Prim, bound: _Bound) -> Animation:
        animation = UsdSkel.Animation(prim)
        where = short(prim.GetPath().pathString)
        paths = [str(p) for p in animation.GetJointsAttr().Get() or []]
        if len(set(paths)) < len(paths):
            raise BadInput(f"{where} lists a joint twice")
        known = {path: k for k, path in enumerate(bound.paths)}
        at = [known.get(path, -1) for path in paths]
        strange = at.count(-1)
        if strange:
            bound.notes.append(f"{strange} joints of {prim.GetName()} are none of the skeleton's")
        moves = dict(self.moves)
        for attribute, path in PROPERTIES:
            found = self._samples(prim.GetAttribute(attribute), len(paths), where)
            if found is None:
                bound.notes.append(
                    f"{prim.GetName()} has no {attribute}: its joints keep the rest's"
                )
                continue
            seconds, values = found
            for k, joint in enumerate(at):
                if joint < 0:
                    continue
                rows = values[:, k]
                if path == "rotation" and np.linalg.norm(rows, axis=-1).min() < 1e-6:
                    raise BadInput(f"{where}: a rotation of {short(paths[k])} has no length")
                moves[bound.nodes[joint], path] = Sampler(seconds, rows, "LINEAR")
        return Animation(_called(prim), moves, 0)

    def _samples(
        self, attribute: Usd.Attribute, joints: int, where: str
    ) -> tuple[Floats, Floats] | None:
        """Seconds ``(K,)`` and values ``(K, joints, n)`` of an array over time; None where it is
        absent, blocked or of another length throughout."""
        if not attribute or not attribute.HasAuthoredValue() or not joints:
            return None
        times = attribute.GetTimeSamples()
        require_room(joints, 6 * joints, max(len(times), 1), where)
        kept, rows = [], []
        for time in times or [Usd.TimeCode.Default()]:
            value = attribute.Get(time)
            if value is None or len(value) != joints:
                continue
            kept.append(0.0 if not times else time / self.codes)
            rows.append(np.array(value, dtype=np.float64))
        if not rows:
            return None
        values = np.stack(rows)
        if not np.all(np.isfinite(values)) or not np.all(np.isfinite(kept)):
            raise BadInput(f"{where}: it holds what is not a finite number")
        return np.array(kept), values


def _box(prim: Usd.Prim, sizes: UsdGeom.BBoxCache) -> Floats | None:
    """The extent ``(2, 3)`` of what a prim holds, along its own axes; None where that is nothing.

    usd-core's bound of a prim that holds others is as large as a box along the world's axes: what
    stands turned would be too large. So the bounds of its parts are put together here.
    """
    stands = UsdGeom.XformCache(sizes.GetTime())
    points = []
    for part in Usd.PrimRange(prim, Usd.TraverseInstanceProxies()):
        if not part.IsA(UsdGeom.Boundable):
            continue
        extent = sizes.ComputeUntransformedBound(part).ComputeAlignedRange()
        if extent.IsEmpty():
            continue
        matrix, _ = stands.ComputeRelativeTransform(part, prim)
        corners = np.array([extent.GetCorner(k) for k in range(8)], dtype=np.float64)
        own = np.array(matrix, dtype=np.float64) if part != prim else np.eye(4)
        points.append(corners @ own[:3, :3] + own[3, :3])
    if not points:
        return None
    cloud = np.concatenate(points)
    return np.array([cloud.min(axis=0), cloud.max(axis=0)]) if np.isfinite(cloud).all() else None


def _called(prim: Usd.Prim) -> str:
    """What a prim is shown as: a name of its own, or that of its path."""
    return str(prim.GetDisplayName() or prim.GetName())


def _source(skeleton: Usd.Prim) -> Usd.Prim | None:
    """The animation that a skeleton is bound to, itself or by what it hangs on."""
    found = UsdSkel.BindingAPI(skeleton).GetInheritedAnimationSource()
    return found if found and found.IsA(UsdSkel.Animation) else None


def _matrices(attribute: Usd.Attribute, count: int, where: str) -> Floats | None:
    """Matrices ``(count, 4, 4)`` for column vectors; None where there are none or others in
    number."""
    found = attribute.Get()
    if found is None or len(found) != count:
        return None
    out = np.array(found, dtype=np.float64).reshape(-1, 4, 4).transpose(0, 2, 1)
    if not np.all(np.isfinite(out)):
        raise BadInput(f"{where}: a transform is not finite")
    return out


def _parents(paths: Sequence[str]) -> list[int]:
    """The nearest joint whose path each path goes on from, -1 of roots."""
    at = {path: k for k, path in enumerate(paths)}
    out = []
    for path in paths:
        above = path
        found = -1
        while "/" in above and found < 0:
            above = above.rsplit("/", 1)[0]
            found = at.get(above, -1)
        out.append(found)
    return out
