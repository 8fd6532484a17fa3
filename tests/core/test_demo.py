"""The procedural capture holds to its numbers: the truth that other tests lean on."""

from __future__ import annotations

import numpy as np
import pytest
from leancurve.demo import TAKES, DemoTake, captured
from leancurve.demo.suit import deckhand
from leancurve.document.evaluation import evaluate
from leancurve.measures.drift import drift
from leancurve.measures.picture import picture
from leancurve.numbers import rotation

MOST_ACCELERATION = 4500.0
"""Degrees per second squared that no joint of a clean take exceeds."""


@pytest.fixture(params=TAKES, ids=lambda t: t.file)
def take(request: pytest.FixtureRequest) -> DemoTake:
    return request.param


def test_the_suit_has_65_joints_and_198_channels() -> None:
    clip = TAKES[2].clean()
    assert (len(deckhand()), len(clip.channels)) == (65, 198)
    assert TAKES[0].clean().frames == 3500
    assert TAKES[0].clean().rate == 120


def test_planted_feet_slip_at_most_a_millimetre(take: DemoTake) -> None:
    clip, performance = take.clean(), take.perform()
    _, positions = evaluate(clip).world(clip.skeleton)
    spans = 0
    for side, planted in performance.planted.items():
        foot = positions[:, clip.skeleton.index(f"{side}Foot")]
        for first, last in planted:
            if last - first > 3:
                spans += 1
                assert np.ptp(foot[first : last + 1], axis=0).max() * 10 <= 1.0
    assert spans >= 6


def test_limbs_keep_their_lengths_and_feet_reach_where_they_should(take: DemoTake) -> None:
    clip, performance = take.clean(), take.perform()
    _, positions = evaluate(clip).world(clip.skeleton)
    for joint, parent in enumerate(clip.skeleton.parents):
        if parent >= 0:
            length = np.linalg.norm(positions[:, joint] - positions[:, parent], axis=1)
            assert np.ptp(length) < 1e-9
    for side in ("Left", "Right"):
        for name, wanted in (("Foot", performance.feet), ("Hand", performance.hands)):
            at = positions[:, clip.skeleton.index(side + name)]
            assert np.abs(at - wanted[side]).max() < 1e-6


def test_no_joint_accelerates_beyond_the_stated_bound(take: DemoTake) -> None:
    clip = take.clean()
    q = rotation.hemisphere(evaluate(clip).rotation)
    rate = float(clip.rate)
    step = rotation.multiply(rotation.conjugate(q[:-1]), q[1:])
    speed = 2 * np.degrees(step[..., :3]) * rate
    acceleration = np.linalg.norm(np.diff(speed, axis=0), axis=-1) * rate
    assert acceleration.max() < MOST_ACCELERATION


def test_feet_stay_above_the_floor(take: DemoTake) -> None:
    clip = take.clean()
    _, positions = evaluate(clip).world(clip.skeleton)
    toes = [clip.skeleton.index(f"{s}Toe") for s in ("Left", "Right")]
    assert positions[:, toes, 1].min() > 0


def test_captures_are_the_same_each_time_and_differ_where_they_say(take: DemoTake) -> None:
    a, b = captured(take), captured(take)
    for c in a.clip.channels:
        assert np.array_equal(a.clip.curves[c].values, b.clip.curves[c].values)
    assert a.truth == b.truth
    assert {d.kind for d in a.truth} >= {
        "calibration pose", "slide", "sink", "snap", "spike", "jitter", "idle", "alternate", "wrap",
        "gap",
    }  # fmt: skip
    assert a.clip.frames == take.clean().frames + a.lead_in


def test_flips_seeded_last_change_no_pose(take: DemoTake) -> None:
    """Sizes of wraps and alternates are in the channels, not in the motion."""
    clean, dirty = take.clean(), captured(take)
    spikes = [d for d in dirty.truth if d.kind in ("spike", "snap", "pop", "gap")]
    quiet = np.ones(dirty.clip.frames, dtype=bool)
    quiet[: dirty.lead_in] = False
    for d in spikes:
        quiet[d.first : d.last + 1] = False
    frames = np.flatnonzero(quiet)[::50].astype(float)
    ours = evaluate(dirty.clip, frames).rotation
    truth = evaluate(clean, frames - dirty.lead_in).rotation
    arms = [j for j, n in enumerate(clean.skeleton.names) if "Arm" in n or "Spine" in n]
    assert rotation.geodesic_deg(ours, truth)[:, arms].max() < 1.0


def test_the_picture_shows_figures_that_stand_on_the_floor(take: DemoTake) -> None:
    figures = [np.array(shapes) for shapes in picture(take.clean())["figures"]]
    assert len(figures) == 7
    for shapes in figures:
        low = (shapes[:, [1, 4]] - shapes[:, [2, 5]]).min()
        high = (shapes[:, [1, 4]] + shapes[:, [2, 5]]).max()
        assert low > -0.03
        assert 0.7 < high < 1.2
        assert 7 <= shapes[:, 6].sum() <= len(shapes) / 2


def test_thinned_clean_take_is_within_its_drift(take: DemoTake) -> None:
    from leancurve.operations import OPERATIONS, apply_patch

    clip = take.clean()
    thin = apply_patch(clip, OPERATIONS["thin"].run(clip))
    moved = drift(thin, clip)
    assert moved.max_deg < 3 * 0.25
    assert moved.max_mm < 25
