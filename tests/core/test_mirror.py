"""Mirroring: left for right, on any axes, with all that a clip carries."""

from __future__ import annotations

from dataclasses import replace
from functools import cache

import numpy as np
import pytest
from leancurve.curves.curve import KeyedCurve, SampledCurve
from leancurve.demo import TAKES, crate_take
from leancurve.demo.characters import heron_file, wren_file
from leancurve.document.clip import Accepted, Clip, Contact, Mark, Placement
from leancurve.document.evaluation import evaluate
from leancurve.document.layer import Layer
from leancurve.document.mirroring import as_placed, other_side, own_plane, world_plane
from leancurve.document.placement import placed_props
from leancurve.document.posing import opposites
from leancurve.document.scope import Scope
from leancurve.document.track import TrackId, base_track
from leancurve.errors import BadInput
from leancurve.figure.skeleton import Skeleton
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats
from leancurve.operations import OPERATIONS, apply_patch
from leancurve.time.resample import resampled

from tests.core.laden import Load, bare, laden

ACROSS = ("figure", "world")


def mirrored(clip: Clip, across: str = "figure", scope: Scope | None = None) -> Clip:
    return apply_patch(clip, OPERATIONS["mirror"].run(clip, {"across": across}, scope))


def reflected(clip: Clip, points: Floats, across: str) -> Floats:
    """World points ``(F, J, 3)`` on the other side, each under its counterpart's number."""
    plane = own_plane(clip, 0) if across == "figure" else world_plane(clip)
    return np.asarray(as_placed(clip, plane).points(points)[:, list(opposites(clip))])


def gap_mm(clip: Clip, made: Clip, across: str) -> float:
    """How far the joints of a mirrored clip are from where they shall stand, at most."""
    wanted = reflected(clip, evaluate(clip).world(clip.skeleton)[1], across)
    found = evaluate(made).world(made.skeleton)[1]
    return float(np.abs(wanted - found).max()) * clip.millimetres


def turned_deg(a: Clip, b: Clip) -> float:
    turns = [evaluate(x).world(x.skeleton)[0] for x in (a, b)]
    return float(rotation.geodesic_deg(*turns).max())


@cache
def walk() -> Clip:
    """A demo take of 65 joints, whose two sides are alike."""
    return resampled(TAKES[2].clean(), first=100, last=220)


def on_axes(clip: Clip, seed: int) -> Clip:
    """The same motion of joints whose own axes lie anyhow."""
    random = np.random.default_rng(seed)
    skeleton = clip.skeleton
    turns, _ = skeleton.rest_world
    by = random.normal(size=(len(skeleton), 4))
    by /= np.linalg.norm(by, axis=1, keepdims=True)
    new = rotation.multiply(turns, by)
    above = [j if j >= 0 else None for j in skeleton.parents]
    rests, offsets = [], []
    for j, up in enumerate(above):
        over = rotation.IDENTITY if up is None else new[up]
        was = rotation.IDENTITY if up is None else turns[up]
        rests.append(rotation.multiply(rotation.conjugate(over), new[j]))
        far = rotation.rotate(was, skeleton.offset_array[j])
        offsets.append(rotation.rotate(rotation.conjugate(over), far))
    other = Skeleton(
        skeleton.names, skeleton.parents, tuple(tuple(map(float, o)) for o in offsets),
        (), tuple(tuple(map(float, q)) for q in rests),
    )  # type: ignore[arg-type]  # fmt: skip
    local = evaluate(clip).rotation
    curves = dict(clip.curves)
    for j, up in enumerate(above):
        before = rotation.IDENTITY if up is None else rotation.conjugate(by[up])
        told = rotation.multiply(rotation.multiply(before, local[:, j]), by[j])
        angles = rotation.to_euler(told, clip.order(j))
        for k, track in enumerate(clip.turns_of(j)):
            curves[track] = SampledCurve(np.ascontiguousarray(angles[:, k]))
    return replace(clip, skeleton=other, curves=curves)


@pytest.mark.parametrize("across", ACROSS)
def test_joints_stand_where_their_counterparts_stood_behind_a_mirror(across: str) -> None:
    """Against the plain reflection of points; twice it is as it was."""
    clip = walk()
    once = mirrored(clip, across)
    assert gap_mm(clip, once, across) < 1e-4
    twice = mirrored(once, across)
    assert turned_deg(clip, twice) < 1e-5
    values = [
        np.stack([c.curves[t].at(np.arange(121.0)) for t in c.channels]) for c in (clip, twice)
    ]
    turns = [np.array([t.turns for t in clip.channels])]
    assert np.abs(np.cos(np.radians(values[0] - values[1]))[turns[0]] - 1).max() < 1e-12
    assert np.abs(values[0] - values[1])[~turns[0]].max() < 1e-9
    if across == "figure":
        # It stays on its way: the hips begin where they began, facing as they did.
        start = [evaluate(c, np.zeros(1)).world(c.skeleton)[1][0, 0] for c in (clip, once)]
        assert np.abs(start[0] - start[1]).max() * clip.millimetres < 1e-6


@pytest.mark.parametrize("seed", range(3))
def test_axes_that_lie_anyhow_change_nothing(seed: int) -> None:
    clip = on_axes(walk(), seed)
    assert (
        np.abs(
            evaluate(clip).world(clip.skeleton)[1] - evaluate(walk()).world(walk().skeleton)[1]
        ).max()
        < 1e-9
    )
    once = mirrored(clip)
    assert gap_mm(clip, once, "figure") < 1e-4
    assert turned_deg(clip, mirrored(once)) < 1e-5


@pytest.mark.parametrize("made", [heron_file, wren_file])
def test_both_characters_are_mirrored(made: object) -> None:
    still = resampled(made())  # type: ignore[operator]
    random = np.random.default_rng(4)
    curves = {
        t: SampledCurve(random.uniform(-40, 40, 1) + c.at(np.zeros(1)))
        for t, c in still.curves.items()
    }
    clip = replace(still, curves=curves, frames=1)
    once = mirrored(clip)
    assert gap_mm(clip, once, "figure") < 0.5  # bones are as even as their files say them
    assert turned_deg(clip, mirrored(once)) < 1e-5


def test_keys_stay_keys_by_their_signs() -> None:
    """Across the world no joint of this figure needs more than signs."""
    clip = walk()
    clip = apply_patch(clip, OPERATIONS["thin"].run(clip, {"tolerance_deg": 0.5}))
    once = mirrored(clip, "world")
    assert once.key_count == clip.key_count
    side = opposites(clip)
    for track, curve in once.curves.items():
        was = clip.curves[base_track(side[track.joint], track.name)]
        assert isinstance(curve, KeyedCurve)
        assert isinstance(was, KeyedCurve)
        assert np.array_equal(curve.time, was.time)
        assert np.allclose(np.abs(curve.slope_out), np.abs(was.slope_out), atol=1e-9)
    assert gap_mm(clip, once, "world") < 1e-4
    between = np.arange(0.0, 120.0, 0.37)
    twice = mirrored(once, "world")
    for track, curve in clip.curves.items():
        assert np.abs(curve.at(between) - twice.curves[track].at(between)).max() < 1e-9
    # Where more is needed they are fitted again, at the other side's times.
    figure = mirrored(clip)
    assert all(isinstance(c, KeyedCurve) for c in figure.curves.values())
    assert gap_mm(clip, figure, "figure") < 5.0


def test_feet_change_sides_with_their_contacts() -> None:
    clip = crate_take().clip
    clip = resampled(clip, first=0, last=400)
    clip = apply_patch(clip, OPERATIONS["find_contacts"].run(clip))
    assert clip.contacts
    clip = replace(
        clip,
        marks=(Mark(3, 3, "Left heel down"), Mark(9, 20, "lift")),
        accepted=(Accepted("snap", clip.skeleton.names[5], "", 1, 2),),
    )
    once = mirrored(clip)
    assert set(once.contacts or ()) == {
        Contact(other_side(c.limb), c.first, c.last) for c in clip.contacts
    }
    assert [m.name for m in once.marks] == ["Right heel down", "lift"]
    there = opposites(clip)[5]
    assert once.accepted[0].joint == clip.skeleton.names[there]
    # Looked for anew they are the same.
    anew = apply_patch(once, OPERATIONS["find_contacts"].run(replace(once, contacts=None)))
    assert anew.contacts == once.contacts
    # Heights and speeds of the feet are the other foot's.
    left, right = clip.body.pair("foot") or (0, 0)
    before, after = (evaluate(c).world(c.skeleton)[1] for c in (clip, once))
    for a, b in ((left, right), (right, left)):
        assert np.abs(before[:, a, 1] - after[:, b, 1]).max() * clip.millimetres < 1e-4
        speeds = [np.linalg.norm(np.diff(p, axis=0), axis=1) for p in (before[:, a], after[:, b])]
        assert np.abs(speeds[0] - speeds[1]).max() * clip.millimetres < 1e-4


@pytest.mark.parametrize("across", ACROSS)
@pytest.mark.parametrize("space", ["parent", "figure"])
def test_layers_plants_props_and_placement_go_along(across: str, space: str) -> None:
    """What plays, with everything over the curves, is what played behind a mirror."""
    clip = resampled(crate_take().clip, first=100, last=160)
    clip = replace(clip, placement=Placement(move=(30.0, 0.0, -80.0), turn=40.0, scale=1.0))
    names = clip.skeleton.names
    arm = clip.body.find("left forearm") or 0
    layer = Layer(
        3, "further", space=space, layout=((arm, ("rx", "ry", "rz")),), mask=((arm, 0.7),)
    )  # type: ignore[arg-type]
    values = {"rx": 14.0, "ry": -8.0, "rz": 21.0}
    curves = {TrackId(layer.owner, arm, n): SampledCurve(np.full(61, v)) for n, v in values.items()}
    curves[layer.weight] = SampledCurve(np.linspace(0.0, 1.0, 61))
    clip = replace(clip, layers=(layer,), curves={**clip.curves, **curves})
    hold = {"do": "add", "part": "left heel", "first": 5, "last": 50}
    clip = apply_patch(clip, OPERATIONS["edit_plants"].run(clip, {"edits": [hold]}))
    hand = {"do": "add", "part": "left hand", "first": 10, "last": 40, "with_prop": "crate"}
    clip = apply_patch(clip, OPERATIONS["edit_plants"].run(clip, {"edits": [hand]}))
    once = mirrored(clip, across)
    assert {p.part for p in once.plants} == {"right heel", "right hand"}
    there = names[opposites(clip)[arm]]
    assert [names[j] for j, _ in once.layers[0].layout] == [there]
    assert once.layers[0].mask == ((names.index(there), 0.7),)
    assert gap_mm(clip, once, across) < 0.01
    plane = own_plane(clip, 0) if across == "figure" else world_plane(clip)
    before, after = (placed_props(c)[1] for c in (clip, once))
    assert np.abs(as_placed(clip, plane).points(before) - after).max() * clip.millimetres < 1e-6
    twice = mirrored(once, across)
    assert turned_deg(clip, twice) < 1e-3
    assert twice.plants[0].part in ("left heel", "left hand")


def test_what_cannot_follow_stays_and_is_told() -> None:
    """A lid that turns about one axis of its own; a thing in one hand alone."""
    clip = laden(Load())
    patch = OPERATIONS["mirror"].run(clip)
    told = {u["joint"] for u in patch.report["unplaced"]}
    assert {"Lid", "Flap"} <= told
    assert "too few channels" in patch.report["told"]
    once = apply_patch(clip, patch)
    assert np.array_equal(
        once.curves[base_track(clip.skeleton.index("Grip"), "rx")].at(np.arange(40.0)),
        clip.curves[base_track(clip.skeleton.index("Grip"), "rx")].at(np.arange(40.0)),
    )
    assert turned_deg(clip, mirrored(once)) < 1e-3


def test_chosen_joints_get_what_their_counterparts_do() -> None:
    clip = walk()
    arms = [clip.body.find(f"{side} upper arm") or 0 for side in ("left", "right")]
    names = [clip.skeleton.names[j] for j in arms]
    one = mirrored(clip, scope=Scope(joints=(names[1],)))
    both = mirrored(clip, scope=Scope(joints=tuple(names)))
    moved = [t for t in clip.channels if one.curves[t] is not clip.curves[t]]
    assert {t.joint for t in moved} == {arms[1]}
    assert {t.joint for t in clip.channels if both.curves[t] is not clip.curves[t]} == set(arms)
    assert turned_deg(clip, mirrored(both, scope=Scope(joints=tuple(names)))) < 1e-5


def test_a_figure_on_its_side_and_one_without_sides_are_refused() -> None:
    clip = bare(Load())
    names = tuple(f"j{k}" for k in range(len(clip.skeleton)))
    chain = replace(
        clip,
        skeleton=replace(clip.skeleton, names=names),
        reading=replace(clip.reading, roles=tuple((n, "helper") for n in names)),
    )
    with pytest.raises(BadInput, match="no joints of the left and the right side"):
        mirrored(chain)
    still = {t: SampledCurve(np.zeros(clip.frames)) for t in clip.channels}
    still[base_track(0, "rz")] = SampledCurve(np.full(clip.frames, 90.0))
    with pytest.raises(BadInput, match="lies on its side"):
        mirrored(clip.with_curves(still))


def within(clip: Clip, first: int, last: int, **scope: object) -> Clip:
    return mirrored(clip, scope=Scope.model_validate({"frames": (first, last), **scope}))


@pytest.mark.parametrize("kept", ["sampled", "keyed"])
def test_a_span_goes_over_into_its_mirrored_self_and_back(kept: str) -> None:
    """Before it nothing changes; after it the same motion goes on, moved by one constant."""
    clip = TAKES[2].clean()
    if kept == "keyed":
        clip = apply_patch(clip, OPERATIONS["thin"].run(clip, {"tolerance_deg": 0.5}))
    first, last = 300, 420
    made = within(clip, first, last)
    assert made.frames == clip.frames
    ours, theirs = evaluate(clip), evaluate(made)
    joints = [j for j, above in enumerate(clip.skeleton.parents) if above >= 0]
    for track in clip.channels:
        a, b = clip.curves[track], made.curves[track]
        if isinstance(a, SampledCurve) and isinstance(b, SampledCurve):
            assert np.array_equal(a.values[:first], b.values[:first])
        if kept == "keyed":
            assert isinstance(b, KeyedCurve)
            assert np.array_equal(a.time[a.time < first - 1], b.time[b.time < first - 1])
    assert (
        rotation.geodesic_deg(ours.rotation[last:, joints], theirs.rotation[last:, joints]).max()
        < 1e-6
    )
    turns, places = (
        [pose.rotation[last:, 0] for pose in (ours, theirs)],
        [pose.translation[last:, 0] for pose in (ours, theirs)],
    )
    on = rotation.multiply(turns[1], rotation.conjugate(turns[0]))
    # A keyed root is said anew on keys of its own, as closely as a join promises.
    most, most_cm = (1e-9, 1e-9) if kept == "sampled" else (0.2, 0.1)
    assert rotation.geodesic_deg(on, on[0]).max() < most
    moved = places[1] - rotation.rotate(on[0], places[0])
    about = np.abs(places[0]).max() * np.radians(most)
    assert np.abs(moved - moved[0]).max() < most_cm + about
    middle = slice(first + 18, last - 17)
    other = evaluate(mirrored(clip)).rotation[middle]
    assert rotation.geodesic_deg(other[:, joints], theirs.rotation[middle][:, joints]).max() < 1e-6

    steps = [np.abs(np.diff(p.world(clip.skeleton)[1], axis=0)).max() for p in (ours, theirs)]
    assert steps[1] < 1.5 * steps[0], "nothing jumps"


def test_a_span_of_chosen_joints_and_one_that_reaches_an_end() -> None:
    clip = TAKES[2].clean()
    arms = [n for n in clip.skeleton.names if "Arm" in n or "Hand" in n]
    made = within(clip, 300, 420, joints=arms)
    at = [clip.skeleton.index(n) for n in arms]
    rest = [j for j in range(len(clip.skeleton)) if j not in at]
    ours, theirs = evaluate(clip).rotation, evaluate(made).rotation
    assert np.array_equal(ours[:, rest], theirs[:, rest])
    assert np.array_equal(ours[:300], theirs[:300])
    assert rotation.geodesic_deg(ours[421:, at], theirs[421:, at]).max() < 1e-6
    both = evaluate(mirrored(clip)).rotation
    assert rotation.geodesic_deg(both[330:390, at], theirs[330:390, at]).max() < 1e-6
    to_end = within(clip, 500, clip.frames - 1)
    assert rotation.geodesic_deg(evaluate(to_end).rotation[-1, at], both[-1, at]).max() < 1e-6
    from_start = within(clip, 0, 200)
    assert np.array_equal(evaluate(from_start).rotation[0], both[0])
    with pytest.raises(BadInput, match="too few to go over and back"):
        within(clip, 300, 301)


@pytest.mark.parametrize("load", [Load(), Load("mixed", "z", 1.0)], ids=str)
def test_a_mirrored_span_brings_along_what_a_clip_carries(load: Load) -> None:
    """Sides change within the span: contacts there, and layers by weights that ramp."""
    clip = replace(laden(load), contacts=(Contact("left foot", 0, 39),), placement=None, plants=())
    made = within(clip, 8, 30)
    limbs = {(c.limb, c.first > 4) for c in made.contacts or ()}
    assert ("right foot", True) in limbs
    assert ("left foot", False) in limbs
    same(clip, made)
    # What leads to poses is said with whole turns afterwards; without it all layers are one again.
    plain = tuple(x for x in clip.layers if x.kind != "override")
    gone = {x.owner for x in clip.layers} - {x.owner for x in plain}
    curves = {t: c for t, c in clip.curves.items() if t.owner not in gone}
    clip = replace(clip, layers=plain, curves=curves)
    made = within(clip, 8, 30)
    assert len(made.layers) == 2 * len(clip.layers)
    same(clip, made)
    for layer in clip.layers:
        ours, theirs = (c.curves[layer.weight] for c in (clip, made))
        assert isinstance(theirs, type(ours))
        frames = np.r_[:8, 31.0:40.0]
        assert np.abs(ours.at(frames) - theirs.at(frames)).max() < 1e-9


def same(clip: Clip, made: Clip) -> None:
    """Outside of frames 8 to 30 a clip is as it was: placed before, and posed after."""
    ours, theirs = (evaluate(c).world(c.skeleton)[1] for c in (clip, made))
    assert np.abs(ours[:8] - theirs[:8]).max() * clip.millimetres < 1e-6
    joints = [j for j, above in enumerate(clip.skeleton.parents) if above >= 0]
    turns = [evaluate(c).rotation[31:, joints] for c in (clip, made)]
    assert rotation.geodesic_deg(*turns).max() < 1e-6
