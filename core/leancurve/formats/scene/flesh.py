"""Meshes of a scene put on a figure: its body."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass

import numpy as np

from leancurve.figure.skin import MOST_POINTS, MOST_TRIANGLES, Skin, skin_from
from leancurve.formats.scene.moves import NOTHING
from leancurve.formats.scene.posed import Motion, Worlds
from leancurve.formats.scene.scene import Figure, Scene, SkinnedMesh
from leancurve.numbers.arrays import Floats, Ints

ALIKE = 1e-4
"""Share of the mesh's size by which two skins' poses may differ and be one."""


@dataclass(frozen=True)
class _Put:
    """A mesh whose points and joints are the figure's."""

    points: Floats
    triangles: Ints
    joints: Ints
    weights: Floats


def body_of(
    scene: Scene, figure: Figure, rest: Motion, others: Collection[int]
) -> tuple[Skin | None, list[str]]:
    """The meshes that a figure's joints carry as one skin, and what there is to say about them;
    what hangs on one of the ``others`` goes with that."""
    nodes, meshes = scene.nodes, scene.meshes
    if not meshes:
        return None, []
    at = {node: k for k, node in enumerate(figure.nodes)}
    worlds = Worlds(nodes, NOTHING, np.zeros(1), 0.0)
    binds: dict[int, Floats] = {}
    own = [m for m in meshes if m.binds is not None and any(n in at for n in m.nodes)]
    for mesh in own:
        assert mesh.binds is not None
        for node, bind in zip(mesh.nodes, mesh.binds, strict=True):
            if node in at and _sound(bind):
                binds.setdefault(at[node], bind)
    unbound = [k for k in range(len(figure.nodes)) if k not in binds]
    stood = worlds.of_all([figure.nodes[k] for k in unbound])
    binds |= {k: np.linalg.inv(w[0]) for k, w in zip(unbound, stood, strict=True)}
    put, left_out = [], 0
    for mesh in own:
        found = _put(mesh, at, binds)
        left_out += found is None
        put += [found] if found else []
    for mesh in meshes:
        if mesh.binds is None:
            found = _carried(mesh, at, binds, others, worlds)
            put += [found] if found else []
    notes = []
    if left_out:
        which = "mesh was" if left_out == 1 else "meshes were"
        notes.append(f"{left_out} {which} put on in another pose than the rest and is left out")
    triangles = sum(len(p.triangles) for p in put)
    points = sum(len(p.points) for p in put)
    if not triangles:
        return None, notes
    if triangles > MOST_TRIANGLES or points > MOST_POINTS:
        notes.append(
            f"the body has {triangles:,} triangles, more than {MOST_TRIANGLES:,}: left out"
        )
        return None, notes
    sizes = rest.sizes[0]
    placed = np.stack([sizes[k] * binds[k][:3] for k in range(len(figure.nodes))])
    skin = _together(put, placed)
    notes.append(
        f"its body: {len(skin.triangles):,} triangles, {len(skin.points):,} points; textures and "
        "materials are left out"
    )
    return skin, notes


def _sound(bind: Floats) -> bool:
    return bool(np.all(np.isfinite(bind)) and np.linalg.det(bind[:3, :3]) > 1e-12)


def _moved(points: Floats, change: Floats) -> Floats:
    return np.asarray(points @ change[:3, :3].T + change[:3, 3])


def _put(mesh: SkinnedMesh, at: dict[int, int], binds: dict[int, Floats]) -> _Put | None:
    """A mesh in the pose that the figure's skin is bound in: None where it was in another."""
    assert mesh.binds is not None
    there = [k for k, node in enumerate(mesh.nodes) if node in at and _sound(mesh.binds[k])]
    used = np.unique(mesh.joints[mesh.weights > 0.0])
    if not np.all(np.isin(used, there)) or not len(used):
        return None
    # One and the same change must bring all its joints' binds to the figure's.
    first = int(used[0])
    change = np.linalg.inv(binds[at[mesh.nodes[first]]]) @ mesh.binds[first]
    points = _moved(mesh.points, change)
    size = float(np.ptp(points, axis=0).max()) or 1.0
    for k in used:
        ours, theirs = binds[at[mesh.nodes[int(k)]]] @ change, mesh.binds[int(k)]
        away = np.abs(ours - theirs)
        if max(away[:3, :3].max() * size, away[:3, 3].max()) > ALIKE * size * np.abs(theirs).max():
            return None
    names = np.array([at.get(node, 0) for node in mesh.nodes])
    return _Put(points, mesh.triangles, names[mesh.joints], mesh.weights)


def _carried(
    mesh: SkinnedMesh, at: dict[int, int], binds: dict[int, Floats], others: Collection[int],
    worlds: Worlds,
) -> _Put | None:  # fmt: skip
    """A mesh without a skin that hangs on a joint: it follows that one alone."""
    (node,) = mesh.nodes
    way = [node, *worlds.nodes.above(node)]
    holder = next((n for n in way if n in at or n in others), None)
    if holder is None or holder not in at:
        return None
    joint = at[holder]
    own = np.linalg.inv(worlds.of(holder)[0]) @ worlds.of(node)[0]
    change = np.linalg.inv(binds[joint]) @ own
    points = _moved(mesh.points, change)
    ones = np.ones((len(points), 1))
    return _Put(points, mesh.triangles, np.full((len(points), 1), joint), ones)


def _together(put: Sequence[_Put], binds: Floats) -> Skin:
    width = max(p.joints.shape[1] for p in put)
    starts = np.cumsum([0, *(len(p.points) for p in put)])

    def wide(values: Floats | Ints) -> Floats:
        return np.pad(values.astype(np.float64), ((0, 0), (0, width - values.shape[1])))

    return skin_from(
        np.concatenate([p.points for p in put]),
        np.concatenate([p.triangles + s for p, s in zip(put, starts, strict=False)]),
        np.concatenate([wide(p.joints) for p in put]).astype(np.int64),
        np.concatenate([wide(p.weights) for p in put]),
        binds,
    )
