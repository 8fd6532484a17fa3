"""What went wrong where capabilities met, each as it shall be: layers, placement, plants, props."""

from __future__ import annotations

import json
import subprocess
import sys
from dataclasses import replace
from fractions import Fraction
from typing import Any, get_args

import numpy as np
import pytest
from leancurve.cleaning.contacts import contacts_of
from leancurve.curves.curve import KeyedCurve, SampledCurve
from leancurve.delivery.proof import Expected, Proof, proven
from leancurve.demo import TAKES, captured
from leancurve.document.clip import Clip, Contact, Placement
from leancurve.document.evaluation import effective, evaluate
from leancurve.document.placement import placed_props
from leancurve.document.plant import Ease, Plant
from leancurve.document.planting.plan import plan_of
from leancurve.document.scope import Scope
from leancurve.document.sound import require_sound
from leancurve.document.track import TrackId, base_track
from leancurve.errors import BadInput
from leancurve.formats.clipjson import read_clip, write_clip
from leancurve.measures.findings import find
from leancurve.numbers import rotation
from leancurve.operations import OPERATIONS, apply_patch
from leancurve.recipe import run_recipe
from leancurve.retarget.retargeting import retargeted
from leancurve.time.resample import resampled

from tests.core.laden import AT, FAMILY, Load, laden


def did(clip: Clip, name: str, /, **params: Any) -> Clip:
    return apply_patch(clip, OPERATIONS[name].run(clip, params))


def given(clip: Clip, name: str, inputs: dict[str, Any], /, **params: Any) -> Clip:
    return apply_patch(clip, OPERATIONS[name].run(clip, params, inputs=inputs))


def bare(load: Load | None = None) -> Clip:
    clip = laden(load or Load()).below
    own = {t: c for t, c in clip.curves.items() if t.owner == "base"}
    return replace(clip, props=(), curves=own)


def turns(clip: Clip) -> Any:
    return evaluate(clip).rotation


def apart(a: Clip, b: Clip) -> Any:
    """Degrees ``(F, J)`` between two clips' local rotations."""
    return rotation.geodesic_deg(turns(a), turns(b))


# --- keys on layers -------------------------------------------------------------------------------


def on_layer(kind: str, weight: float = 1.0) -> Clip:
    edits = [{"do": "add", "name": "hand", "kind": kind, "weight": weight}]
    return did(bare(), "edit_layers", edits=edits)


@pytest.mark.parametrize("kind", ["additive", "channels", "override"])
def test_a_ramp_comes_from_what_stands_there_and_goes_back_to_it(kind: str) -> None:
    """A correction late in the clip leaves an earlier one, and what is beside both, as they are."""
    clip, head = on_layer(kind), AT["Head"]
    ramps = {"ramp_in": 4, "ramp_out": 4}
    first = did(clip, "key_layer", layer="hand", frame=8, turned={"Head": (0, 30, 0)}, **ramps)
    second = did(first, "key_layer", layer="hand", frame=28, turned={"Head": (25, 0, 0)}, **ramps)
    gap = apart(first, bare())[:, head]
    assert gap[8] == pytest.approx(30, abs=1e-6)
    assert gap[[4, 12]].max() < 1e-6
    gap = apart(second, first)[:, head]
    assert gap[28] == pytest.approx(25, abs=1e-6)
    assert gap[[24, 32]].max() < 1e-6
    assert gap[:13].max() < 1e-6


def test_a_longer_ramp_leads_over_the_keys_of_a_shorter_one() -> None:
    clip = on_layer("additive")
    short = did(clip, "key_layer", layer="hand", frame=20, turns={"Head": (0, 30, 0)}, ramp_in=3)
    long = did(short, "key_layer", layer="hand", frame=20, turns={"Head": (0, 30, 0)}, ramp_in=12)
    curve = long.curves[TrackId("layer:0", AT["Head"], "ry")]
    assert isinstance(curve, KeyedCurve)
    assert curve.time.tolist() == [8.0, 20.0]
    assert np.all(np.diff(curve.at(np.arange(8.0, 21.0))) > 0)


def test_a_turn_that_a_light_layer_cannot_lead_is_refused() -> None:
    light = on_layer("override", 0.5)
    with pytest.raises(BadInput, match="at 50 % of its weight the layer leads it 90° at most"):
        did(light, "key_layer", layer="hand", frame=5, turned={"Head": (0, 120, 0)})
    led = did(light, "key_layer", layer="hand", frame=5, turned={"Head": (0, 80, 0)})
    assert apart(led, light)[5, AT["Head"]] == pytest.approx(80, abs=1e-6)


# --- placement ------------------------------------------------------------------------------------

PLACED = Placement((80.0, 6.0, -40.0), 75.0, 1.5, (10.0, 0.0, 20.0))


def test_props_and_hands_on_them_go_with_a_placed_figure() -> None:
    """As a hand stood to the thing it holds so it stands when both are placed."""
    clip = replace(laden(), placement=None, layers=())
    own = {t: c for t, c in clip.curves.items() if not t.owner.startswith("layer")}
    clip = replace(clip, curves=own, plants=tuple(p for p in clip.plants if p.with_prop))
    for scale in (1.0, 1.5):
        placed = replace(clip, placement=replace(PLACED, scale=scale))
        # The arm bends as it did: the thing is where it was to the figure, but for its own way.
        assert apart(placed, clip)[:, AT["LeftForeArm"]].max() < (1e-6 if scale == 1.0 else 25.0)
        short, was = (plan_of(c).limbs[0].missed.max() for c in (placed, clip))
        assert abs(short - was) < (1e-6 if scale == 1.0 else 8.0)
        turned, points = placed_props(placed)
        again = placed_props(resampled(placed, planted=True))
        assert rotation.geodesic_deg(turned, again[0]).max() < 1e-6
        assert np.abs(points - again[1]).max() < 1e-6


def test_a_prop_that_follows_a_hand_is_seen_at_the_hand_of_a_placed_figure() -> None:
    edits = [{"do": "add", "name": "line", "joints": ["LeftHand"]}]
    clip = did(replace(bare(), placement=PLACED), "edit_props", edits=edits)
    hand = evaluate(clip).world(clip.skeleton)[1][:, AT["LeftHand"]]
    assert np.abs(placed_props(clip)[1][:, 0] - hand).max() < 1e-6


def test_every_root_is_delivered_where_it_is_placed_or_none_is_placed() -> None:
    clip = replace(bare(), placement=PLACED)
    own = {t: v[0] for t, v in effective(clip).items() if t.joint == AT["Crate"] and not t.turns}
    seen = evaluate(clip).translation[0, AT["Crate"]]
    offset = clip.skeleton.offset_array[AT["Crate"]]
    assert np.abs(np.array(list(own.values())) + offset - seen).max() < 1e-9
    kept = {t: c for t, c in bare().curves.items() if t != base_track(AT["Crate"], "tx")}
    with pytest.raises(BadInput, match="Crate needs three position channels"):
        did(bare().with_only(kept), "place", move=(100, 0, 0))


def test_a_repeated_span_goes_on_where_a_placed_figure_walks() -> None:
    clip = replace(bare(), placement=PLACED, plants=(Plant("left foot", 5, 8, (3.0, 0.0, 4.0)),))
    again = did(clip, "repeat", first=0, last=20, times=2)
    way = evaluate(clip).translation[20, 0] - evaluate(clip).translation[0, 0]
    first, second = again.plants
    moved = np.array(second.place) - np.array(first.place)
    assert np.abs((moved - way)[[0, 2]]).max() < 1e-9


def test_what_a_layer_moves_is_added_in_each_round_and_no_more() -> None:
    clip = laden()
    again = did(clip, "repeat", first=0, last=20, times=3, offset="all")
    layer = next(x for x in clip.layers if x.name == "shift")
    track = TrackId(layer.owner, AT["Hips"], "tx")
    rounds = again.curves[track].at(np.array([5.0, 25.0, 45.0]))
    assert np.abs(rounds - clip.curves[track].at(np.array([5.0]))[0]).max() < 1e-9


def test_a_pull_goes_where_it_is_seen_to() -> None:
    """Up and aside in the world, under a layer that bends the chest and a placement that turns."""
    level = replace(PLACED, scale=1.0)
    clip = did(replace(bare(), placement=level), "edit_layers",
               edits=[{"do": "add", "name": "bend"}])  # fmt: skip
    clip = did(clip, "key_layer", layer="bend", frame=0, turns={"Chest": (40, 10, 20)})
    pulled = did(clip, "pull", part="right hand", x=-10.0, y=20.0, ramp_in=0, ramp_out=0)
    hand = AT["RightHand"]
    was, now = (evaluate(c).world(c.skeleton)[1][:, hand] for c in (clip, pulled))
    assert np.abs(now - was - (-1.0, 2.0, 0.0)).max() < 0.02


# --- plants ---------------------------------------------------------------------------------------


@pytest.mark.parametrize("ease", get_args(Ease))
def test_plants_of_the_demo_walk_lead_ankles_without_a_step(ease: Any) -> None:
    """No frame on which a correction steps by 5 mm, whatever the eases. The calibration pose before
    the walk is out: from it the capture leaps, which is no step of a plant's."""
    take = captured(TAKES[2]).clip
    clean = [{"operation": n} for n in ("trim", "unflip", "mend_snaps", "despike", "smooth")]
    walk = run_recipe(take, clean).clip
    planted = did(walk, "plant")
    planted = replace(planted, plants=tuple(replace(p, ease=ease) for p in planted.plants))
    assert len(planted.plants) > 20
    there, here = (evaluate(c).world(walk.skeleton)[1] for c in (planted, walk))
    for side in ("LeftFoot", "RightFoot"):
        led = (there - here)[:, walk.skeleton.index(side)] * walk.millimetres
        assert np.abs(led).max() > 5.0
        assert np.linalg.norm(np.diff(led, axis=0), axis=1).max() < 5.0


@pytest.mark.parametrize("ease", ["settle", "linear", "ease", "ease-in", "ease-out", "ease-in-out"])
def test_plants_closer_than_their_eases_are_led_from_one_to_the_other(ease: Any) -> None:
    """No step is much larger than the way between both corrections taken in the frames there are:
    the steepest of these easings goes two and a half times as fast as a straight line."""
    clip = bare()
    ball = evaluate(clip).world(clip.skeleton)[1][:, AT["LeftFoot"]]

    def held(first: int, last: int, away: float) -> Plant:
        x, y, z = (float(v) for v in ball[(first + last) // 2] + (away, 0.0, 0.0))
        return Plant("left foot", first, last, (x, y, z), ease=ease, ease_in=9, ease_out=9)

    planted = replace(clip, plants=(held(10, 12, 5.0), held(17, 19, -4.0)))
    leg = next(x for x in plan_of(planted).limbs if x.limb.name == "left leg")
    step = np.linalg.norm(np.diff(leg.shift, axis=0), axis=1)[12:17]
    way = float(np.linalg.norm(leg.shift[17] - leg.shift[12]))
    assert step.max() < 2.6 * way / 5


def test_baking_leaves_what_is_muted() -> None:
    muted = [p for p in laden().plants if p.muted]
    assert muted
    assert did(laden(), "bake_plants").plants == tuple(muted)


def test_plants_go_with_the_prop_that_holds_them() -> None:
    patch = OPERATIONS["edit_props"].run(laden(), {"edits": [{"do": "remove", "name": "case"}]})
    assert patch.report["plants_gone"] == 1
    left = apply_patch(laden(), patch)
    assert not [p for p in left.plants if p.with_prop]
    again = did(left, "edit_props", edits=[{"do": "add", "name": "case"}])
    assert again.plants == left.plants


def test_half_the_time_leaves_plants_of_one_part_beside_one_another() -> None:
    plants = tuple(Plant("left foot", a, b, (0.0, 0.0, float(a))) for a, b in ((4, 10), (11, 15)))
    halved = did(replace(bare(), plants=plants), "scale_span", first=0, last=39, factor=0.5)
    first, second = halved.plants
    assert first.last < second.first
    plant = {"do": "add", "part": "left foot", "first": 12, "last": 14}
    assert len(did(halved, "edit_plants", edits=[plant]).plants) == 3


# --- across skeletons -----------------------------------------------------------------------------


def test_layers_brought_to_another_up_axis_turn_about_the_same_axes_of_the_figure() -> None:
    """Seen in the figure's own axes both clips stand alike, in centimetres and in metres."""
    here, there = bare(Load()), bare(Load("sampled", "z", 1.0))
    whole = laden(Load())
    wanted = [x.name for x in whole.layers if x.kind == "additive" and not x.muted]
    own = {t: c for t, c in whole.curves.items() if t.owner != "prop"}
    source = replace(whole, plants=(), props=(), placement=None, curves=own)
    over = given(there, "bring_layers", {"source": source}, layers=wanted)
    plain = given(here, "bring_layers", {"source": source}, layers=wanted)
    tipped = rotation.from_axis("X", np.array(90.0))
    q = rotation.multiply(rotation.multiply(tipped, turns(plain)), rotation.conjugate(tipped))
    free = [j for j, order in enumerate(here.orders) if len(order) == 3]
    assert rotation.geodesic_deg(q, turns(over))[:, free].max() < 0.02
    root = evaluate(plain).translation[:, 0] - evaluate(here).translation[:, 0]
    moved = evaluate(over).translation[:, 0] - evaluate(there).translation[:, 0]
    assert np.abs(rotation.rotate(tipped, root) * 0.01 - moved).max() < 1e-4


def test_a_difference_from_rest_is_nothing_where_the_source_rests() -> None:
    """Limbs that rest otherwise than here are brought to agree first: an arm that hangs down."""
    clip = bare()
    own = {t: SampledCurve(np.zeros(clip.frames)) for t in clip.channels}
    hanging = list(clip.skeleton.offsets)
    for name, bone in {"LeftForeArm": (0.0, -28.0, 0.0), "LeftHand": (0.0, -25.0, 0.0)}.items():
        hanging[AT[name]] = bone
    straight = replace(clip.skeleton, offsets=tuple(hanging), rests=())
    resting = replace(clip, skeleton=straight, curves=own)
    params = {"stands_as": "difference from its rest", "ramp_in": 0, "ramp_out": 0}
    loaded = given(clip, "load_layer", {"source": resting}, **params)
    assert apart(loaded, clip).max() < 1e-3


def test_hips_with_one_position_get_the_two_that_the_travel_needs() -> None:
    clip = bare()
    gone = {base_track(0, "tx"), base_track(0, "tz")}
    target = clip.with_only({t: c for t, c in clip.curves.items() if t not in gone})
    made = retargeted(clip, target).clip
    assert set(made.layout[0]) >= {"tx", "ty", "tz"}
    ways = [np.diff(evaluate(c).translation[[0, -1], 0], axis=0)[0] for c in (clip, made)]
    assert np.abs((ways[0] - ways[1])[[0, 2]]).max() < 1.0


def test_while_a_foot_is_held_means_its_heel_and_its_toe() -> None:
    clip = replace(bare(), contacts=(Contact("left heel", 3, 5), Contact("left toe", 5, 9)))
    assert np.flatnonzero(Scope(limbs=("left foot",)).mask(clip)).tolist() == [3, 4, 5, 6, 7, 8, 9]
    whole = replace(bare(), contacts=(Contact("left foot", 3, 5),))
    assert np.flatnonzero(Scope(limbs=("left toe",)).mask(whole)).tolist() == [3, 4, 5]
    assert not Scope(limbs=("right foot",)).mask(clip).any()


# --- files ----------------------------------------------------------------------------------------


def test_contacts_are_looked_for_at_a_frame_in_ten_seconds() -> None:
    slow = replace(bare(), rate=Fraction(1, 10), contacts=None)
    contacts_of(slow)
    find(slow)


@pytest.mark.parametrize(
    ("where", "value", "message"),
    [
        (("layers", 0, "id"), 10**30, "greater than the maximum"),
        (("plants", 0, "last"), 10**30, "greater than the maximum"),
        (("reading", "metres_per_unit"), 1e300, "greater than the maximum"),
        (("reading", "ends"), ["Nobody"], "no joint is named 'Nobody'"),
        (("marks",), [{"name": "x", "first": 0, "last": 0}] * 10_001, "at most 10,000"),
    ],
)
def test_numbers_that_no_clip_has_are_refused(where: Any, value: Any, message: str) -> None:
    document = json.loads(write_clip(laden()))
    inner = document
    for part in where[:-1]:
        inner = inner[part]
    inner[where[-1]] = value
    with pytest.raises(BadInput, match=message):
        read_clip(json.dumps(document).encode(), "x")


def test_a_reader_that_has_seen_enough_ends_the_command_quietly() -> None:
    command = f"{sys.executable} -m leancurve.cli operations | head -c 1"
    done = subprocess.run(command, shell=True, capture_output=True, text=True, check=False)
    assert done.stdout
    assert done.stderr == ""


def test_a_file_that_reads_back_elsewhere_is_not_handed_over() -> None:
    clip = laden()
    times = np.arange(float(clip.frames))
    handed = resampled(clip, planted=True)
    expected = Expected(times, clip.rate, {n: n for n in clip.skeleton.names}, props=True)

    def proof(told: Clip, wanted: Expected = expected) -> Proof:
        return proven(write_clip(told), "x.json", clip, wanted)

    found = proof(handed)
    assert found.max_deg < 1e-6
    assert found.max_mm < 1e-6
    track = TrackId("prop", 0, "tx")
    off = handed.with_curves({track: SampledCurve(handed.curves[track].at(times) + 0.02)})
    with pytest.raises(BadInput, match=r"0\.20 mm at case"):
        proof(off)
    turned = base_track(AT["Head"], "ry")
    bent = handed.with_curves({turned: SampledCurve(handed.curves[turned].at(times) + 0.02)})
    with pytest.raises(BadInput, match="off at Head"):
        proof(bent, replace(expected, props=False))
    with pytest.raises(BadInput, match="39 frames, not 40"):
        proof(resampled(handed, last=38))


def test_documents_of_the_version_before_mute_what_was_not_solo() -> None:
    """Several layers, one of them solo: the motion is what it was."""
    document = json.loads(write_clip(laden()))
    document["schema_version"] = 3
    for layer in document["layers"]:
        kind = layer.get("kind", "additive")
        layer["kind"] = {"additive": "add", "override": "replace"}.get(kind, kind)
        layer["solo"] = layer["name"] == "lean"
    clip = read_clip(json.dumps(document).encode(), "x").clip
    assert [x.name for x in clip.layers if not x.muted] == ["lean"]
    assert {x.kind for x in clip.layers} == {"additive", "channels", "override"}


def test_laden_clips_are_sound() -> None:
    for load in FAMILY:
        require_sound(laden(load))
