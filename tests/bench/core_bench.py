"""The core against independent parsers and reducers, and against the plain way in numpy."""

from __future__ import annotations

import json
import math
import struct
import tempfile
import time
from pathlib import Path

import numpy as np
from leancurve.curves.curve import KeyedCurve, evaluate_keyed
from leancurve.curves.plain import evaluate_plain
from leancurve.demo import TAKES, captured
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.document.track import TrackId, base_track
from leancurve.figure.skeleton import forward_kinematics, forward_kinematics_plain
from leancurve.formats.bvh import read_bvh, write_bvh
from leancurve.formats.gltf.reading import read_gltf
from leancurve.formats.gltf.writing import write_gltf
from leancurve.formats.usd.reading import read_usd
from leancurve.numbers import rotation
from leancurve.numbers.continuity import continuous
from leancurve.numbers.kernels import minimax
from leancurve.operations import OPERATIONS, apply_patch
from leancurve.recipe import ALL_OF_IT, run_recipe
from scipy.signal import find_peaks

from tests.bench.tables import Table, best, ms
from tests.conftest import read_open_capture
from tests.core import usd_files


def run() -> list[Table]:
    long = TAKES[0].clean()
    dirty = captured(TAKES[0]).clip
    takes: dict[str, Clip] = {
        "mooring line, clean": long,
        "mooring line, captured, unflipped": unflipped(dirty),
        "crate, captured, unflipped": unflipped(captured(TAKES[1]).clip),
    }
    takes["open capture"] = read_open_capture()
    takes["open capture, calmed"] = calmed(takes["open capture"])
    return [reading(long), other_formats(long), unflip(dirty), *thinning(takes), motion(long)]


def calmed(clip: Clip) -> Clip:
    """The clip as All of it hands it to Thin."""
    names = [line["operation"] for line in ALL_OF_IT]
    return run_recipe(clip, ALL_OF_IT[: names.index("drop_idle")]).clip


def _extremes_with_a_key(
    values: np.ndarray, curve: KeyedCurve, tolerance: float
) -> tuple[int, int]:
    """Extremes of a prominence of ten tolerances (SciPy's find_peaks), and those with a key
    within two frames."""
    peaks = np.concatenate(
        [find_peaks(sign * values, prominence=10 * tolerance)[0] for sign in (1, -1)]
    )
    near = [np.abs(curve.time - peak).min() <= 2.0 for peak in peaks]
    return len(peaks), int(np.sum(near))


def unflipped(clip: Clip) -> Clip:
    return apply_patch(clip, OPERATIONS["unflip"].run(clip))


def reading(clip: Clip) -> Table:
    """A 3,500-frame, 198-channel file, numbers with six decimals as suits write them."""
    import bvh
    import pybvh

    text = write_bvh(clip).decode()
    head, _, rows = text.partition("Frame Time:")
    first, _, rows = rows.partition("\n")
    rows = "\n".join(" ".join(f"{float(v):.6f}" for v in r.split()) for r in rows.splitlines())
    text = f"{head}Frame Time:{first}\n{rows}\n"
    data = text.encode()
    table = Table(
        f"Reading BVH: {clip.frames} frames, 198 channels, {len(data) / 1e6:.1f} MB",
        ("reader", "time", "ratio to ours"),
    )
    ours = best(lambda: read_bvh(data))
    table.add("Lean Curve", ms(ours), "1")
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "take.bvh"
        path.write_text(text)
        theirs = best(lambda: pybvh.read_bvh_file(path), runs=3)
        table.add("pybvh", ms(theirs), f"{theirs / ours:.1f}")
    began = time.perf_counter()
    bvh.Bvh(text)
    theirs = time.perf_counter() - began
    table.add("bvh", ms(theirs), f"{theirs / ours:.0f}")
    return table


def other_formats(clip: Clip) -> Table:
    """The same motion as GLB and as a USD crate, beside BVH and a reader in plain Python."""
    glb = write_gltf([clip])
    text = write_bvh(clip)
    pose = evaluate(clip)
    paths: list[str] = []
    for name, up in zip(clip.skeleton.names, clip.skeleton.parents, strict=True):
        paths.append(name if up < 0 else f"{paths[up]}/{name}")
    stage = usd_files.new_stage(metres=0.01, codes=float(clip.rate))
    skeleton = usd_files.add_skeleton(stage, joints=paths, offsets=clip.skeleton.offset_array)
    sizes = np.ones((clip.frames, len(paths), 3))
    frames = np.arange(clip.frames, dtype=np.float64)
    animation = usd_files.add_animation(
        stage, "/Root/take", paths, frames, pose.translation, pose.rotation, sizes
    )
    usd_files.bind(skeleton, animation)
    crate = usd_files.written(stage, ".usdc")
    table = Table(
        f"Reading other formats: {clip.frames} frames, {len(paths)} joints",
        ("format", "size", "time", "ratio to BVH"),
    )
    ours = best(lambda: read_bvh(text))
    table.add("BVH", f"{len(text) / 1e6:.1f} MB", ms(ours), "1")
    for name, data, read in (
        ("GLB", glb, lambda: read_gltf(glb)), ("USD crate", crate, lambda: read_usd(crate)),
    ):  # fmt: skip
        time_of = best(read)
        table.add(name, f"{len(data) / 1e6:.1f} MB", ms(time_of), f"{time_of / ours:.1f}")
    began = time.perf_counter()
    _plainly(glb)
    plain = time.perf_counter() - began
    table.add("GLB, in plain Python", f"{len(glb) / 1e6:.1f} MB", ms(plain), f"{plain / ours:.0f}")
    return table


def _plainly(data: bytes) -> list[list[tuple[float, ...]]]:
    """Every value of every animation, rotations as angles, a number at a time."""
    (length,) = struct.unpack_from("<I", data, 12)
    document = json.loads(data[20 : 20 + length])
    binary = data[28 + length :]
    out = []
    for animation in document["animations"]:
        for channel in animation["channels"]:
            told = document["accessors"][animation["samplers"][channel["sampler"]]["output"]]
            start = document["bufferViews"][told["bufferView"]]["byteOffset"]
            n = {"VEC3": 3, "VEC4": 4}[told["type"]]
            rows = [
                struct.unpack_from(f"<{n}f", binary, start + 4 * n * k)
                for k in range(told["count"])
            ]
            out.append([_angles(*row) if n == 4 else row for row in rows])
    return out


def _angles(x: float, y: float, z: float, w: float) -> tuple[float, float, float]:
    """Angles in the order ZXY, degrees."""
    sine = min(max(2 * (y * z + x * w), -1.0), 1.0)
    return (
        math.degrees(math.atan2(2 * (z * w - x * y), 1 - 2 * (x * x + z * z))),
        math.degrees(math.asin(sine)),
        math.degrees(math.atan2(2 * (y * w - x * z), 1 - 2 * (x * x + y * y))),
    )


def _frame_by_frame(angles: np.ndarray) -> np.ndarray:
    """The same choice as the compiled one, a frame and a joint at a time."""
    out = angles.copy()
    for joint in out:
        for f in range(1, len(joint)):
            before, now = joint[f - 1], joint[f]
            candidates = []
            for one in (now, np.array([now[0] + 180, 180 - now[1], now[2] + 180])):
                one = one + 360 * np.round((before - one) / 360)
                candidates.append((float(np.sum((one - before) ** 2)), one))
            joint[f] = min(candidates, key=lambda c: c[0])[1]
    return out


def unflip(clip: Clip) -> Table:
    order = "ZXY"
    joints = [j for j in range(65) if clip.order(j) == order]
    source = [
        np.stack([clip.curves[base_track(j, f"r{a.lower()}")].values for a in order], axis=1)
        for j in joints
    ]
    angles = np.stack([source[k % len(source)][:3500] for k in range(65)])
    compiled = best(lambda: continuous(angles, order))
    small = angles[:6]
    began = time.perf_counter()
    plain_result = _frame_by_frame(small)
    plain = (time.perf_counter() - began) * 65 / 6
    gap = rotation.geodesic_deg(
        rotation.from_euler(plain_result, order),
        rotation.from_euler(continuous(small, order)[0], order),
    )
    assert gap.max() < 1e-9
    table = Table(
        "Unflip: 65 joints × 3,500 frames", ("way", "time", "ratio to ours"),
        note="Frame by frame: measured on 6 joints and scaled. Same poses in both.",
    )  # fmt: skip
    table.add("compiled, whole arrays", ms(compiled), "1")
    table.add("frame by frame in Python", ms(plain), f"{plain / compiled:.0f}")
    whole = best(lambda: OPERATIONS["unflip"].run(clip), runs=3)
    table.add(
        f"the whole operation on the captured take, snaps and report ({clip.frames} frames)",
        ms(whole), f"{whole / compiled:.1f}",
    )  # fmt: skip
    return table


def _rdp_keys(values: np.ndarray, tolerance: float) -> int:
    """Keys of Ramer-Douglas-Peucker at a vertical error of ``tolerance``.

    The library measures distance to the line; with time stretched, that is the vertical error.
    """
    from simplification.cutil import simplify_coords

    points = np.column_stack([np.arange(len(values)) * 1e6, values])
    return len(simplify_coords(np.ascontiguousarray(points), tolerance))


def thinning(takes: dict[str, Clip]) -> list[Table]:
    keys = Table(
        "Thin at 0.25° and 1 mm, where nothing else is said: keys",
        (
            "take", "landmarks", "keys before", "keys after", "÷ provable minimum",
            "÷ Ramer-Douglas-Peucker", "largest error", "keys a second and channel",
            "extremes with a key",
        ),
        note=(
            "Targets: without landmarks ≤ 1.15 × the minimum on synthetic takes, ≤ 1.2 on a real "
            "one, ≤ 1/3 (0.33) of Ramer-Douglas-Peucker; with landmarks ≤ 1.6 and ≤ 1/2.4 (0.42). "
            "The minimum is for cubics in time; segments with free handle lengths are a wider "
            "family and can fall under it on very smooth channels. Channels that stand still are "
            "left out of keys a second; extremes have a prominence of ten tolerances."
        ),
    )  # fmt: skip
    speed = Table("Thin: time", ("take", "landmarks", "time", "ratio to Ramer-Douglas-Peucker"))
    frames = {name: np.arange(clip.frames, dtype=float) for name, clip in takes.items()}
    for name, clip in takes.items():
        channels = [(c, clip.curves[c].values) for c in clip.channels]

        def tolerance(c: TrackId, clip: Clip = clip) -> float:
            return 0.25 if c.turns else 1.0 / clip.millimetres

        began = time.perf_counter()
        rdp = sum(_rdp_keys(v, tolerance(c)) for c, v in channels)
        rdp_time = time.perf_counter() - began
        kinds = {
            "no": {"landmarks": False, "contacts": False},
            "kept": {"contacts": False},
            "kept, and contacts": {},
            "kept, and contacts, fewest keys": {"search": "fewest keys"},
            "kept, and contacts, at 1°": {"tolerance_deg": 1.0},
        }
        for kept, params in kinds.items():
            thin = OPERATIONS["thin"]
            patch = thin.run(clip, params)
            taken = best(lambda: thin.run(clip, params), runs=2)  # noqa: B023
            worst = max(
                float(np.abs(evaluate_plain(patch.curves[c], frames[name]) - v).max())
                for c, v in channels
                if c.turns
            )
            report = patch.report
            allowed = params.get("tolerance_deg", 0.25)
            moving = [(c, v) for c, v in channels if c.turns and np.ptp(v) > 4 * allowed]
            density = sum(patch.curves[c].key_count for c, _ in moving) / max(
                len(moving) * (clip.frames - 1) / float(clip.rate), 1e-9
            )
            seen = [_extremes_with_a_key(v, patch.curves[c], allowed) for c, v in moving]
            total, with_key = (sum(column) for column in zip(*seen, strict=True))
            keys.add(
                name, kept, f"{report['keys_before']:,}",
                f"{report['keys_after']:,}", f"{report['keys_after'] / report['keys_bound']:.2f}",
                f"{report['keys_after'] / rdp:.2f}", f"{worst:.4f}°", f"{density:.2f}",
                f"{with_key / max(total, 1):.0%} of {total}",
            )  # fmt: skip
            speed.add(name, kept, ms(taken), f"{taken / rdp_time:.1f}")
    clip = next(iter(takes.values()))
    values = [clip.curves[c].values for c in clip.channels]
    bound = best(lambda: [minimax.least_keys(v, 0.25) for v in values], runs=3)
    speed.add("the provable minimum alone", "", ms(bound), "")
    return [keys, speed]


def motion(clip: Clip) -> Table:
    table = Table(
        "Sampling and kinematics: 65 joints, 198 channels × 3,500 frames",
        ("what", "compiled", "plain numpy", "ratio"),
    )
    pose = evaluate(clip)
    skeleton = clip.skeleton
    ours = best(lambda: forward_kinematics(skeleton, pose.rotation, pose.translation))
    plain = best(
        lambda: forward_kinematics_plain(skeleton, pose.rotation, pose.translation), runs=3
    )
    table.add("forward kinematics", ms(ours), ms(plain), f"{plain / ours:.1f}")
    thin = apply_patch(clip, OPERATIONS["thin"].run(clip))
    curves = [thin.curves[c] for c in thin.channels]
    keyed = [c for c in curves if isinstance(c, KeyedCurve)]
    frames = np.arange(3500, dtype=float)
    ours = best(lambda: evaluate_keyed(keyed, frames))
    plain = best(lambda: [evaluate_plain(c, frames) for c in keyed], runs=2)
    table.add("sampling, free handle lengths", ms(ours), ms(plain), f"{plain / ours:.0f}")
    third = [
        c.edited(length_in=np.full(c.key_count, 1 / 3), length_out=np.full(c.key_count, 1 / 3))
        for c in keyed
    ]
    ours = best(lambda: evaluate_keyed(third, frames))
    table.add(
        "sampling, handles of one third (Hermite)", ms(ours), ms(plain), f"{plain / ours:.0f}"
    )
    whole = best(lambda: evaluate(thin))
    table.add("evaluate a thinned clip to poses", ms(whole), "", "")
    return table
