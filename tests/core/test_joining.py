"""Joining: which frames of two clips fit, where the second is laid, and how they blend."""

from __future__ import annotations

import json
from fractions import Fraction
from functools import cache
from pathlib import Path

import numpy as np
import pytest
from leancurve.cleaning.contacts import contacts_of, support_of
from leancurve.cli import main
from leancurve.curves.curve import SampledCurve
from leancurve.demo import TAKES, crate_take
from leancurve.demo.characters import heron_file
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.document.moves import Move
from leancurve.document.parts.registry import moved_by
from leancurve.document.track import base_track
from leancurve.errors import BadInput
from leancurve.figure.skeleton import UP
from leancurve.formats.clipjson import write_clip
from leancurve.formats.files import read_take
from leancurve.joining.blending import alike, joined
from leancurve.joining.clouds import cloud, distances, fit, points_of
from leancurve.joining.seams import Seam, best_seams, minima, seam_at
from leancurve.numbers import rotation
from leancurve.time.resample import resampled
from scipy.stats import spearmanr


@cache
def walk() -> Clip:
    return resampled(TAKES[2].clean(), Fraction(60), 0, 500)


@cache
def haul() -> Clip:
    return resampled(TAKES[0].clean(), Fraction(60), 0, 600)


def plainly(a: Clip, b: Clip, i: int, j: int) -> float:
    """The windowed distance of Kovar, Gleicher and Pighin (2002), the plain way: all frames within
    0.1 s, the best turn over the floor by singular values (Kabsch 1976) and the best shift, mm."""
    clouds = []
    for clip, frame in ((a, i), (b, j)):
        half = round(0.1 * float(clip.rate))
        at = np.clip(np.arange(frame - half, frame + half + 1), 0, clip.frames - 1)
        points = evaluate(clip, at.astype(np.float64)).world(clip.skeleton)[1]
        points = points[:, points_of(clip.body)].reshape(-1, 3)
        points[:, 1] -= support_of(clip).floor
        clouds.append(points * clip.millimetres)
    x, y = (c[:, [0, 2]] - c[:, [0, 2]].mean(axis=0) for c in clouds)
    u, _, v = np.linalg.svd(y.T @ x)
    turn = u @ np.diag([1.0, np.linalg.det(u @ v)]) @ v
    high = clouds[0][:, 1] - clouds[1][:, 1]
    return float(np.sqrt(((x - y @ turn) ** 2).sum(axis=1).mean() + (high**2).mean()))


def test_the_distance_ranks_pairs_as_whole_windows_do() -> None:
    """At least 0.995 of rank correlation with the plain way, on two takes."""
    a, b = walk(), haul()
    ours = distances(cloud(a), cloud(b))
    random = np.random.default_rng(2)
    pairs = [(random.integers(0, a.frames), random.integers(0, b.frames)) for _ in range(300)]
    plain = [plainly(a, b, int(i), int(j)) for i, j in pairs]
    mine = [float(ours[i, j]) for i, j in pairs]
    assert spearmanr(plain, mine).statistic > 0.995
    assert np.abs(np.array(plain) / mine - 1.0).max() < 0.25


@pytest.mark.parametrize("up", ["y", "z"])
def test_a_clip_that_was_turned_and_moved_is_laid_back(up: str) -> None:
    """Known: turned by 73 degrees and moved; the floor 12 mm higher goes along."""
    clip = walk()
    if up == "z":
        from leancurve.delivery.axes import in_axes  # of a whole clip: another room

        clip = in_axes(clip, "z", 0.01)
    axis = UP[clip.reading.up_axis]
    turn = rotation.from_axis("XYZ"[axis], np.array(73.0))
    by = np.array([140.0, 140.0, 140.0])
    by[axis] = 1.2
    away = Move(tuple(map(float, by)), tuple(map(float, turn)))  # type: ignore[arg-type]
    other = resampled(moved_by(clip, away), planted=True)
    seam = seam_at(clip, other, 200, 200)
    assert seam.fit.distance_mm < 1e-3
    assert seam.fit.turned_deg == pytest.approx(-73.0, abs=1e-6)
    assert seam.unlike == ()
    back = np.array(seam.fit.move.by) / clip.millimetres
    there = rotation.rotate(np.array(seam.fit.move.turn), by) + back
    assert np.abs(there).max() < 1e-3
    # All pairs say the same as the one that is looked at by itself.
    ours = distances(cloud(clip), cloud(other))
    for i, j in ((10, 200), (333, 41)):
        alone = fit(cloud(clip), cloud(other), i, j, axis)
        assert ours[i, j] == pytest.approx(alone.distance_mm, rel=1e-3)


def test_repeats_of_a_walk_are_the_best_pairs() -> None:
    """The script's walk repeats itself with each stride, which its heels tell: the best pairs lie
    one, two and three of them apart."""
    clip = walk()
    heels = [c.first for c in contacts_of(clip) if c.limb == "left heel" and c.first > 200]
    stride = float(np.diff(heels).mean())
    found = best_seams(clip, clip, (60, 230), (260, 440))
    strides = [(s.frame_b - s.frame_a) / stride for s in found]
    assert [round(n) for n in strides] == [1, 2, 3]
    assert np.abs(np.array(strides) - np.round(strides)).max() < 2.0 / stride
    assert [s.fit.distance_mm for s in found] == sorted(s.fit.distance_mm for s in found)
    assert found[0].good
    assert not found[0].unlike


def test_minima_are_lower_than_all_around_them() -> None:
    apart = np.full((40, 60), 9.0, dtype=np.float32)
    apart[7, 33], apart[8, 34], apart[31, 2] = 1.0, 2.0, 3.0
    assert minima(apart, 10, 10)[:2] == [(7, 33), (31, 2)]
    assert minima(apart[:1, :1], 10, 10) == [(0, 0)]


def test_outside_of_a_blend_both_clips_are_as_they_were() -> None:
    a, b = walk(), haul()
    (seam, *_) = best_seams(a, b, (250, 480), (20, 300))
    whole = joined(a, b, seam, 18, 18)
    assert whole.seam == seam.frame_a
    assert whole.clip.frames == seam.frame_a + b.frames - seam.frame_b
    later = whole.last + 1 - (seam.frame_a - seam.frame_b)
    for track in a.channels:
        values = whole.clip.curves[track].at(np.arange(float(whole.clip.frames)))
        ours = a.curves[track].at(np.arange(float(a.frames)))
        assert np.array_equal(values[: whole.first], ours[: whole.first])
        if a.skeleton.parents[track.joint] >= 0 and track.turns:
            theirs = b.curves[track].at(np.arange(float(b.frames)))[later:]
            turns = (values[whole.last + 1 :] - theirs) / 360.0
            assert np.abs(turns - np.round(turns)).max() < 1e-9
    # What comes after is the same motion, laid where it fits.
    mm = a.millimetres
    turn, by = np.array(seam.fit.move.turn), np.array(seam.fit.move.by) / mm
    theirs = evaluate(b).world(b.skeleton)[1][later:]
    found = evaluate(whole.clip).world(a.skeleton)[1][whole.last + 1 :]
    assert np.abs(rotation.rotate(turn, theirs) + by - found).max() * mm < 1e-4


def test_neither_place_nor_speed_jumps_at_a_seam() -> None:
    """Of all joints: no step in a frame beyond what the two clips do themselves around it, and no
    acceleration above twice theirs."""
    a, b = walk(), walk()
    (seam, *_) = best_seams(a, b, (250, 330), (40, 160))
    whole = joined(a, b, seam, 18, 18)
    points = evaluate(whole.clip).world(a.skeleton)[1]
    own = evaluate(a).world(a.skeleton)[1]
    steps = np.linalg.norm(np.diff(points, axis=0), axis=2)
    most = np.linalg.norm(np.diff(own, axis=0), axis=2).max(axis=0)
    assert (steps[whole.first - 1 : whole.last + 1].max(axis=0) < 1.3 * most + 1e-6).all()
    bends = np.linalg.norm(np.diff(points, 2, axis=0), axis=2).max(axis=0)
    theirs = np.linalg.norm(np.diff(own, 2, axis=0), axis=2).max(axis=0)
    assert (bends < 2.0 * theirs + 1e-6).all()


def test_what_does_not_fit_is_refused_or_told() -> None:
    a = walk()
    with pytest.raises(BadInput, match="another skeleton"):
        alike(a, resampled(heron_file()))
    slow = resampled(a, Fraction(30))
    assert alike(a, slow).rate == a.rate
    with pytest.raises(BadInput, match="has frames 0 to"):
        seam_at(a, a, 900, 0)
    with pytest.raises(BadInput, match="no frames on either side"):
        joined(a, a, seam_at(a, a, a.frames - 1, 0), 18, 18)
    with pytest.raises(BadInput, match="too short for a blend"):
        best_seams(a, a, (30, 20), (0, 10))
    # One that lies down beside one that walks: the nearest pair is far, and says so.
    still = {t: SampledCurve(np.zeros(a.frames)) for t in a.channels if t.turns}
    still[base_track(0, "rx")] = SampledCurve(np.full(a.frames, 90.0))
    lying = a.with_curves(still)
    assert isinstance(seam_at(a, lying, 10, 400), Seam)
    assert not any(s.good for s in best_seams(a, lying, (20, 480), (20, 480)))


def test_takes_are_joined_at_the_command_line(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    """Three takes one after another: frames add up, the feet stand through the blends."""
    files = []
    clips = [walk(), haul(), resampled(crate_take().clip, Fraction(60), 0, 400)]
    for k, clip in enumerate(clips):
        files.append(str(tmp_path / f"{k}.json"))
        Path(files[-1]).write_bytes(write_clip(clip))
    out = str(tmp_path / "all.json")
    assert main(["join", *files, out, "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    made = read_take(Path(out).read_bytes(), "all.json").clip
    first, second = told["seams"]
    after = first["frames"][0] + clips[1].frames - first["frames"][1]
    assert made.frames == told["frames"]
    assert made.frames == second["frames"][0] + clips[2].frames - second["frames"][1]
    assert second["frames"][0] < after
    for seam in told["seams"]:
        assert seam["slide_mm"] <= 2.0
        assert seam["good"] == (seam["distance_mm"] <= 70.0)
    chosen = main(["join", *files[:2], out, "--at", "300,40", "--blend", "0.2", "--json"])
    assert chosen == 0
    (seam,) = json.loads(capsys.readouterr().out)["seams"]
    assert seam["frames"] == [300, 40]
    assert seam["blended"] == [288, 312]
    assert main(["join", files[0], out]) == 2
    assert "two files" in capsys.readouterr().err
