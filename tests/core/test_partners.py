"""Partners: figures of other clips in a clip's scene, met half way, handed things, delivered."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction
from typing import Any

import numpy as np
import pytest
from leancurve.delivery.axes import in_axes
from leancurve.delivery.making import made
from leancurve.delivery.partners import staged, with_partners
from leancurve.delivery.preset import preset_of
from leancurve.delivery.proof import proven
from leancurve.demo import TAKES
from leancurve.document.base import prop_pose
from leancurve.document.clip import Clip, Placement
from leancurve.document.evaluation import evaluate
from leancurve.document.partner import Partner
from leancurve.document.placement import placed_props
from leancurve.errors import BadInput
from leancurve.joining.beside import Stand, pose_beside, stand_between
from leancurve.numbers import rotation
from leancurve.operations import OPERATIONS, apply_patch
from leancurve.time.resample import resampled

from tests.core.laden import FAMILY, laden

DIGEST = "5d" * 32


def edited(clip: Clip, *edits: dict[str, Any]) -> Clip:
    kind = OPERATIONS["edit_partners"]
    given = {"figures": [DIGEST, "77" * 32]}
    return apply_patch(clip, kind.run(clip, {"edits": list(edits)}, inputs=given))


def propped(clip: Clip, given: Clip, /, **edit: Any) -> Clip:
    kind = OPERATIONS["edit_props"]
    return apply_patch(clip, kind.run(clip, {"edits": [edit]}, inputs={"others": [given]}))


@pytest.fixture(scope="module")
def two() -> tuple[Clip, Clip]:
    """A clip at 60 a second in centimetres with Y up, and another at 120 in metres with Z up."""
    one, other = (resampled(TAKES[k].clean(), Fraction(60), 0, 200) for k in (2, 1))
    return one, in_axes(resampled(other, Fraction(120)), "z", 1.0)


def test_partners_are_added_changed_and_taken_out_and_nothing_moves() -> None:
    clip = replace(laden(), partners=())
    wren = edited(clip, {"do": "add", "name": "Wren", "other": 0, "later": 4, "turned": 90})
    assert wren.partners == (Partner("Wren", DIGEST, 4, turned=90.0),)
    again = edited(
        wren, {"do": "set", "name": "Wren", "other": 1, "moved": [10, 0, 5], "new_name": "mate"},
        {"do": "add", "name": "Heron", "other": 0, "muted": True},
    )  # fmt: skip
    assert again.partners == (
        Partner("Heron", DIGEST, muted=True),
        Partner("mate", "77" * 32, 4, (10.0, 0.0, 5.0), 90.0),
    )
    assert again.curves == clip.curves
    gone = edited(again, {"do": "remove", "name": "mate"}, {"do": "remove", "name": "Heron"})
    assert gone.partners == ()


def test_a_partner_that_cannot_be_is_refused() -> None:
    clip = replace(laden(), partners=())
    add = {"do": "add", "name": "Wren", "other": 0}
    for edits, said in (
        ([add, add], "named 'Wren' already"),
        ([{**add, "other": None}], "which of the clips given"),
        ([{**add, "other": 2}], "there are 2 clips, and none 2"),
        ([{**add, "name": f"figure {k}"} for k in range(4)], "4 partners; at most 3"),
        ([add, {**add, "name": "b"}, {"do": "set", "name": "b", "new_name": "Wren"}], "already"),
    ):
        with pytest.raises(BadInput, match=said):
            edited(clip, *edits)
    with pytest.raises(BadInput, match="choose the clip of the partner"):
        OPERATIONS["edit_partners"].run(clip, {"edits": [add]})
    lost = OPERATIONS["edit_partners"].run(clip, {"edits": [{"do": "set", "name": "Wren"}]})
    assert lost.report["unplaced"] == [{"name": "Wren", "frame": 0}]


def test_partners_begin_where_their_first_frame_comes_to_lie() -> None:
    clip = laden()

    def later(name: str, **params: Any) -> list[int]:
        changed = apply_patch(clip, OPERATIONS[name].run(clip, params))
        return [p.later for p in changed.partners]

    assert [p.later for p in clip.partners] == [6, -4]
    assert later("trim", first=10, last=32) == [-4, -14]
    assert later("change_rate", rate="60") == [12, -8]
    assert later("insert_frames", after=3, count=5) == [11, -4]
    assert later("insert_frames", after=8, count=5) == [6, -4]
    assert later("reverse") == [6, -4]


def test_a_figure_stands_as_it_is_laid_whatever_its_axes_unit_and_rate(
    two: tuple[Clip, Clip],
) -> None:
    clip, other = two
    alike = in_axes(other, "y", 0.01)
    stand = Stand(40, (100.0, 0.0, 20.0), 90.0)
    points = pose_beside(clip, other, stand).world(other.skeleton)[1]
    own = evaluate(alike).world(alike.skeleton)[1]
    at = np.clip(2 * (np.arange(clip.frames) - 40), 0, other.frames - 1)
    # A quarter turn about Y: z goes to x, and x to -z.
    there = np.stack([own[at, :, 2] + 100, own[at, :, 1], -own[at, :, 0] + 20], axis=-1)
    assert np.abs(points - there).max() < 1e-9


def test_two_figures_stand_to_one_another_from_either_side(two: tuple[Clip, Clip]) -> None:
    """Where the other clip is the one that the scene is of, they are as far from one another."""
    clip, other = (
        replace(c, placement=Placement((by, 0.0, 0.0), turn, 1.2))
        for c, by, turn in zip(two, (30.0, 0.2), (40.0, -70.0), strict=True)
    )
    stand = Stand(-30, (140.0, 3.0, 60.0), 155.0)
    here = pose_beside(clip, other, stand.placed(clip)).world(other.skeleton)[1] * clip.millimetres
    own = evaluate(clip).world(clip.skeleton)[1] * clip.millimetres
    back = stand_between(clip, other, stand)
    theirs = (
        pose_beside(other, clip, back.placed(other)).world(clip.skeleton)[1] * other.millimetres
    )
    its = evaluate(other).world(other.skeleton)[1] * other.millimetres
    for frame in (0, 50, 70):
        apart = np.linalg.norm(here[frame, 3] - own[frame, 8])
        again = np.linalg.norm(its[2 * (frame + 30), 3] - theirs[2 * (frame + 30), 8])
        assert abs(apart - again) < 1e-6, frame


def test_hands_that_meet_half_way_are_at_one_place_in_both_clips(two: tuple[Clip, Clip]) -> None:
    """Each is planted with a prop that is half way: between them nothing is left on the frames
    that both have (design: 409 mm before, 0.0000 after)."""
    clip, other = two
    reach = evaluate(clip).world(clip.skeleton)[1][80, clip.skeleton.index("RightHand")]
    there = pose_beside(clip, other, Stand()).world(other.skeleton)[1]
    away = reach - there[80, other.skeleton.index("RightHand")]
    stand = Stand(0, (float(away[0]) + 12.0, float(away[1]), float(away[2])), 0.0)
    back = stand_between(clip, other, stand)

    def met(one: Clip, two: Clip, stand: Stand, first: int, last: int) -> Clip:
        moved = [v * one.millimetres for v in stand.moved]
        made = propped(
            one, two, do="add", name="hands", joints=["RightHand"], other=0, half="RightHand",
            later=stand.later, moved=moved, turned=stand.turned,
        )  # fmt: skip
        # Where the hands are met, each lies on the point itself.
        plant = {"do": "add", "part": "right hand", "first": first, "last": last,
                 "with_prop": "hands", "place": [0.0, 0.0, 0.0]}  # fmt: skip
        return apply_patch(made, OPERATIONS["edit_plants"].run(made, {"edits": [plant]}))

    ours = met(clip, other, stand, 75, 85)
    theirs = met(other, clip, back, 150, 170)

    def apart(one: Clip, two: Clip) -> Any:
        here = evaluate(one).world(one.skeleton)[1][:, one.skeleton.index("RightHand")]
        pose = pose_beside(one, two, stand).world(two.skeleton)[1]
        there = pose[:, two.skeleton.index("RightHand")]
        return np.linalg.norm(here - there, axis=1)[75:86] * one.millimetres

    assert apart(clip, other).max() > 100.0
    assert apart(ours, theirs).max() < 0.01


def test_a_prop_that_is_handed_over_does_not_jump_and_goes_with_the_other_holder(
    two: tuple[Clip, Clip],
) -> None:
    clip, other = two
    clip = replace(clip, placement=Placement((30.0, 0.0, 10.0), 40.0))
    made = propped(clip, other, do="add", name="line", joints=["LeftHand"])
    given = propped(
        made, other, do="hand_over", name="line", frame=90, joints=["RightHand"], other=0,
        later=3, moved=[900, 0, 100], turned=180,
    )  # fmt: skip
    (turns, places), (before, was) = placed_props(given), placed_props(made)
    assert np.abs(places[:91] - was[:91]).max() < 1e-9
    assert rotation.geodesic_deg(turns[:91], before[:91]).max() < 1e-6
    stand = Stand(3, (90.0, 0.0, 10.0), 180.0).placed(clip)
    leads = pose_beside(clip, other, stand).world(other.skeleton)
    hand = other.skeleton.index("RightHand")
    back = rotation.conjugate(leads[0][90:, hand])
    lies = rotation.rotate(back, places[90:, 0] - leads[1][90:, hand])
    assert np.abs(lies - lies[0]).max() < 1e-9, "it lies in the hand as it was given"
    turned = rotation.multiply(back, turns[90:, 0])
    assert rotation.geodesic_deg(turned, turned[0]).max() < 1e-6
    for edit, said in (
        ({"frame": 90}, "handed over to, and a frame"),
        ({"joints": ["LeftHand"]}, "handed over to, and a frame"),
        ({"frame": 900, "joints": ["LeftHand"]}, "expected a frame within 0 to 200"),
    ):
        with pytest.raises(BadInput, match=said):
            propped(made, other, do="hand_over", name="line", **edit)


@pytest.mark.parametrize("load", [FAMILY[0], FAMILY[2]], ids=str)
def test_a_delivered_partner_stands_beside_the_figure_which_moves_as_before(load: Any) -> None:
    """On clips laden with everything, as joints with a root of their own."""
    clip = laden(load)
    other = resampled(TAKES[1].clean(), Fraction(30), 0, 60)
    wider = with_partners(clip, {clip.partners[0].digest: other})
    own = len(clip.skeleton)
    assert len(wider.skeleton) == own + len(other.skeleton), "the muted one stays away"
    ours, alike = evaluate(clip).world(clip.skeleton), evaluate(wider).world(wider.skeleton)
    assert np.abs(ours[1] - alike[1][:, :own]).max() < 1e-9
    assert rotation.geodesic_deg(ours[0], alike[0][:, :own]).max() < 1e-6
    stand = Stand.of(clip, clip.partners[0]).placed(clip)
    turns, points = pose_beside(clip, other, stand).world(other.skeleton)
    assert np.abs(points - alike[1][:, own:]).max() * clip.millimetres < 1e-6
    assert rotation.geodesic_deg(turns, alike[0][:, own:]).max() < 1e-6
    with pytest.raises(BadInput, match="second: the partner's clip is not here any more"):
        with_partners(clip, {})


@pytest.mark.parametrize(
    "preset",
    [
        {"format": "bvh"}, {"format": "glb", "body": "figure"}, {"format": "usda"},
        {"format": "bvh", "up_axis": "z", "unit": "m", "rate": [24, 1], "root": "floor",
         "without": ["helpers", "ends"], "plain_names": True, "prefix": "day_"},
    ],
    ids=["bvh", "glb", "usda", "another bvh"],
)  # fmt: skip
def test_files_with_a_partner_are_read_back_with_both_figures(
    two: tuple[Clip, Clip], preset: dict[str, Any]
) -> None:
    clip, other = two
    clip = edited(clip, {"do": "add", "name": "Wren 2", "other": 0, "moved": [900, 0, 0]})
    asked = preset_of({**preset, "partners": True})
    wider = staged(clip, asked, {DIGEST: other})
    file = made(wider, asked)
    proof = proven(file.data, f"two.{asked.format}", wider, file.expected)
    assert proof.joints >= len(clip.skeleton) + 20
    assert proof.max_mm < 0.1
    named = [n for n in file.clip.skeleton.names if "Wren_2_" in n]
    assert len(named) == len(other.skeleton)
    assert staged(clip, preset_of(preset), {}) is clip, "they go along where that is asked for"
    assert staged(clip, preset_of({"format": "json", "partners": True}), {}) is clip


def test_a_figure_whose_joints_are_called_like_a_partner_is_delivered_as_ever(
    two: tuple[Clip, Clip],
) -> None:
    clip, _ = two
    names = tuple(f"deck_{n}" for n in clip.skeleton.names)
    alike = replace(clip, skeleton=replace(clip.skeleton, names=names))
    preset = preset_of({"format": "bvh", "without": ["fingers", "ends"]})
    fewer = made(alike, preset).clip.skeleton.names
    with_one = edited(alike, {"do": "add", "name": "deck", "other": 0})
    assert made(with_one, preset).clip.skeleton.names == fewer
    assert len(fewer) < len(names)
    with pytest.raises(BadInput, match="call the partner otherwise"):
        with_partners(with_one, {DIGEST: clip})


def test_a_scene_goes_along_with_its_placement(two: tuple[Clip, Clip]) -> None:
    """A prop that follows a partner's hand stays on it wherever the clip is placed."""
    clip, other = two
    here = propped(clip, other, do="add", name="hand", joints=["RightHand"], other=0)
    placed = replace(here, placement=Placement((30.0, 0.0, 10.0), 40.0))
    afresh = propped(
        replace(clip, placement=placed.placement), other, do="add", name="hand",
        joints=["RightHand"], other=0,
    )  # fmt: skip
    stand = Stand().placed(placed)
    points = pose_beside(placed, other, stand).world(other.skeleton)[1]
    hand = points[:, other.skeleton.index("RightHand")]
    for scene in (placed, afresh):
        assert np.abs(placed_props(scene)[1][:, 0] - hand).max() < 1e-9
    assert np.abs(prop_pose(afresh)[1] - prop_pose(here)[1]).max() < 1e-9
