"""Inspect, Unflip, Calm and Thin against seeded truth, labelled data and the classic filters."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from dataclasses import replace

import numpy as np
from leancurve.cleaning.contacts import find_support
from leancurve.cleaning.gimbal import easiest_path
from leancurve.curves.curve import SampledCurve
from leancurve.demo import TAKES, DemoTake, captured
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.measures.findings import find
from leancurve.measures.findings.jitter import noise_of
from leancurve.numbers import filters, rotation
from leancurve.operations import OPERATIONS, apply_patch
from leancurve.recipe import ALL_OF_IT, run_recipe

from tests.bench.tables import Table, best, ms
from tests.conftest import read_open_capture
from tests.core.test_contacts import TRIALS, found_in, nearest
from tests.core.test_orders import over_the_pole
from tests.findings_score import score

UNSEEN = (101, 102, 103, 104)


def run() -> list[Table]:
    return [seeded(), clean(), contacts(), calm(), layouts(), gimbal(), truth(), real()]


def seeded() -> Table:
    table = Table(
        "Findings on seeded defects, three takes at four seeds not used for tuning",
        ("kind", "seeded", "recall", "reported", "precision"),
        note=(
            "A defect is found if a finding of its kind on its joint overlaps it, widened by two "
            "frames; of spans over ten frames a third of the longer must be shared. Target 0.95."
        ),
    )
    captures = [(f"{t.file} {s}", captured(t, s)) for t in TAKES for s in UNSEEN]
    for kind, one in score(captures).items():
        table.add(
            kind, str(one.seeded), f"{one.recall:.3f}", str(one.reported), f"{one.precision:.3f}"
        )
    return table


def clean() -> Table:
    table = Table(
        "Findings on the clean takes, and the time it takes to look",
        ("take", "false findings", "true ones", "time"),
        note="Idle channels and gimbal nearness are truly there; anything else would be false.",
    )
    for take in TAKES:
        clip = take.clean()
        counts = Counter(f.kind for f in find(clip))
        true = {k: n for k, n in counts.items() if k in ("idle", "gimbal")}
        false = sum(counts.values()) - sum(true.values())
        said = ", ".join(f"{n} {k}" for k, n in true.items())
        table.add(take.title, str(false), said, ms(best(lambda c=clip: find(c), runs=3)))  # type: ignore[misc]
    return table


def contacts() -> Table:
    table = Table(
        "Contacts against labelled steps (frames off, at 150 a second)",
        ("walker", "events", "labelled", "found", "largest", "median"),
        note=(
            "Heel strikes and toe-offs of two walkers, sources in tests/data/labelled_steps.json. "
            "The healthy walker's toe-off labels contradict each other and are left out, as is its "
            "label at 163."
        ),
    )
    for name, trial in TRIALS.items():
        found = found_in(trial)
        last = len(trial["points"]["left heel"]) - 1
        for events, point in (("heel_strikes", "heel"), ("toe_offs", "toe")):
            if name == "healthy" and events == "toe_offs":
                continue
            off, labelled, seen = [], 0, 0
            for side in ("left", "right"):
                mine = [c for c in found if c.limb == f"{side} {point}"]
                starts = [c.first for c in mine if c.first > 0]
                at = starts if point == "heel" else [c.last for c in mine if c.last < last]
                wanted = [f for f in trial[events][side] if (name, f) != ("healthy", 163)]
                off += [nearest([*at, 0], f) for f in wanted]
                labelled, seen = labelled + len(wanted), seen + len(at)
            table.add(
                name, events.replace("_", " "), str(labelled), str(seen), str(max(off)),
                f"{np.median(off):.1f}",
            )  # fmt: skip
    return table


def _spoiled(take: DemoTake, sigma: float, spikes: int) -> tuple[Clip, list[int]]:
    clip, random = take.clean(), np.random.default_rng(5)
    moving = [c for c, v in clip.curves.items() if c.turns and np.ptp(v.values) > 0.01]
    noisy = {
        c: SampledCurve(clip.curves[c].values + random.normal(0, sigma, clip.frames))
        for c in moving
    }
    for _ in range(spikes):
        curve = noisy[moving[random.integers(len(moving))]]
        first = int(random.integers(20, clip.frames - 20))
        size = random.uniform(5, 25) * random.choice([-1, 1])
        curve.values[first : first + random.integers(1, 3)] += size
    return clip.with_curves(noisy), sorted({c.joint for c in moving})


def calm() -> Table:
    table = Table(
        "Calm: 0.1° of noise an axis and 189 spikes on the mooring line, 3,500 frames",
        ("filter", "RMS to truth", "near contacts", "peak loss", "time"),
        note="Targets of the adaptive filter: ≤ 0.08°, ≤ 0.15°, ≤ 1.5 %.",
    )
    take = TAKES[0]
    clean_clip = take.clean()
    dirty, joints = _spoiled(take, 0.1, 189)
    near = np.zeros(clean_clip.frames, dtype=bool)
    for planted in take.perform().planted.values():
        for edge in (f for span in planted for f in span if 0 < f < clean_clip.frames - 1):
            near[edge - 8 : edge + 9] = True
    legs = [j for j in joints if any(p in clean_clip.skeleton.names[j]
                                     for p in ("Thigh", "Shin", "Foot", "Toe"))]  # fmt: skip
    truth_q = evaluate(clean_clip).rotation
    wide = [c for c in clean_clip.channels
            if c.turns and np.ptp(clean_clip.curves[c].values) > 10]  # fmt: skip

    def add(name: str, clip: Clip, time: str) -> None:
        gap = rotation.geodesic_deg(evaluate(clip).rotation, truth_q)
        lost = [
            abs(np.ptp(clip.curves[c].values) / np.ptp(clean_clip.curves[c].values) - 1)
            for c in wide
        ]
        table.add(
            name,
            f"{np.sqrt(np.mean(gap[:, joints] ** 2) / 3):.3f}°",
            f"{np.sqrt(np.mean(gap[near][:, legs] ** 2) / 3):.3f}°",
            f"{100 * np.mean(lost):.2f} %",
            time,
        )

    add("none", dirty, "")
    despike, smooth = OPERATIONS["despike"], OPERATIONS["smooth"]
    despiked = apply_patch(dirty, despike.run(dirty))
    add("despiked", despiked, ms(best(lambda: despike.run(dirty), runs=2)))
    methods: dict[str, dict[str, object]] = {
        "Butterworth 10 Hz, despiked": {"method": "butterworth", "cutoff_hz": 10},
        "Butterworth by residual analysis, despiked": {"method": "butterworth"},
        "Savitzky-Golay 70 ms, despiked": {"method": "savitzky-golay"},
        "Gaussian 20 ms, despiked": {"method": "gaussian"},
        "adaptive, despiked (the default)": {},
    }
    for name, params in methods.items():
        unguarded = {**params, "protect": False} if params else params
        taken = best(lambda p=unguarded: smooth.run(despiked, p), runs=2)  # type: ignore[misc]
        add(name, apply_patch(despiked, smooth.run(despiked, unguarded)), ms(taken))
    _stop(table)
    return table


def _stop(table: Table) -> None:
    """A joint stopped within a frame from 200° a second: what fixed filters blunt."""
    t = np.arange(480) / 120
    truth_v = np.where(t < 2, 200 * t, 400.0)[:, None]
    noisy = truth_v + np.random.default_rng(12).normal(0, 0.1, truth_v.shape)
    near = np.abs(t - 2) < 0.07
    kinds: dict[str, Callable[[], np.ndarray]] = {
        "a dead stop: Butterworth 10 Hz": lambda: filters.butterworth(noisy, 120, 10),
        "a dead stop: Savitzky-Golay 70 ms": lambda: filters.savitzky_golay(noisy, 120, 0.07),
        "a dead stop: adaptive": lambda: filters.adaptive(noisy, 120, np.full(len(t), 0.1)),
    }
    for name, work in kinds.items():
        error = np.sqrt(np.mean((work() - truth_v)[near] ** 2))
        table.add(name, "", f"{error:.3f}°", "", "")


def layouts() -> Table:
    table = Table(
        "Thin's layouts on the mooring line, 198 channels × 3,500 frames, 0.25° and 1 mm",
        ("layout or budget", "keys", "÷ its minimum", "largest error", "foot slide after", "time"),
        note="Each layout has a provable minimum of its own; budgets say what they cost.",
    )
    clip = TAKES[0].clean()
    thin = OPERATIONS["thin"]
    asked: dict[str, dict[str, object]] = {
        "each channel its own": {},
        "a joint's channels share times": {"layout": "joint"},
        "a part of the body shares times": {"layout": "part"},
        "key poses": {"layout": "pose"},
        "each joint within 0.25° as a rotation": {"measure": "joint"},
        "5 mm at hands, feet and head": {"measure": "ends"},
        "at most 3,000 keys": {"most_keys": 3000},
        "about 80 poses": {"layout": "pose", "poses": 80},
    }
    for name, params in asked.items():
        report = thin.run(clip, params).report
        taken = best(lambda p=params: thin.run(clip, p), runs=1)  # type: ignore[misc]
        keys = f"{report['keys_after']:,}"
        if "poses" in report:
            keys += f" ({report['poses']} poses)"
        table.add(
            name, keys, f"{report['keys_after'] / report['keys_bound']:.2f}",
            f"{report['max_error_deg']:.2f}°", f"{report['slide_after_mm']:.1f} mm", ms(taken),
        )  # fmt: skip
    return table


def gimbal() -> Table:
    table = Table(
        "A joint over the gimbal, passing it by 0.3°: worst step of a channel",
        ("way through", "worst step", "drift"),
    )
    angles = over_the_pole(miss=0.3)
    table.add("continuous", f"{np.abs(np.diff(angles, axis=0)).max():.1f}°", "0°")
    for tolerance in (0.5, 1.0, 2.0):
        eased = easiest_path(angles, "ZYX", tolerance)
        drift = rotation.geodesic_deg(
            rotation.from_euler(angles, "ZYX"), rotation.from_euler(eased, "ZYX")
        ).max()
        step = np.abs(np.diff(eased, axis=0)).max()
        table.add(f"eased within {tolerance}°", f"{step:.1f}°", f"{drift:.2f}°")
    other = rotation.to_euler(rotation.from_euler(angles, "ZYX"), "YXZ")
    step = np.abs(np.diff(np.unwrap(other, axis=0, period=360), axis=0)).max()
    table.add("another order", f"{step:.1f}°", "0°")
    return table


def truth() -> Table:
    table = Table(
        "All of it on captured takes: RMS to the clean take over spoiled joints",
        ("take", "joints spoiled", "before", "after", "worse than before", "keys"),
    )
    for take in TAKES:
        capture = captured(take, 104)
        done = run_recipe(capture.clip, ALL_OF_IT).clip
        frames = np.arange(done.frames, dtype=float)
        truth_q = evaluate(take.clean()).rotation
        before = _rms(evaluate(capture.clip, frames + capture.lead_in).rotation, truth_q)
        after = _rms(evaluate(done, frames).rotation, truth_q)
        spoiled = before > 0.15
        table.add(
            take.title, str(np.count_nonzero(spoiled)), f"{np.median(before[spoiled]):.2f}°",
            f"{np.median(after[spoiled]):.2f}°", str(np.count_nonzero((after > before)[spoiled])),
            f"{capture.clip.key_count:,} → {done.key_count:,}",
        )  # fmt: skip
    return table


def _rms(a: np.ndarray, b: np.ndarray) -> np.ndarray:
    return np.sqrt(np.mean(rotation.geodesic_deg(a, b) ** 2, axis=0))


def real() -> Table:
    table = Table(
        "The open capture: what was labelled by hand, and what else is found",
        ("what", "labelled", "found"),
        note=(
            "Labels: one added T-pose, no wrap, ten jumps, five spikes read off the frames. "
            "Its noise and sliding feet are there, but have no labels."
        ),
    )
    clip = read_open_capture()
    found = find(clip)
    counts = Counter(f.kind for f in found)
    spikes = {(f.joint, f.first) for f in found if f.kind == "spike"}
    named = {("Hips", 975), ("LeftToeBase", 844), ("RightFingerBase", 2575), ("RightUpLeg", 980),
             ("LeftHand", 1117)}  # fmt: skip
    table.add("calibration pose", "1", str(counts["calibration pose"]))
    table.add("wraps", "0", str(counts["wrap"]))
    table.add("spikes named", "5", str(len(named & spikes)))
    jumps = [c for c in find_support(clip).contacts if c.limb == "airborne"]
    table.add("jumps", "10", str(len(jumps)))
    for kind in ("spike", "jitter", "slide", "sink", "float", "gimbal", "alternate"):
        table.add(f"{kind}, all", "", str(counts[kind]))
    after = apply_patch(clip, OPERATIONS["trim"].run(clip))
    calmed = run_recipe(after, [{"operation": "despike"}, {"operation": "smooth"}]).clip
    window = 72
    level = [float(np.median(noise_of(rotation.hemisphere(evaluate(c).rotation), window)))
             for c in (after, calmed)]  # fmt: skip
    table.add("noise, median of joints", "", f"{level[0]:.3f}° → {level[1]:.3f}°")
    left = Counter(f.kind for f in find(replace(calmed, name="calmed")))
    table.add("spikes and jitter after Calm", "", f"{left['spike']}, {left['jitter']}")
    return table
