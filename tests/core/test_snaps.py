"""Snaps mended: turned back by what they put on, or filled from the good samples."""

from __future__ import annotations

import numpy as np
import pytest
from leancurve.curves.curve import SampledCurve
from leancurve.demo import TAKES, captured
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.document.track import base_track
from leancurve.measures.findings import find
from leancurve.numbers import rotation
from leancurve.operations import OPERATIONS, Scope, apply_patch


def snapped(clip: Clip, joint: str, first: int, last: int, degrees: float) -> Clip:
    """The joint turned about its bone by so much from first to last, as a solver leaves it."""
    j = clip.skeleton.index(joint)
    order = clip.order(j)
    names = [base_track(j, f"r{a.lower()}") for a in order]
    angles = np.stack([clip.curves[c].at(np.arange(clip.frames, dtype=float)) for c in names], 1)
    q = rotation.from_euler(angles, order)
    twist = rotation.from_axis("X", np.full(last - first + 1, degrees))
    q[first : last + 1] = rotation.multiply(q[first : last + 1], twist)
    wrong = rotation.to_euler(q, order)
    return clip.with_curves(
        {c: SampledCurve(np.ascontiguousarray(wrong[:, k])) for k, c in enumerate(names)}
    )


@pytest.mark.parametrize("degrees", [75.0, 150.0, 180.0])
def test_a_wrong_twist_is_turned_back(walk: Clip, degrees: float) -> None:
    broken = snapped(walk, "LeftForearm", 300, 420, degrees)
    patch = OPERATIONS["mend_snaps"].run(broken)
    assert patch.report["turned_back"] == 1
    j = walk.skeleton.index("LeftForearm")
    off = rotation.geodesic_deg(
        evaluate(apply_patch(broken, patch)).rotation[:, j], evaluate(walk).rotation[:, j]
    )
    assert off.max() < 1.0


def test_a_jump_that_stays_is_turned_back_to_the_end(walk: Clip) -> None:
    broken = snapped(walk, "RightForearm", 500, walk.frames - 1, 120)
    mended = apply_patch(broken, OPERATIONS["mend_snaps"].run(broken))
    j = walk.skeleton.index("RightForearm")
    off = rotation.geodesic_deg(evaluate(mended).rotation[:, j], evaluate(walk).rotation[:, j])
    assert off.max() < 1.0


def test_a_short_snap_can_be_filled(walk: Clip) -> None:
    broken = snapped(walk, "LeftForearm", 300, 308, 130)
    patch = OPERATIONS["mend_snaps"].run(broken)
    assert patch.report["filled"] == 1
    mended = apply_patch(broken, patch)
    assert not find(mended, ["snap"])
    j = walk.skeleton.index("LeftForearm")
    off = rotation.geodesic_deg(evaluate(mended).rotation[:, j], evaluate(walk).rotation[:, j])
    assert off.max() < 2.0


def test_the_demos_snaps_are_mended_and_only_they_change() -> None:
    capture = captured(TAKES[1], 102)
    clip = apply_patch(capture.clip, OPERATIONS["unflip"].run(capture.clip))
    patch = OPERATIONS["mend_snaps"].run(clip, {}, Scope(joints=("LeftForearm", "RightForearm")))
    mended = apply_patch(clip, patch)
    assert len(find(clip, ["snap"])) == 2
    assert not find(mended, ["snap"])
    assert {clip.skeleton.names[c.joint] for c in patch.curves} == {"LeftForearm", "RightForearm"}
    before = evaluate(clip).rotation
    after = evaluate(mended).rotation
    spans = np.zeros(clip.frames, dtype=bool)
    for d in capture.truth:
        if d.kind == "snap":
            spans[d.first : d.last + 1] = True
    assert rotation.geodesic_deg(before, after)[~spans].max() < 1e-6
