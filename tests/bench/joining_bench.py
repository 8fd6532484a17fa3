"""Joining: all pairs of frames against whole windows one pair after another, and a sequence of
five clips against posing what it makes."""

from __future__ import annotations

import time
from dataclasses import replace
from fractions import Fraction

import numpy as np
from leancurve.cleaning.contacts import support_of
from leancurve.demo import TAKES
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.joining.clouds import cloud, distances, points_of
from leancurve.operations import OPERATIONS, apply_patch
from leancurve.time.resample import resampled
from scipy.spatial.transform import Rotation

from tests.bench.tables import Table, best, ms

PAIRS = 200
"""Pairs that the plain way is measured on."""


def run() -> list[Table]:
    return [all_pairs(), sequence()]


def of_length(take: int, frames: int) -> Clip:
    """A take of the demo at the rate at which it has so many frames."""
    clip = TAKES[take].clean()
    rate = clip.rate * frames / clip.frames
    return resampled(clip, Fraction(rate).limit_denominator(1000))


def all_pairs() -> Table:
    a, b = of_length(2, 3500), of_length(0, 1500)
    table = Table(
        f"All pairs of {a.frames} × {b.frames} frames", ("way", "time", "ratio to ours", "goal")
    )
    ours = best(lambda: distances(cloud(replace(a, name="a")), cloud(replace(b, name="b"))), 3)
    table.add("points posed and all pairs compared", ms(ours), "1", "≤ 0.3 s")
    clouds = cloud(a), cloud(b)
    alone = best(lambda: distances(*clouds), 3)
    table.add("all pairs compared", ms(alone), f"{alone / ours:.2f}", "")
    plain = plainly(a, b) / PAIRS * a.frames * b.frames
    table.add("whole windows, laid by SciPy's Kabsch", ms(plain), f"{plain / ours:.0f}", "")
    table.note = f"Whole windows: measured on {PAIRS} pairs and scaled."
    return table


def plainly(a: Clip, b: Clip) -> float:
    """Seconds of pairs compared over all frames within 0.1 s, one after another."""
    clouds = []
    for clip in (a, b):
        points = evaluate(clip).world(clip.skeleton)[1][:, points_of(clip.body)]
        points[..., 1] -= support_of(clip).floor
        clouds.append(points * clip.millimetres)
    random = np.random.default_rng(3)
    half = 12
    pairs = [
        (random.integers(half, a.frames - half), random.integers(half, b.frames - half))
        for _ in range(PAIRS)
    ]
    began = time.perf_counter()
    for i, j in pairs:
        one, two = (
            c[f - half : f + half + 1].reshape(-1, 3) for c, f in zip(clouds, (i, j), strict=True)
        )
        flat = [
            np.c_[c[:, 0] - c[:, 0].mean(), 0 * c[:, 0], c[:, 2] - c[:, 2].mean()]
            for c in (one, two)
        ]
        turn, _ = Rotation.align_vectors(*flat)
        np.sqrt(np.mean(np.sum((flat[0] - turn.apply(flat[1])) ** 2, axis=1)))
    return time.perf_counter() - began


def sequence() -> Table:
    clips = [of_length(k, 1400) for k in (2, 0, 1, 2, 0)]
    clips = [replace(c, rate=clips[0].rate) for c in clips]
    total = sum(c.frames for c in clips)
    table = Table(
        f"A sequence of five clips, {total} frames: {len(clips[0].skeleton)} joints",
        ("way", "time", "ratio to posing it", "goal"),
    )
    thin = OPERATIONS["thin"]
    keyed = [apply_patch(c, thin.run(c, {"tolerance_deg": 0.5})) for c in clips]
    join = OPERATIONS["join"]
    # Left and entered where none is looked for, so that nearly all of them is kept.
    told = {"leave": 1360, "parts": [{"enter": 40, "leave": 1360} for _ in clips[1:]]}
    for name, given in (("a value on every frame", clips), ("keyed", keyed)):
        made = apply_patch(given[0], join.run(given[0], told, inputs={"parts": given[1:]}))

        def joined(first: Clip = given[0], others: list[Clip] = given[1:]) -> object:
            fresh = [replace(c, name=f"{c.name} again") for c in others]
            again = replace(first, name="again")
            return join.run(again, told, inputs={"parts": fresh})

        took = best(joined, 2)
        posing = best(lambda made=made: evaluate(replace(made, name="again")), 2)  # type: ignore[misc]
        table.add(f"joined, {name}", ms(took), f"{took / posing:.1f}", "≤ 0.5 s")
    return table
