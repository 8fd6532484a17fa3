"""Dropped frames: a step of two frames' way of the whole body, found and given its time again."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from leancurve.curves.curve import SampledCurve, frame_values
from leancurve.demo import TAKES, DemoTake, captured
from leancurve.document.clip import Clip, Mark
from leancurve.document.evaluation import evaluate
from leancurve.errors import BadInput
from leancurve.measures.findings import Motion, find
from leancurve.measures.findings.dropped import dropped_frames
from leancurve.numbers import rotation
from leancurve.operations import OPERATIONS, apply_patch
from leancurve.recipe import ALL_OF_IT, run_recipe


def dropped(clip: Clip, after: list[int]) -> Clip:
    """The clip without the frame after each of these, which are frames of what is left."""
    gone = [frame + 1 + n for n, frame in enumerate(after)]
    curves = {t: SampledCurve(np.delete(frame_values(c), gone)) for t, c in clip.curves.items()}
    return replace(clip, curves=curves, frames=clip.frames - len(gone))


def off(a: Clip, b: Clip) -> float:
    """The largest angle between the rotations of two clips of one length, degrees."""
    return float(rotation.geodesic_deg(evaluate(a).rotation, evaluate(b).rotation).max())


@pytest.mark.parametrize("take", TAKES, ids=lambda t: t.file)
def test_each_is_found_and_put_back_in_a_clean_take(take: DemoTake) -> None:
    clip = take.clean()
    places = [200, 330, 470, 640]
    short = dropped(clip, places)
    found = find(short, ["dropped frame"])
    assert [(f.first, f.last, f.size, f.unit) for f in found] == [
        (p, p + 1, 1.0, "frames") for p in places
    ]
    patch = OPERATIONS["restore_frames"].run(short)
    mended = apply_patch(short, patch)
    assert mended.frames == clip.frames
    assert off(mended, clip) < 0.2
    assert not find(mended, ["dropped frame", "spike", "snap", "gap"])
    # Done again as it was done, on the same take, it is the same.
    kind = OPERATIONS["restore_frames"]
    again = kind.run(short, kind.as_done({}, patch.report))
    assert off(apply_patch(short, again), mended) == 0.0


def test_two_frames_missing_in_one_place_are_two(walk: Clip) -> None:
    short = dropped(dropped(walk, [400]), [400])
    assert dropped_frames(Motion(short)) == [(400, 2)]
    assert apply_patch(short, OPERATIONS["restore_frames"].run(short)).frames == walk.frames


@pytest.mark.parametrize("take", TAKES, ids=lambda t: t.file)
def test_a_capture_that_dropped_none_has_none(take: DemoTake) -> None:
    """Freezes, snaps and spikes are told as such."""
    assert not find(captured(take, 105).clip, ["dropped frame"])
    assert not find(take.clean(), ["dropped frame"])


def test_in_a_real_capture_none_is_invented_and_a_visible_one_is_found(
    open_capture: Clip,
) -> None:
    assert not find(open_capture, ["dropped frame"])
    for place in (300, 675, 1275, 2400):
        assert dropped_frames(Motion(dropped(open_capture, [place]))) == [(place, 1)]


def test_everything_after_it_moves_later(walk: Clip) -> None:
    marked = replace(walk, marks=(Mark(100, 110, "before"), Mark(600, 620, "after")))
    places = {"places": [{"after": 200}, {"after": 500, "count": 2}]}
    patch = OPERATIONS["restore_frames"].run(marked, places)
    assert [(m.first, m.last) for m in patch.marks or ()] == [(100, 110), (603, 623)]
    assert patch.frames == walk.frames + 3
    with pytest.raises(BadInput, match="restore_frames: expected a frame within 0 to"):
        OPERATIONS["restore_frames"].run(walk, {"places": [{"after": walk.frames - 1}]})


def test_all_of_it_puts_them_back(walk: Clip) -> None:
    result = run_recipe(dropped(walk, [300, 500]), ALL_OF_IT)
    assert result.clip.frames == walk.frames
    line = next(x for x in result.lines if x.line["operation"] == "restore_frames")
    assert line.told == "Put back dropped frames"
    assert line.report["places"] == [{"after": 300, "count": 1}, {"after": 500, "count": 1}]
    assert off(result.clip, walk) < 1.0
