"""Takes of a scene: each animation of each figure as a clip, with what was understood."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Sequence
from dataclasses import replace

import numpy as np

from leancurve.curves.curve import Curve, SampledCurve
from leancurve.document.clip import Clip, Reading
from leancurve.document.evaluation import evaluate
from leancurve.document.prop import ORDER, Prop, prop_track
from leancurve.document.rotations import angles_afresh
from leancurve.document.track import TrackId, base_track
from leancurve.errors import BadInput, short
from leancurve.figure.skeleton import EndSite, Skeleton
from leancurve.formats.bvh import Take
from leancurve.formats.choices import AS_TOLD, Choices
from leancurve.formats.orders import best_orders
from leancurve.formats.scene.flesh import body_of
from leancurve.formats.scene.kept import Kept
from leancurve.formats.scene.moves import NOTHING, Animation
from leancurve.formats.scene.nodes import figures, turns_of
from leancurve.formats.scene.posed import Motion, Worlds, motion_of
from leancurve.formats.scene.scene import Figure, Scene, size_of, unlike
from leancurve.measures.drift import find_ends
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats
from leancurve.retarget.rest import RestFigure

STILL = 1e-9
"""What moves by less, as a share of the figure's size, stands."""
MOST_TAKES = 200
MOST_PROPS = 50
PROVED = 20
"""Frames that are calculated once more, with matrices in the file's own terms."""
UNEVEN = 1e-3
BONES_AGREE = 0.01
"""Share of a bone's length by which a skin's pose and the nodes may differ and be one figure's."""
POINT = 0.05
"""The size of a prop that has no extent of its own, metres."""


def takes_of(scenes: Sequence[Scene], name: str, choices: Choices = AS_TOLD) -> list[Take]:
    """Every animation of every figure in scenes, as a take of its own.

    Keys are kept where curves follow them exactly, all else is sampled on the frames of the rate
    that the keys fit. Rotations become Euler channels, of each joint in the order that stays
    farthest from gimbal lock over all animations. What moves and is of no figure is a prop. A
    scene that moves nothing is its figures at rest, one frame long. ``choices`` say what of this
    is wanted otherwise.
    """
    found = []
    for scene in scenes:
        moving = {node for a in scene.animations for node, _ in a.moves}
        joints, others = figures(scene.nodes, moving)
        found += [(scene, own, others) for own in joints]
    if not found:
        raise BadInput("it holds no skeleton: no skin, and no nodes that move one another")
    choices.require_joints({n for s, own, _ in found for n in Figure.of(s.nodes, own).names})
    takes: list[Take] = []
    for scene, own, others in found:
        takes += _figures_takes(scene, own, others, name, choices, len(found) > 1)
    if len(takes) > MOST_TAKES:
        raise BadInput(f"it holds {len(takes)} takes; at most {MOST_TAKES}")
    called = unlike([t.clip.name for t in takes])
    return [replace(t, clip=replace(t.clip, name=n)) for t, n in zip(takes, called, strict=True)]


def _figures_takes(
    scene: Scene, joints: Sequence[int], others: Sequence[int], name: str,
    choices: Choices, several: bool,
) -> list[Take]:  # fmt: skip
    figure = Figure.of(scene.nodes, joints)
    own = {*figure.nodes, *scene.nodes.above(figure.nodes[0])}
    moved = [a for a in scene.animations if any(n in own for n, _ in a.moves)]
    rest = motion_of(figure, scene.nodes, NOTHING, None)
    beside = frozenset(others)
    motions = [motion_of(figure, scene.nodes, a, choices.rate, beside) for a in moved] or [rest]
    skeleton, notes = _skeleton(scene, figure, rest, beside)
    skin, fleshed = body_of(scene, figure, rest, beside)
    best = best_orders([m.turn for m in motions])
    orders = [
        choices.orders.get(joint, choices.order or order)
        for joint, order in zip(figure.names, best, strict=True)
    ]
    takes = []
    for k, (animation, motion) in enumerate(zip(moved or [NOTHING], motions, strict=True)):
        called = animation.name or (name if len(motions) == 1 else f"{name} {k + 1}")
        if several:
            called = f"{called}, {figure.names[0]}"
        kept = Kept(figure, animation, motion, choices.within_deg)
        clip = _clip(scene, skeleton, motion, kept, orders, called)
        told = [*_said(scene, motion, kept, orders, choices), *notes, *fleshed, *scene.notes]
        if moved:
            told.append(_proof(clip, figure, scene, animation, motion))
            if animation.ignored:
                told.append(f"{animation.ignored} channels of morph targets are left out")
            clip, more = _with_props(clip, scene, others, animation, motion)
            told += more
        takes.append(Take(clip, tuple(told), skin=skin))
    return takes


def _skeleton(
    scene: Scene, figure: Figure, rest: Motion, others: Collection[int]
) -> tuple[Skeleton, list[str]]:
    offsets = tuple((float(x), float(y), float(z)) for x, y, z in rest.place[0])
    ends = _ends(scene, figure, rest, others)
    made = Skeleton(figure.names, figure.parents, offsets, ends, _tuples(rest.turn[0]))
    notes = []
    bound = _as_bound(scene, figure, made)
    if bound is not None:
        made = bound
        notes.append("the pose at rest is the one in which its skin was put on")
    elif any(abs(w) < 1.0 - 1e-9 for *_, w in made.rests):
        notes.append("joints stand turned at rest: their rest rotations are kept")
    return made, notes


def _ends(
    scene: Scene, figure: Figure, rest: Motion, others: Collection[int]
) -> tuple[EndSite, ...]:
    """The tips of joints: nodes at the end of a joint that carry nothing and stand still."""
    nodes = scene.nodes
    at = {node: k for k, node in enumerate(figure.nodes)}
    out, before = [], 0
    for node in nodes.below(figure.nodes[0]):
        if node in at:
            before += 1
            continue
        holder = at.get(nodes.parents[node])
        if holder is None or nodes.children[node] or node in nodes.bearing or node in others:
            continue
        x, y, z = (rest.sizes[0, holder] * nodes.placed[node].place).tolist()
        out.append(EndSite(holder, (x, y, z), before))
    return tuple(out)


def _tuples(turns: Floats) -> tuple[tuple[float, float, float, float], ...]:
    return tuple(
        (float(x), float(y), float(z), float(w)) for x, y, z, w in rotation.normalise(turns)
    )


def _as_bound(scene: Scene, figure: Figure, standing: Skeleton) -> Skeleton | None:
    """The skeleton in the pose that its skin was put on in, where every joint has one, the bones
    are as long there, it is a body's and not how the nodes stand anyway."""
    if any(n not in scene.binds for n in figure.nodes):
        return None
    if any(np.linalg.det(scene.binds[n][:3, :3]) < 1e-12 for n in figure.nodes):
        return None
    turned = turns_of(np.stack([scene.binds[n] for n in figure.nodes]))
    local = np.empty_like(turned)
    for k, parent in enumerate(figure.parents):
        local[k] = (
            standing.rest_rotations[k]
            if parent < 0
            else rotation.multiply(rotation.conjugate(turned[parent]), turned[k])
        )
    places = np.stack([scene.binds[n][:3, 3] for n in figure.nodes])
    # A skin may be in another unit than the nodes.
    theirs = np.array(
        [
            0.0 if p < 0 else float(np.linalg.norm(places[k] - places[p]))
            for k, p in enumerate(figure.parents)
        ]
    )
    ours = np.where(
        np.array(figure.parents) < 0, 0.0, np.linalg.norm(standing.offset_array, axis=1)
    )
    scale = ours.sum() / theirs.sum() if theirs.sum() > 0.0 else 0.0
    if np.abs(scale * theirs - ours).max() > BONES_AGREE * max(float(ours.max()), 1e-12):
        return None
    if rotation.geodesic_deg(local, standing.rest_rotations).max() < 0.01:
        return None
    bound = replace(standing, rests=_tuples(local))
    reading = Reading(metres_per_unit=scene.metres_per_unit, up_axis=scene.up_axis)
    return bound if RestFigure.of(bound, reading).is_pose else None


def _clip(
    scene: Scene, skeleton: Skeleton, motion: Motion, kept: Kept, orders: Sequence[str], name: str
) -> Clip:
    """A clip of a motion: three rotation channels a joint, and position channels of the roots and
    of what does not stay where it is at rest."""
    height = max(skeleton.rest_height, 1e-6)
    angles = _angles(motion, orders)
    layout: list[tuple[str, ...]] = []
    curves: dict[TrackId, Curve] = {}
    for joint, order in enumerate(orders):
        place = motion.place[:, joint]
        away = float(np.abs(place - skeleton.offset_array[joint]).max())
        names: tuple[str, ...] = tuple(f"r{axis.lower()}" for axis in order)
        if skeleton.parents[joint] < 0 or away > STILL * height:
            moved: Sequence[Curve] = kept.positions(joint) or _sampled(place)
            for k, axis in enumerate("xyz"):
                curves[base_track(joint, f"t{axis}")] = moved[k]
            names = ("tx", "ty", "tz", *names)
        turned: Sequence[Curve] = kept.angles(joint, order) or _sampled(angles[joint])
        for k, axis in enumerate(order):
            curves[base_track(joint, f"r{axis.lower()}")] = turned[k]
        layout.append(names)
    reading = Reading(
        metres_per_unit=scene.metres_per_unit,
        up_axis=scene.up_axis,
        root_positions="replace",
        joint_positions="replace",
        ends=find_ends(skeleton),
        originals=kept.figure.originals,
    )
    return Clip(
        skeleton, tuple(layout), curves, motion.told.rate, motion.told.frames, reading, name
    )


def _angles(motion: Motion, orders: Sequence[str]) -> dict[int, Floats]:
    """Angles ``(F, 3)`` of each joint, of those in one order together."""
    out: dict[int, Floats] = {}
    by_joint = motion.turn.transpose(1, 0, 2)
    for order in set(orders):
        joints = [j for j, o in enumerate(orders) if o == order]
        out |= zip(joints, angles_afresh(by_joint[joints], order), strict=True)
    return out


def _sampled(values: Floats) -> list[SampledCurve]:
    return [SampledCurve(values[:, k].copy()) for k in range(values.shape[1])]


def _said(
    scene: Scene, motion: Motion, kept: Kept, orders: Sequence[str], choices: Choices
) -> list[str]:
    told = motion.told
    by = "told by the times of the keys" if choices.rate is None else "as chosen"
    out = [f"{scene.told}; rate {float(told.rate):g} a second, {by}"]
    if told.off:
        out.append(f"{told.off} keys lie between frames")
    (usual, _), *others = Counter(orders).most_common()
    angles = f"rotations become angles in the order {usual}"
    if others:
        angles += f"; {', '.join(f'{n} in {o}' for o, n in others)}"
    if choices.order or choices.orders:
        angles += ", as chosen"
    elif others:
        angles += ", farther from gimbal lock"
    out.append(angles)
    said = kept.said()
    out += said
    out.append(f"{'all else is' if said else 'rotations and positions are'} sampled on every frame")
    if motion.uneven > UNEVEN:
        out.append(
            f"scales differ by axis by up to {100 * motion.uneven:.1f} %: only the even part of "
            "them is kept"
        )
    return out


def _proof(clip: Clip, figure: Figure, scene: Scene, animation: Animation, motion: Motion) -> str:
    """Some frames calculated anew with 4 × 4 matrices of the file's nodes, beside the clip."""
    frames = np.unique(np.linspace(0, clip.frames - 1, PROVED).astype(int))
    worlds = Worlds(scene.nodes, animation, motion.seconds[frames], motion.near)
    _, places = evaluate(clip, frames.astype(np.float64)).world(clip.skeleton)
    theirs = np.stack([w[:, :3, 3] for w in worlds.of_all(figure.nodes)], axis=1)
    away = float(np.linalg.norm(places - theirs, axis=-1).max())
    return (
        f"calculated anew from the file on {len(frames)} frames, joints are within "
        f"{_shown(away * scene.metres_per_unit)}"
    )


def _shown(metres: float) -> str:
    return "0.001 mm" if metres < 1e-6 else f"{1000 * metres:.3g} mm"


def _with_props(
    clip: Clip, scene: Scene, others: Sequence[int], animation: Animation, motion: Motion
) -> tuple[Clip, list[str]]:
    """The clip with what moves beside its figure: a box as large as the thing's mesh, or a point
    where it has none."""
    nodes = scene.nodes
    moved = {node for node, _ in animation.moves}
    shown = [n for n in others if moved & {n, *nodes.above(n)}]
    notes = []
    if len(shown) > MOST_PROPS:
        notes.append(f"of {len(shown)} things that move, the first {MOST_PROPS} are kept as props")
        shown = shown[:MOST_PROPS]
    if not shown:
        return clip, notes
    worlds = Worlds(nodes, animation, motion.seconds, motion.near)
    names = unlike([nodes.names[n] or f"thing {k + 1}" for k, n in enumerate(shown)])
    props, curves = [], dict(clip.curves)
    for k, node in enumerate(shown):
        world = worlds.of(node)
        box = scene.boxes.get(node)
        sizes = np.linalg.norm(world[0, :3, :3], axis=0)
        if box is None or size_of(box) <= 0.0:
            extent, middle = np.full(3, POINT / scene.metres_per_unit), np.zeros(3)
        else:
            extent, middle = sizes * (box[1] - box[0]), box.mean(axis=0)
        extent = np.maximum(extent, STILL)
        size = (float(extent[0]), float(extent[1]), float(extent[2]))
        prop = Prop(k, names[k], "point" if box is None else "box", size)
        place = world[:, :3, :3] @ middle + world[:, :3, 3]
        turned = rotation.hemisphere(turns_of(world))
        angles = angles_afresh(turned, ORDER)
        for axis, values in zip("xyz", place.T, strict=True):
            curves[prop_track(prop.id, f"t{axis}")] = SampledCurve(values.copy())
        for axis, values in zip(ORDER, angles.T, strict=True):
            curves[prop_track(prop.id, f"r{axis.lower()}")] = SampledCurve(values.copy())
        props.append(prop)
    told = ", ".join(short(p.name, 24) for p in props[:4])
    more = f" and {len(props) - 4} more" if len(props) > 4 else ""
    notes.append(f"what moves beside the figure is kept as props: {told}{more}")
    return replace(clip, curves=curves, props=tuple(props)), notes
