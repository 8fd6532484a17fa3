"""A clip's parts: each declared once, and found everywhere that parts matter."""

from __future__ import annotations

import sys
from dataclasses import dataclass, fields, replace
from typing import Any

import numpy as np
import pytest
from leancurve.document import stored
from leancurve.document.clip import Clip, Placement
from leancurve.document.evaluation import evaluate
from leancurve.document.moves import Move
from leancurve.document.parts import registry
from leancurve.document.parts.base import Part
from leancurve.document.parts.registry import PARTS, bare, moved_by, public_parts, touched
from leancurve.document.placement import placed_props
from leancurve.document.root_motion import headings, root_motion
from leancurve.document.sound import require_sound
from leancurve.errors import BadInput
from leancurve.formats import clipjson
from leancurve.numbers import rotation
from leancurve.operations import OPERATIONS, Patch, apply_patch
from leancurve.time.resample import resampled

from tests.core.laden import FAMILY, laden

DOCUMENT = {"skeleton", "layout", "curves", "rate", "frames", "reading", "name"}
"""What a clip is beside its parts."""


def test_a_clip_a_patch_and_its_schema_have_the_registered_parts_and_no_others() -> None:
    names = {part.name for part in PARTS}
    assert names == {f.name for f in fields(Clip)} - DOCUMENT
    assert names == {f.name for f in fields(Patch)} - DOCUMENT - {"unset", "report"}
    assert names <= set(clipjson.schema()["properties"])


def test_a_part_is_none_where_a_clip_has_none_of_it() -> None:
    usual = {f.name: f.default for f in fields(Clip)}
    for part in PARTS:
        assert part.none == usual[part.name], part.name


# --- a part that nobody else knows of -------------------------------------------------------------


@dataclass(frozen=True, order=True)
class Lamp:
    """A lamp that is lit for a while, at a height."""

    name: str
    first: int
    last: int
    height: float = 2.0


@dataclass(frozen=True, eq=False)
class LitClip(Clip):
    lamps: tuple[Lamp, ...] = ()


@dataclass(frozen=True, eq=False)
class LitPatch(Patch):
    lamps: tuple[Lamp, ...] | None = None


def _sound(clip: Clip) -> None:
    assert isinstance(clip, LitClip)
    if any(lamp.height < 0 for lamp in clip.lamps):
        raise BadInput("a lamp hangs below the floor")


def _lower(clip: Clip, lamps: tuple[Lamp, ...], move: Move) -> tuple[Lamp, ...]:
    return tuple(replace(x, height=x.height + move.by[1]) for x in lamps)


LAMPS: Part[Lamp] = Part(
    "lamps", "lamps",
    item=lambda values: Lamp(**values),
    key=lambda lamp: lamp.name,
    most=3,
    sound=_sound,
    spans=True,
    moved=_lower,
)  # fmt: skip


@pytest.fixture
def lit(monkeypatch: pytest.MonkeyPatch) -> LitClip:
    """A laden clip that has lamps too, where the application knows of lamps by their one
    declaration: the classes that hold them stand for its own."""
    for module in [m for n, m in sys.modules.items() if n.startswith("leancurve")]:
        if getattr(module, "Patch", None) is Patch:
            monkeypatch.setattr(module, "Patch", LitPatch)
    monkeypatch.setattr(stored, "Clip", LitClip)
    monkeypatch.setattr(clipjson, "Clip", LitClip)
    for module in (registry, clipjson, sys.modules["leancurve.operations.shape.loops"]):
        monkeypatch.setattr(module, "PARTS", (*PARTS, LAMPS))
    whole = clipjson.schema()
    kept = {**whole, "properties": {**whole["properties"], "lamps": {"type": "array"}}}
    monkeypatch.setattr(clipjson, "schema", lambda: kept)
    clip = laden(FAMILY[0])
    values = {f.name: getattr(clip, f.name) for f in fields(Clip)}
    return LitClip(**values, lamps=(Lamp("quay", 5, 20), Lamp("shed", 30, 35)))


def lamps(clip: Clip) -> list[tuple[str, int, int]]:
    assert isinstance(clip, LitClip)
    return [(x.name, x.first, x.last) for x in clip.lamps]


def test_a_new_part_is_kept_and_told(lit: LitClip) -> None:
    header = stored.header_of(lit, "name")
    assert stored.clip_of(header, lit.skeleton, lit.curves).lamps == lit.lamps  # type: ignore[attr-defined]
    assert clipjson.read_clip(clipjson.write_clip(lit)).clip.lamps == lit.lamps  # type: ignore[attr-defined]
    assert public_parts(lit)["lamps"][0] == {"name": "quay", "first": 5, "last": 20, "height": 2.0}
    assert bare(lit).lamps == ()  # type: ignore[attr-defined]


def test_a_new_part_follows_time_and_moves(lit: LitClip) -> None:
    def after(name: str, **params: Any) -> Clip:
        return apply_patch(lit, OPERATIONS[name].run(lit, params))

    assert lamps(after("trim", first=10, last=32)) == [("quay", 0, 10), ("shed", 20, 22)]
    assert lamps(after("insert_frames", after=25, count=4))[1] == ("shed", 34, 39)
    assert lamps(after("change_rate", rate="60")) == [("quay", 10, 40), ("shed", 60, 70)]
    assert lamps(after("repeat", first=4, last=24, times=2)) == [
        ("quay", 5, 20), ("quay", 25, 40), ("shed", 50, 55),
    ]  # fmt: skip
    assert lamps(resampled(lit, first=5, last=25)) == [("quay", 0, 15)]
    assert moved_by(lit, Move((0.0, 3.0, 0.0))).lamps[0].height == 5.0  # type: ignore[attr-defined]


def test_a_new_part_has_limits_and_conflicts(lit: LitClip) -> None:
    with pytest.raises(BadInput, match="4 lamps; at most 3"):
        require_sound(replace(lit, lamps=(Lamp("a", 0, 1),) * 4))
    with pytest.raises(BadInput, match="below the floor"):
        require_sound(replace(lit, lamps=(Lamp("a", 0, 1, -1.0),)))
    data = clipjson.write_clip(replace(lit, lamps=(Lamp("a", 0, 1),) * 4))
    with pytest.raises(BadInput, match="lamps: 4 of them; at most 3"):
        clipjson.read_clip(data)
    other = replace(lit, lamps=(Lamp("quay", 5, 21), lit.lamps[1]))
    assert touched(lit, other) == {("lamps", "quay")}


# --- moved as a whole, and root motion ------------------------------------------------------------

TURN = rotation.from_axis("Y", np.array(40.0))


@pytest.mark.parametrize("at", [k for k, load in enumerate(FAMILY) if load.up == "y"])
def test_a_whole_clip_that_is_moved_is_seen_as_it_was_elsewhere(at: int) -> None:
    """Every joint of every root, props, and plants in the world: rigidly, whatever it carries."""
    clip = laden(FAMILY[at])
    assert clip.placement is not None
    size = clip.skeleton.rest_height
    move = Move((0.4 * size, 0.1 * size, -0.3 * size), tuple(TURN.tolist()))
    there = moved_by(clip, move)
    require_sound(there, clip)
    turns, points = evaluate(clip).world(clip.skeleton)
    turned, moved = evaluate(there).world(clip.skeleton)
    assert np.abs(move.points(points) - moved).max() < 1e-6 * size
    assert rotation.geodesic_deg(move.turns(turns), turned).max() < 1e-5
    for k, (a, b) in enumerate(zip(placed_props(clip), placed_props(there), strict=True)):
        assert np.abs((move.points(a) if k else move.turns(a)) - b).max() < 1e-6 * size
    back = moved_by(there, move.inverse)
    again = evaluate(back).world(clip.skeleton)[1]
    assert np.abs(again - points).max() < 1e-6 * size


def test_a_clip_is_not_turned_about_a_level_axis(walk: Clip) -> None:
    with pytest.raises(BadInput, match="up axis"):
        moved_by(walk, Move(turn=tuple(rotation.from_axis("X", np.array(10.0)).tolist())))


def test_what_is_scaled_along_the_floor_moves_as_a_whole_too(walk: Clip) -> None:
    scaled = replace(walk, placement=Placement((3.0, 0, 0), 25.0, 1.2, (10.0, 0.0, -4.0)))
    move = Move((7.0, 0.0, 2.0), tuple(TURN.tolist()))
    here = evaluate(scaled).translation[:, 0]
    assert (
        np.abs(evaluate(moved_by(scaled, move)).translation[:, 0] - move.points(here)).max() < 1e-9
    )


def test_root_motion_is_taken_off_and_put_back(walk: Clip) -> None:
    root, up = walk.skeleton.root, 1
    pose, motion = evaluate(walk), root_motion(walk)
    own = pose.rotation[:, root], pose.translation[:, root]
    turns, places = motion.taken_off(*own)
    assert np.abs(places[:, [0, 2]]).max() < 1e-9
    assert np.abs(places[:, up] - own[1][:, up]).max() < 1e-9
    assert np.abs(headings(turns, up)).max() < 1e-9
    again = motion.put_on(turns, places)
    assert rotation.geodesic_deg(again[0], own[0]).max() < 1e-9
    assert np.abs(again[1] - own[1]).max() < 1e-9 * walk.skeleton.rest_height


def test_a_heading_goes_on_where_a_figure_stands_on_its_head() -> None:
    """A salto while it turns by 90°: in the middle nothing says where it faces."""
    u = np.linspace(0.0, 1.0, 101)
    wound = np.array(
        [rotation.multiply(rotation.from_axis("Y", np.array(90.0 * x)),
                           rotation.from_axis("X", np.array(180.0 * np.sin(np.pi * x) ** 2)))
         for x in u]
    )  # fmt: skip
    facing = np.degrees(headings(wound, 1))
    assert facing[0] == pytest.approx(0.0, abs=1e-9)
    assert facing[-1] == pytest.approx(90.0, abs=1e-9)
    assert np.abs(np.diff(facing)).max() < 5.0
    assert np.array_equal(headings(np.tile([1.0, 0.0, 0.0, 0.0], (3, 1)), 1), np.zeros(3))


def test_from_one_stand_to_another_leads_a_move(walk: Clip) -> None:
    motion = root_motion(walk, (0, walk.frames - 1))
    move = motion.at(0).inverse.then(motion.at(1))
    assert np.allclose(move.points(motion.path[0]), motion.path[1])
    assert rotation.geodesic_deg(move.turns(motion.heading[0]), motion.heading[1]) < 1e-6
