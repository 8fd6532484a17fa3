"""Bodies: skinned meshes of glTF and USD, against skinning in each file's own terms."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
from leancurve.document.evaluation import evaluate
from leancurve.errors import BadInput
from leancurve.figure.skin import Skin, skin_from
from leancurve.formats.gltf.reading import read_gltf
from leancurve.formats.scene import flesh
from leancurve.formats.usd.reading import read_usd
from leancurve.numbers.arrays import Floats
from pxr import Gf, Usd, UsdGeom, UsdSkel, Vt
from scipy.spatial.transform import Rotation

from tests.core import test_usd as usd
from tests.core.gltf_files import Built, glb
from tests.core.in_node import three_sees
from tests.core.test_gltf import CRATE, STEPS, WAVE, T, walking
from tests.core.usd_files import written

FRAMES = (0, 7, 13, 20, 26, 33, 40, 47, 53, 60)
SIDES, RINGS = 8, 12


def tube() -> tuple[Floats, Floats]:
    """Points and triangles of an upright tube, 0.9 to 1.8 m high."""
    heights = np.linspace(0.9, 1.8, RINGS)
    around = np.linspace(0, 2 * np.pi, SIDES, endpoint=False)
    points = [(0.15 * np.cos(a), h, 0.15 * np.sin(a)) for h in heights for a in around]
    faces = []
    for r in range(RINGS - 1):
        for k in range(SIDES):
            a, b = r * SIDES + k, r * SIDES + (k + 1) % SIDES
            faces += [(a, a + SIDES, b), (b, a + SIDES, b + SIDES)]
    return np.array(points), np.array(faces)


POINTS, FACES = tube()


def weights_of(joints: int, width: int, seed: int = 0) -> tuple[Any, Floats]:
    random = np.random.default_rng(seed)
    which = np.stack([random.permutation(joints)[:width] for _ in POINTS])
    share = random.random((len(POINTS), width)) ** 3 + 0.01
    return which, share / share.sum(axis=1, keepdims=True)


def of_four(values: Any, start: int) -> Any:
    out = np.zeros((len(values), 4))
    part = values[:, start : start + 4]
    out[:, : part.shape[1]] = part
    return out


def fleshed(width: int = 3, **hips: Any) -> tuple[Built, dict[str, int], Any, Floats, Floats]:
    """The walking figure with a tube about it: its skin was put on in a pose of its own."""
    b, at = walking()
    b.json["nodes"][at["Hips"]] |= hips
    joints = b.json["skins"][0]["joints"]
    which, share = weights_of(3, min(width, 3))
    if width > 4:
        # Eight weights of three joints: each joint several times.
        which, share = weights_of(3, 3)
        which, share = np.tile(which, (1, 3))[:, :8], np.tile(share, (1, 3))[:, :8]
        share = share / share.sum(axis=1, keepdims=True)
    share = share.astype("<f4").astype(float)
    attributes: dict[str, int] = {}
    for k in range(2 if width > 4 else 1):
        attributes[f"JOINTS_{k}"] = b.accessor(of_four(which, 4 * k), "<u1", 5121)
        attributes[f"WEIGHTS_{k}"] = b.accessor(of_four(share, 4 * k))
    mesh = b.mesh(POINTS, FACES, **attributes)
    body = b.node("Body", mesh=mesh, skin=0)
    assert body >= 0
    inverse = np.tile(np.eye(4), (3, 1, 1))
    for k, (place, turn) in enumerate(((0.95, 0.0), (1.25, 20.0), (1.65, -35.0))):
        world = np.eye(4)
        world[:3, :3] = Rotation.from_euler("XYZ", [turn, turn / 2, 0], degrees=True).as_matrix()
        world[:3, 3] = 0.0, place, 0.01 * k
        inverse[k] = np.linalg.inv(world)
    inverse = inverse.astype("<f4").astype(float)
    b.json["skins"][0]["inverseBindMatrices"] = b.accessor(
        inverse.transpose(0, 2, 1).reshape(3, 16)
    )
    assert len(joints) == 3
    return b, at, which, share, inverse


def worlds(b: Built, at: dict[str, int], frame: int) -> list[Floats]:
    """Matrices of the three joints in the file's own terms."""
    out = []
    above = np.eye(4)
    for name in ("Armature", "Hips", "Spine", "Head"):
        node = b.json["nodes"][at[name]]
        place, turn = node.get("translation", (0, 0, 0)), node.get("rotation", (0, 0, 0, 1))
        if name == "Hips":
            place = STEPS[frame]
        if name == "Spine":
            turn = WAVE[frame]
        own = np.eye(4)
        own[:3, :3] = Rotation.from_quat(turn).as_matrix() * np.array(node.get("scale", (1, 1, 1)))
        own[:3, 3] = place
        above = above @ own
        out.append(above)
    return out[1:]


def posed(skin: Skin, clip: Any, frame: float) -> Floats:
    turned, placed = evaluate(clip, np.array([frame])).world(clip.skeleton)
    return skin.posed(turned[0], placed[0])


def skinned(b: Built, at: Any, which: Any, share: Any, inverse: Any, frame: int) -> Floats:
    """The specification's formula, written out plainly (glTF 2.0, 3.7.3.3)."""
    joints = worlds(b, at, frame)
    out = np.zeros((len(POINTS), 3))
    for n, point in enumerate(POINTS.astype("<f4").astype(float)):
        for joint, weight in zip(which[n], share[n] / share[n].sum(), strict=True):
            moved = joints[joint] @ inverse[joint] @ np.append(point, 1.0)
            out[n] += weight * moved[:3]
    return out


def same_points(ours: Floats, theirs: Floats, near: float) -> None:
    """Each point of one is one of the other: welding changes their order."""
    away = np.linalg.norm(ours[:, None] - theirs[None], axis=-1)
    assert away.min(axis=0).max() < near
    assert away.min(axis=1).max() < near


@pytest.mark.parametrize("width", [1, 3, 8])
def test_a_gltf_body_follows_its_joints_as_the_specification_says(width: int) -> None:
    b, at, which, share, inverse = fleshed(width)
    b.json["nodes"][at["Armature"]] |= {
        "scale": [0.5] * 3, "rotation": [-0.5, 0.5, 0.5, 0.5], "translation": [1, 2, 3],
    }  # fmt: skip
    (take,) = read_gltf(b.glb())
    assert take.skin is not None
    height = take.clip.skeleton.rest_height
    for frame in FRAMES:
        theirs = skinned(b, at, which, share, inverse, frame)
        same_points(posed(take.skin, take.clip, frame), theirs, 1e-4 * height)
    assert len(take.skin.triangles) == len(FACES)
    assert any(n.startswith(f"its body: {len(FACES)} triangles, 96 points") for n in take.notes)


POINTS_OF_SKINS = """
    const at = []
    gltf.scene.traverse((o) => {
      if (!o.isSkinnedMesh) return
      o.skeleton.update()
      const point = new Vector3()
      for (let k = 0; k < o.geometry.attributes.position.count; k++)
        at.push(o.localToWorld(o.getVertexPosition(k, point)).toArray())
    })
    out.push(at)
"""


def test_three_js_puts_the_points_of_a_body_where_we_do(tmp_path: Path) -> None:
    """three.js' GLTFLoader and its SkinnedMesh, on ten frames: within 1e-4 of the height."""
    b, at, *_ = fleshed(3)
    body = len(b.json["nodes"]) - 1
    scene = b.document() | {"scenes": [{"nodes": [at["Armature"], body]}], "scene": 0}
    path = tmp_path / "walk.glb"
    path.write_bytes(glb(scene, bytes(b.binary)))
    (take,) = read_gltf(path.read_bytes())
    seconds = [f / 30 for f in FRAMES if f < 60]
    seen = three_sees("three-body-check", path, seconds, POINTS_OF_SKINS)
    assert take.skin is not None
    for second, theirs in zip(seconds, seen, strict=True):
        ours = posed(take.skin, take.clip, second * 30)
        same_points(ours, np.array(theirs), 1e-4 * take.clip.skeleton.rest_height)


def test_what_hangs_on_a_joint_goes_with_it_and_what_moves_itself_does_not() -> None:
    b, at, *_ = fleshed()
    hat = b.node("Hat", mesh=b.mesh(CRATE, [(0, 1, 2), (1, 3, 2)]), translation=(0, 0.2, 0))
    ball = b.node("Ball", mesh=b.mesh(CRATE, [(0, 1, 2)]))
    b.hang(at["Head"], hat, ball)
    b.node("Floor", mesh=b.mesh(CRATE, [(0, 1, 2)]))
    b.move(b.json["animations"][0], ball, "translation", T, STEPS)
    (take,) = read_gltf(b.glb())
    assert take.skin is not None
    assert len(take.skin.triangles) == len(FACES) + 2
    head = take.clip.skeleton.names.index("Head")
    turned, placed = evaluate(take.clip, np.array([30.0])).world(take.clip.skeleton)
    corner = Rotation.from_quat(turned[0, head]).apply(np.add(CRATE[0], (0, 0.2, 0)))
    points = take.skin.posed(turned[0], placed[0])
    assert np.linalg.norm(points - (corner + placed[0, head]), axis=-1).min() < 1e-5
    assert [p.name for p in take.clip.props] == ["Ball"]


def test_points_that_are_one_but_for_their_texture_become_one() -> None:
    points = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0.0]])
    faces = np.array([[0, 1, 2], [3, 4, 5], [1, 3, 4]])
    ones, joints = np.ones((6, 1)), np.zeros((6, 1), dtype=np.int64)
    skin = skin_from(points, faces, joints, ones, np.eye(4)[None, :3])
    assert len(skin.points) == 4
    assert skin.triangles.tolist() == [[0, 1, 2], [1, 3, 2]]
    joints[3] = 1
    binds = np.tile(np.eye(4)[:3], (2, 1, 1))
    assert len(skin_from(points, faces, joints, ones, binds).points) == 5


def test_a_joint_that_is_named_twice_counts_once() -> None:
    points = np.zeros((1, 3)) + np.arange(3)[:, None]
    joints = np.tile([2, 1, 2, 0], (3, 1))
    weights = np.tile([0.2, 0.3, 0.4, 0.1], (3, 1))
    binds = np.tile(np.eye(4)[:3], (3, 1, 1))
    skin = skin_from(points, np.array([[0, 1, 2]]), joints, weights, binds)
    assert skin.joints[0].tolist() == [2, 1, 0]
    assert skin.weights[0] / 65_535 == pytest.approx([0.6, 0.3, 0.1], abs=1e-4)


def test_weights_keep_the_largest_eight_and_add_up() -> None:
    random = np.random.default_rng(2)
    weights = random.random((50, 12))
    joints = np.tile(np.arange(12), (50, 1))
    points = random.normal(size=(50, 3))
    binds = np.tile(np.eye(4)[:3], (12, 1, 1))
    skin = skin_from(points, np.array([[0, 1, 2]]), joints, weights, binds)
    assert skin.weights.shape == (50, 8)
    assert set(skin.weights.astype(int).sum(axis=1)) == {65_535}
    assert np.all(np.diff(skin.weights.astype(int), axis=1) <= 0)
    best = np.sort(weights, axis=1)[:, ::-1][:, :8]
    assert np.abs(skin.weights / 65_535 - best / best.sum(axis=1, keepdims=True)).max() < 1e-4


def test_a_mesh_put_on_in_another_pose_is_left_out() -> None:
    b, _, which, share, inverse = fleshed()
    other = inverse.copy()
    other[1, :3, 3] += 0.1
    b.json["skins"].append({
        "joints": b.json["skins"][0]["joints"],
        "inverseBindMatrices": b.accessor(other.transpose(0, 2, 1).reshape(3, 16)),
    })  # fmt: skip
    given = {
        "JOINTS_0": b.accessor(of_four(which, 0), "<u1", 5121),
        "WEIGHTS_0": b.accessor(of_four(share, 0)),
    }
    for k, points in enumerate((POINTS, 2 * POINTS)):
        b.node(f"Coat {k}", mesh=b.mesh(points, FACES, **given), skin=1 - k)
    (take,) = read_gltf(b.glb())
    assert take.skin is not None
    # The second coat is on the first skin: it stays.
    assert len(take.skin.triangles) == 2 * len(FACES)
    assert any("1 mesh was put on in another pose" in n for n in take.notes)


def test_a_body_of_too_many_triangles_is_left_out(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(flesh, "MOST_TRIANGLES", 100)
    (take,) = read_gltf(fleshed()[0].glb())
    assert take.skin is None
    assert any("more than 100: left out" in n for n in take.notes)


WRONG = {
    "a point that is not there": ("indices", np.array([[0, 1, 500]]), "of point 500 of 96"),
    "a joint that is not there": ("JOINTS_0", np.full((96, 4), 9), "follows joint 9 of 3"),
    "too few weights": ("WEIGHTS_0", np.ones((95, 4)), "weights for 95 of 96 points"),
}  # fmt: skip


@pytest.mark.parametrize("name", WRONG)
def test_a_wrong_mesh_is_refused(name: str) -> None:
    what, values, why = WRONG[name]
    b, *_ = fleshed()
    primitive = b.json["meshes"][0]["primitives"][0]
    if what == "indices":
        primitive["indices"] = b.accessor(np.ravel(values), "<u4", 5125)
    elif what == "JOINTS_0":
        primitive["attributes"][what] = b.accessor(values, "<u1", 5121)
    else:
        primitive["attributes"][what] = b.accessor(values)
    with pytest.raises(BadInput, match=why):
        read_gltf(b.glb())


def in_usd(put: Gf.Matrix4d, own_order: bool) -> tuple[Any, Any, Any]:
    """The walking skeleton with a tube of quads, and usd-core's query of its skin."""
    stage, skeleton = usd.walking()
    bound = [(0, 0.9, 0), (0, 1.2, 0.02), (0, 1.6, 0.1), (0.1, 0.8, 0)]
    turns = Rotation.random(4, random_state=4).as_quat()
    binds = [usd.matrix(p, q) for p, q in zip(bound, turns, strict=True)]
    skeleton.CreateBindTransformsAttr(Vt.Matrix4dArray(binds))
    mesh = UsdGeom.Mesh.Define(stage, "/Root/Body")
    points = [Gf.Vec3f(*map(float, p)) for p in POINTS]
    mesh.CreatePointsAttr(Vt.Vec3fArray(points))
    quads = []
    for r in range(RINGS - 1):
        for k in range(SIDES):
            a, b = r * SIDES + k, r * SIDES + (k + 1) % SIDES
            quads += [a, a + SIDES, b + SIDES, b]
    mesh.CreateFaceVertexCountsAttr(Vt.IntArray([4] * (len(quads) // 4)))
    mesh.CreateFaceVertexIndicesAttr(Vt.IntArray(quads))
    api = UsdSkel.BindingAPI.Apply(mesh.GetPrim())
    api.CreateSkeletonRel().SetTargets([skeleton.GetPath()])
    which, share = weights_of(3, 3)
    api.CreateJointIndicesPrimvar(False, 3).Set(Vt.IntArray([int(j) for j in which.ravel()]))
    api.CreateJointWeightsPrimvar(False, 3).Set(Vt.FloatArray([float(w) for w in share.ravel()]))
    api.CreateGeomBindTransformAttr(put)
    if own_order:
        api.CreateJointsAttr(Vt.TokenArray([usd.HUMAN[k] for k in (2, 0, 1)]))
    return stage, skeleton, mesh


@pytest.mark.parametrize("own_order", [False, True])
def test_a_usd_body_follows_its_joints_as_usd_core_skins_it(own_order: bool) -> None:
    put = usd.matrix((0.1, 0.2, 0.3), Rotation.random(random_state=1).as_quat(), 0.7)
    stage, skeleton, mesh = in_usd(put, own_order)
    root = UsdGeom.Xformable(stage.GetPrimAtPath("/Root"))
    root.AddTransformOp().Set(usd.matrix((1, 2, 3), (0, 0.6, 0, 0.8)))
    (take,) = read_usd(written(stage, ".usdc"))
    assert take.skin is not None
    assert len(take.skin.triangles) == len(FACES)
    cache = UsdSkel.Cache()
    cache.Populate(UsdSkel.Root(stage.GetPrimAtPath("/Root")), Usd.PrimDefaultPredicate)
    query, skinning = cache.GetSkelQuery(skeleton), cache.GetSkinningQuery(mesh.GetPrim())
    for frame in FRAMES:
        xforms = query.ComputeSkinningTransforms(frame)
        points = Vt.Vec3fArray(mesh.GetPointsAttr().Get())
        assert skinning.ComputeSkinnedPoints(xforms, points, frame)
        world = np.array(UsdGeom.XformCache(frame).GetLocalToWorldTransform(skeleton.GetPrim()))
        theirs = np.array(points) @ world[:3, :3] + world[3, :3]
        same_points(posed(take.skin, take.clip, frame), theirs, 1e-4)
