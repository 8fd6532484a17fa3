"""The two characters that takes are delivered on: Wren, small, and Heron, tall. Invented.

Wren is short in the legs and big in the hands, in metres with Z up, and rests with hanging arms on
axes of her own: along each bone. Heron is tall, in centimetres with Y up, in a T-pose on the
world's axes, with more joints in the spine and neck and joints that take the limbs' twist.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from fractions import Fraction
from functools import cache

import numpy as np

from leancurve.curves.curve import Curve, SampledCurve
from leancurve.demo.bodies import made_body
from leancurve.document.clip import Clip, Reading
from leancurve.document.track import TrackId, base_track
from leancurve.figure.skeleton import EndSite, Skeleton
from leancurve.formats.gltf.writing import write_gltf
from leancurve.measures.drift import find_ends
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats

Place = tuple[float, float, float]
Row = tuple[str, str | None, Place]
"""A joint: its name, its parent's, and where it stands at rest: left, up, forward."""

FINGERS = ("Thumb", "Index", "Middle", "Ring", "Little")
SIDES = (("left", 1.0), ("right", -1.0))


def _mirrored(place: Place, sign: float) -> Place:
    return (sign * place[0], place[1], place[2])


def _along(start: Place, way: Place, far: float) -> Place:
    return (start[0] + far * way[0], start[1] + far * way[1], start[2] + far * way[2])


def _depth_first(rows: Sequence[Row]) -> list[Row]:
    """Joints as files list them: each before its children, and all of a limb together."""
    below: dict[str | None, list[Row]] = {}
    for row in rows:
        below.setdefault(row[1], []).append(row)
    out: list[Row] = []

    def visit(row: Row) -> None:
        out.append(row)
        for child in below.get(row[0], ()):
            visit(child)

    for root in below[None]:
        visit(root)
    return out


def _skeleton(rows: Sequence[Row], tips: Mapping[str, Place], frames: Mapping[str, Floats],
              axes: Floats) -> Skeleton:  # fmt: skip
    """A skeleton of joints' places; ``frames`` are their axes at rest as quaternions, straight
    where none is given, all in left, up, forward; ``axes`` turns these into the file's own."""
    ordered = _depth_first(rows)
    names = [name for name, _, _ in ordered]
    at = {name: k for k, name in enumerate(names)}
    points = np.array([place for _, _, place in ordered])
    parents = [-1 if up is None else at[up] for _, up, _ in ordered]
    turns = [rotation.multiply(axes, frames[n]) if n in frames else rotation.IDENTITY
             for n in names]  # fmt: skip
    offsets: list[Place] = []
    rests: list[tuple[float, float, float, float]] = []
    for joint, parent in enumerate(parents):
        gap = points[joint] - (points[parent] if parent >= 0 else 0.0)
        above = turns[parent] if parent >= 0 else rotation.IDENTITY
        back = rotation.conjugate(above)
        x, y, z = rotation.rotate(back, rotation.rotate(axes, gap)).tolist()
        offsets.append((round(x, 9), round(y, 9), round(z, 9)))
        a, b, c, d = rotation.multiply(back, turns[joint]).tolist()
        rests.append((a, b, c, d))
    ends: list[EndSite] = []
    for joint, name in enumerate(names):
        if name not in tips:
            continue
        gap = rotation.rotate(axes, np.array(tips[name]) - points[joint])
        x, y, z = rotation.rotate(rotation.conjugate(turns[joint]), gap).tolist()
        # An end stands behind all that hangs on its joint.
        last = joint
        while last + 1 < len(parents) and parents[last + 1] >= joint:
            last += 1
        ends.append(EndSite(joint, (round(x, 9), round(y, 9), round(z, 9)), last + 1))
    straight = not frames
    return Skeleton(
        tuple(names), tuple(parents), tuple(offsets), tuple(ends), () if straight else tuple(rests)
    )


def _hand(rows: list[Row], tips: dict[str, Place], names: Sequence[str], wrist: Place,
          way: Place, across: Place, sign: float, size: float) -> None:  # fmt: skip
    """Five fingers of three joints on a hand, from its wrist along ``way``; the thumb lies on the
    side that ``across`` points to. ``names`` are the hand's and, with two places to fill, theirs.
    """
    hand, pattern = names
    for k, finger in enumerate(FINGERS):
        thumb = k == 0
        far, aside = (0.32, 0.34) if thumb else (1.0 - 0.03 * abs(k - 2), 0.30 - 0.2 * (k - 1))
        base = _along(_along(wrist, way, far * size), across, aside * size)
        spread = 0.75 if thumb else 0.06 * (2.5 - k)
        bone = np.array(way) + spread * np.array(across)
        x, y, z = (bone / np.linalg.norm(bone)).tolist()
        lengths = (0.38, 0.32, 0.28) if thumb else (0.44 - 0.02 * abs(k - 2), 0.28, 0.22)
        up, place = hand, base
        for j, length in enumerate(lengths):
            name = pattern.format(finger=finger, number=j + 1, letter="ABC"[j])
            rows.append((name, up, _mirrored(place, sign)))
            up, place = name, _along(place, (x, y, z), length * size)
        tips[up] = _mirrored(place, sign)


@cache
def heron() -> Skeleton:
    """Heron: 64 joints, centimetres, Y up, facing Z, arms along X."""
    rows: list[Row] = [
        ("Hip", None, (0, 113, 0)),
        *((f"Spine{'ABCDEF'[k]}", "Hip" if k == 0 else f"Spine{'ABCDEF'[k - 1]}",
           (0, 120 + 8.5 * k, (-1.0, -1.6, -1.8, -1.4, -0.6, 0.0)[k])) for k in range(6)),
        ("NeckA", "SpineF", (0, 176, -1)),
        ("NeckB", "NeckA", (0, 182, 0)),
        ("Head", "NeckB", (0, 188, 1.5)),
    ]  # fmt: skip
    tips: dict[str, Place] = {"Head": (0, 208, 2.5)}
    for word, sign in SIDES:
        side = word.capitalize()
        shoulder, elbow, wrist = (20.0, 171, -2), (53.0, 171, -2), (83.0, 171, -2)
        knee, ankle = (11.0, 57.9, 0.2), (11.0, 10, -0.4)
        rows += [
            (f"{side}Collar", "SpineF", _mirrored((3.5, 170, 0), sign)),
            (f"{side}UpArm", f"{side}Collar", _mirrored(shoulder, sign)),
            (f"{side}UpArmTwist", f"{side}UpArm", _mirrored((36.5, 171, -2), sign)),
            (f"{side}LowArm", f"{side}UpArm", _mirrored(elbow, sign)),
            (f"{side}LowArmTwist", f"{side}LowArm", _mirrored((68, 171, -2), sign)),
            (f"{side}Wrist", f"{side}LowArm", _mirrored(wrist, sign)),
            (f"{side}UpLeg", "Hip", _mirrored((11, 107, 0), sign)),
            (f"{side}UpLegTwist", f"{side}UpLeg", _mirrored((11, 82, 0.15), sign)),
            (f"{side}LowLeg", f"{side}UpLeg", _mirrored(knee, sign)),
            (f"{side}LowLegTwist", f"{side}LowLeg", _mirrored((11, 34, -0.3), sign)),
            (f"{side}Ankle", f"{side}LowLeg", _mirrored(ankle, sign)),
            (f"{side}Toes", f"{side}Ankle", _mirrored((11, 2.5, 15), sign)),
        ]
        tips[f"{side}Toes"] = _mirrored((11, 1, 23), sign)
        _hand(rows, tips, (f"{side}Wrist", side + "{finger}{letter}"), wrist,
              (1, 0, 0), (0, 0, 1), sign, 9.0)  # fmt: skip
    return _skeleton(rows, tips, {}, rotation.IDENTITY)


@cache
def wren() -> Skeleton:
    """Wren: 52 joints, metres, Z up, facing -Y, arms hanging, axes along the bones."""
    rows: list[Row] = [
        ("pelvis", None, (0, 0.655, 0)),
        ("waist", "pelvis", (0, 0.735, -0.005)),
        ("ribs", "waist", (0, 0.84, -0.005)),
        ("chest", "ribs", (0, 0.95, 0.0)),
        ("neck", "chest", (0, 1.09, -0.015)),
        ("skull", "neck", (0, 1.16, 0.0)),
    ]
    tips: dict[str, Place] = {"skull": (0, 1.40, 0.01)}
    for word, sign in SIDES:
        side = word[0]
        # Arms hang a seventh of a turn off the body, palms towards the thighs.
        down = (np.sin(np.radians(14)), -np.cos(np.radians(14)), 0.05)
        size = float(np.linalg.norm(down))
        way = (float(down[0]) / size, float(down[1]) / size, 0.05 / size)
        shoulder = (0.155, 1.07, -0.02)
        elbow = _along(shoulder, way, 0.245)
        wrist = _along(elbow, way, 0.215)
        rows += [
            (f"collar.{side}", "chest", _mirrored((0.025, 1.06, 0.0), sign)),
            (f"upper.arm.{side}", f"collar.{side}", _mirrored(shoulder, sign)),
            (f"lower.arm.{side}", f"upper.arm.{side}", _mirrored(elbow, sign)),
            (f"wrist.{side}", f"lower.arm.{side}", _mirrored(wrist, sign)),
            (f"upper.leg.{side}", "pelvis", _mirrored((0.085, 0.61, 0), sign)),
            (f"lower.leg.{side}", f"upper.leg.{side}", _mirrored((0.085, 0.34, 0.004), sign)),
            (f"ankle.{side}", f"lower.leg.{side}", _mirrored((0.085, 0.075, -0.008), sign)),
            (f"ball.{side}", f"ankle.{side}", _mirrored((0.088, 0.02, 0.105), sign)),
        ]
        tips[f"ball.{side}"] = _mirrored((0.09, 0.012, 0.165), sign)
        _hand(rows, tips, (f"wrist.{side}", "{finger}.{number}." + side), wrist,
              way, (0.0, 0.05, 1.0), sign, 0.105)  # fmt: skip
    rows = [(n.lower(), None if up is None else up.lower(), p) for n, up, p in rows]
    tips = {n.lower(): p for n, p in tips.items()}
    # Left, up, forward in Wren's file: X, Z, -Y.
    return _skeleton(rows, tips, _along_bones(rows, tips), rotation.from_axis("X", np.array(90.0)))


def _along_bones(rows: Sequence[Row], tips: Mapping[str, Place]) -> dict[str, Floats]:
    """Axes at rest with Y along each bone, and X as near as can be to the figure's left."""
    out: dict[str, Floats] = {}
    for name, _, place in rows:
        below = [p for _, up, p in rows if up == name]
        to = tips.get(name) or (below[len(below) // 2] if name.startswith("wrist") else below[0])
        y = np.array(to) - np.array(place)
        y /= np.linalg.norm(y)
        x = np.array([1.0, 0.0, 0.0]) - y[0] * y
        if np.linalg.norm(x) < 0.3:
            x = np.array([0.0, 0.0, 1.0]) - y[2] * y
        x /= np.linalg.norm(x)
        out[name] = rotation.from_frame(x, y, np.cross(x, y))
    return out


def standing(skeleton: Skeleton, name: str, metres: float, up_axis: str, order: str) -> Clip:
    """A skeleton's rest as a clip of one frame, so that it goes into any file. Its root moves and
    every joint turns, in one ``order``."""
    turns = tuple(f"r{axis.lower()}" for axis in order)
    root = ("tx", "ty", "tz")
    layout = tuple((*root, *turns) if up < 0 else turns for up in skeleton.parents)
    curves: dict[TrackId, Curve] = {}
    for joint, names in enumerate(layout):
        angles = rotation.to_euler(skeleton.rest_rotations[joint], order)
        values = dict(zip(turns, angles.tolist(), strict=True))
        for channel in names:
            curves[base_track(joint, channel)] = SampledCurve(np.array([values.get(channel, 0.0)]))
    reading = Reading(metres, up_axis, "add", "replace", find_ends(skeleton))  # type: ignore[arg-type]
    return Clip(skeleton, layout, curves, Fraction(60), 1, reading, name)


def wren_file() -> Clip:
    """Wren as she comes: clip JSON, which keeps rest rotations."""
    return standing(wren(), "Wren", 1.0, "z", "YZX")


def heron_file() -> Clip:
    """Heron standing: one frame."""
    return standing(heron(), "Heron", 0.01, "y", "ZXY")


def heron_in_his_body() -> bytes:
    """Heron as he comes: a GLB of his skeleton and his body."""
    clip = heron_file()
    return write_gltf([clip], made_body(clip.skeleton))
