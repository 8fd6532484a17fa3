"""A whole clip retargeted onto another skeleton, in order: rests agreed, rotations, root, feet,
hands, twist; then said in the target's own joints, orders and unit."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from leancurve.cleaning.contacts import contacts_of, support_of
from leancurve.curves.curve import Curve, SampledCurve
from leancurve.document.clip import Clip, Contact
from leancurve.document.evaluation import evaluate
from leancurve.document.rotations import angles_afresh
from leancurve.document.track import TrackId, base_track
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats, Ints
from leancurve.progress import Progress, silent
from leancurve.retarget.matching import ChainPair, JointMap, match
from leancurve.retarget.reaching import Reached, feet, lead, places
from leancurve.retarget.rest import RestFigure
from leancurve.retarget.spaces import space_goals
from leancurve.retarget.things import retargeted_props
from leancurve.retarget.touching import Touch, arms_of, find_touches, hand_goals
from leancurve.retarget.transfer import (
    Pair,
    World,
    level_soles,
    local_of,
    transfer,
    travel_between,
    twisted,
    world_of,
)

USUAL_ORDER = ("rz", "rx", "ry")


@dataclass(frozen=True)
class Wishes:
    """How a clip is retargeted. ``joints`` are target joints with their source by name, ``chains``
    those that follow others by hand, ``rest`` turns of target joints by hand (rotation vectors,
    degrees, figure space); ``travel`` a factor of the path over the floor, None by the legs'
    lengths; ``feet`` and ``hands`` the shares to which they are led; ``thing`` how many times as
    large the target's things are as the source's, which both hands hold; ``spaces`` says relative
    to what a hand is told, ``{"left hand": "head"}``; ``clavicles`` the share of their turn that
    collar bones take. ``rest_frame`` is a frame of the source to take for its
    rest, where its own is no pose."""

    joints: Mapping[str, str] = field(default_factory=dict)
    chains: Sequence[ChainPair] = ()
    rest: Mapping[str, tuple[float, float, float]] = field(default_factory=dict)
    travel: float | None = None
    feet: float = 1.0
    hands: float = 1.0
    thing: float = 1.0
    spaces: Mapping[str, str] = field(default_factory=dict)
    clavicles: float = 1.0
    rest_frame: int | None = None


@dataclass(frozen=True, eq=False)
class Retargeted:
    """A retargeted clip, the map it was made by, what its hands hold and touch, and what came out
    in numbers: by how much an end falls short at most, by how much the hips went down and where."""

    clip: Clip
    links: JointMap
    source: RestFigure
    target: RestFigure
    touches: tuple[Touch, ...]
    missed_mm: Mapping[str, float]
    lowered_mm: float
    lowered_frame: int

    def gives(self, joint: int) -> bool:
        """Whether a target joint's turn is what was retargeted, not just its rest."""
        how = self.links.links[joint].how
        twists = self.target.body.joints[joint].role.endswith("twist")
        return how in ("joint", "chain", "twist", "hand") or twists


def retargeted(
    source: Clip, target: Clip, wishes: Wishes | None = None, progress: Progress = silent
) -> Retargeted:
    """A clip on the skeleton of ``target``: its names, layout, orders, unit and up axis."""
    wishes = wishes or Wishes()
    ours = RestFigure.of(source.skeleton, source.reading, _rest_of(source, wishes.rest_frame))
    theirs = RestFigure.of(target.skeleton, target.reading)
    support, contacts = support_of(source), contacts_of(source)
    motion = world_of(source, ours, support.floor)
    links = match(ours, theirs, wishes.joints, wishes.chains)
    pair = Pair(
        ours, theirs, motion, links, travel_between(ours, theirs, wishes.travel),
        float(source.rate), wishes.thing,
    )  # fmt: skip
    progress(0.2)
    turned = {target.skeleton.index(n): np.array(v) for n, v in wishes.rest.items()}
    soles = level_soles(pair, _flat(contacts, source.frames))
    done = transfer(pair, clavicles=wishes.clavicles, soles=soles, by_hand=turned)
    progress(0.5)
    reached = feet(pair, done, contacts, wishes.feet)
    touches = find_touches(ours, motion, pair.rate)
    if wishes.spaces and source.frames:
        there = World(reached.turns, places(theirs, reached.turns, reached.hips), motion.floor)
        goals = space_goals(source, pair, there, touches, wishes.spaces)
        _lead_hands(theirs, reached, there.points, goals, wishes.hands)
    if touches:
        there = World(reached.turns, places(theirs, reached.turns, reached.hips), motion.floor)
        goals = hand_goals(pair, there, touches)
        _lead_hands(theirs, reached, there.points, goals, wishes.hands)
    progress(0.7)
    clip = said(source, target, theirs, reached, links, motion.floor)
    if source.props:
        there = World(reached.turns, places(theirs, reached.turns, reached.hips), motion.floor)
        props, curves = retargeted_props(source, pair, there, touches)
        clip = replace(clip, props=props).with_curves(curves)
    missed = {k: float(m.max(initial=0.0)) * 1000.0 for k, m in reached.missed.items()}
    lowest = int(np.argmax(reached.lowered)) if source.frames else 0
    progress(1.0)
    return Retargeted(
        replace(clip, contacts=tuple(contacts)), links, ours, theirs, touches,
        missed, float(reached.lowered.max(initial=0.0)) * 1000.0, lowest,
    )  # fmt: skip


def _lead_hands(
    theirs: RestFigure, reached: Reached, points: Floats, shifts: Mapping[str, Floats], share: float
) -> None:
    """Arms' ends moved by a share of ``shifts (F, 3)``, by side, in place."""
    if share == 0.0:
        return
    arms = arms_of(theirs)
    for side, shift in shifts.items():
        if side in arms:
            goal = points[:, arms[side].end] + share * shift
            reached.missed[arms[side].name] = lead(theirs, reached.turns, points, arms[side], goal)


def _rest_of(clip: Clip, frame: int | None) -> Floats | None:
    if frame is None:
        return None
    at = float(np.clip(frame, 0, max(clip.frames - 1, 0)))
    return np.asarray(evaluate(clip, np.array([at])).rotation[0])


def _flat(contacts: Sequence[Contact], frames: int) -> dict[str, Ints]:
    """Frames on which both heel and toe of a foot are held, by side."""
    out: dict[str, Ints] = {}
    for side in ("left", "right"):
        held = np.zeros((2, frames), dtype=np.bool_)
        for k, part in enumerate(("heel", "toe")):
            for c in contacts:
                if c.limb == f"{side} {part}":
                    held[k, c.first : c.last + 1] = True
        out[side] = np.flatnonzero(held.all(axis=0))
    return out


def said(
    source: Clip, target: Clip, theirs: RestFigure, reached: Reached, links: JointMap, floor: float
) -> Clip:
    """The motion in the target's own channels, continuous."""
    local = local_of(theirs, reached.turns)
    twisted(theirs, links, local)
    layout = tuple(
        names if sum(c[0] == "r" for c in names) == 3
        else (*(c for c in names if c[0] == "t"), *USUAL_ORDER)
        for names in target.layout
    )  # fmt: skip
    carrier = _carrier(theirs, layout)
    if not set(layout[carrier]) >= MOVES:
        # Less than three positions could not say the travel.
        turns = (c for c in layout[carrier] if c[0] == "r")
        layout = (*layout[:carrier], ("tx", "ty", "tz", *turns), *layout[carrier + 1 :])
    shell = Clip(
        target.skeleton, layout, {}, source.rate, source.frames,
        replace(target.reading, floor=floor / theirs.metres), source.name,
        marks=source.marks,
    )  # fmt: skip
    curves: dict[TrackId, Curve] = {}
    by_order: dict[str, list[int]] = defaultdict(list)
    for joint in range(len(theirs.skeleton)):
        by_order[shell.order(joint)].append(joint)
    for order, joints in by_order.items():
        smooth = angles_afresh(np.swapaxes(local[:, joints], 0, 1), order)
        for k, joint in enumerate(joints):
            for n, track in enumerate(shell.turns_of(joint)):
                curves[track] = SampledCurve(np.ascontiguousarray(smooth[k, :, n]))
    moved = _translations(theirs, reached, local, carrier)
    for joint, names in enumerate(layout):
        if not any(c[0] == "t" for c in names):
            continue
        rest = np.tile(theirs.skeleton.offset_array[joint], (source.frames, 1))
        values = shell.translation_values(joint, moved if joint == carrier else rest)
        for channel in names:
            if channel[0] == "t":
                track = base_track(joint, channel)
                curves[track] = SampledCurve(np.ascontiguousarray(values[track]))
    return replace(shell, curves=curves)


MOVES = frozenset({"tx", "ty", "tz"})


def _carrier(standing: RestFigure, layout: tuple[tuple[str, ...], ...]) -> int:
    """The joint that carries the figure about: the hips, or one above them that moves."""
    hips = standing.find("hips") or 0
    for enough in (MOVES.issubset, MOVES.intersection):
        for joint in standing.skeleton.chain(hips):
            if enough(layout[joint]):
                return joint
    return hips


def _translations(standing: RestFigure, reached: Reached, local: Floats, carrier: int) -> Floats:
    """The carrier's local translations ``(F, 3)``, own unit, that put the hips where they are."""
    skeleton = standing.skeleton
    hips = standing.find("hips") or 0
    # Where the hips come to with the carrier at its parent's own place.
    chain = tuple(reversed(skeleton.chain(hips)))
    frames = len(local)
    turn = np.tile(rotation.conjugate(standing.to_figure), (frames, 1))
    place = rotation.rotate(turn, reached.hips) / standing.metres
    above = np.tile(rotation.IDENTITY, (frames, 1))
    here = np.zeros((frames, 3))
    before = above
    for joint in chain:
        if joint == carrier:
            before = above
        else:
            step = np.tile(skeleton.offset_array[joint], (frames, 1))
            here = here + rotation.rotate(above, step)
        above = rotation.multiply(above, local[:, joint])
    return rotation.rotate(rotation.conjugate(before), place - here)
