"""When feet and hands are held, and when nothing is: from height and speed, with hysteresis.

A foot's heel and its toe are told apart where there are toes: a heel is judged by its ankle, a
toe by its ball. A foot counts as down while it is low and slow; a hand while it stays in the
world although the chest moves. Heights are measured from where each point itself comes to rest.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from leancurve.document.clip import Clip, Contact
from leancurve.document.evaluation import posed
from leancurve.document.ground import raised_under
from leancurve.document.kept import kept
from leancurve.figure.body import Body
from leancurve.figure.feet import foot_points
from leancurve.figure.skeleton import UP
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Bools, Floats, runs
from leancurve.numbers.spans import merged

AIRBORNE = "airborne"
STATURE_MM = 1750.0
"""The figure that the thresholds are stated for; others take them in proportion."""


@dataclass(frozen=True)
class ContactLimits:
    """Thresholds, for a figure of 1.75 m. Set on labelled steps of one walker and the demo.

    A contact begins below the first of a pair and ends above the second: speeds in mm/s,
    heights above the point's own rest in mm, durations in seconds.
    """

    speed_on: float = 250.0
    speed_off: float = 400.0
    height_on: float = 20.0
    height_off: float = 35.0
    hand_on: float = 40.0
    hand_off: float = 90.0
    chest_moves: float = 60.0
    shortest_s: float = 0.08
    shortest_hand_s: float = 0.3
    closed_gap_s: float = 0.05
    speed_span_s: float = 0.04
    falling: float = 100.0
    landing_s: float = 0.1
    weight_s: float = 0.02


@dataclass(frozen=True)
class Support:
    """What was found: contacts in time, each point's height at rest and the floor's, own unit."""

    contacts: tuple[Contact, ...]
    rest_heights: Mapping[str, float]
    floor: float


def speed(points: Floats, rate: float, span_s: float) -> Floats:
    """Speed ``(F,)`` of a point ``(F, n)``, its unit a second, over a central span."""
    half = max(1, round(0.5 * span_s * rate))
    if len(points) < 2:
        return np.zeros(len(points))
    ahead = np.minimum(np.arange(len(points)) + half, len(points) - 1)
    behind = np.maximum(np.arange(len(points)) - half, 0)
    gap = np.linalg.norm(points[ahead] - points[behind], axis=1)
    return np.asarray(gap * rate / np.maximum(ahead - behind, 1))


def hysteresis(begin: Bools, stay: Bools) -> list[tuple[int, int]]:
    """Spans, both ends included, in which ``stay`` holds and ``begin`` held at least once.

    ``begin 0010000``, ``stay 0111011`` → ``[(1, 3)]``
    """
    return [(a, b) for a, b in runs(stay) if np.any(begin[a : b + 1])]


def tidy(spans: list[tuple[int, int]], shortest: int, gap: int) -> list[tuple[int, int]]:
    """Spans with gaps of up to ``gap`` frames closed; then those of ``shortest`` frames or more."""
    return [s for s in merged(spans, gap) if s[1] - s[0] + 1 >= shortest]


def rest_height(heights: Floats, speeds: Floats, slow: float, stature: float) -> float:
    """Height at which a point comes to rest: the median of its slow frames low down."""
    low = heights <= np.min(heights) + 0.08 * stature
    resting = heights[low & (speeds < slow)]
    return float(np.median(resting if len(resting) else heights[low]))


def steps(
    points: Mapping[str, Floats],
    up: int,
    rate: float,
    stature: float,
    limits: ContactLimits | None = None,
    floor: float | None = None,
    clearance: Mapping[str, float] | None = None,
    raised: Mapping[str, Floats] | None = None,
) -> tuple[list[Contact], dict[str, float]]:
    """Contacts of points ``(F, 3)`` with the floor, and the height at which each rests.

    All lengths in one unit, ``stature`` being the figure's height in it. With a ``floor`` the
    points rest at that height plus their own ``clearance``; where the ground under one is
    ``raised (F,)``, so much above that.
    """
    limits = limits or ContactLimits()
    scale = stature / STATURE_MM
    found: list[Contact] = []
    rests: dict[str, float] = {}
    for name, track in points.items():
        heights = track[:, up]
        pace = speed(track, rate, limits.speed_span_s)
        rests[name] = (
            rest_height(heights, pace, limits.speed_on * scale, stature)
            if floor is None
            else floor + (clearance or {}).get(name, 0.0)
        )
        above = heights - rests[name]
        if raised is not None:
            above = above - raised[name]
        begin = (pace < limits.speed_on * scale) & (above < limits.height_on * scale)
        stay = (pace < limits.speed_off * scale) & (above < limits.height_off * scale)
        spans = tidy(
            hysteresis(begin, stay),
            max(1, round(limits.shortest_s * rate)),
            round(limits.closed_gap_s * rate),
        )
        if not name.endswith("toe"):
            spans = [(_landed(heights / scale, a, b, rate, limits), b) for a, b in spans]
        found += [Contact(name, a, b) for a, b in spans]
    return found, rests


def _landed(heights: Floats, first: int, last: int, rate: float, limits: ContactLimits) -> int:
    """The frame on which a foot that came down takes weight; ``first`` where none came down.

    Its fall ends at the strike; the floor's answer peaks 10 to 20 ms later (the heel-strike
    transient of gait analysis, from memory). A heel rebounds and slides on after that: its speed
    alone tells the strike late, and a strike before a rebound early. ``heights (F,)`` in mm.
    """
    around = round(limits.landing_s * rate)
    begin = max(0, first - around)
    near = heights[begin : min(last, first + around) + 1]
    if first == 0 or len(near) < 3:
        return first
    fall = np.gradient(near) * rate
    falling = np.flatnonzero(fall < -limits.falling)
    if len(falling) == 0:
        return first
    ended = np.flatnonzero(fall[falling[-1] :] > -0.5 * limits.falling)
    if len(ended) == 0:
        return first
    strike = begin + int(falling[-1] + ended[0])
    return min(strike + round(limits.weight_s * rate), last)


def _lowest(clip: Clip, positions: Floats, rotations: Floats, up: int) -> Floats:
    """Height of each frame's lowest point, end sites included, ``(F,)``."""
    low = positions[:, :, up].min(axis=1)
    for end in clip.skeleton.ends:
        tip = positions[:, end.parent] + rotation.rotate(
            rotations[:, end.parent], np.array(end.offset)
        )
        low = np.minimum(low, tip[:, up])
    return np.asarray(low)


def find_support(
    clip: Clip,
    limits: ContactLimits | None = None,
    world: tuple[Floats, Floats] | None = None,
) -> Support:
    """Contacts and airborne spans of a clip; its own ``contacts`` are not asked."""
    limits = limits or ContactLimits()
    if clip.frames == 0:
        return Support((), {}, clip.reading.floor or 0.0)
    rotations, positions = world or posed(clip).world(clip.skeleton)
    body, up = clip.body, UP[clip.reading.up_axis]
    rate = float(clip.rate)
    stature = max(clip.skeleton.rest_height, 1e-9)
    points = foot_points(clip.skeleton, body)
    tracks = {name: positions[:, joint] for name, joint in points.items()}
    contacts, rests = steps(tracks, up, rate, stature, limits)
    floor = clip.reading.floor
    low = _lowest(clip, positions, rotations, up)
    held = _any(contacts, clip.frames)
    found_floor = float(np.median(low[held] if np.any(held) else low))
    if floor is not None:
        clearance = {name: rest - found_floor for name, rest in rests.items()}
        contacts, rests = steps(tracks, up, rate, stature, limits, floor, clearance)
        found_floor = floor
    raised = {n: raised_under(clip, track, found_floor) for n, track in tracks.items()}
    if any(np.any(r > 0) for r in raised.values()):
        clearance = {name: rest - found_floor for name, rest in rests.items()}
        contacts, rests = steps(tracks, up, rate, stature, limits, found_floor, clearance, raised)
    hands = _hands(body, positions, rate, stature, limits)
    up_in_air = _airborne([*contacts, *hands], points, clip.frames, rate, limits)
    return Support(
        tuple(sorted([*contacts, *hands, *up_in_air])),
        rests,
        found_floor,
    )


def _any(contacts: list[Contact], frames: int) -> Bools:
    held = np.zeros(frames, dtype=np.bool_)
    for contact in contacts:
        held[contact.first : contact.last + 1] = True
    return held


def _hands(
    body: Body, positions: Floats, rate: float, stature: float, limits: ContactLimits
) -> list[Contact]:
    """Hands that stay where they are while the chest moves: they hold on to something."""
    chest = body.all("spine") or body.all("hips")
    if not chest:
        return []
    scale = stature / STATURE_MM
    trunk = speed(positions[:, chest[-1]], rate, 0.1)
    found: list[Contact] = []
    for side in ("left", "right"):
        hand = body.find(f"{side} hand")
        if hand is None:
            continue
        pace = speed(positions[:, hand], rate, 0.1)
        spans = tidy(
            hysteresis(pace < limits.hand_on * scale, pace < limits.hand_off * scale),
            max(1, round(limits.shortest_hand_s * rate)),
            round(limits.closed_gap_s * rate),
        )
        for first, last in spans:
            moving = np.percentile(trunk[first : last + 1], 75)
            if moving > limits.chest_moves * scale:
                found.append(Contact(f"{side} hand", first, last))
    return found


def _airborne(
    contacts: list[Contact],
    points: Mapping[str, int],
    frames: int,
    rate: float,
    limits: ContactLimits,
) -> list[Contact]:
    """Spans between contacts: nothing is known to be held. Without feet nothing can be said."""
    if not points or not contacts:
        return []
    free = ~_any(contacts, frames)
    spans = tidy(hysteresis(free, free), max(1, round(limits.shortest_s * rate)), 0)
    # Before the first contact and after the last one a figure may as well sit or lie.
    return [Contact(AIRBORNE, a, b) for a, b in spans if a > 0 and b < frames - 1]


@kept
def support_of(clip: Clip) -> Support:
    """:func:`find_support` of a clip, found once."""
    return find_support(clip)


def contacts_of(clip: Clip) -> tuple[Contact, ...]:
    """The clip's contacts: as they were set, else as they are found."""
    return support_of(clip).contacts if clip.contacts is None else clip.contacts
