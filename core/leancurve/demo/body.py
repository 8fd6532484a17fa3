"""A figure posed by what a performer controls: pelvis, feet, hands, gaze, grip.

Legs and arms are solved by two-bone inverse kinematics, so planted feet stay planted.
Lengths centimetres, angles degrees, arrays ``(F, …)``.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from fractions import Fraction

import numpy as np

from leancurve.curves.curve import Curve, SampledCurve
from leancurve.demo import suit
from leancurve.document.clip import Clip, Reading
from leancurve.document.track import TrackId, base_track
from leancurve.figure.skeleton import Skeleton
from leancurve.measures.drift import find_ends
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats
from leancurve.numbers.continuity import continuous

SIDES = {"Left": 1.0, "Right": -1.0}
MOST_REACH = 0.997
"""Share of a limb's length it may stretch to: a straight knee has no bend to solve."""


def turn(yaw: Floats, pitch: Floats, roll: Floats) -> Floats:
    """Yaw about Y, then pitch about X, then roll about Z, as quaternions ``(F, 4)``."""
    return rotation.from_euler(np.stack(np.broadcast_arrays(yaw, pitch, roll), axis=-1), "YXZ")


@dataclass
class Performance:
    """Controls on each frame. Feet are ankle positions and rotations in the world; hands are
    wrist positions in the world with an elbow direction; the rest are angles."""

    rate: int
    pelvis: Floats
    pelvis_turn: Floats
    spine: Floats
    head: Floats
    feet: dict[str, Floats]
    feet_turn: dict[str, Floats]
    toes: dict[str, Floats]
    hands: dict[str, Floats]
    elbows: dict[str, Floats]
    palms: dict[str, Floats]
    grip: dict[str, Floats]
    breath: Floats
    planted: dict[str, list[tuple[int, int]]] = field(default_factory=dict)

    @property
    def frames(self) -> int:
        return len(self.pelvis)


def _two_bones(
    root: Floats, target: Floats, pole: Floats, first: float, second: float
) -> tuple[Floats, Floats, Floats]:
    """Middle joint, reached end and hinge axis of two bones from ``root`` towards ``target``."""
    gap = target - root
    distance = np.linalg.norm(gap, axis=-1, keepdims=True)
    along = gap / distance
    distance = np.minimum(distance, MOST_REACH * (first + second))
    cos = (first**2 + distance**2 - second**2) / (2 * first * distance)
    side = pole - np.sum(pole * along, axis=-1, keepdims=True) * along
    side /= np.linalg.norm(side, axis=-1, keepdims=True)
    middle = root + first * (cos * along + np.sqrt(np.maximum(1 - cos**2, 0.0)) * side)
    return middle, root + distance * along, np.cross(side, along)


class _Figure:
    """World rotations being decided, parents first; local ones come out."""

    def __init__(self, skeleton: Skeleton, performance: Performance) -> None:
        self.skeleton = skeleton
        self.frames = performance.frames
        self.world: dict[str, Floats] = {}
        self.position: dict[str, Floats] = {"Hips": performance.pelvis}
        self.local: dict[str, Floats] = {}

    def _parent(self, name: str) -> str:
        return self.skeleton.names[self.skeleton.parents[self.skeleton.index(name)]]

    def place(self, name: str) -> Floats:
        """The joint's position, its parent being decided."""
        if name not in self.position:
            parent = self._parent(name)
            offset = self.skeleton.offset_array[self.skeleton.index(name)]
            turned = rotation.rotate(self.world[parent], np.tile(offset, (self.frames, 1)))
            self.position[name] = self.place(parent) + turned
        return self.position[name]

    def set_world(self, name: str, world: Floats) -> None:
        self.world[name] = world
        if name == "Hips":
            self.local[name] = world
        else:
            parent = self.world[self._parent(name)]
            self.local[name] = rotation.multiply(rotation.conjugate(parent), world)

    def set_local(self, name: str, local: Floats) -> None:
        self.local[name] = local
        self.world[name] = rotation.multiply(self.world[self._parent(name)], local)


def pose(performance: Performance, name: str) -> Clip:
    """The clip of a performance on the Deckhand suit."""
    skeleton = suit.deckhand()
    figure = _Figure(skeleton, performance)
    figure.set_world("Hips", performance.pelvis_turn)
    _torso(figure, performance)
    for side in SIDES:
        _leg(figure, performance, side)
        _arm(figure, performance, side)
        _hand(figure, performance, side)
    still = np.broadcast_to(rotation.IDENTITY, (performance.frames, 4))
    for joint in skeleton.names:
        if joint not in figure.local:
            figure.local[joint] = still
    local = np.stack([figure.local[n] for n in skeleton.names], axis=1)
    return clip_from_rotations(skeleton, local, performance.pelvis, performance.rate, name)


def clip_from_rotations(
    skeleton: Skeleton, local: Floats, root: Floats, rate: int, name: str
) -> Clip:
    """A sampled clip from local rotations ``(F, J, 4)`` and the root's positions, continuous."""
    layout = suit.layout(skeleton)
    curves: dict[TrackId, Curve] = {}
    for j, channels in enumerate(layout):
        turns = [c for c in channels if c[0] == "r"]
        order = "".join(c[1].upper() for c in turns)
        angles = rotation.to_euler(local[:, j], order)
        smooth = continuous(angles[None], order)[0][0]
        for k, channel in enumerate(turns):
            curves[base_track(j, channel)] = SampledCurve(np.ascontiguousarray(smooth[:, k]))
        for k, channel in enumerate(("tx", "ty", "tz")):
            if channel in channels:
                curves[base_track(j, channel)] = SampledCurve(np.ascontiguousarray(root[:, k]))
    reading = Reading(0.01, "y", "add", "replace", find_ends(skeleton))
    return Clip(skeleton, layout, curves, Fraction(rate), len(local), reading, name)


def _torso(figure: _Figure, p: Performance) -> None:
    zero = np.zeros(p.frames)
    for k, share in enumerate((0.2, 0.25, 0.3, 0.25), start=1):
        yaw, pitch, roll = (p.spine[:, c] * share for c in range(3))
        breath = p.breath * (-0.8 if k >= 3 else 0.3)
        figure.set_local(f"Spine{k}", turn(yaw, pitch + breath, roll))
    for name, share in (("Neck1", 0.3), ("Neck2", 0.3), ("Head", 0.4)):
        yaw, pitch, roll = (p.head[:, c] * share for c in range(3))
        figure.set_local(name, turn(yaw, pitch, roll))
    figure.set_local("Jaw", turn(zero, 1.5 + 1.2 * p.breath, zero))


def _leg(figure: _Figure, p: Performance, side: str) -> None:
    hip = figure.place(f"{side}Thigh")
    ankle = p.feet[side]
    forward = rotation.rotate(p.feet_turn[side], np.tile([0.0, 0.0, 1.0], (p.frames, 1)))
    body = rotation.rotate(p.pelvis_turn, np.tile([0.18 * SIDES[side], 0.0, 1.0], (p.frames, 1)))
    knee, reached, hinge = _two_bones(hip, ankle, forward + body, suit.THIGH, suit.SHIN)
    for name, top, bottom in (("Thigh", hip, knee), ("Shin", knee, reached)):
        y = (top - bottom) / np.linalg.norm(top - bottom, axis=-1, keepdims=True)
        figure.set_world(side + name, rotation.from_frame(hinge, y, np.cross(hinge, y)))
    figure.set_world(f"{side}Foot", p.feet_turn[side])
    figure.set_local(f"{side}Toe", turn(0 * p.toes[side], p.toes[side], 0 * p.toes[side]))


def _arm(figure: _Figure, p: Performance, side: str) -> None:
    sign = SIDES[side]
    chest = figure.world["Spine4"]
    # The collar bone follows a high or far hand a little, and the breath.
    into_chest = rotation.rotate(rotation.conjugate(chest), p.hands[side] - figure.place("Spine4"))
    lift = np.clip(8.0 * np.tanh((into_chest[:, 1] + 5.0) / 30.0), -4, 9) + 1.2 * p.breath
    forward = 9.0 * np.tanh((into_chest[:, 2] - 25.0) / 30.0)
    figure.set_local(f"{side}Clavicle", turn(-sign * forward, 0 * lift, sign * lift))
    shoulder = figure.place(f"{side}UpperArm")
    elbow, reached, hinge = _two_bones(
        shoulder, p.hands[side], p.elbows[side], suit.UPPER_ARM, suit.FOREARM
    )
    for name, top, bottom in (("UpperArm", shoulder, elbow), ("Forearm", elbow, reached)):
        x = sign * (bottom - top) / np.linalg.norm(bottom - top, axis=-1, keepdims=True)
        # At rest the arm lies along X and the elbow folds about Y, towards the front.
        y = -sign * hinge
        figure.set_world(side + name, rotation.from_frame(x, y, np.cross(x, y)))


def _hand(figure: _Figure, p: Performance, side: str) -> None:
    sign = SIDES[side]
    yaw, pitch, roll = (p.palms[side][:, c] for c in range(3))
    # Turning the palm is shared by forearm twist and wrist, as in an arm of bones.
    figure.set_local(f"{side}ForearmTwist", turn(0 * pitch, 0.5 * pitch, 0 * pitch))
    figure.set_local(f"{side}Hand", turn(sign * yaw, pitch, sign * roll))
    grip = p.grip[side]
    figure.set_local(f"{side}Palm", turn(0 * grip, 0 * grip, -sign * 0.06 * grip))
    for finger, late in (("Index", 0.94), ("Middle", 1.0), ("Ring", 1.05), ("Little", 1.1)):
        for k, share in ((1, 0.9), (2, 1.0), (3, 0.6)):
            curl = -sign * grip * late * share
            figure.set_local(f"{side}{finger}{k}", turn(0 * curl, 0 * curl, curl))
    for k, share in ((1, 0.35), (2, 0.4), (3, 0.5)):
        curl = grip * share
        figure.set_local(f"{side}Thumb{k}", turn(sign * 0.6 * curl, 0 * curl, -sign * 0.5 * curl))
