"""Travel: figures kept in place, and led over the floor otherwise than they go."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
import pytest
from leancurve.cleaning.contacts import contacts_of
from leancurve.curves.curve import KeyedCurve
from leancurve.demo import TAKES, crate_take
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.document.placement import placed_props
from leancurve.document.root_motion import RootMotion, leading_root
from leancurve.document.scope import Scope
from leancurve.document.sound import require_sound
from leancurve.errors import BadInput
from leancurve.figure.skeleton import UP
from leancurve.measures.drift import drift
from leancurve.measures.travel import leading, travel_of
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats
from leancurve.operations import OPERATIONS, apply_patch
from leancurve.time.resample import resampled

from tests.core.laden import WHOLE, Load, bare, laden
from tests.core.test_continuity_of_operations import flips

TRAVEL = OPERATIONS["travel"]


def led(clip: Clip, take: Clip | None = None, frames: Any = None, **params: Any) -> Clip:
    scope = Scope(frames=frames)
    patch = TRAVEL.run(clip, params, scope, inputs={} if take is None else {"take": take})
    made = apply_patch(clip, patch)
    require_sound(made, clip)
    return made


@pytest.fixture(scope="module")
def walk() -> Clip:
    return resampled(TAKES[2].clean(), first=300, last=480)


def world(clip: Clip) -> tuple[Floats, Floats]:
    turns, points = evaluate(clip).world(clip.skeleton)
    return np.asarray(turns), np.asarray(points)


def hips_mm(clip: Clip) -> Floats:
    """Where the hips are ``(F, 3)``, mm."""
    return world(clip)[1][:, clip.body.find("hips") or 0] * clip.millimetres


def test_in_place_the_figure_stays_where_it_began_and_moves_as_it_did(walk: Clip) -> None:
    still = led(walk)
    was, now = hips_mm(walk), hips_mm(still)
    assert np.linalg.norm(was[-1] - was[0]) > 1000.0
    assert np.abs(now[:, [0, 2]] - was[0, [0, 2]]).max() < 1e-6
    assert np.abs(now[:, 1] - was[:, 1]).max() < 1e-9
    assert np.ptp(travel_of(still).angle) < 1e-9
    joints = [j for j, p in enumerate(walk.skeleton.parents) if p >= 0]
    own = [evaluate(c).rotation[:, joints] for c in (walk, still)]
    assert np.array_equal(*own)


@pytest.mark.parametrize("load", [None, *WHOLE], ids=str)
def test_where_it_stands_may_be_held_by_the_placement(walk: Clip, load: Load | None) -> None:
    """Seen it is the same; with the placement muted it begins in the middle of the floor, facing as
    at rest."""
    clip = walk if load is None else laden(load)
    there, here = led(clip), led(clip, stands="in the placement")
    for one, other in zip(world(there), world(here), strict=True):
        assert one == pytest.approx(other, abs=1e-6)
    for one, other in zip(placed_props(there), placed_props(here), strict=True):
        assert one == pytest.approx(other, abs=1e-6)
    assert here.placement is not None
    freed = replace(here, plants=(), placement=replace(here.placement, muted=True))
    lead, up = leading_root(freed), UP[freed.reading.up_axis]
    turns, places = (x[0, lead] for x in world(freed))
    stands = RootMotion.of(turns[None], places[None], up, freed.skeleton.rest_world[0][lead])
    assert stands.path[0] == pytest.approx(np.zeros(3), abs=1e-6)
    assert rotation.geodesic_deg(stands.heading[0], rotation.IDENTITY) < 1e-6


def test_single_axes_and_the_heading_are_left(walk: Clip) -> None:
    was = hips_mm(walk)
    one = led(walk, axes=("z",))
    assert np.ptp(hips_mm(one)[:, 2]) < 1e-6
    assert np.abs(hips_mm(one)[:, :2] - was[:, :2]).max() < 1e-9
    assert {t.name for t in TRAVEL.run(walk, {"axes": ["z"]}).curves} == {"tz"}
    facing = led(walk, axes=("heading",))
    assert np.ptp(travel_of(facing).angle) < 1e-9
    with pytest.raises(BadInput, match="y is up: along the floor there are x and z"):
        led(walk, axes=("y",))


@pytest.mark.parametrize("load", WHOLE, ids=str)
def test_after_a_span_the_same_motion_goes_on_from_where_it_ended(load: Load) -> None:
    """Frames 20 to 26: earlier ones to the bit, later ones moved by one constant, no step."""
    clip = bare(load)
    made = led(clip, frames=(20, 26), ease=2)
    before, after = world(clip), world(made)
    for was, now in zip(before, after, strict=True):
        if load.kind == "sampled":
            assert np.array_equal(was[:21], now[:21])
        assert np.abs(was[:21] - now[:21]).max() < 1e-9, "keys are written with ten decimals"
    turn = rotation.multiply(after[0][26, 0], rotation.conjugate(before[0][26, 0]))
    by = after[1][26, 0] - rotation.rotate(turn, before[1][26, 0])
    size = clip.skeleton.rest_height
    assert np.abs(rotation.rotate(turn, before[1][26:]) + by - after[1][26:]).max() < 1e-9 * size
    turned = rotation.multiply(turn, before[0][26:])
    assert rotation.geodesic_deg(turned, after[0][26:]).max() < 1e-7
    hips = hips_mm(made)[:, [k for k in range(3) if k != UP[clip.reading.up_axis]]]
    steps = np.linalg.norm(np.diff(hips, axis=0), axis=1)
    own = np.linalg.norm(np.diff(hips_mm(clip), axis=0), axis=1)
    assert steps[22:24].max() < 1e-6
    assert steps.max() < 1.01 * own.max()


@pytest.mark.parametrize("load", WHOLE, ids=str)
@pytest.mark.parametrize("axes", [(), ("heading",)], ids=["all", "heading"])
def test_everything_in_a_scene_is_carried_along(load: Load, axes: Any) -> None:
    """Layers, a scaled placement, plants in the world and props: all stand as they did about the
    hips, the props too."""
    clip = laden(load)
    patch = TRAVEL.run(clip, {"axes": axes})
    made = apply_patch(clip, patch)
    assert flips(made) <= flips(clip)
    up, size = UP[clip.reading.up_axis], clip.skeleton.rest_height
    by = leading(travel_of(clip), travel_of(made), up)
    was, now = world(clip.unplanted), world(made.unplanted)
    held, after = world(clip), world(made)
    for joint in range(len(clip.skeleton)):
        turns, points = by.put_on(was[0][:, joint], was[1][:, joint])
        assert np.abs(points - now[1][:, joint]).max() < 1e-9 * size + 1e-9
        assert rotation.geodesic_deg(turns, now[0][:, joint]).max() < 1e-7
        # Where plants come and go, their corrections lie along the world's axes.
        points = by.put_on(held[0][:, joint], held[1][:, joint])[1]
        assert np.abs(points - after[1][:, joint]).max() < 1e-2 * size
    for plant in (p for p in clip.plants if p.live):
        joint = clip.body.find(plant.part)
        assert joint is not None
        points = by.put_on(held[0][:, joint], held[1][:, joint])[1]
        gaps = np.linalg.norm(points - after[1][:, joint], axis=-1)
        assert gaps[plant.first : plant.last + 1].max() < 1e-5 * size, plant.part
    before, after = placed_props(clip), placed_props(made)
    for k in range(len(clip.props)):
        turns, points = by.put_on(before[0][:, k], before[1][:, k])
        assert np.abs(points - after[1][:, k]).max() < 1e-6 * size
        assert rotation.geodesic_deg(turns, after[0][:, k]).max() < 1e-5


@pytest.mark.parametrize("load", WHOLE, ids=str)
def test_travel_as_captured_restores_what_was_taken(load: Load) -> None:
    """To 1e-9 of the figure's height: what is written has ten decimals."""
    clip = bare(load)
    again = led(led(clip), take=clip, way="as captured")
    size = clip.skeleton.rest_height
    assert np.abs(world(again)[1] - world(clip)[1]).max() < 1e-9 * size + 1e-9
    assert drift(again, clip).max_deg < 1e-7


def test_feet_that_stand_say_how_the_hips_go(walk: Clip) -> None:
    """Off by at most half a per cent on a clean walk, whatever it did before."""
    still = led(walk)
    kept = replace(still, contacts=contacts_of(walk))
    patch = TRAVEL.run(kept, {"way": "by the feet"})
    way = [np.linalg.norm(np.ptp(hips_mm(c)[:, [0, 2]], axis=0)) for c in
           (walk, apply_patch(kept, patch))]  # fmt: skip
    assert way[1] == pytest.approx(way[0], rel=0.01)
    assert 90.0 < patch.report["feet_held_percent"] <= 100.0


def test_a_straight_line_a_speed_and_an_even_turn(walk: Clip) -> None:
    straight = hips_mm(led(walk, way="straight"))[:, [0, 2]]
    steps = np.diff(straight, axis=0)
    assert np.abs(steps - steps.mean(axis=0)).max() < 1e-6
    fast = hips_mm(led(walk, way="at a speed", speed=2000.0))[:, [0, 2]]
    pace = np.linalg.norm(np.diff(fast, axis=0), axis=1) * float(walk.rate)
    assert np.abs(pace - 2000.0).max() < 1e-6
    whole = hips_mm(walk)
    ahead = whole[-1, [0, 2]] - whole[0, [0, 2]]
    assert fast[-1] @ ahead - fast[0] @ ahead > 0, "the way it walks"
    aside = hips_mm(led(walk, way="at a speed", speed=2000.0, aside=90.0))[:, [0, 2]]
    left = (world(walk)[1][0, walk.body.find("left thigh") or 0]
            - world(walk)[1][0, walk.body.find("right thigh") or 0])[[0, 2]]  # fmt: skip
    assert (aside[-1] - aside[0]) @ left > 0
    turned = travel_of(led(walk, way="evenly turned", turn=180.0)).angle
    assert np.degrees(turned[-1] - turned[0]) == pytest.approx(180.0, abs=1e-6)


def test_sway_stays_in_the_hips_where_the_travel_is_smoothed(walk: Clip) -> None:
    sway = np.ptp(hips_mm(led(walk, smooth=1.0))[:, 0])
    assert 5.0 < sway < 200.0
    assert np.ptp(hips_mm(led(walk))[:, 0]) < 1e-6
    for facing in ("chest", "path"):
        assert np.ptp(travel_of(led(walk, facing=facing), facing).path) < 1e-6


def test_hands_keep_what_they_carry() -> None:
    clip = crate_take().clip
    made = led(clip)
    hand = clip.body.find("left hand") or 0
    away = [
        np.linalg.norm(world(c)[1][:, hand] - placed_props(c)[1][:, 0], axis=-1)
        for c in (clip, made)
    ]
    assert np.abs(away[0] - away[1]).max() < 1e-6


def test_a_planted_foot_stands_on_the_ground_that_moves(walk: Clip) -> None:
    """Within 0.1 mm of where it stood on the ground; a plant after the span goes along as a
    whole."""
    planted = apply_patch(walk, OPERATIONS["plant"].run(walk))
    made = led(planted, frames=(20, 60))
    assert [p.name for p in made.props] == ["ground"]
    held = [p for p in made.plants if p.with_prop]
    later = [p for p in made.plants if p.first - p.ease_in > 60]
    assert held
    assert later
    assert all(p.in_world for p in later)
    up = UP[walk.reading.up_axis]
    by = leading(travel_of(planted), travel_of(made), up)
    foot = walk.body.find("left foot") or 0
    for joint in (foot, walk.body.find("right foot") or 0):
        wanted = by.put_on(*(part[:, joint] for part in world(planted)))[1]
        gap = np.linalg.norm(wanted - world(made)[1][:, joint], axis=-1) * walk.millimetres
        assert gap.max() < 0.1
    again = led(made, frames=(150, 160))
    assert {p.name for p in again.props} <= {"ground", "ground 2"}


def test_what_leads_the_hips_by_its_own_numbers_is_named(walk: Clip) -> None:
    edits: Any = {"edits": [{"do": "add", "name": "sit", "kind": "override"}]}
    over = apply_patch(walk, OPERATIONS["edit_layers"].run(walk, edits))
    name = walk.skeleton.names[walk.skeleton.root]
    key = {"layer": "sit", "frame": 50, "turns": {name: (0.0, 30.0, 0.0)}, "ramp_in": 10}
    over = apply_patch(over, OPERATIONS["key_layer"].run(over, key))
    with pytest.raises(BadInput, match=r"sit leads .* by its own numbers: flatten it first"):
        led(over)
    keyed = apply_patch(walk, OPERATIONS["thin"].run(walk, {"tolerance_deg": 0.5}))
    later = [t for t in keyed.channels if t.joint > 0]
    made = led(keyed)
    assert all(isinstance(made.curves[t], KeyedCurve) for t in later)
