"""Weight: centres of mass, and flights turned so that they keep their momentum, against the plain
way frame by frame."""

from __future__ import annotations

import time

import numpy as np
from leancurve.demo import TAKES
from leancurve.document.evaluation import posed
from leancurve.figure.masses import Weights, weights_of
from leancurve.figure.momentum import Spin, spin_of
from leancurve.measures.flights import flights_of
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats

from tests.bench.tables import Table, best, ms
from tests.conftest import read_open_capture


def run() -> list[Table]:
    return [centres(), turning()]


def centres() -> Table:
    clip = TAKES[0].clean()
    weights = weights_of(clip.skeleton, clip.body)
    assert weights is not None
    places = posed(clip).world(clip.skeleton)[1]
    table = Table(
        f"Centre of mass: {len(clip.skeleton)} joints × {clip.frames} frames",
        ("way", "time", "ratio to ours", "goal"),
    )
    ours = best(lambda: weights.centre(places), 5)
    table.add("a product over all frames", ms(ours), "1", "≤ 15 ms")
    table.add("all points of all segments", ms(best(lambda: weights.points(places), 5)), "", "")
    began = time.perf_counter()
    _plain_centre(weights, places[:100])
    plain = (time.perf_counter() - began) * clip.frames / 100
    table.add("segment by segment and frame by frame", ms(plain), f"{plain / ours:.0f}", "")
    table.note = "The plain way: measured on 100 frames and scaled."
    return table


def _plain_centre(weights: Weights, places: Floats) -> list[Floats]:
    out = []
    for frame in places:
        whole = np.zeros(3)
        for share, row in zip(weights.shares, weights.made_of, strict=True):
            for joint in np.flatnonzero(row):
                whole += share * row[joint] * frame[joint]
        out.append(whole)
    return out


def turning() -> Table:
    clip = read_open_capture()
    weights = weights_of(clip.skeleton, clip.body)
    assert weights is not None
    places = posed(clip).world(clip.skeleton)[1]
    flights = flights_of(clip)
    rate = float(clip.rate)

    def spins() -> list[Spin]:
        found = (
            spin_of(weights.points(places[f.first : f.last + 1]), weights.shares, rate)
            for f in flights
        )
        return [s for s in found if s is not None]

    table = Table(
        f"Turning: momentum kept in {len(flights)} flights",
        ("way", "time", "ratio to ours", "goal"),
    )
    spins()[0].kept()
    ours = best(lambda: [s.kept() for s in spins()], 3)
    table.add("momentum found and turns integrated", ms(ours), "1", "≤ 50 ms")
    given = spins()
    momentum = [s.spun.mean(axis=0) for s in given]
    pairs = list(zip(given, momentum, strict=True))
    once = best(lambda: [s.turned(m) for s, m in pairs], 3)
    plain = best(lambda: [_plain_turned(s, m) for s, m in pairs], 1)
    table.add("integrated once", ms(once), f"{once / ours:.2f}", "")
    table.add(
        "integrated once, step by step in NumPy", ms(plain), f"{plain / once:.0f} × once",
        "≥ 100 × once",
    )  # fmt: skip
    return table


def _plain_turned(spin: Spin, momentum: Floats) -> list[Floats]:
    """The same method in plain steps."""

    def slope(q: Floats, inverse: Floats, spun: Floats) -> Floats:
        seen = rotation.rotate(rotation.conjugate(q), momentum)
        speed = np.append(inverse @ (seen - spun), 0.0)
        return 0.5 * rotation.multiply(q, speed)

    q, out, step = rotation.IDENTITY, [rotation.IDENTITY], 1.0 / spin.rate
    for inverse, spun in zip(spin.inverse, spin.spun, strict=True):
        a = slope(q, inverse, spun)
        b = slope(q + 0.5 * step * a, inverse, spun)
        c = slope(q + 0.5 * step * b, inverse, spun)
        d = slope(q + step * c, inverse, spun)
        q = rotation.normalise(q + step / 6.0 * (a + 2.0 * (b + c) + d))
        out.append(q)
    return out
