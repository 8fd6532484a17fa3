"""What operations promise, held on clips that carry everything at once: laws of composition.

Measured on the delivered motion, against nothing but the clip itself: a promise to keep the motion
needs no other source.
"""

from __future__ import annotations

import warnings
from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np
import pytest
from leancurve.curves.curve import KeyedCurve, SampledCurve
from leancurve.document.base import base_pose, times_of
from leancurve.document.clip import Clip, Contact
from leancurve.document.evaluation import effective, evaluate
from leancurve.document.scope import Scope
from leancurve.document.stored import clip_of, header_of
from leancurve.document.track import TrackId
from leancurve.errors import BadInput
from leancurve.formats.bvh import read_bvh, with_prop_roots, write_bvh
from leancurve.formats.clipjson import read_clip, write_clip
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats
from leancurve.operations import OPERATIONS, apply_patch
from leancurve.time.resample import resampled

from tests.core.laden import AT, FAMILY, LONG, NAMES, WHOLE, Load, laden

EXACT_DEG, EXACT = 1e-6, 1e-6
"""Degrees, and shares of the figure's height."""
LIVE = ("lean", "aim", "numbers", "instead", "shut", "shift")
TOLERANCE = 0.05


def delivered(clip: Clip) -> Clip:
    """The clip as it is handed over: in its own channels, with nothing over them."""
    return resampled(clip, planted=True)


def gap(a: Clip, b: Clip) -> tuple[float, float]:
    """How far two clips of one skeleton are apart at most: degrees, and shares of the height."""
    (turned, moved), (other, there) = (evaluate(c).world(c.skeleton) for c in (a, b))
    height = a.skeleton.rest_height
    away = float(np.linalg.norm(moved - there, axis=-1).max())
    return float(rotation.geodesic_deg(turned, other).max()), away / height


def same(a: Clip, b: Clip) -> bool:
    degrees, away = gap(delivered(a), delivered(b))
    return degrees < EXACT_DEG and away < EXACT


def flipped(clip: Clip) -> Clip:
    """The same poses of the clip's own curves, said with flips."""
    curves: dict[TrackId, Any] = {}
    for name in ("Spine", "Neck", "LeftForeArm", "LeftArm", "Hips", "Chest", "LeftHand"):
        joint = AT[name]
        angles = own_angles(clip, joint)
        third = clip.frames // 3
        angles[third:] = rotation.alternate(angles[third:], clip.order(joint))
        angles[2 * third :, 1] += 360.0
        for k, track in enumerate(clip.turns_of(joint)):
            curves[track] = SampledCurve(np.ascontiguousarray(angles[:, k]))
    return clip.with_curves(curves)


def own_angles(clip: Clip, joint: int) -> Floats:
    frames = np.arange(clip.frames, dtype=np.float64)
    return np.stack([clip.curves[t].at(frames) for t in clip.turns_of(joint)], axis=-1)


def done(
    clip: Clip, name: str, scope: Scope | None = None, inputs: Any = None, **params: Any
) -> Clip:
    return apply_patch(clip, OPERATIONS[name].run(clip, params, scope, inputs=inputs))


BENT = Scope(joints=("Spine", "LeftArm", "Lid", "Flap", "Hips"), channels=("rx", "ry", "rz"))


def bent(clip: Clip) -> Clip:
    """Some done by hand: joints of three, two and one rotation channels turned."""
    return done(clip, "offset", BENT, amount=7.0)


def lifted(clip: Clip, what: str) -> Clip:
    hand = bent(clip)
    take = replace(clip.below, props=(), curves={t: clip.curves[t] for t in clip.channels})
    return done(hand, "lift", inputs={"take": take, "hand": (clip, hand)}, what=what)


KEPT: dict[str, list[tuple[str, Callable[[Clip], tuple[Clip, Clip]]]]] = {
    "unflip": [("", lambda c: (c, done(c, "unflip"))),
               ("flipped", lambda c: (flipped(c), done(flipped(c), "unflip")))],
    "reorder": [("XYZ", lambda c: (c, done(c, "reorder", order="XYZ"))),
                ("flipped", lambda c: (flipped(c), done(flipped(c), "reorder", gain=1.0)))],
    "lift": [("by hand", lambda c: (bent(c), lifted(c, "by hand"))),
             ("all", lambda c: (bent(c), lifted(c, "all")))],
    "flatten": [("", lambda c: (c, done(c, "flatten")))],
    "merge_layers": [("", lambda c: (c, done(c, "merge_layers", layers=LIVE, keyed=False)))],
    "split_layer": [("joints", lambda c: (c, done(c, "split_layer", layer="lean",
                                                  joints=["LeftArm"]))),
                    ("frame", lambda c: (c, done(c, "split_layer", layer="instead", frame=13)))],
    "bake_plants": [("", lambda c: (c, done(c, "bake_plants")))],
    "densify": [("", lambda c: (c, done(c, "densify")))],
    "key_pose": [("", lambda c: (c, done(c, "key_pose", frame=0.0))),
                 ("between", lambda c: (c, done(c, "key_pose", frame=17.0)))],
    "tidy_keys": [("", lambda c: (c, done(c, "tidy_keys", doubled=0.25)))],
    "find_contacts": [("", lambda c: (c, done(c, "find_contacts")))],
    "edit_contacts": [("", lambda c: (c, done(c, "edit_contacts", edits=[
        {"do": "add", "limb": "left toe", "first": 0, "last": 0}])))],
    "edit_marks": [("", lambda c: (c, done(c, "edit_marks", edits=[
        {"do": "add", "name": "here", "first": 0, "last": 0}])))],
    "accept": [("", lambda c: (c, done(c, "accept", findings=[
        {"kind": "gimbal", "joint": "Head", "first": 0, "last": 0}])))],
    "check": [("", lambda c: (c, done(c, "check")))],
}  # fmt: skip
OTHER_WAYS: dict[str, Callable[[Clip], Clip]] = {
    "extract": lambda c: done(c, "extract", inputs={"before": c, "after": bent(c)}),
    "bvh": lambda c: read_bvh(write_bvh(c), "laden.bvh").clip,
    "bvh with props": lambda c: read_bvh(write_bvh(with_prop_roots(delivered(c))), "x.bvh").clip,
    "clip json": lambda c: read_clip(write_clip(c), "laden.json").clip,
    "stored": lambda c: clip_of(header_of(c, "x"), c.skeleton, c.curves),
}
LATE = {"split_layer": 14, "key_pose": 18}
"""Frames that a case needs."""


def test_every_operation_that_keeps_the_motion_is_here() -> None:
    assert {n for n, kind in OPERATIONS.items() if kind.keeps == "motion"} == set(KEPT)


MADE: dict[str, Callable[[Clip], Clip]] = {
    **{f"{name} {case}": lambda c, make=make: make(c)[1]  # type: ignore[misc]
       for name, cases in KEPT.items() for case, make in cases},
    "offset": bent,
    "smooth": lambda c: done(c, "smooth", method="gaussian"),
    "trim": lambda c: done(c, "trim", first=3),
    "change_rate": lambda c: done(c, "change_rate", rate="60"),
}  # fmt: skip


@pytest.mark.parametrize("load", [WHOLE[0], WHOLE[2]], ids=str)
@pytest.mark.parametrize("name", MADE)
def test_values_on_frames_are_as_they_were_or_have_ten_decimals(name: str, load: Load) -> None:
    clip = laden(load)
    made = MADE[name](clip)
    before = (clip, flipped(clip), *((bent(clip),) if name.startswith("lift") else ()))
    known = [v for c in before for v in _values(c)]
    fresh = np.setdiff1d(np.concatenate(_values(made)), np.concatenate(known))
    assert np.array_equal(fresh, np.round(fresh, 10)), name
    if name in ("offset", "smooth", "flatten "):
        assert len(fresh) > 100


def _values(clip: Clip) -> list[Floats]:
    return [c.values for c in clip.curves.values() if isinstance(c, SampledCurve)]


@pytest.mark.parametrize("load", FAMILY, ids=str)
@pytest.mark.parametrize("name", KEPT)
def test_what_promises_to_keep_the_motion_keeps_it(name: str, load: Load) -> None:
    clip = laden(load)
    for case, make in KEPT[name]:
        if clip.frames < LONG and ((name in LATE and case) or case == "flipped"):
            continue
        before, after = make(clip)
        if name in ("reorder", "lift") and load.kind != "sampled" and load.frames == LONG:
            # Keyed curves are fitted again, within a tolerance a channel.
            assert unplanted_gap(before, after) < 4 * TOLERANCE, case
        else:
            assert same(before, after), (case, gap(delivered(before), delivered(after)))


def unplanted_gap(before: Clip, after: Clip) -> float:
    """How far joints turn otherwise, each by itself, without what plants make of it."""
    turns = (evaluate(delivered(c.unplanted)).rotation for c in (before, after))
    return float(rotation.geodesic_deg(*turns).max())


@pytest.mark.parametrize("load", FAMILY, ids=str)
@pytest.mark.parametrize("way", OTHER_WAYS)
def test_other_ways_of_the_motion_keep_it(way: str, load: Load) -> None:
    clip = laden(load)
    before = bent(clip) if way == "extract" else clip
    after = OTHER_WAYS[way](clip)
    names = [after.skeleton.index(n) for n in NAMES]
    turned, moved = evaluate(delivered(before)).world(before.skeleton)
    there = evaluate(delivered(after)).world(after.skeleton)
    assert rotation.geodesic_deg(turned, there[0][:, names]).max() < EXACT_DEG
    away = np.linalg.norm(moved - there[1][:, names], axis=-1).max()
    assert away < EXACT * clip.skeleton.rest_height


@pytest.mark.parametrize("load", WHOLE, ids=str)
def test_keyed_layers_are_merged_to_few_keys_within_the_tolerance(load: Load) -> None:
    clip = laden(load)
    merged = done(clip, "merge_layers", layers=LIVE, tolerance_deg=TOLERANCE)
    assert unplanted_gap(clip, merged) < 2 * TOLERANCE
    (made,) = (x for x in merged.layers if x.name.endswith("merged"))
    dense = done(clip, "merge_layers", layers=LIVE, keyed=False)
    if load.kind == "keyed":
        assert all(isinstance(merged.curves[t], KeyedCurve) for t in made.tracks)
        assert merged.key_count - clip.key_count < 0.2 * (dense.key_count - clip.key_count)


@pytest.mark.parametrize("load", FAMILY, ids=str)
def test_what_is_delivered_is_what_is_seen(load: Load) -> None:
    clip = laden(load)
    degrees, away = gap(clip, delivered(clip))
    assert degrees < EXACT_DEG
    assert away < EXACT


@pytest.mark.parametrize("load", WHOLE, ids=str)
def test_no_delivered_channel_steps_farther_than_its_joint_turns(load: Load) -> None:
    """But near the gimbal, where angles have to: there of the readings the nearest is taken."""
    clip = laden(load)
    handed = delivered(clip)
    local = evaluate(handed).rotation
    turned = rotation.geodesic_deg(local[1:], local[:-1])
    for joint, order in enumerate(clip.orders):
        if len(order) != 3:
            continue
        angles = own_angles(handed, joint)
        step = np.abs(np.diff(angles, axis=0)).max(axis=1)
        away = np.abs(np.cos(np.radians(angles[:, 1])))
        room = np.minimum(away[1:], away[:-1])
        free = room > 0.3
        assert np.all(step[free] <= 1.6 * turned[free, joint] / room[free] + 1e-6), NAMES[joint]
        other = rotation.alternate(angles[1:], order)
        other += 360.0 * np.round((angles[:-1] - other) / 360.0)
        here, there = (np.sum((a - angles[:-1]) ** 2, axis=1) for a in (angles[1:], other))
        assert np.all(here <= there + 1e-6), NAMES[joint]


def test_joints_of_fewer_channels_come_as_near_as_these_can_say() -> None:
    """Angles about one and two axes, against a search over all of them."""
    random = np.random.default_rng(3)
    q = rotation.exp(random.normal(0, 70, (20, 3)))
    for order in ("X", "Z", "XY", "YX", "ZX", "YZ"):
        found = rotation.angles_near(q, order, np.zeros((20, len(order))))
        best = rotation.geodesic_deg(rotation.from_euler(found, order), q)
        grid = np.stack(np.meshgrid(*[np.arange(-180.0, 180.0, 3.0)] * len(order)), axis=-1)
        tried = rotation.from_euler(grid.reshape(-1, len(order)), order)
        searched = rotation.geodesic_deg(q[:, None], tried[None]).min(axis=1)
        assert np.all(best <= searched + 1e-9), order


# --- scope ----------------------------------------------------------------------------------------

JOINTS = ("LeftArm", "Neck")
SPANS = (Contact("left foot", 5, 10), Contact("left foot", 22, 30))
SPEC: dict[str, dict[str, Any]] = {
    "match_times": {"joint": "Spine"},
    "borrow_rhythm": {"joint": "Spine", "channel": "rx"},
    "edit": {"keys": [{"joint": "LeftArm", "channel": "rz", "id": 9, "frame": 9.0, "do": "make",
                       "value": 10.0}]},
    "soft_offset": {"frame": 20, "radius": 5.0,
                    "offsets": [{"joint": "LeftArm", "turn": [5, 0, 0]}]},
    "brush": {"kind": "pull", "radius": 5.0, "dabs": [{"frame": 20.0}], "by": 2.0},
    "load_layer": {"at": 5, "start": 2, "ramp_in": 2, "ramp_out": 2},
    "bring_over": {"at": 5, "start": 2, "ramp_in": 2, "ramp_out": 2},
    "thin": {"tolerance_deg": 1.0},
    "lean": {"frame": 12.0},
    "gain": {"factor": 1.1, "ramp_in": 2, "ramp_out": 2},
    "offset": {"amount": 5.0, "ramp_in": 2, "ramp_out": 2},
    "slide": {"by": 1.0, "about": 20.0},
    "lag": {"frames": 2.5},
    "key_pose": {"frame": 20.0},
    "clamp": {"least": -60.0, "most": 60.0},
    "pull": {"part": "left hand", "y": 40.0, "ramp_in": 1, "ramp_out": 1},
    "swap": {"negate_x": True},
}  # fmt: skip
BEYOND_FRAMES = {"slide", "brush", "even"}
"""They move keys in their frames: curves change as far as the next key."""


def scoped() -> list[str]:
    return [n for n, kind in OPERATIONS.items() if kind.scoped and not kind.retimes]


@pytest.mark.parametrize("load", WHOLE, ids=str)
@pytest.mark.parametrize("name", scoped())
def test_what_is_outside_of_a_scope_stays(name: str, load: Load) -> None:
    """No joint but those at or below the scope's, and no frame but its own, the gap between two
    spans included: under plants, which are solved from the whole clip."""
    kind = OPERATIONS[name]
    clip = replace(laden(load), contacts=SPANS)
    other = laden(Load("sampled"))
    inputs = {
        n: {"hand": (clip, bent(clip)), "clip": other, "take": clip.below}.get(i.kind, other)
        for n, i in kind.inputs.items()
    }
    inputs |= {n: c for n, c in {"before": clip, "after": bent(clip)}.items() if n in inputs}
    scope = Scope(joints=JOINTS, limbs=("left foot",) if kind.ranged else None)
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        try:
            after = done(clip, name, scope, inputs, **SPEC.get(name, {}))
        except BadInput as refusal:
            # A loop has one span; a rhythm is taken from keys, which not all of these have.
            if not any(word in str(refusal) for word in ("is one span", "keys")):
                raise
            return
    turned, moved = (evaluate(delivered(c.unplanted)).world(c.skeleton) for c in (clip, after))
    apart = rotation.geodesic_deg(turned[0], moved[0])
    roots = {AT[n] for n in JOINTS}
    outside = [j for j in range(len(NAMES)) if not roots & set(clip.skeleton.chain(j))]
    assert apart[:, outside].max() < EXACT_DEG
    if kind.ranged and name not in BEYOND_FRAMES:
        frames = np.ones(clip.frames, dtype=np.bool_)
        for span in SPANS:
            frames[span.first : span.last + 1] = False
        assert apart[frames].max() < EXACT_DEG


def test_a_scope_that_would_be_ignored_is_refused() -> None:
    clip = laden()
    for kind in OPERATIONS.values():
        if not kind.scoped:
            with pytest.raises(BadInput, match="takes no joints"):
                kind.run(clip, {}, Scope(joints=JOINTS))


def test_effective_channels_of_what_nothing_touches_are_the_curves_own() -> None:
    clip = laden()
    joint = AT["RightShoulder"]
    pose, base = (
        p(clip) for p in (evaluate, lambda c: base_pose(c, times_of(c, None), range(len(NAMES))))
    )
    assert np.array_equal(pose.rotation[:, joint], base.rotation[:, joint])
    values = effective(clip, channels=clip.turns_of(joint))
    assert all(np.array_equal(v, clip.curves[t].at(np.arange(40.0))) for t, v in values.items())
