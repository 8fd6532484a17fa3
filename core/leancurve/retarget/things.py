"""Props carried along: what hands hold stays in them, what stands by itself goes in proportion."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from leancurve.cleaning.contacts import hysteresis, tidy
from leancurve.curves.curve import Curve, SampledCurve, keyed
from leancurve.document.clip import Clip
from leancurve.document.placement import placed_props
from leancurve.document.prop import CHANNELS, ORDER, Prop, prop_track
from leancurve.document.rotations import angles_afresh
from leancurve.document.track import TrackId
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Bools, Floats
from leancurve.retarget.reaching import GOING_S, led
from leancurve.retarget.rest import RestFigure
from leancurve.retarget.touching import (
    AROUND_S,
    HOLD_DRIFT,
    HOLD_S,
    SIDES,
    Touch,
    palm,
)
from leancurve.retarget.transfer import Pair, World, turned

NEAR_HAND = 0.3
"""How far from a palm, or from the middle of two, a thing that is held may be: share of stature."""


def retargeted_props(
    source: Clip, pair: Pair, there: World, touches: tuple[Touch, ...]
) -> tuple[tuple[Prop, ...], dict[TrackId, Curve]]:
    """The source's props in the target's unit and world, as large as things are there."""
    ours, theirs = pair.source, pair.target
    if not source.props or not source.frames:
        return (), {}
    turns, points = placed_props(source)
    turns = rotation.multiply(ours.to_figure, turns)
    points = ours.metres * rotation.rotate(ours.to_figure, points)
    back = rotation.conjugate(theirs.to_figure)
    scale = pair.thing * ours.metres / theirs.metres
    props, curves = [], {}
    for k, prop in enumerate(source.props):
        place = _placed(pair, there, touches, points[:, k])
        own = rotation.rotate(back, place) / theirs.metres
        turn = rotation.multiply(back, turns[:, k])
        angles = angles_afresh(turn, ORDER)
        columns = dict(zip(CHANNELS, np.concatenate([own, angles], axis=1).T, strict=True))
        x, y, z = (scale * v for v in prop.size)
        props.append(replace(prop, size=(x, y, z)))
        for name, values in columns.items():
            still = np.ptp(values) < 1e-9
            curves[prop_track(prop.id, name)] = (
                keyed([0.0], [float(values[0])])
                if still
                else SampledCurve(np.ascontiguousarray(values))
            )
    return tuple(props), curves


def _placed(pair: Pair, there: World, touches: tuple[Touch, ...], points: Floats) -> Floats:
    """Where a prop goes ``(F, 3)``: as far as the figure, but with the hands that hold it."""
    ours, theirs, here, travel = pair.source, pair.target, pair.motion, pair.travel
    thing, rate = pair.thing, pair.rate
    free = points * np.array([travel.along, 0.0, travel.along])
    free[:, 1] = there.floor + travel.up * (points[:, 1] - here.floor)
    known = np.zeros_like(free)
    spans: list[tuple[int, int]] = []
    taken = np.zeros(len(points), dtype=np.bool_)
    palms = {s: (palm(ours, here, s), palm(theirs, there, s)) for s in SIDES}
    both = [p for pair in palms.values() for p in pair if p is not None]
    if len(both) == 4:
        middle, other = 0.5 * (both[0] + both[2]), 0.5 * (both[1] + both[3])
        for touch in touches:
            inside = slice(touch.first, touch.last + 1)
            away = np.linalg.norm(points[inside] - middle[inside], axis=1)
            if touch.is_hold and np.median(away) < NEAR_HAND * ours.height:
                goal = other[inside] + thing * (points[inside] - middle[inside])
                known[inside] = goal - free[inside]
                spans.append((touch.first, touch.last))
                taken[inside] = True
    for side, (mine, its) in palms.items():
        hand = ours.find(f"{side} hand")
        if mine is None or its is None or hand is None:
            continue
        for first, last in _in_hand(ours, here, hand, mine, points, rate, taken):
            inside = slice(first, last + 1)
            known[inside] = its[inside] + thing * (points[inside] - mine[inside]) - free[inside]
            spans.append((first, last))
            taken[inside] = True
    return np.asarray(free + led(known, sorted(spans), max(1, round(GOING_S * rate))))


def _in_hand(
    standing: RestFigure, motion: World, hand: int, palms: Floats, points: Floats, rate: float,
    taken: Bools,
) -> list[tuple[int, int]]:  # fmt: skip
    """Spans in which a thing stays where it is in a hand that moves."""
    back = rotation.conjugate(turned(standing, motion.turns, hand))
    local = rotation.rotate(back, points - palms)
    frames = np.arange(len(points))
    around = max(1, round(AROUND_S * rate))
    drift, moves = np.zeros(len(points)), np.zeros(len(points))
    for off in (-around, -around // 2, around // 2, around):
        other = np.clip(frames + off, 0, len(points) - 1)
        drift = np.maximum(drift, np.linalg.norm(local[other] - local, axis=1))
        moves = np.maximum(moves, np.linalg.norm(points[other] - points, axis=1))
    limit = HOLD_DRIFT * standing.height
    near = np.linalg.norm(local, axis=1) < NEAR_HAND * standing.height
    stay = near & ~taken & (drift < limit)
    begin = stay & (drift < 0.5 * limit) & (moves > limit)
    return tidy(hysteresis(begin, stay), max(1, round(HOLD_S * rate)), round(0.1 * rate))
