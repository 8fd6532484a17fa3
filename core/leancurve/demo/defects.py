"""What a capture does to a performance: seeded defects of stated size, with their truth."""

from __future__ import annotations

from dataclasses import dataclass, field, replace

import numpy as np

from leancurve.curves.curve import Curve, KeyedCurve, SampledCurve, keyed
from leancurve.demo.body import Performance, clip_from_rotations, pose
from leancurve.demo.takes import TAKES, DemoTake
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.document.prop import Prop
from leancurve.document.track import TrackId, base_track
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats

CALIBRATION_S = 0.6
"""How long the calibration pose is held before the performer moves into the take."""


@dataclass(frozen=True)
class Defect:
    """One seeded defect: its kind, joint, channel ("" for the joint), frames and size."""

    kind: str
    joint: str
    channel: str
    first: int
    last: int
    size: float
    unit: str


@dataclass
class Capture:
    """A captured take: the clip as a suit would deliver it, and what was done to it."""

    clip: Clip
    truth: list[Defect] = field(default_factory=list)
    lead_in: int = 0


def captured(take: DemoTake, seed: int = 4, jitter_deg: float = 0.04) -> Capture:
    """The take with a calibration pose, bad feet, snaps, spikes, jitter, pops, gaps and flips.

    Made in that order: wraps and alternate solutions come last, so that they change no pose.
    Deterministic in ``seed``. Frames in the truth count from the calibration pose's first frame.
    """
    random = np.random.default_rng([seed, TAKES.index(take)])
    performance = take.perform()
    truth: list[Defect] = []
    spoiled = bad_feet(performance, random, truth)
    clip, lead_in = _calibration(pose(spoiled, take.title), performance.rate)
    truth[:] = [replace(d, first=d.first + lead_in, last=d.last + lead_in) for d in truth]
    truth.append(Defect("calibration pose", "Hips", "", 0, lead_in, lead_in, "frames"))
    _snaps(clip, random, truth, lead_in)
    _spikes(clip, random, truth, lead_in)
    _jitter(clip, random, truth, jitter_deg)
    # These draw from a stream of their own: the others lie where they always did.
    later = np.random.default_rng([seed, TAKES.index(take), 1])
    _pops(clip, later, truth, lead_in, jitter_deg)
    _gaps(clip, later, truth, lead_in)
    _alternates(clip, random, truth, lead_in)
    _wraps(clip, random, truth, lead_in)
    _idle(clip, truth)
    return Capture(clip, truth, lead_in)


def _sampled(clip: Clip, joint: str) -> list[SampledCurve]:
    j = clip.skeleton.index(joint)
    turns = [clip.curves[base_track(j, c)] for c in clip.layout[j] if c[0] == "r"]
    return [c for c in turns if isinstance(c, SampledCurve)]


def bad_feet(p: Performance, random: np.random.Generator, truth: list[Defect]) -> Performance:
    """Some plants slide by 2 to 4 cm, some sink by 1 to 2 cm."""
    feet = {side: ankle.copy() for side, ankle in p.feet.items()}
    for side, spans in p.planted.items():
        long = [s for s in spans if s[1] - s[0] > 0.4 * p.rate]
        for n, (first, last) in enumerate(long):
            ramp = np.sin(np.pi * np.linspace(0, 1, last - first + 1)) ** 2
            if n % 3 == 1:
                slide = random.uniform(2, 4) * random.choice([-1, 1])
                feet[side][first : last + 1, 2] += slide * ramp
                name = f"{side}Foot"
                truth.append(Defect("slide", name, "", first, last, abs(slide) * 10, "mm"))
            elif n % 3 == 2:
                sink = random.uniform(1, 2)
                feet[side][first : last + 1, 1] -= sink * ramp
                truth.append(Defect("sink", f"{side}Foot", "", first, last, sink * 10, "mm"))
    return replace(p, feet=feet)


def _calibration(clip: Clip, rate: int) -> tuple[Clip, int]:
    """A T-pose in front, held, then left from one frame to the next, as suits record it."""
    hold = round(CALIBRATION_S * rate)
    body = evaluate(clip)
    local = np.concatenate(
        [np.broadcast_to(rotation.IDENTITY, (hold, len(clip.skeleton), 4)), body.rotation]
    )
    start = body.translation[0, 0].copy()
    start[1] = 98.0
    root = np.concatenate([np.tile(start, (hold, 1)), body.translation[:, 0]])
    return clip_from_rotations(clip.skeleton, local, root, rate, clip.name), hold


def _span(random: np.random.Generator, clip: Clip, lead_in: int, seconds: float) -> tuple[int, int]:
    length = max(2, round(seconds * float(clip.rate)))
    first = int(random.integers(lead_in + 30, clip.frames - length - 30))
    return first, first + length - 1


def _snaps(clip: Clip, random: np.random.Generator, truth: list[Defect], lead_in: int) -> None:
    """A forearm's twist about its bone is solved the wrong way round for a while: a true jump."""
    for joint in ("LeftForearm", "RightForearm"):
        first, last = _span(random, clip, lead_in, random.uniform(0.4, 0.9))
        size = float(random.uniform(110, 180))
        j = clip.skeleton.index(joint)
        order = clip.order(j)
        curves = _sampled(clip, joint)
        angles = np.stack([c.values[first : last + 1] for c in curves], axis=1)
        twisted = rotation.multiply(
            rotation.from_euler(angles, order), rotation.from_axis("X", np.full(len(angles), size))
        )
        for k, values in enumerate(rotation.to_euler(twisted, order).T):
            curves[k].values[first : last + 1] = values
        truth.append(Defect("snap", joint, "", first, last, size, "°"))


def _spikes(clip: Clip, random: np.random.Generator, truth: list[Defect], lead_in: int) -> None:
    """One to three frames thrown off by 8 to 25 degrees."""
    joints = ("LeftShin", "RightUpperArm", "LeftHand", "Spine2", "Head", "RightFoot")
    for joint in joints:
        for _ in range(2):
            first, last = _span(random, clip, lead_in, 0)
            last = first + int(random.integers(1, 4)) - 1
            curve = _sampled(clip, joint)[int(random.integers(0, 3))]
            size = float(random.uniform(8, 25) * random.choice([-1, 1]))
            curve.values[first : last + 1] += size
            truth.append(Defect("spike", joint, "", first, last, abs(size), "°"))


def _jitter(clip: Clip, random: np.random.Generator, truth: list[Defect], sigma: float) -> None:
    """White noise on every moving rotation channel; four times as much on a wrist for a while."""
    for channel, curve in clip.curves.items():
        if channel.turns and isinstance(curve, SampledCurve) and np.ptp(curve.values) > 0.01:
            curve.values[:] += random.normal(0, sigma, len(curve.values))
    for joint in ("LeftHand", "RightHand"):
        first, last = _span(random, clip, 0, 1.5)
        for curve in _sampled(clip, joint):
            curve.values[first : last + 1] += random.normal(0, 4 * sigma, last - first + 1)
        truth.append(Defect("jitter", joint, "", first, last, 4 * sigma, "°"))


def _busy(truth: list[Defect], first: int, last: int, joints: tuple[str, ...] = ()) -> bool:
    """Whether a defect of the pose lies near a span: of these joints, if some are named."""
    return any(
        d.first - 15 <= last and first <= d.last + 15
        for d in truth
        if d.kind not in ("idle", "slide", "sink", "jitter") and (not joints or d.joint in joints)
    )


def _pops(
    clip: Clip, random: np.random.Generator, truth: list[Defect], lead_in: int, jitter: float
) -> None:
    """Knees and elbows that lock straight or bend the wrong way for 5 to 14 frames."""
    for joint in ("LeftShin", "RightShin", "LeftForearm", "RightForearm"):
        curves = _sampled(clip, joint)
        order = clip.order(clip.skeleton.index(joint))
        local = rotation.from_euler(np.stack([c.values for c in curves], axis=1), order)
        bend = rotation.geodesic_deg(local, rotation.IDENTITY)
        for size in (0.0, float(random.uniform(8, 12))):
            for _ in range(400):
                seconds = random.uniform(5, 14) / float(clip.rate)
                first, last = _span(random, clip, lead_in, seconds)
                edges = bend[[first - 1, first, last, last + 1]]
                narrow = edges.min() > 10 and edges.max() + size < 38
                if narrow and not _busy(truth, first, last, (joint,)):
                    break
            else:
                continue
            axis = local[first, :3] / np.linalg.norm(local[first, :3])
            half = np.radians(-size / 2)
            wrong = np.tile([*(axis * np.sin(half)), np.cos(half)], (last - first + 1, 1))
            for k, values in enumerate(rotation.to_euler(wrong, order).T):
                noise = random.normal(0, jitter, len(values))
                curves[k].values[first : last + 1] = values + noise
            jump = size if size else float(edges.max())
            truth.append(Defect("pop", joint, "", first, last, jump, "°"))


def _gaps(clip: Clip, random: np.random.Generator, truth: list[Defect], lead_in: int) -> None:
    """The body frozen for 4 to 10 frames, and a joint's sensor lost for 5 to 20."""
    places = (("", 4, 10), ("RightForearm", 5, 20), ("LeftUpperArm", 5, 20))
    for joint, least, most in places:
        for _ in range(200):
            count = int(random.integers(least, most + 1))
            first, last = _span(random, clip, lead_in, count / float(clip.rate))
            curves = _sampled(clip, joint or "Hips")
            # A sensor lost while its joint rests is no gap that anybody could see.
            moved = max(abs(float(c.values[last + 1] - c.values[first - 1])) for c in curves)
            named = (joint,) if joint else ()
            if not _busy(truth, first, last, named) and (not joint or moved > 3.0):
                break
        else:
            continue
        channels = [c for c in clip.channels if not joint or clip.skeleton.names[c.joint] == joint]
        for channel in channels:
            curve = clip.curves[channel]
            assert isinstance(curve, SampledCurve)
            curve.values[first : last + 1] = curve.values[first - 1]
        truth.append(Defect("gap", joint or "Hips", "", first, last, last - first + 1, "frames"))


def _idle(clip: Clip, truth: list[Defect]) -> None:
    """Channels that never move, as a suit without sensors there records them."""
    for channel, curve in clip.curves.items():
        if isinstance(curve, SampledCurve) and np.ptp(curve.values) < 0.01:
            joint = clip.skeleton.names[channel.joint]
            truth.append(Defect("idle", joint, channel.name, 0, clip.frames - 1, 0.0, "°"))


def _alternates(clip: Clip, random: np.random.Generator, truth: list[Defect], lead_in: int) -> None:
    """Spans in which a joint is given by the other of its two equal Euler solutions."""
    joints = ("Hips", "Spine3", "LeftThigh", "RightUpperArm", "RightShin", "Head", "LeftHand")
    for joint in joints:
        first, last = _span(random, clip, lead_in, random.uniform(0.2, 1.5))
        curves = _sampled(clip, joint)
        order = clip.order(clip.skeleton.index(joint))
        angles = np.stack([c.values[first : last + 1] for c in curves], axis=1)
        other = np.remainder(rotation.alternate(angles, order) + 180.0, 360.0) - 180.0
        for k, curve in enumerate(curves):
            curve.values[first : last + 1] = other[:, k]
        truth.append(Defect("alternate", joint, "", first, last, 180.0, "°"))


def _wraps(clip: Clip, random: np.random.Generator, truth: list[Defect], lead_in: int) -> None:
    """Spans in which a channel is a whole turn away."""
    joints = ("Hips", "LeftUpperArm", "RightForearm", "LeftFoot", "Neck1", "RightClavicle")
    for joint in joints:
        first, last = _span(random, clip, lead_in, random.uniform(0.2, 2.0))
        j = clip.skeleton.index(joint)
        turns = [c for c in clip.layout[j] if c[0] == "r"]
        k = int(random.integers(0, 3))
        while np.ptp(_sampled(clip, joint)[k].values) < 0.01:
            k = (k + 1) % 3
        size = 360.0 * float(random.choice([-1, 1]))
        _sampled(clip, joint)[k].values[first : last + 1] += size
        truth.append(Defect("wrap", joint, turns[k], first, last, 360.0, "°"))


def lamp_take(seed: int = 9) -> Capture:
    """Signalling with a lamp: a keyed clip at 30 a second with keys off the frame and doubled ones.

    BVH cannot carry such keys, so this take ships as clip JSON.
    """
    base = pose(TAKES[2].perform(), "Signal lamp, take 01")
    random = np.random.default_rng(seed)
    frames, step = 300, 6
    truth: list[Defect] = []
    curves: dict[TrackId, Curve] = {}
    times = np.arange(0, frames, step, dtype=np.float64)
    times[-1] = frames - 1
    for channel in base.channels:
        joint = base.skeleton.names[channel.joint]
        still = float(base.curves[channel].at(np.zeros(1))[0])
        values = np.full(len(times), still)
        if joint in ("RightUpperArm", "RightForearm", "RightHand") and channel.turns:
            # Long and short flashes: the lamp's shutter hand rises and falls.
            size = {"RightUpperArm": 14.0, "RightForearm": 38.0, "RightHand": 20.0}[joint]
            beat = np.repeat(random.integers(0, 2, len(times) // 3 + 1), 3)[: len(times)]
            values = values + size * beat
        curve = keyed(times, values)
        if np.ptp(values) > 0:
            curve = _off_frame(curve, joint, channel.name, random, truth)
        curves[channel] = curve
    clip = replace(base, curves=curves, frames=frames, rate=base.rate / 2)
    # The lamp stands on its bracket, where the shutter hand reaches it.
    hand = evaluate(clip).world(clip.skeleton)[1][:, clip.skeleton.index("RightHand")].mean(axis=0)
    lamp = Prop(0, "lamp", "cylinder", (12.0, 26.0, 12.0))
    place = (*(hand + np.array([0.0, 12.0, 10.0])).tolist(), 0.0, 0.0, 0.0)
    stands = {t: keyed([0.0], [v]) for t, v in zip(lamp.tracks, place, strict=True)}
    return Capture(replace(clip, curves={**clip.curves, **stands}, props=(lamp,)), truth)


def _off_frame(
    curve: KeyedCurve, joint: str, channel: str, random: np.random.Generator, truth: list[Defect]
) -> KeyedCurve:
    time: Floats = curve.time.copy()
    value: Floats = curve.value.copy()
    moved = int(random.integers(2, len(time) - 2))
    time[moved] += 0.37
    truth.append(Defect("key off the frame", joint, channel, int(time[moved]), 0, 0.37, "frames"))
    twin = int(random.integers(2, len(time) - 2))
    if twin == moved:
        twin += 1
    time = np.insert(time, twin + 1, time[twin] + 0.0001)
    value = np.insert(value, twin + 1, value[twin] + 2.5)
    truth.append(Defect("doubled key", joint, channel, int(time[twin]), 0, 0.0001, "frames"))
    return keyed(time, value)
