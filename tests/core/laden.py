"""Clips that carry everything at once: the family on which the laws of composition are held.

A figure with feet that have toes, joints of three, two, one and no rotation channels, rest
rotations, a bone without length and a second root, with layers of every kind and space, placement,
plants of every ease on the world, a joint and a prop, props that are held, and partners: on
sampled, keyed and mixed curves, on 1, 2 or 40 frames, Y or Z up, in centimetres or metres.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from fractions import Fraction
from functools import cache
from typing import Any, Literal

import numpy as np
from leancurve.curves.curve import Curve, SampledCurve, keyed
from leancurve.document.clip import Accepted, Clip, Contact, Mark, Placement, Reading
from leancurve.document.layer import Layer
from leancurve.document.partner import Partner
from leancurve.document.plant import Ease, Plant
from leancurve.document.prop import ORDER, Prop, prop_track
from leancurve.document.track import TrackId, base_track
from leancurve.figure.skeleton import STRAIGHT, EndSite, Skeleton
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats
from leancurve.numbers.continuity import continuous
from leancurve.operations import OPERATIONS, apply_patch

RATE = Fraction(30)
LONG = 40
Kind = Literal["sampled", "keyed", "mixed"]

JOINTS: dict[str, tuple[str, tuple[float, float, float], str]] = {
    "Hips": ("", (0, 92, 0), "ZXY"),
    "Spine": ("Hips", (0, 10, 0), "ZXY"),
    "Chest": ("Spine", (0, 18, 0), "XYZ"),
    "Neck": ("Chest", (0, 24, 0), "YXZ"),
    "Head": ("Neck", (0, 9, 0), "ZXY"),
    "LeftShoulder": ("Chest", (4, 19, 0), "ZYX"),
    "LeftArm": ("LeftShoulder", (13, 0, 0), "ZYX"),
    "LeftForeArm": ("LeftArm", (28, 0, 0), "YZX"),
    "LeftHand": ("LeftForeArm", (25, 0, 0), "ZXY"),
    "RightShoulder": ("Chest", (-4, 19, 0), "ZYX"),
    "RightArm": ("RightShoulder", (-13, 0, 0), "XZY"),
    "RightForeArm": ("RightArm", (-28, 0, 0), "YZX"),
    "RightHand": ("RightForeArm", (-25, 0, 0), "ZXY"),
    "Grip": ("RightHand", (0, 0, 0), "XYZ"),
    "LeftUpLeg": ("Hips", (9, -4, 0), "ZXY"),
    "LeftLeg": ("LeftUpLeg", (0, -41, 0), "XYZ"),
    "LeftFoot": ("LeftLeg", (0, -39, 0), "ZXY"),
    "LeftToeBase": ("LeftFoot", (0, -6, 13), "XYZ"),
    "RightUpLeg": ("Hips", (-9, -4, 0), "YXZ"),
    "RightLeg": ("RightUpLeg", (0, -41, 0), "XYZ"),
    "RightFoot": ("RightLeg", (0, -39, 0), "ZXY"),
    "RightToeBase": ("RightFoot", (0, -6, 13), "XYZ"),
    "Mount": ("Chest", (0, 12, -11), ""),
    "Lid": ("Mount", (0, 14, 0), "X"),
    "Flap": ("Lid", (0, 8, 0), "YX"),
    "Crate": ("", (60, 0, 40), "YXZ"),
    "CrateLid": ("Crate", (0, 30, 0), "Z"),
}
"""Each joint's parent, offset in centimetres with Y up, and rotation order."""
ENDS = {
    "Head": (0, 18, 0), "LeftHand": (16, 0, 0), "RightHand": (-16, 0, 0),
    "LeftToeBase": (0, -3, 7), "RightToeBase": (0, -3, 7), "CrateLid": (20, 0, 0),
}  # fmt: skip
NAMES = tuple(JOINTS)
AT = {name: k for k, name in enumerate(NAMES)}
ROOTS = ("Hips", "Crate")


@dataclass(frozen=True)
class Load:
    """What a member of the family is made of."""

    kind: Kind = "sampled"
    up: Literal["y", "z"] = "y"
    metres_per_unit: float = 0.01
    frames: int = LONG

    def __str__(self) -> str:
        unit = "cm" if self.metres_per_unit == 0.01 else "m"
        return f"{self.kind}-{self.up}-{unit}-{self.frames}"


FAMILY = (
    Load(),
    Load("keyed"),
    Load("mixed", "z", 1.0),
    Load("sampled", "z", 0.01),
    Load("sampled", "y", 1.0, 2),
    Load("keyed", "z", 1.0, 1),
)
WHOLE = tuple(load for load in FAMILY if load.frames == LONG)


class _Axes:
    """Numbers of a figure with Y up in centimetres, as a member of the family has them."""

    def __init__(self, load: Load) -> None:
        self.unit = 0.01 / load.metres_per_unit
        tipped = rotation.from_axis("X", np.array(90.0))
        self.by = np.asarray(tipped if load.up == "z" else rotation.IDENTITY)

    def point(self, values: Any) -> Floats:
        return np.asarray(rotation.rotate(self.by, self.unit * np.asarray(values, np.float64)))

    def turn(self, q: Floats) -> Floats:
        turned = rotation.multiply(rotation.multiply(self.by, q), rotation.conjugate(self.by))
        return np.asarray(turned)

    def three(self, values: Any) -> tuple[float, float, float]:
        x, y, z = (float(v) for v in self.point(values))
        return (x, y, z)


def _skeleton(axes: _Axes) -> Skeleton:
    tilted = tuple(float(v) for v in axes.turn(rotation.exp(np.array([20.0, -35.0, 10.0]))))
    rests = tuple(tilted if name in ("Mount", "LeftArm", "Crate") else STRAIGHT for name in NAMES)
    return Skeleton(
        NAMES,
        tuple(AT[parent] if parent else -1 for parent, _, _ in JOINTS.values()),
        tuple(axes.three(offset) for _, offset, _ in JOINTS.values()),
        tuple(EndSite(AT[n], axes.three(o), AT[n] + 1) for n, o in ENDS.items()),
        rests,  # type: ignore[arg-type]
    )


def _wave(t: Floats, size: float, pace: float, phase: float) -> Floats:
    return size * np.sin(2 * np.pi * pace * t + phase)


def _turns(t: Floats, name: str) -> Floats:
    """A joint's local rotations ``(F, 4)`` with Y up: a slow walk, arms that swing far."""
    random = np.random.default_rng(AT[name] + 7)
    size = 12.0
    if name.endswith(("Arm", "Hand", "ForeArm")):
        size = 30.0
    if name.endswith(("Leg", "Foot", "ToeBase")):
        size = 4.0
    vector = np.stack(
        [_wave(t, random.uniform(0.5, 1) * size, random.uniform(0.3, 0.9), random.uniform(0, 6))
         for _ in range(3)], axis=-1,
    )  # fmt: skip
    q = np.asarray(rotation.exp(vector))
    side = 0.0 if name.startswith("Left") else np.pi
    stride = np.sin(2 * np.pi * 0.8 * t + side)
    if name == "Hips":
        heading = np.stack([0 * t, 30.0 + 25.0 * t, 0 * t], axis=-1)
        q = np.asarray(rotation.multiply(rotation.exp(heading), q))
    if name.endswith("UpLeg"):
        bend = np.stack([-14.0 + 16.0 * stride, 0 * t, 0 * t], axis=-1)
        q = np.asarray(rotation.multiply(rotation.exp(bend), q))
    if name in ("LeftLeg", "RightLeg"):
        bend = np.stack([24.0 + 12.0 * np.maximum(stride, 0), 0 * t, 0 * t], axis=-1)
        q = np.asarray(rotation.multiply(rotation.exp(bend), q))
    return q


def _path(t: Floats, name: str) -> Floats:
    """A root's position channels ``(F, 3)`` with Y up, centimetres: what is added to its offset."""
    if name == "Crate":
        return np.stack([15 * t, 4 + _wave(t, 3, 0.7, 1), 5 * t], axis=-1)
    heading = np.radians(30.0 + 25.0 * t)
    return np.stack(
        [12 * t * np.sin(heading), -3 + _wave(t, 1.5, 1.6, 0), 12 * t * np.cos(heading)], axis=-1
    )


def _angles(q: Floats, order: str) -> Floats:
    return np.asarray(continuous(rotation.to_euler(q, order)[None], order)[0][0])


def bare(load: Load) -> Clip:
    """The figure's own motion, with nothing over it."""
    axes, t = _Axes(load), np.arange(load.frames) / float(RATE)
    curves: dict[TrackId, Curve] = {}
    layout: list[tuple[str, ...]] = []

    def put(track: TrackId, values: Floats) -> None:
        curves[track] = SampledCurve(np.ascontiguousarray(values))

    for name, (_, _, order) in JOINTS.items():
        joint, names = AT[name], [f"r{axis.lower()}" for axis in order]
        if len(order) == 3:
            angles = _angles(axes.turn(_turns(t, name)), order)
        else:
            angles = np.stack([_wave(t, 50, 0.5 + 0.3 * k, k) for k in range(len(order))] or
                              [np.zeros((0,))], axis=-1)  # fmt: skip
        for k, channel in enumerate(names):
            put(base_track(joint, channel), angles[:, k])
        if name in ROOTS:
            moved = axes.point(_path(t, name))
            for k, channel in enumerate(("tx", "ty", "tz")):
                put(base_track(joint, channel), moved[:, k])
            names = ["tx", "ty", "tz", *names]
        layout.append(tuple(names))
    reading = Reading(metres_per_unit=load.metres_per_unit, up_axis=load.up)
    clip = Clip(_skeleton(axes), tuple(layout), curves, RATE, load.frames, reading, "laden")
    return _on_keys(clip, load)


def _on_keys(clip: Clip, load: Load) -> Clip:
    if load.kind == "sampled":
        return clip
    thinned = apply_patch(clip, OPERATIONS["thin"].run(clip, {"tolerance_deg": 0.5}))
    if load.kind == "keyed":
        return thinned
    # Every third joint stays as it was, and of every third joint one channel.
    kept = {
        track: curve
        for track, curve in clip.curves.items()
        if track.joint % 3 == 1 or (track.joint % 3 == 2 and track.name in ("rx", "tz"))
    }
    return thinned.with_curves(kept)


@dataclass
class _Pile:
    """Layers being laid, with their curves."""

    clip: Clip
    axes: _Axes
    load: Load
    layers: list[Layer]
    curves: dict[TrackId, Curve]

    def lay(self, name: str, joints: dict[str, Any], weight: Any, **how: Any) -> None:
        """A layer on joints, each with channels and the size of what they do."""
        mask = {AT[n]: share for n, share in how.pop("mask", {}).items()}
        dense = how.pop("dense", self.load.kind == "sampled")
        layout = tuple(sorted((AT[n], tuple(own)) for n, own in joints.items()))
        layer = Layer(
            len(self.layers), name, layout=layout, mask=tuple(sorted(mask.items())), **how
        )
        self.layers.append(layer)
        self.curves[layer.weight] = self._weight(weight)
        for joint, names in layer.layout:
            for k, channel in enumerate(names):
                size = joints[NAMES[joint]][channel]
                track = TrackId(layer.owner, joint, channel)
                base = 0.0
                if layer.kind == "override":
                    own = self.clip.curves[base_track(joint, channel)]
                    base = float(own.at(np.zeros(1))[0])
                self.curves[track] = self._curve(size, base, joint + 2 * k, dense)

    def _weight(self, weight: Any) -> Curve:
        if isinstance(weight, float):
            return keyed([0.0], [weight])
        last = max(self.load.frames - 1, 1)
        by_frame = {round(u * last): w for u, w in weight}
        return keyed([float(t) for t in by_frame], list(by_frame.values()))

    def _curve(self, size: float, base: float, seed: int, dense: bool) -> Curve:
        frames = np.arange(self.load.frames)
        if dense:
            return SampledCurve(base + size * np.sin(frames / 11.0 + seed))
        last = max(self.load.frames - 1, 1)
        times = [0.0, round(0.4 * last), float(last)]
        if len(set(times)) < 3:
            return keyed([0.0], [base + size])
        return keyed(times, [base + size * np.sin(t / 11.0 + seed) for t in times])


def _turn(x: float, y: float, z: float) -> dict[str, float]:
    return {"rx": x, "ry": y, "rz": z}


def _layers(clip: Clip, axes: _Axes, load: Load) -> Clip:
    pile = _Pile(clip, axes, load, [], {})
    unit = axes.unit
    pile.lay("lean", {"Spine": _turn(12, 5, -9), "LeftArm": _turn(30, -60, 20)}, 0.7,
             mask={"LeftArm": 0.5})  # fmt: skip
    pile.lay("aim", {"Chest": _turn(9, 14, 3), "RightArm": _turn(-25, 40, 10)},
             [(0, 0.2), (0.5, 1.0), (1, 0.4)], space="figure", mask={"RightArm": 0.6})  # fmt: skip
    pile.lay("numbers", {"Spine": {"rx": 8.0}, "Head": _turn(6, 20, -8), "Lid": {"rx": 12.0},
                         "Flap": {"ry": 9.0, "rx": 5.0}, "LeftUpLeg": {"rz": 3.0}}, 0.5,
             kind="channels")  # fmt: skip
    pile.lay("instead", {"Neck": _turn(10, 10, 10), "LeftForeArm": _turn(15, 25, 5),
                         "RightForeArm": {"ry": 20.0}}, [(0, 0.0), (0.4, 0.8), (1, 0.5)],
             kind="override", mask={"Neck": 0.7})  # fmt: skip
    pile.lay("off", {"Head": _turn(40, 40, 0), "LeftFoot": _turn(30, 0, 0)}, 1.0, muted=True)
    pile.lay("shut", {"Head": _turn(-5, 8, 2), "LeftHand": _turn(20, 0, 30)}, 1.0, space="figure",
             locked=True, dense=False)  # fmt: skip
    moved = {"tx": 4.0 * unit, "ty": 1.0 * unit, "tz": -6.0 * unit}
    pile.lay("shift", {"Hips": {**moved, **_turn(2, 9, -3)}, "Crate": moved}, 0.6)
    pile.lay("still", {"RightHand": _turn(10, 10, 10)}, 0.0)
    pile.lay("empty", {}, 1.0)
    return replace(clip, layers=tuple(pile.layers), curves={**clip.curves, **pile.curves})


def _props(clip: Clip, axes: _Axes, load: Load) -> Clip:
    t = np.arange(load.frames) / float(RATE)
    props = (Prop(0, "case", "box", tuple(axes.unit * np.array((30.0, 20.0, 12.0)))),  # type: ignore[arg-type]
             Prop(3, "boat hook", "line", (0.0, 180.0 * axes.unit, 0.0)))  # fmt: skip
    curves: dict[TrackId, Curve] = {}
    for prop in props:
        q = axes.turn(np.asarray(rotation.exp(np.stack(
            [_wave(t, 8, 0.6, prop.id), 40 * t, _wave(t, 5, 0.4, 1)], axis=-1))))  # fmt: skip
        angles = _angles(q, ORDER)
        # In front of the figure, as it walks.
        heading = np.asarray(rotation.exp(np.stack([0 * t, 30.0 + 25.0 * t, 0 * t], axis=-1)))
        away = np.stack([18.0 - 12.0 * prop.id + _wave(t, 4, 0.4, 1), 104 + _wave(t, 4, 0.5, 0),
                         34 + 0 * t], axis=-1)  # fmt: skip
        place = axes.point(_path(t, "Hips") * (1, 0, 1) + rotation.rotate(heading, away))
        given = {f"r{a.lower()}": angles[:, k] for k, a in enumerate(ORDER)}
        given |= {n: place[:, k] for k, n in enumerate(("tx", "ty", "tz"))}
        for name, values in given.items():
            curve: Curve = SampledCurve(np.ascontiguousarray(values))
            if prop.id and load.kind != "sampled" and load.frames > 2:
                times = np.linspace(0, load.frames - 1, 5).round()
                curve = keyed(times.tolist(), values[times.astype(int)].tolist())
            curves[prop_track(prop.id, name)] = curve
    return replace(clip, props=props, curves={**clip.curves, **curves})


PLACEMENT: Any = {
    "turn": 37.0,
    "scale": 1.3,
    "move": (80.0, 6.0, -40.0),
    "about": (10.0, 0.0, 20.0),
}


def _placed(clip: Clip, axes: _Axes) -> Clip:
    move, about = (axes.three(PLACEMENT[n]) for n in ("move", "about"))
    return replace(clip, placement=Placement(move, PLACEMENT["turn"], PLACEMENT["scale"], about))


def _planted(clip: Clip, axes: _Axes, load: Load) -> Clip:
    """Plants near where the parts are, so that limbs reach them."""
    from leancurve.document.evaluation import evaluate

    end = load.frames - 1
    _, points = evaluate(clip).world(clip.skeleton)

    def span(first: float, last: float) -> tuple[int, int]:
        return round(first * end), round(last * end)

    def place(joint: str, first: int, last: int, away: Any) -> tuple[float, float, float]:
        x, y, z = (float(v) for v in points[(first + last) // 2, AT[joint]] + axes.point(away))
        return (x, y, z)

    def planted(part: str, joint: str, where: tuple[float, float], ease: Ease, **how: Any) -> Plant:
        first, last = span(*where)
        away = how.pop("away", (0.5, 0.3, -0.6))
        return Plant(part, first, last, place(joint, first, last, away), ease=ease,
                     ease_in=4, ease_out=5, **how)  # fmt: skip

    eased = [
        planted("left foot", "LeftFoot", (0, 0.25), "settle"),
        planted("left foot", "LeftFoot", (0.45, 0.6), "linear"),
        planted("left foot", "LeftFoot", (0.8, 1), "ease"),
        planted("right foot", "RightFoot", (0.2, 0.4), "ease-in-out", strength=0.8),
        planted("right foot", "RightFoot", (0.7, 0.9), "ease-in", hips=0.5),
        planted("right foot", "RightFoot", (0.95, 1), "ease-out", muted=True, away=(9, 9, 9)),
    ]
    held = replace(
        planted("left hand", "LeftHand", (0.3, 0.75), "ease-out"),
        place=axes.three((9.0, 2.0, 0.0)), with_prop="case",
    )  # fmt: skip
    touched = replace(
        planted("right hand", "RightHand", (0.5, 0.8), "settle"),
        place=axes.three((-9.0, -12.0, 14.0)), with_joint="Head",
    )  # fmt: skip
    plants = [p for k, p in enumerate(eased) if load.frames > 2 or k in (0, 3)]
    return replace(clip, plants=tuple(sorted([*plants, held, touched])))


@cache
def laden(load: Load = FAMILY[0]) -> Clip:
    """A member of the family."""
    axes = _Axes(load)
    clip = _layers(bare(load), axes, load)
    clip = _placed(_props(clip, axes, load), axes)
    clip = _planted(clip, axes, load)
    end = load.frames - 1
    return replace(
        clip,
        contacts=(Contact("left foot", 0, end // 4), Contact("right toe", end // 3, end // 2)),
        accepted=(Accepted("gimbal", "Head", "", 0, end // 2),),
        partners=(
            Partner("second", "0f" * 32, 6, (800.0, 0.0, -400.0), 30.0),
            Partner("third", "a1" * 32, -4, muted=True),
        ),
        marks=(Mark(end // 2, end // 2, "lifts off"), Mark(0, end, "all of it")),
    )


def members(*loads: Load) -> Iterator[tuple[str, Clip]]:
    for load in loads or FAMILY:
        yield str(load), laden(load)
