"""Clips as one GLB file: their skeleton, each clip an animation, the body where there is one.

Metres, Y up, as glTF 2.0 is: unit and axis of the skeleton are brought there. Motion is what plays,
with layers and plants: a key on every frame and straight between them, or cubic splines that were
fitted to it. What stands still as it rests has no channel.
"""

from __future__ import annotations

import base64
import struct
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import orjson

from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.document.placement import placed_props
from leancurve.figure.skeleton import UPRIGHT
from leancurve.figure.skin import Skin, binds_at_rest
from leancurve.formats.gltf.accessors import KINDS, PER_ELEMENT
from leancurve.formats.gltf.container import BINARY_CHUNK, JSON_CHUNK, MAGIC
from leancurve.formats.scene.splines import PER_FRAME, Spline
from leancurve.formats.scene.written import CORNERS, first_of_one_skeleton
from leancurve.numbers import rotation
from leancurve.numbers.arrays import AnyArray, Floats

TYPES = {n: kind for kind, n in PER_ELEMENT.items()}
COMPONENTS = {np.dtype(kind): code for code, kind in KINDS.items()}
VERTICES, ELEMENTS = 34962, 34963
STILL_DEG, STILL_M = 1e-7, 1e-9
"""What moves by less stands still."""


@dataclass(frozen=True)
class Splines:
    """How joints of a clip move as splines, by number: in the skeleton's own unit and axes."""

    turns: Mapping[int, Spline] = field(default_factory=dict)
    places: Mapping[int, Spline] = field(default_factory=dict)


def write_gltf(
    clips: Sequence[Clip],
    skin: Skin | None = None,
    splines: Sequence[Splines] = (),
    text: bool = False,
) -> bytes:
    """A GLB of clips on one skeleton; a glTF that holds its buffer where it shall be ``text``.

    ``splines`` are one for each clip, where there are any: joints that they say nothing of have a
    key on every frame.
    """
    first = first_of_one_skeleton(clips)
    file = _File()
    upright = UPRIGHT[first.reading.up_axis]
    joints = _nodes(file, first, upright)
    _skin(file, first, skin, upright, joints)
    things = _things(file, first)
    for k, clip in enumerate(clips):
        # Props are the first clip's: others with the same ones move them too.
        same = clip.props == first.props
        fitted = splines[k] if splines else Splines()
        _animation(file, clip, upright, joints, things if same else (), fitted)
    return file.gltf() if text else file.glb()


class _File:
    """A document and its one buffer."""

    def __init__(self) -> None:
        self.json: dict[str, Any] = {
            "asset": {"version": "2.0", "generator": "Lean Curve"}, "scene": 0, "scenes": [],
            "nodes": [], "meshes": [], "skins": [], "animations": [], "accessors": [],
            "bufferViews": [],
        }  # fmt: skip
        self.binary = bytearray()

    def accessor(self, values: AnyArray, **more: Any) -> int:
        """An accessor of values ``(N, n)``; ``bounds`` and a buffer view's ``target`` where they
        are asked for."""
        rows = np.ascontiguousarray(values).reshape(len(values), -1)
        bounds, target = more.pop("bounds", False), more.pop("target", None)
        self.binary += b"\x00" * (-len(self.binary) % 4)
        view = {"buffer": 0, "byteOffset": len(self.binary), "byteLength": rows.nbytes}
        if target is not None:
            view["target"] = target
        self.binary += rows.tobytes()
        self.json["bufferViews"].append(view)
        told = {
            "bufferView": len(self.json["bufferViews"]) - 1, "count": len(rows),
            "componentType": COMPONENTS[rows.dtype], "type": TYPES[rows.shape[1]], **more,
        }  # fmt: skip
        if bounds:
            told |= {"min": rows.min(axis=0).tolist(), "max": rows.max(axis=0).tolist()}
        self.json["accessors"].append(told)
        return len(self.json["accessors"]) - 1

    def _told(self, **buffer: str) -> bytes:
        told = {k: v for k, v in self.json.items() if v != []}
        if self.binary:
            told["buffers"] = [{"byteLength": len(self.binary), **buffer}]
        return orjson.dumps(told)

    def gltf(self) -> bytes:
        """One file of text: the buffer is in it (a data URI, RFC 2397)."""
        data = base64.b64encode(self.binary).decode()
        return self._told(uri=f"data:application/octet-stream;base64,{data}")

    def glb(self) -> bytes:
        text = self._told()
        text += b" " * (-len(text) % 4)
        binary = bytes(self.binary) + b"\x00" * (-len(self.binary) % 4)
        chunks = struct.pack("<II", len(text), JSON_CHUNK) + text
        if binary:
            chunks += struct.pack("<II", len(binary), BINARY_CHUNK) + binary
        return struct.pack("<4sII", MAGIC, 2, 12 + len(chunks)) + chunks


def _plain(values: Floats) -> list[float]:
    """Numbers as float32 has them, in as few digits as tell them."""
    return [float(f"{v:.9g}") for v in values.astype(np.float32).tolist()]


def _nodes(file: _File, clip: Clip, upright: Floats) -> list[int]:
    """A node for each joint as it rests and one at each tip, under one that holds them all. Joints
    have the names again with which they came."""
    skeleton, metres = clip.skeleton, clip.reading.metres_per_unit
    originals = dict(clip.reading.originals)
    nodes = file.json["nodes"]
    nodes.append({"name": "Figure", "children": []})
    joints = list(range(1, len(skeleton) + 1))
    for joint, name in enumerate(skeleton.names):
        place = metres * skeleton.offset_array[joint]
        turn = skeleton.rest_rotations[joint]
        if skeleton.parents[joint] < 0:
            place, turn = rotation.rotate(upright, place), rotation.multiply(upright, turn)
            nodes[0]["children"].append(joints[joint])
        else:
            nodes[joints[skeleton.parents[joint]]].setdefault("children", []).append(joints[joint])
        node = {"translation": _plain(place), "rotation": _plain(rotation.normalise(turn))}
        name = originals.get(name, name)
        nodes.append({"name": name, **node} if name else node)
    for end in skeleton.ends:
        nodes.append(
            {
                "name": f"{skeleton.names[end.parent]} end",
                "translation": _plain(metres * np.array(end.offset)),
            }
        )
        nodes[joints[end.parent]].setdefault("children", []).append(len(nodes) - 1)
    file.json["scenes"].append({"nodes": [0]})
    return joints


def _skin(
    file: _File, clip: Clip, skin: Skin | None, upright: Floats, joints: Sequence[int]
) -> None:
    """The skin's joints, so that they are known as such, and its mesh beside them."""
    skeleton, metres = clip.skeleton, clip.reading.metres_per_unit
    binds = binds_at_rest(skeleton) if skin is None else skin.binds
    down = rotation.matrix(rotation.conjugate(upright))
    matrices = np.tile(np.eye(4), (len(skeleton), 1, 1))
    matrices[:, :3, :3] = binds[:, :, :3] @ down
    matrices[:, :3, 3] = metres * binds[:, :, 3]
    columns = matrices.transpose(0, 2, 1).reshape(-1, 16).astype("<f4")
    columns[:, [3, 7, 11]], columns[:, 15] = 0.0, 1.0
    inverse = file.accessor(columns)
    file.json["skins"].append(
        {"joints": list(joints), "inverseBindMatrices": inverse, "skeleton": 0}
    )
    if skin is None:
        return
    points = metres * rotation.rotate(upright, skin.points.astype(np.float64))
    attributes = {
        "POSITION": file.accessor(points.astype("<f4"), bounds=True, target=VERTICES),
        "NORMAL": file.accessor(_normals(points, skin), target=VERTICES),
    }
    for k in range(0, skin.joints.shape[1], 4):
        which, share = (np.zeros((len(points), 4), "<u2") for _ in range(2))
        width = min(4, skin.joints.shape[1] - k)
        which[:, :width], share[:, :width] = skin.joints[:, k : k + 4], skin.weights[:, k : k + 4]
        attributes[f"JOINTS_{k // 4}"] = file.accessor(which, target=VERTICES)
        attributes[f"WEIGHTS_{k // 4}"] = file.accessor(share, normalized=True, target=VERTICES)
    corners = skin.triangles.astype("<u4").reshape(-1, 1)
    primitive = {"attributes": attributes, "indices": file.accessor(corners, target=ELEMENTS)}
    file.json["meshes"].append({"name": "Body", "primitives": [primitive]})
    file.json["nodes"].append({"name": "Body", "mesh": 0, "skin": 0})
    file.json["scenes"][0]["nodes"].append(len(file.json["nodes"]) - 1)


def _normals(points: Floats, skin: Skin) -> AnyArray:
    a, b, c = (points[skin.triangles[:, k]] for k in range(3))
    across = np.cross(b - a, c - a)
    out = np.zeros_like(points)
    for k in range(3):
        np.add.at(out, skin.triangles[:, k], across)
    size = np.linalg.norm(out, axis=1, keepdims=True)
    return np.where(size > 1e-20, out / np.maximum(size, 1e-20), [0.0, 1.0, 0.0]).astype("<f4")


class _Keys:
    """An animation that is being written: its times are shared by all that moves."""

    def __init__(self, file: _File, clip: Clip) -> None:
        self.file = file
        self.rate = float(clip.rate)
        self.seconds = np.arange(clip.frames) / self.rate
        self.told: dict[str, Any] = {"name": clip.name, "samplers": [], "channels": []}
        self._inputs: dict[int, int] = {}

    def move(self, node: int, path: str, values: Floats, rest: Floats, told: bool = False) -> None:
        """A node's values ``(F, n)``: none where it stands as it rests, unless it is to be ``told``
        anyway, and one where it stands."""
        moves = not _alike(path, values, values[0])
        if not moves and not told and _alike(path, values[0], rest):
            return
        rows = values if moves else values[:1]
        if len(rows) not in self._inputs:
            seconds = self.seconds[: len(rows)].astype("<f4").reshape(-1, 1)
            self._inputs[len(rows)] = self.file.accessor(seconds, bounds=True)
        self._sampler(node, path, self._inputs[len(rows)], rows, "LINEAR")

    def bend(self, node: int, path: str, spline: Spline, values: Floats) -> None:
        """A node's spline, of keys with tangents in, values and tangents out ``(K, 3, n)``."""
        seconds = spline.keys / PER_FRAME / self.rate
        at = self.file.accessor(seconds.astype("<f4").reshape(-1, 1), bounds=True)
        self._sampler(node, path, at, values.reshape(-1, values.shape[-1]), "CUBICSPLINE")

    def _sampler(self, node: int, path: str, at: int, rows: Floats, kind: str) -> None:
        output = self.file.accessor(rows.astype("<f4"))
        self.told["samplers"].append({"input": at, "output": output, "interpolation": kind})
        target = {"node": node, "path": path}
        channel = {"sampler": len(self.told["samplers"]) - 1, "target": target}
        self.told["channels"].append(channel)


def _animation(
    file: _File, clip: Clip, upright: Floats, joints: Sequence[int], things: Sequence[int],
    splines: Splines,
) -> None:  # fmt: skip
    skeleton, metres = clip.skeleton, clip.reading.metres_per_unit
    pose = evaluate(clip)
    turns = rotation.hemisphere(pose.rotation)
    keys = _Keys(file, clip)
    for joint, node in enumerate(joints):
        root = skeleton.parents[joint] < 0

        def turn(q: Floats, root: bool = root) -> Floats:
            return rotation.multiply(upright, q) if root else q

        def place(v: Floats, root: bool = root) -> Floats:
            return metres * (rotation.rotate(upright, v) if root else v)

        for path, own, rest, said, fitted in (
            ("translation", pose.translation, skeleton.offset_array, place, splines.places),
            ("rotation", turns, skeleton.rest_rotations, turn, splines.turns),
        ):
            spline = fitted.get(joint)
            if spline is None or len(spline.keys) < 2:
                keys.move(node, path, said(own[:, joint]), said(rest[joint]))
            elif not _alike(path, own[:, joint], rest[joint]):
                rows = (spline.takes * keys.rate, spline.values, spline.gives * keys.rate)
                keys.bend(node, path, spline, np.stack([said(v) for v in rows], axis=1))
    turned, placed = placed_props(clip) if things else (np.zeros(0), np.zeros(0))
    for k, node in enumerate(things):
        places = metres * rotation.rotate(upright, placed[:, k])
        # One that never moves is known as a thing by that it has a key.
        keys.move(node, "translation", places, np.zeros(3), told=True)
        own = rotation.hemisphere(rotation.multiply(upright, turned[:, k]))
        keys.move(node, "rotation", own, np.array(rotation.IDENTITY))
    if keys.told["channels"]:
        file.json["animations"].append(keys.told)


SIDES = np.array([
    (0, 1, 3), (0, 3, 2), (4, 6, 7), (4, 7, 5), (0, 4, 5), (0, 5, 1),
    (2, 3, 7), (2, 7, 6), (0, 2, 6), (0, 6, 4), (1, 5, 7), (1, 7, 3),
])  # fmt: skip
"""Triangles of a box, outwards."""


def _things(file: _File, clip: Clip) -> list[int]:
    """A node for each prop, beside the figure: a box as large as it is."""
    out = []
    for prop in clip.props:
        points = clip.reading.metres_per_unit * CORNERS * np.array(prop.size)
        corners = SIDES.astype("<u2").reshape(-1, 1)
        primitive = {
            "attributes": {
                "POSITION": file.accessor(points.astype("<f4"), bounds=True, target=VERTICES)
            },
            "indices": file.accessor(corners, target=ELEMENTS),
        }
        file.json["meshes"].append({"name": prop.name, "primitives": [primitive]})
        file.json["nodes"].append({"name": prop.name, "mesh": len(file.json["meshes"]) - 1})
        out.append(len(file.json["nodes"]) - 1)
        file.json["scenes"][0]["nodes"].append(out[-1])
    return out


def _alike(path: str, values: Floats, other: Floats) -> bool:
    if path == "translation":
        return bool(np.abs(values - other).max() <= STILL_M)
    return bool(rotation.geodesic_deg(values, other).max() <= STILL_DEG)
