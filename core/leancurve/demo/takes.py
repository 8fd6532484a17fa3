"""The crew's takes as performances: a mooring line, a crate over the coaming, a deck walk."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cache

import numpy as np

from leancurve.demo import suit
from leancurve.demo.body import SIDES, Performance, pose, turn
from leancurve.document.clip import Clip
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats

STAND = 89.0
"""Height of the pelvis in a working stance, knees a little bent, centimetres."""


def ease(t: Floats, start: float, end: float) -> Floats:
    """Minimum-jerk rise from 0 to 1 between two times (Flash and Hogan 1985)."""
    x = np.clip((t - start) / (end - start), 0.0, 1.0)
    return np.asarray(x**3 * (10 - 15 * x + 6 * x * x))


def sway(t: Floats, seed: int, size: float, slowest: float = 0.1, fastest: float = 0.6) -> Floats:
    """A body's own restlessness: five slow sines of seeded phase, amplitude about ``size``."""
    random = np.random.default_rng(seed)
    total = np.zeros(len(t))
    for k in range(5):
        hertz = slowest * (fastest / slowest) ** (k / 4)
        total += np.sin(2 * np.pi * (hertz * t + random.uniform())) / (1 + k)
    return np.asarray(total * size / 1.6)


@dataclass(frozen=True)
class Step:
    """A foot's swing: when, where to (x, z in cm), toe-out yaw in degrees, lift in cm."""

    start: float
    end: float
    x: float
    z: float
    yaw: float = 0.0
    lift: float = 9.0


def feet(
    t: Floats, rate: int, start: dict[str, tuple[float, float, float]], steps: dict[str, list[Step]]
) -> tuple[
    dict[str, Floats], dict[str, Floats], dict[str, Floats], dict[str, list[tuple[int, int]]]
]:
    """Ankles, foot rotations, toe bends and planted spans of two feet that step."""
    ankles, turns, toes, planted = {}, {}, {}, {}
    for side in SIDES:
        x, z, yaw = start[side]
        place = np.tile([x, suit.ANKLE_HEIGHT, z], (len(t), 1))
        heading = np.full(len(t), yaw)
        pitch, bend = np.zeros(len(t)), np.zeros(len(t))
        spans: list[tuple[int, int]] = []
        begun = 0
        for step in steps[side]:
            move = ease(t, step.start, step.end)
            place[:, 0] += move * (step.x - x)
            place[:, 2] += move * (step.z - z)
            heading += move * (step.yaw - yaw)
            phase = np.clip((t - step.start) / (step.end - step.start), 0, 1)
            bump = 64 * phase**3 * (1 - phase) ** 3
            place[:, 1] += step.lift * bump
            # Toes leave last and the heel lands first: down early in the swing, up late.
            swing = bump * np.cos(np.pi * phase)
            far = min(1.0, float(np.hypot(step.x - x, step.z - z)) / 50.0)
            pitch += (30 * far + 6) * swing
            bend -= 14 * far * bump * (1 - phase)
            spans.append((begun, int(np.ceil(step.start * rate))))
            begun = int(np.ceil(step.end * rate))
            x, z, yaw = step.x, step.z, step.yaw
        spans.append((begun, len(t) - 1))
        ankles[side] = place
        turns[side] = turn(heading, pitch, np.zeros(len(t)))
        toes[side] = bend
        planted[side] = spans
    return ankles, turns, toes, planted


def from_chest(p_chest: Floats, chest_turn: Floats, offset: Floats) -> Floats:
    """World points given in the chest's frame, ``(F, 3)``."""
    return p_chest + rotation.rotate(chest_turn, offset)


def _chest(pelvis: Floats, pelvis_turn: Floats, spine: Floats) -> tuple[Floats, Floats]:
    """Position and rotation of the chest as the spine's angles make it, approximately."""
    whole = rotation.multiply(pelvis_turn, turn(spine[:, 0], spine[:, 1], spine[:, 2]))
    half = rotation.multiply(pelvis_turn, turn(*(0.45 * spine[:, c] for c in range(3))))
    return pelvis + rotation.rotate(half, np.tile([0.0, 42.0, 0.0], (len(pelvis), 1))), whole


def _rest_arm(t: Floats, side: str, seed: int) -> Floats:
    """A wrist hanging beside the body, in the chest's frame, swaying a little."""
    out = np.tile([SIDES[side] * 25.0, -42.0, 6.0], (len(t), 1))
    out[:, 0] += sway(t, seed, 0.8)
    out[:, 2] += sway(t, seed + 1, 1.6)
    return out


def _support(pelvis: Floats, ankles: dict[str, Floats]) -> Floats:
    """The pelvis lowered where a leg would otherwise not reach its foot."""
    reach = 0.985 * (suit.THIGH + suit.SHIN)
    out = pelvis.copy()
    for side, sign in SIDES.items():
        gap = ankles[side] - pelvis - np.array([sign * 9.5, 0.0, 0.0])
        flat = np.hypot(gap[:, 0], gap[:, 2])
        highest = ankles[side][:, 1] + np.sqrt(np.maximum(reach**2 - flat**2, 1.0)) + 4.0
        # A smooth minimum: no corner where one leg takes over from the other.
        excess = out[:, 1] - highest
        out[:, 1] -= 0.5 * (excess + np.sqrt(excess**2 + 1.5**2))
    return out


@cache
def haul() -> Performance:
    """Hauling a mooring line hand over hand, then making it fast. About 3,500 frames."""
    rate, frames = 120, 3500
    t = np.arange(frames) / rate
    pull, cycles, first = 2.35, 9, 3.0
    steps: dict[str, list[Step]] = {"Left": [], "Right": []}
    start = {"Left": (13.0, 16.0, 8.0), "Right": (-15.0, -18.0, -22.0)}
    # Every third pull he shifts his stance back a little.
    z = {"Left": 16.0, "Right": -18.0}
    for k in (2, 5, 7):
        begin = first + k * pull + 1.3
        for side, delay in (("Right", 0.0), ("Left", 0.75)):
            z[side] -= 14.0
            x, yaw = (13.0, 8.0) if side == "Left" else (-15.0, -22.0)
            steps[side].append(Step(begin + delay, begin + delay + 0.6, x, z[side], yaw, 7.0))
    ankles, turns, toes, planted = feet(t, rate, start, steps)
    centre = 0.5 * (ankles["Left"] + ankles["Right"])
    phase = (t - first) / pull
    working = ease(t, 1.4, 3.2) * (1 - ease(t, first + cycles * pull, first + cycles * pull + 1.6))
    heave = np.sin(2 * np.pi * phase) * working
    pelvis = np.stack(
        [
            centre[:, 0] + sway(t, 11, 0.9),
            STAND - 3.5 * working + 1.6 * np.cos(4 * np.pi * phase) * working + sway(t, 12, 0.25),
            centre[:, 2] - 4.0 * working - 8.5 * heave + sway(t, 13, 0.8),
        ],
        axis=1,
    )
    pelvis = _support(pelvis, ankles)
    pelvis_turn = turn(-7 + 5 * heave + sway(t, 14, 1.2), 3 * working + 3 * heave, 1.5 * heave)
    spine = np.stack(
        [
            -9 * heave + sway(t, 15, 1.5),
            13 * working - 15 * heave + sway(t, 16, 1.2),
            2.5 * heave + sway(t, 17, 0.8),
        ],
        axis=1,
    )
    head = np.stack(
        [
            6 * heave + sway(t, 18, 6.0, 0.08, 0.4),
            -8 * working + 7 * heave + sway(t, 19, 2.5),
            sway(t, 20, 1.5),
        ],
        axis=1,
    )
    chest, chest_turn = _chest(pelvis, pelvis_turn, spine)
    hands, elbows, palms, grip = {}, {}, {}, {}
    for side, sign in SIDES.items():
        shift = 0.0 if side == "Left" else 0.5
        angle = 2 * np.pi * (phase + shift)
        reach = np.stack(
            [
                sign * 9.0 + 4.0 * np.sin(angle + 0.6) * sign,
                -17.0 + 7.5 * np.cos(angle) - 2.0 * np.sin(2 * angle),
                35.0 + 11.0 * np.sin(angle),
            ],
            axis=1,
        )
        rest = _rest_arm(t, side, 30 if side == "Left" else 40)
        local = rest + working[:, None] * (reach - rest)
        hands[side] = from_chest(chest, chest_turn, local)
        elbows[side] = rotation.rotate(
            chest_turn, np.tile([sign * 0.75, -0.75, -0.55], (frames, 1))
        )
        palms[side] = np.stack(
            [
                -6 + 8 * np.sin(angle) * working,
                -34 * working + 10 * np.cos(angle) * working,
                6 * np.cos(angle) * working,
            ],
            axis=1,
        )
        grip[side] = 18 + working * (38 + 16 * np.tanh(1.8 * np.sin(angle + 2.2)))
    return Performance(
        rate,
        pelvis,
        pelvis_turn,
        spine,
        head,
        ankles,
        turns,
        toes,
        hands,
        elbows,
        palms,
        grip,
        np.sin(2 * np.pi * t / 3.4),
        planted,
    )


def _walk_steps(
    first: float,
    period: float,
    count: int,
    stride: float,
    width: float,
    begin_z: float,
    lift: float,
) -> dict[str, list[Step]]:
    """Alternating steps forward along Z, left first; each foot lands ``stride`` past the other."""
    steps: dict[str, list[Step]] = {"Left": [], "Right": []}
    z = begin_z
    for k in range(count):
        side = "Left" if k % 2 == 0 else "Right"
        z += stride if k < count - 1 else 0.0
        begin = first + k * period
        steps[side].append(
            Step(begin, begin + 0.78 * period, SIDES[side] * width, z, 7 * SIDES[side], lift)
        )
    return steps


def _travel(t: Floats, ankles: dict[str, Floats], rate: int) -> Floats:
    """Where the weight is: between the feet, smoothed over a step so that it never jerks."""
    centre = 0.5 * (ankles["Left"] + ankles["Right"])
    width = int(0.5 * rate)
    kernel = np.hanning(2 * width + 1)
    kernel /= kernel.sum()
    padded = np.pad(centre, ((width, width), (0, 0)), mode="edge")
    return np.stack([np.convolve(padded[:, c], kernel, "valid") for c in range(3)], axis=1)


@cache
def crate() -> Performance:
    """Carrying a crate, stepping high over the coaming, setting it down. 1,440 frames at 120."""
    rate, frames = 120, 1440
    t = np.arange(frames) / rate
    steps = _walk_steps(3.0, 0.82, 7, 33.0, 10.5, 0.0, 8.0)
    for side in ("Left", "Right"):
        # The coaming, 24 cm of steel, lies between 70 and 95 cm: both feet go over it.
        steps[side] = [
            Step(s.start, s.end, s.x, s.z, s.yaw, 27.0 if 80 <= s.z <= 150 else s.lift)
            for s in steps[side]
        ]
    start = {"Left": (10.5, 0.0, 7.0), "Right": (-10.5, 0.0, -7.0)}
    ankles, turns, toes, planted = feet(t, rate, start, steps)
    weight = _travel(t, ankles, rate)
    carrying = ease(t, 1.5, 2.8) * (1 - ease(t, 9.9, 11.0))
    bend = ease(t, 0.5, 1.5) * (1 - ease(t, 1.6, 2.7)) + ease(t, 8.9, 9.9) * (
        1 - ease(t, 10.2, 11.4)
    )
    stepping = ease(t, 2.7, 3.3) * (1 - ease(t, 8.4, 9.0))
    side_phase = np.pi * (t - 3.0) / 0.82
    pelvis = np.stack(
        [
            2.6 * np.sin(side_phase - 1.1) * stepping + sway(t, 51, 0.5),
            STAND - 13 * bend - 1.0 * carrying + 1.0 * np.cos(2 * side_phase) * stepping,
            weight[:, 2] - 10 * bend + sway(t, 52, 0.5),
        ],
        axis=1,
    )
    pelvis = _support(pelvis, ankles)
    pelvis_turn = turn(
        3.5 * np.sin(side_phase) * stepping + sway(t, 53, 0.8),
        22 * bend + 1.5 * carrying,
        2.0 * np.cos(side_phase) * stepping,
    )
    spine = np.stack(
        [
            -3 * np.sin(side_phase) * stepping + sway(t, 54, 1.0),
            32 * bend - 6 * carrying * (1 - bend) + sway(t, 55, 0.8),
            -1.5 * np.cos(side_phase) * stepping + sway(t, 56, 0.6),
        ],
        axis=1,
    )
    head = np.stack(
        [
            sway(t, 57, 5.0, 0.08, 0.4),
            -6 * bend + 8 * carrying + sway(t, 58, 2.0),
            sway(t, 59, 1.2),
        ],
        axis=1,
    )
    chest, chest_turn = _chest(pelvis, pelvis_turn, spine)
    hands, elbows, palms, grip = {}, {}, {}, {}
    holding = ease(t, 0.4, 1.4) * (1 - ease(t, 10.3, 11.5))
    for side, sign in SIDES.items():
        hold = np.stack(
            [
                np.full(frames, sign * 19.0) + sway(t, 60, 0.3),
                -24.0 - 5.0 * bend + 0.8 * np.cos(2 * side_phase) * stepping,
                31.0 - 1.0 * bend,
            ],
            axis=1,
        )
        rest = _rest_arm(t, side, 61 if side == "Left" else 65)
        hands[side] = from_chest(chest, chest_turn, rest + holding[:, None] * (hold - rest))
        elbows[side] = rotation.rotate(chest_turn, np.tile([sign * 0.9, -0.6, -0.6], (frames, 1)))
        palms[side] = np.stack(
            [-4 * holding, 30 * holding + sway(t, 70, 1.0), -8 * holding], axis=1
        )
        grip[side] = 16 + 26 * holding + sway(t, 71, 1.0)
    return Performance(
        rate,
        pelvis,
        pelvis_turn,
        spine,
        head,
        ankles,
        turns,
        toes,
        hands,
        elbows,
        palms,
        grip,
        np.sin(2 * np.pi * t / 2.9),
        planted,
    )


@cache
def deck_walk() -> Performance:
    """Walking a rolling deck: wide feet, the trunk leaning against the roll. 900 frames at 60."""
    rate, frames = 60, 900
    t = np.arange(frames) / rate
    steps = _walk_steps(1.6, 0.74, 15, 30.0, 14.0, 0.0, 8.5)
    start = {"Left": (14.0, 0.0, 9.0), "Right": (-14.0, 0.0, -9.0)}
    ankles, turns, toes, planted = feet(t, rate, start, steps)
    weight = _travel(t, ankles, rate)
    stepping = ease(t, 1.2, 2.0) * (1 - ease(t, 12.2, 13.2))
    side_phase = np.pi * (t - 1.6) / 0.74
    roll = np.sin(2 * np.pi * t / 5.3)
    pelvis = np.stack(
        [
            3.0 * np.sin(side_phase - 1.1) * stepping + 3.5 * roll + sway(t, 81, 0.5),
            STAND - 1.5 + 1.2 * np.cos(2 * side_phase) * stepping,
            weight[:, 2] + sway(t, 82, 0.6),
        ],
        axis=1,
    )
    pelvis = _support(pelvis, ankles)
    pelvis_turn = turn(
        4.5 * np.sin(side_phase) * stepping + sway(t, 83, 1.5),
        3.0 + sway(t, 84, 0.8),
        2.2 * np.cos(side_phase) * stepping - 2.5 * roll,
    )
    spine = np.stack(
        [
            -7 * np.sin(side_phase) * stepping + sway(t, 85, 1.2),
            5.0 + 1.5 * np.cos(2 * side_phase) * stepping + sway(t, 86, 0.8),
            7.0 * roll - 2 * np.cos(side_phase) * stepping,
        ],
        axis=1,
    )
    head = np.stack(
        [
            2 * np.sin(side_phase) * stepping + 22 * np.sin(2 * np.pi * t / 7.1) * ease(t, 1, 3),
            -4.0 + sway(t, 88, 2.5),
            -4.0 * roll,
        ],
        axis=1,
    )
    chest, chest_turn = _chest(pelvis, pelvis_turn, spine)
    hands, elbows, palms, grip = {}, {}, {}, {}
    for side, sign in SIDES.items():
        arm = _rest_arm(t, side, 90 if side == "Left" else 95)
        arm[:, 2] += -sign * 13 * np.sin(side_phase) * stepping
        arm[:, 1] += 3.0 * (1 + np.sin(-sign * side_phase)) * stepping
        # Arms spread against the roll, to keep the balance.
        arm[:, 0] += sign * (5.0 + 5.0 * np.tanh(2 * sign * roll))
        hands[side] = from_chest(chest, chest_turn, arm)
        elbows[side] = rotation.rotate(chest_turn, np.tile([sign * 0.8, -0.2, -0.9], (frames, 1)))
        palms[side] = np.stack(
            [sway(t, 98, 2.0), 12 + 4 * np.sin(side_phase) * stepping, -3 + sway(t, 99, 1.5)],
            axis=1,
        )
        grip[side] = 20 + 4 * np.sin(side_phase + sign) * stepping + sway(t, 97, 2.0)
    return Performance(
        rate,
        pelvis,
        pelvis_turn,
        spine,
        head,
        ankles,
        turns,
        toes,
        hands,
        elbows,
        palms,
        grip,
        np.sin(2 * np.pi * t / 2.6),
        planted,
    )


@dataclass(frozen=True)
class DemoTake:
    """A take of the demo: its name as file and as title, and the performance it shows."""

    file: str
    title: str
    perform: Callable[[], Performance]

    def clean(self) -> Clip:
        """The truth: what the performer did, without a defect."""
        return pose(self.perform(), self.title)


TAKES: tuple[DemoTake, ...] = (
    DemoTake("mooring_line_haul_take04", "Mooring line, take 04", haul),
    DemoTake("crate_over_coaming_take02", "Crate over the coaming, take 02", crate),
    DemoTake("rolling_deck_walk_take07", "Rolling deck walk, take 07", deck_walk),
)
