"""Proof: a file read back as anybody would read it, and compared with the clip on every frame."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, field, replace
from fractions import Fraction
from typing import Any

import numpy as np

from leancurve.delivery.joints import names_of
from leancurve.delivery.preset import Preset
from leancurve.delivery.rules import broken_rules
from leancurve.document.clip import Clip, Reading
from leancurve.document.evaluation import evaluate
from leancurve.document.placement import placed_props
from leancurve.errors import BadInput, short
from leancurve.figure.skeleton import UPRIGHT
from leancurve.formats.choices import AS_TOLD, Choices
from leancurve.formats.files import read_takes
from leancurve.formats.world import read_world
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats
from leancurve.progress import Progress, silent
from leancurve.time.resample import sample_times

MOST_DEG, MOST_MM = 0.01, 0.1
"""A file with a key on each frame that is farther off is not handed over."""

MOST_DEPTH_DEG = 45.0
"""A spline's bound adds up along a chain; a file is never allowed to be farther off than this."""

World = Mapping[str, tuple[Floats | None, Floats]]
"""Rotations ``(F, 4)``, where they are known, and places ``(F, 3)`` in metres, Y up, by name."""


@dataclass(frozen=True)
class Expected:
    """What a file shall hold: the clip's frames ``(F,)`` that are in it, at which rate, and what
    each of its joints is called. ``extra`` are joints that it has and the clip has not; ``reading``
    says how a file is read that does not say its unit and its axes; ``allowed`` is how far off it
    may be, in degrees and millimetres."""

    times: Floats
    rate: Fraction
    names: Mapping[str, str]
    props: bool
    extra: tuple[str, ...] = ()
    reading: Reading = field(default_factory=Reading)
    allowed: tuple[float, float] = (MOST_DEG, MOST_MM)
    like: Clip | None = None
    """A clip on the file's skeleton, where the file is a table of channels that has none."""
    take: int = 0
    """Which take of the file it is."""


@dataclass(frozen=True)
class Proof:
    """What reading a file back showed. Differences are those of rotations and of places in the
    world, at most and by their root mean square, and the joint and frame of the largest."""

    sha256: str
    bytes: int
    frames: int
    joints: int
    channels: int
    keys: int
    compared: int
    max_deg: float
    rms_deg: float
    deg_joint: str
    deg_frame: int
    max_mm: float
    rms_mm: float
    mm_joint: str
    mm_frame: int
    allowed: tuple[float, float]
    rules: str

    def told(self) -> dict[str, Any]:
        """As plain JSON values."""
        return {**asdict(self), "allowed": list(self.allowed)}


def proven(
    data: bytes, file: str, clip: Clip, expected: Expected, progress: Progress = silent
) -> Proof:
    """Read a file's bytes and compare what they hold with the clip, on every frame of the file.

    :class:`BadInput` says what is missing, which rule of the format is broken, or where it is
    farther off than is allowed.
    """
    rules = broken_rules(data, file)
    if rules:
        raise BadInput(f"it breaks a rule of its format: {short(rules[0], 200)}")
    progress(0.3)
    ours = _expected_world(clip, expected)
    progress(0.5)
    if file.endswith(".csv") and _holds_places(data):
        names, places = read_world(data)
        theirs: World = {
            n: (None, _upright(expected.reading, places[:, k])) for k, n in enumerate(names)
        }
        counts = {"joints": len(names), "channels": 3 * len(names), "keys": places.size}
        frames = len(places)
    else:
        back = _read(data, file, expected)
        theirs = _world(back, np.arange(float(back.frames)), expected.props)
        counts = {
            "joints": len(back.skeleton),
            "channels": len(back.channels),
            "keys": back.key_count,
        }
        frames = back.frames
    if frames != len(expected.times):
        raise BadInput(f"the file reads back as {frames} frames, not {len(expected.times)}")
    return _compared(ours, theirs, data, frames, counts, expected)


def allowed_of(form: Clip, preset: Preset) -> tuple[float, float]:
    """How far off in the world a joint of a delivered clip may be, degrees and millimetres. Where
    its own splines keep a bound these add up along a chain, and each turn moves all that hangs on
    it."""
    if preset.within_deg is None or form.frames < 2:
        return MOST_DEG, MOST_MM
    skeleton = form.skeleton
    depth = max(len(skeleton.chain(j)) for j in range(len(skeleton)))
    places = form.millimetres * skeleton.rest_positions
    reach = max(
        sum(float(np.linalg.norm(places[j] - places[a])) for a in skeleton.chain(j))
        for j in range(len(skeleton))
    )
    moved = preset.within_mm * depth
    return (
        min(preset.within_deg * depth, MOST_DEPTH_DEG),
        moved + float(np.radians(preset.within_deg)) * reach,
    )


def of_all(proofs: Sequence[Proof]) -> Proof:
    """The proof of a file of several clips: the largest differences, and all frames and keys."""
    deg = max(proofs, key=lambda p: p.max_deg)
    mm = max(proofs, key=lambda p: p.max_mm)
    frames = np.array([p.frames for p in proofs], dtype=np.float64)

    def rms(values: Sequence[float]) -> float:
        total = frames.sum()
        return float(np.sqrt((frames * np.square(values)).sum() / total)) if total else 0.0

    return replace(
        proofs[0],
        frames=int(frames.sum()),
        keys=sum(p.keys for p in proofs),
        max_deg=deg.max_deg, deg_joint=deg.deg_joint, deg_frame=deg.deg_frame,
        max_mm=mm.max_mm, mm_joint=mm.mm_joint, mm_frame=mm.mm_frame,
        rms_deg=rms([p.rms_deg for p in proofs]), rms_mm=rms([p.rms_mm for p in proofs]),
        allowed=(max(p.allowed[0] for p in proofs), max(p.allowed[1] for p in proofs)),
    )  # fmt: skip


def verified(
    data: bytes, file: str, clip: Clip, first: int = 0, preset: Preset | None = None
) -> Proof:
    """The proof of any file against a clip, of which no delivery is known: it holds the clip's
    frames from ``first`` at its own rate, and joints of the clip's names, beside others or fewer;
    of other names where a ``preset`` says which. Of several takes it is the one of the clip's name.

    :class:`BadInput` where it is not what the clip plays.
    """
    if file.endswith(".csv"):
        raise BadInput("a table does not say what its joints are: expected a file with a skeleton")
    rate = None if preset is None else preset.at_rate(clip.rate)
    choices = AS_TOLD if file.endswith(".json") else Choices(rate=rate)
    takes = [take.clip for take in read_takes(data, file, choices=choices)]
    at = next((k for k, take in enumerate(takes) if take.name == clip.name), 0)
    back = takes[at]
    told = [dict(back.reading.originals).get(n) or n for n in back.skeleton.names]
    called = {n: n for n in clip.skeleton.names} if preset is None else names_of(clip, preset)
    common = {n: own for n, own in called.items() if own in told}
    if not common:
        raise BadInput("none of its joints has a name that a joint of the clip has")
    last = first + (back.frames - 1) * clip.rate / back.rate
    times = sample_times(clip, back.rate, first, min(int(last), clip.frames - 1))
    props = bool(clip.props) and len(back.props) == len(clip.props)
    extra = tuple(n for n in told if n not in common.values())
    allowed = (MOST_DEG, MOST_MM) if preset is None else allowed_of(clip, preset)
    expected = Expected(times, back.rate, common, props, extra, clip.reading, allowed, take=at)
    return proven(data, file, clip, expected)


def _holds_places(data: bytes) -> bool:
    head = data[: data.find(b"\n")].decode(errors="replace")
    return " x (" in head


def _read(data: bytes, file: str, expected: Expected) -> Clip:
    # Keys of splines do not tell the rate: it is what was asked for.
    choices = AS_TOLD if file.endswith((".json", ".csv")) else Choices(rate=expected.rate)
    takes = read_takes(data, file, like=expected.like, choices=choices)
    if expected.take >= len(takes):
        raise BadInput(f"the file reads back as {len(takes)} clips: one more was written")
    back = takes[expected.take].clip
    if not file.endswith((".bvh", ".csv")):
        return back
    # Neither says its unit and which axis is up.
    told = expected.reading
    return replace(
        back,
        reading=replace(
            back.reading,
            metres_per_unit=told.metres_per_unit,
            up_axis=told.up_axis,
            root_positions=told.root_positions,
            joint_positions=told.joint_positions,
        ),
    )


def _upright(reading: Reading, points: Floats) -> Floats:
    return reading.metres_per_unit * rotation.rotate(UPRIGHT[reading.up_axis], points)


def _world(clip: Clip, times: Floats, props: bool) -> World:
    turns, points = evaluate(clip, times).world(clip.skeleton)
    up = UPRIGHT[clip.reading.up_axis]
    called = dict(clip.reading.originals)
    out: dict[str, tuple[Floats | None, Floats]] = {}
    for j, name in enumerate(clip.skeleton.names):
        told = called.get(name) or name
        told = name if told in out else told
        out[told] = rotation.multiply(up, turns[:, j]), _upright(clip.reading, points[:, j])
    if props:
        turns, points = placed_props(clip, times)
        for k, prop in enumerate(clip.props):
            own = prop.name if prop.name not in out else f"{prop.name} (a prop)"
            out[own] = rotation.multiply(up, turns[:, k]), _upright(clip.reading, points[:, k])
    return out


def _expected_world(clip: Clip, expected: Expected) -> World:
    """Where what is delivered of a clip stands, by the names that it has in the file."""
    ours = _world(clip, expected.times, expected.props)
    originals = {told or name: name for name, told in clip.reading.originals}
    out: dict[str, tuple[Floats | None, Floats]] = {}
    for name, stands in ours.items():
        own = originals.get(name, name)
        if own in expected.names:
            out[expected.names[own]] = stands
        elif own not in clip.skeleton.names:
            out[name] = stands
    return out


def _compared(
    ours: World, theirs: World, data: bytes, frames: int, counts: Mapping[str, int],
    expected: Expected,
) -> Proof:  # fmt: skip
    theirs = {n: v for n, v in theirs.items() if n in ours or n not in expected.extra}
    if len(ours) == len(theirs) and expected.props:
        # Props that became joints may have got other names: they come last, in their order.
        theirs = dict(zip(_named_as(list(ours), list(theirs)), theirs.values(), strict=True))
    missing = [n for n in ours if n not in theirs]
    strange = [n for n in theirs if n not in ours]
    if missing or strange:
        what = f"without {short(missing[0])}" if missing else f"with {short(strange[0])} besides"
        raise BadInput(f"the file reads back {what}")
    names = list(ours)
    gaps = 1000.0 * np.stack(
        [np.linalg.norm(ours[n][1] - theirs[n][1], axis=1) for n in names], axis=1
    )
    turned = [n for n in names if theirs[n][0] is not None]
    degrees = np.zeros((frames, 1))
    if turned:
        degrees = _degrees(ours, theirs, turned, len(expected.names))
    deg_at, mm_at = (
        np.unravel_index(int(np.argmax(d)), d.shape) if d.size else (0, 0) for d in (degrees, gaps)
    )
    found = Proof(
        sha256=hashlib.sha256(data).hexdigest(),
        bytes=len(data),
        frames=frames,
        compared=len(names),
        max_deg=float(degrees.max(initial=0.0)),
        rms_deg=float(np.sqrt(np.mean(degrees**2))) if degrees.size else 0.0,
        deg_joint=turned[int(deg_at[1])] if turned else "",
        deg_frame=int(deg_at[0]),
        max_mm=float(gaps.max(initial=0.0)),
        rms_mm=float(np.sqrt(np.mean(gaps**2))) if gaps.size else 0.0,
        mm_joint=names[int(mm_at[1])],
        mm_frame=int(mm_at[0]),
        allowed=expected.allowed,
        rules="kept",
        **counts,
    )
    most_deg, most_mm = expected.allowed
    if found.max_deg > most_deg or found.max_mm > most_mm:
        raise BadInput(
            f"the file reads back {found.max_deg:.3f}° off at {short(found.deg_joint)} and "
            f"{found.max_mm:.2f} mm at {short(found.mm_joint)}; at most {most_deg:.3g}° and "
            f"{most_mm:.3g} mm are allowed in a delivery"
        )
    return found


def _degrees(ours: World, theirs: World, names: Sequence[str], joints: int) -> Floats:
    """How far rotations differ ``(F, N)``: of so many joints, then of props. Joints may have kept
    their axes in the file, or have them called otherwise along with the world's: it is the one or
    the other of all of them. Props keep theirs."""
    a = np.stack([_known(ours[n][0]) for n in names], axis=1)
    b = np.stack([_known(theirs[n][0]) for n in names], axis=1)
    best = rotation.geodesic_deg(a, b)
    for axis in UPRIGHT.values():
        for by in (axis, rotation.conjugate(axis)):
            if best[:, :joints].max(initial=0.0) <= MOST_DEG:
                return best
            other = rotation.geodesic_deg(rotation.multiply(a[:, :joints], by), b[:, :joints])
            if other.max(initial=0.0) < best[:, :joints].max(initial=0.0):
                best[:, :joints] = other
    return best


def _known(turns: Floats | None) -> Floats:
    assert turns is not None
    return turns


def _named_as(names: list[str], others: list[str]) -> list[str]:
    known = set(names)
    spare = iter([n for n in names if n not in set(others)])
    return [n if n in known else next(spare) for n in others]
