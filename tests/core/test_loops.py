"""Loops: found in a clip, closed, and gone round as often as wanted on the way that they lead."""

from __future__ import annotations

import json
from dataclasses import replace
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from leancurve.cleaning.contacts import contacts_of
from leancurve.cli import main
from leancurve.delivery.folder import deliver_takes
from leancurve.delivery.preset import preset_of
from leancurve.delivery.report import goes_on
from leancurve.demo import TAKES
from leancurve.demo.characters import heron_file
from leancurve.document.clip import Clip, Mark
from leancurve.document.evaluation import evaluate
from leancurve.errors import BadInput
from leancurve.formats.bvh import Take
from leancurve.formats.clipjson import write_clip
from leancurve.formats.files import read_take
from leancurve.joining.loops import MOVES, loops_of
from leancurve.measures.travel import lap_of, round_of, travel_of
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats
from leancurve.operations import OPERATIONS, apply_patch
from leancurve.recipe import moved_line
from leancurve.time.meaning import ClipTime

from tests.core.laden import WHOLE, Load, laden


def did(clip: Clip, name: str, inputs: Any = None, **params: Any) -> Clip:
    return apply_patch(clip, OPERATIONS[name].run(clip, params, inputs=inputs))


@cache
def walk() -> Clip:
    return TAKES[2].clean()


@cache
def cycle(figure: str, way: str) -> Clip:
    """One cycle of the walk on a figure, along a line or a circle, closed over all of it."""
    clip = walk()
    if figure == "Heron":
        clip = did(clip, "retarget", {"target": heron_file()})
    if way == "circle":
        clip = did(clip, "travel", way="evenly turned", turn=540.0, axes=("heading",))
    loop = loops_of(clip, 200, clip.frames - 1)[0]
    cut = did(clip, "trim", first=loop.first, last=loop.last, calibration=False)
    return did(cut, "close_loop", spread=cut.frames - 2)


def world(clip: Clip) -> tuple[Floats, Floats]:
    turns, points = evaluate(clip).world(clip.skeleton)
    return np.asarray(turns), np.asarray(points)


def test_loops_are_whole_cycles_that_move() -> None:
    """The script of the demo's walk takes a stride of 1.48 s: two steps, 0.6 m along the deck."""
    clip = walk()
    found = loops_of(clip, 0, clip.frames - 1)
    assert [x.distance_mm for x in found] == sorted(x.distance_mm for x in found)
    best = found[0]
    stride = 89.0
    for loop in found[:3]:
        cycles = (loop.last - loop.first) / stride
        assert abs(cycles - round(cycles)) < 0.03 * max(1.0, round(cycles))
        assert loop.moves_mm >= MOVES * loop.distance_mm
    assert best.distance_mm < 10.0
    assert best.goes_on.travel_mm == pytest.approx(600.0, rel=0.02)
    assert best.seam.unlike == ()


def test_who_stands_makes_no_loop_and_frames_are_asked_for() -> None:
    clip = walk()
    assert loops_of(did(clip, "trim", first=0, last=30, calibration=False), 0, 30) == []
    with pytest.raises(BadInput, match="expected frames within 0 to"):
        loops_of(clip, 0, clip.frames)


def test_a_long_clip_is_looked_through_in_steps_and_found_to_the_frame() -> None:
    long = did(cycle("Wren", "line"), "repeat", times=30, offset="way")
    assert long.frames > 2500
    period = cycle("Wren", "line").frames - 1
    for loop in loops_of(long, 0, long.frames - 1, 3):
        assert (loop.last - loop.first) % period == 0
        assert loop.distance_mm < 1e-2


@pytest.mark.parametrize("way", ["line", "circle"])
@pytest.mark.parametrize("figure", ["Wren", "Heron"])
def test_ten_cycles_go_on_without_drift_and_without_a_seam(figure: str, way: str) -> None:
    """Each stands where the way leads it, to a millionth of a metre, and no point is jerked more
    at a seam than within a cycle."""
    clip = cycle(figure, way)
    period = clip.frames - 1
    ten = did(clip, "repeat", times=10, offset="way")
    lap = lap_of(travel_of(clip), 0, period)
    if way == "circle":
        assert abs(np.degrees(lap.turn)) > 20.0
    points, one = world(ten)[1], world(clip)[1]
    up, level = 1, (2, 0)
    for k in range(10):
        here = slice(k * period, (k + 1) * period + (k == 9))
        on = lap.times(k)
        turn = rotation.from_axis("Y", np.degrees(np.array(on.turn)))
        by = np.zeros(3)
        by[level[0]], by[level[1]] = on.by.real, on.by.imag
        wanted = rotation.rotate(turn, one[: here.stop - here.start]) + by
        assert np.abs(wanted - points[here]).max() * clip.millimetres < 1e-3
        assert np.abs(wanted[..., up] - points[here][..., up]).max() < 1e-9
    jerked = np.abs(np.diff(points, 2, axis=0)).max(axis=(1, 2))
    seams = jerked[period - 1 :: period]
    assert seams.max() < np.quantile(jerked, 0.99)
    assert np.diff(travel_of(ten).angle).max() < np.radians(5.0), "no half turn in a frame"


@pytest.mark.parametrize("load", WHOLE, ids=str)
def test_rounds_carry_all_that_a_clip_has(load: Load) -> None:
    """Before plants everything stands in each round as in the first, as far as it has come."""
    clip = laden(load)
    period = clip.frames - 1
    twice = did(clip, "repeat", offset="way")
    lap = lap_of(travel_of(clip), 0, period)
    turn = rotation.from_axis(clip.reading.up_axis.upper(), np.degrees(np.array(lap.turn)))
    was, now = world(clip.unplanted), world(twice.unplanted)
    turned = rotation.multiply(turn, was[0])
    assert rotation.geodesic_deg(turned, now[0][period:]).max() < 1e-6
    moved = now[1][period:] - rotation.rotate(turn, was[1])
    assert np.ptp(moved.reshape(-1, 3), axis=0).max() < 1e-6 * clip.skeleton.rest_height
    assert len(twice.plants) >= len(clip.plants)
    assert {p.part for p in twice.plants if p.first > period} == {p.part for p in clip.plants}


def test_a_loop_begins_at_a_heels_contact() -> None:
    """The same cycle, from another pose on: gone round it is the same walk, carried on."""
    clip = cycle("Wren", "circle")
    period = clip.frames - 1
    heels = [c.first for c in contacts_of(clip) if c.limb == "left heel" and c.first > 0]
    first = heels[0]
    marked = replace(clip, marks=(Mark(first + 3, first + 5, "down"), Mark(2, 4, "early")))
    begun = did(marked, "begin_loop", frame=first)
    assert begun.frames == clip.frames
    twice = did(clip, "repeat", times=2, offset="way")
    assert np.abs(world(begun)[1] - world(twice)[1][first : first + clip.frames]).max() < 1e-7
    assert begun.marks == (
        Mark(3, 5, "down"),
        Mark(period - first + 2, period - first + 4, "early"),
    )
    there, own = lap_of(travel_of(begun), 0, period), lap_of(travel_of(clip), 0, period)
    assert there.turn == pytest.approx(own.turn, abs=1e-9)
    assert did(clip, "begin_loop", frame=0).curves == clip.curves
    with pytest.raises(BadInput, match="expected a frame within"):
        did(clip, "begin_loop", frame=clip.frames)


def test_a_heading_no_longer_bends_back_but_in_older_lines() -> None:
    clip = did(walk(), "travel", way="evenly turned", turn=540.0, axes=("heading",))
    loop = loops_of(clip, 200, clip.frames - 1)[0]
    cut = did(clip, "trim", first=loop.first, last=loop.last, calibration=False)
    turned = loop.goes_on.turned_deg

    def turns(**params: Any) -> float:
        travel = travel_of(did(cut, "close_loop", spread=20, **params))
        return float(np.degrees(travel.angle[-1] - travel.angle[0]))

    assert turns() == pytest.approx(turned, abs=1e-6)
    assert turns(heading=False) == pytest.approx(0.0, abs=0.5) or abs(turned) > 180
    old: Any = {"operation": "close_loop", "version": 1, "params": {"spread": 20}, "scope": {}}
    assert OPERATIONS["close_loop"].upgraded(1, old["params"])["heading"] is False
    time = ClipTime(cut.rate, cut.frames)
    assert moved_line(old, time, time).line["params"] == {"spread": 20}


def test_the_command_line_loops_and_keeps_in_place(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    source, out = tmp_path / "walk.json", tmp_path / "out.bvh"
    source.write_bytes(write_clip(walk()))
    assert main(["loop", str(source), str(out), "--cycles", "3", "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert told["frames"] == 3 * told["cycle_frames"] + 1
    assert told["loops"][0]["frames"] == [told["first"], told["last"]]
    assert told["travel_mm"] == pytest.approx(told["loops"][0]["travel_mm"], rel=1e-3)
    three = read_take(out.read_bytes(), "out.bvh").clip
    ends = travel_of(three).path[[0, -1]]
    assert abs(ends[1] - ends[0]) * 10.0 == pytest.approx(3 * told["travel_mm"], rel=1e-3)
    assert main(["inplace", str(source), str(out), "--axes", "z", "--spans", "200-300,400-500",
                 "--ease", "0", "--json"]) == 0  # fmt: skip
    assert len(json.loads(capsys.readouterr().out)["spans"]) == 2
    still = read_take(out.read_bytes(), "out.bvh").clip
    for first, last in ((200, 300), (400, 500)):
        path = travel_of(still).path[first : last + 1]
        assert np.ptp(path.real) < 1e-4
        assert np.ptp(travel_of(walk()).path[first : last + 1].real) > 50.0
    assert main(["loop", str(source), str(out), "--at", "5000,6000"]) == 2
    assert main(["inplace", str(source), str(out), "--axes", "y"]) == 2
    assert "y is up" in capsys.readouterr().err
    with pytest.raises(SystemExit):
        main(["inplace", str(source), str(out), "--spans", "twenty"])


def test_a_delivered_cycle_says_what_it_goes_on_by(tmp_path: Path) -> None:
    clip = replace(cycle("Wren", "line"), name="walk cycle")
    (told,) = deliver_takes([Take(clip)], preset_of({"format": "bvh"}), tmp_path)
    assert told["verified"]
    lap = round_of(clip, 0, clip.frames - 1)
    assert told["travel_mm"] == pytest.approx(lap.travel_mm, abs=0.01)
    assert told["turned_deg"] == pytest.approx(lap.turned_deg, abs=0.001)
    assert goes_on(clip) == {"mm": told["travel_mm"], "deg": told["turned_deg"]}
