"""Joining: which frames of two clips fit, where the second is laid, and how they blend."""

from __future__ import annotations

import json
from dataclasses import replace
from fractions import Fraction
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from leancurve.cleaning.contacts import contacts_of, support_of
from leancurve.cli import main
from leancurve.curves.curve import KeyedCurve, SampledCurve
from leancurve.demo import TAKES, crate_take
from leancurve.demo.characters import heron_file
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.document.limits import require_pairs
from leancurve.document.moves import Move, point_of
from leancurve.document.parts.registry import moved_by
from leancurve.document.sound import require_sound
from leancurve.document.track import TrackId, base_track
from leancurve.errors import BadInput
from leancurve.figure.skeleton import UP
from leancurve.formats.clipjson import write_clip
from leancurve.formats.files import read_take
from leancurve.joining.blending import Blend, joined
from leancurve.joining.clouds import cloud, distances, fit, points_of
from leancurve.joining.seams import Seam, best_seams, laid_by, minima, pairs_of, seam_at
from leancurve.numbers import rotation
from leancurve.operations import OPERATIONS, apply_patch
from leancurve.time.meaning import ClipTime, moved_values
from leancurve.time.resample import resampled
from scipy.stats import spearmanr

from tests.core.laden import WHOLE, Load, laden


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
    whole = joined(a, b, seam, Blend(18, 18))
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
    whole = joined(a, b, seam, Blend(18, 18))
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
        joined(a, resampled(heron_file()), seam_at(a, a, 100, 100), Blend(18, 18))
    slow = resampled(a, Fraction(30))
    assert followed(a, slow)[0].rate == a.rate
    with pytest.raises(BadInput, match="has frames 0 to"):
        seam_at(a, a, 900, 0)
    with pytest.raises(BadInput, match="no frames on either side"):
        joined(a, a, seam_at(a, a, a.frames - 1, 0), Blend(18, 18))
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
    assert made.frames == second["at"] + clips[2].frames - second["frames"][1]
    assert second["at"] < after
    assert second["at"] - second["frames"][0] == first["at"] - first["frames"][1]
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


def did(clip: Clip, name: str, inputs: Any = None, **params: Any) -> Clip:
    return apply_patch(clip, OPERATIONS[name].run(clip, params, inputs=inputs))


def followed(clip: Clip, *others: Clip, **params: Any) -> tuple[Clip, list[dict[str, Any]]]:
    """A clip with others joined after it, and the seams."""
    patch = OPERATIONS["join"].run(clip, params, inputs={"parts": list(others)})
    made = apply_patch(clip, patch)
    require_sound(made, clip)
    return made, patch.report["seams"]


@pytest.mark.parametrize("load", WHOLE, ids=str)
def test_all_that_both_clips_carry_comes_along(load: Load) -> None:
    """Layers, a placement, props, marks: outside of the blend each is seen as it was, the second
    one as a whole where it is laid. Keyed curves stay keyed."""
    a = laden(load)
    b = replace(did(a, "mirror"), name="other way")
    made, (seam,) = followed(a, b, leave=26, parts=[{"enter": 12, "before": 4, "past": 4}],
                             plant=False)  # fmt: skip
    shift, size = seam["at"] - seam["enter"], a.skeleton.rest_height
    assert made.frames == b.frames + shift == 54
    was, now = (evaluate(c.unplanted).world(c.skeleton) for c in (a, made))
    # Keyed roots under a scaled placement are said anew: within 0.1° and 0.5 mm.
    exact = load.kind == "sampled"
    early = np.abs(now[1][: seam["first"]] - was[1][: seam["first"]]).max()
    assert early < (1e-9 if exact else 2e-3) * size
    theirs = evaluate(b.unplanted).world(b.skeleton)
    later = slice(seam["last"] - shift, b.frames)
    after = slice(seam["last"], made.frames)
    turn = rotation.multiply(now[0][-1, 0], rotation.conjugate(theirs[0][-1, 0]))
    told = rotation.from_axis(a.reading.up_axis.upper(), np.array(seam["turned_deg"]))
    assert rotation.geodesic_deg(turn, told) < (0.001 if exact else 0.5)
    gaps = now[1][after] - rotation.rotate(turn, theirs[1][later])
    assert np.ptp(gaps.reshape(-1, 3), axis=0).max() < (1e-6 if exact else 6e-3) * size
    assert {p.name for p in made.props} == {p.name for p in a.props}
    assert len(made.layers) == len(a.layers) + len(b.layers)
    assert len({x.id for x in made.layers}) == len({x.name for x in made.layers}) == 18
    if load.kind == "keyed":
        own = [t for t in made.channels if t.owner == "base"]
        assert all(isinstance(made.curves[t], KeyedCurve) for t in own)
        spine = base_track(made.skeleton.index("Spine"), "rx")
        times = made.curves[spine].time  # type: ignore[union-attr]
        ours = a.curves[spine].time  # type: ignore[union-attr]
        assert set(ours[ours < seam["first"]].tolist()) <= set(times.tolist())
    names = [m.name for m in made.marks]
    assert names.count("all of it") == 2
    feet = {p.part for p in made.plants}
    assert {"left foot", "right foot"} <= feet
    assert any(p.first > seam["at"] for p in made.plants)


def test_parts_are_played_backwards_mirrored_and_faster() -> None:
    a, b = walk(), haul()
    parts: list[dict[str, Any]] = [
        {"name": "there", "enter": 40, "leave": 150, "speed": 2.0},
        {"name": "back", "enter": 60, "reversed": True, "mirrored": True, "move": [0, 0, 500],
         "turn": 90.0},
    ]  # fmt: skip
    made, seams = followed(a, b, a, leave=300, parts=parts)
    assert [s["count"] for s in seams] == [pytest.approx(b.frames / 2, abs=1), a.frames]
    assert seams[1]["leave"] == 150
    assert seams[1]["at"] == seams[0]["at"] - 40 + 150
    assert made.frames == seams[1]["at"] - 60 + a.frames
    assert seams[1]["turned_deg"] == 90.0
    hips = evaluate(made).world(made.skeleton)[1][-1, 0] * made.millimetres
    back = did(did(a, "mirror"), "reverse")
    own = evaluate(back).world(a.skeleton)[1][-1, 0] * a.millimetres
    turned = rotation.rotate(rotation.from_axis("Y", np.array(90.0)), own)
    turned[2] += 500.0
    assert np.abs(hips - turned)[[0, 2]].max() < 1.0


def test_what_was_found_is_joined_again_and_its_time_is_known() -> None:
    kind = OPERATIONS["join"]
    a, b = walk(), haul()
    patch = kind.run(a, {}, inputs={"parts": [b, a]})
    params = kind.as_done({}, patch.report)
    assert [p["name"] for p in params["parts"]] == [b.name, a.name]
    again = kind.run(a, params, inputs={"parts": [b, a]})
    assert again.frames == patch.frames
    for track, curve in patch.curves.items():
        for name, column in curve.columns.items():
            assert np.array_equal(again.curves[track].columns[name], column)
    time = kind.time_after(ClipTime(a.rate, a.frames), kind.parsed(params))
    assert time.frames == patch.frames
    assert time.moved(10.0) == 10.0
    assert time.moved(params["leave"] + 5.0) >= time.frames
    assert kind.told(params) == f"Join {b.name} and 1 more"


def test_a_join_means_the_same_seconds_at_another_rate_and_knows_its_bounds() -> None:
    kind = OPERATIONS["join"]
    told = {"leave": 300, "parts": [{"enter": 40, "leave": 90, "past": 12, "count": 500}]}
    moved, lost = moved_values(kind.Params, told, 0.5, 250)
    assert moved == {"leave": 150, "parts": [{"enter": 20, "leave": 45, "past": 6, "count": 250}]}
    assert lost == []
    a = walk()
    many = {"parts": [{"speed": 0.1}] * 50}
    with pytest.raises(BadInput, match="join"):
        kind.run(a, many, inputs={"parts": [did(a, "repeat", times=60)] * 50})


def test_a_clip_on_another_skeleton_and_at_another_rate_is_brought_over() -> None:
    a = walk()
    heron = did(walk(), "retarget", {"target": heron_file()})
    slow = did(heron, "change_rate", rate="30")
    made, (seam,) = followed(a, slow)
    assert made.skeleton == a.skeleton
    assert seam["count"] == pytest.approx(a.frames, abs=2)
    assert seam["slide_mm"] <= 2.0


def test_a_blend_is_half_way_at_the_seam() -> None:
    for eases in (("linear", "linear"), ("ease-in", "ease-out"), ("ease-in-out", "ease")):
        shares = Blend(10, 6, *eases).shares(10, 6)  # type: ignore[arg-type]
        assert len(shares) == 17
        assert (shares[0], shares[10], shares[-1]) == pytest.approx((0.0, 0.5, 1.0))
        assert (np.diff(shares) > 0).all()
    assert Blend(0, 5).shares(0, 5)[[0, -1]].tolist() == [0.0, 1.0]
    assert Blend(5, 0).shares(5, 0)[[0, -1]].tolist() == [0.0, 1.0]
    with pytest.raises(BadInput, match="1 are told and 2 given"):
        followed(walk(), haul(), haul(), parts=[{}])


def test_all_pairs_are_pictured_and_the_best_are_ways_of_their_own() -> None:
    """Each cell is the nearest of its pairs; the best lie on other shifts of time."""
    a, b = walk(), haul()
    pairs = pairs_of(a, b, 100, (18, 18), (36, 24))
    whole = distances(cloud(a), cloud(b))[100:]
    assert pairs.apart.shape == (24, 36)
    rows, columns = (len(n) for n in (whole.T, whole))
    for row, column in ((0, 0), (7, 30), (23, 35)):
        down, across = (
            slice(k * n // m, (k + 1) * n // m)
            for k, n, m in ((row, rows, 24), (column, columns, 36))
        )
        assert pairs.apart[row, column] == whole[across, down].min()
    shifts = [s.frame_a - s.frame_b for s in pairs.best]
    assert len(shifts) == 3
    assert min(abs(x - y) for k, x in enumerate(shifts) for y in shifts[:k]) > 15
    assert all(118 <= s.frame_a < a.frames - 18 and s.frame_b >= 18 for s in pairs.best)
    assert pairs_of(a, b, 0, (18, 18), (9999, 9999)).apart.shape == (b.frames, a.frames)
    with pytest.raises(BadInput, match="too many pairs"):
        require_pairs(10_000, 10_000)


def test_a_foot_by_which_a_clip_is_laid_stays_where_it_was() -> None:
    a, b = walk(), haul()
    at = seam_at(a, b, 317, 40)
    (foot,) = a.body.all("left foot")
    name = a.skeleton.names[foot]
    made = laid_by(a, b, at, name)
    assert made.fit.turned_deg == at.fit.turned_deg
    by = np.array(made.fit.move.by) / b.millimetres
    there = moved_by(b, Move(point_of(by), made.fit.move.turn))
    ends = [
        evaluate(clip, np.array([float(frame)])).world(clip.skeleton)[1][0, foot]
        for clip, frame in ((a, 317), (there, 40))
    ]
    assert np.abs((ends[0] - ends[1])[[0, 2]]).max() * a.millimetres < 1e-6
    with pytest.raises(BadInput, match="no joint Fin"):
        laid_by(a, b, at, "Fin")
    told = {"leave": 317, "parts": [{"enter": 40, "laid_by": name}]}
    (seam,) = OPERATIONS["join"].run(a, told, inputs={"parts": [b]}).report["seams"]
    assert seam["moved_mm"] == pytest.approx(made.fit.move.by, abs=0.01)


def test_arms_may_come_in_later_and_all_else_is_as_it_was() -> None:
    """An arm's turns are the first clip's for so much longer; all other curves are the same."""
    a, b = walk(), haul()
    seam = seam_at(a, b, 317, 40)
    plain, later = (joined(a, b, seam, Blend(18, 18, arms_later=d)).clip for d in (0, 12))

    def same(one: Clip, other: Clip, track: TrackId) -> bool:
        ours, theirs = (clip.curves[track].stored["values"] for clip in (one, other))
        return np.array_equal(ours, theirs)

    arms = {j for g, js in a.body.groups.items() if g.split()[-1] in ("arm", "fingers") for j in js}
    changed = {t.joint for t in a.channels if not same(plain, later, t)}
    assert changed
    assert changed <= arms
    arm = a.body.all("left forearm")[0]
    own = evaluate(a).rotation[:, arm]
    for clip, first in ((plain, 317 - 18), (later, 317 - 18 + 12)):
        apart = 1.0 - np.abs(np.sum(evaluate(clip).rotation[: a.frames, arm] * own, axis=-1))
        assert apart[: first + 1].max() < 1e-12
        assert apart[first + 5] > 1e-12
    # Where a clip has no frames for that its arms come in with the rest.
    short = joined(a, b, seam, Blend(18, 18, arms_later=5000)).clip
    assert all(same(short, plain, t) for t in a.channels)


def slower_walk() -> Clip:
    """Another stretch of the walk, at three quarters of its pace."""
    part = resampled(TAKES[2].clean(), first=560, last=890)
    scale = {"first": 0, "last": part.frames - 1, "factor": 1.3}
    return apply_patch(part, OPERATIONS["scale_span"].run(part, scale))


def test_steps_that_fall_together_slide_less_in_a_long_blend() -> None:
    """Two walks of unlike pace over a second on either side, feet not planted (design: worst slide
    121 to 53 mm; here each of three seams slides less, one by more than half). Outside of the blend
    nothing else changes."""
    a, b = resampled(TAKES[2].clean(), first=100, last=500), slower_walk()
    kind = OPERATIONS["join"]
    slides: list[list[float]] = []
    for leave, enter in ((337, 186), (257, 198), (120, 130)):
        row = []
        for match in (False, True):
            part = {"enter": enter, "before": 60, "past": 60, "match_steps": match}
            asked = {"leave": leave, "plant": False, "parts": [part]}
            patch = kind.run(a, asked, inputs={"parts": [b]})
            (seam,) = patch.report["seams"]
            row.append(seam["slide_mm"])
            made = apply_patch(a, patch)
            assert (seam["matched"] > 1, seam["first"]) == (match, leave - 60)
            told = kind.parsed(kind.as_done(asked, patch.report))
            assert kind.time_after(ClipTime(a.rate, a.frames), told).frames == made.frames
            assert made.frames == leave + b.frames - enter + seam["longer"]
            joints = [j for j, above in enumerate(a.skeleton.parents) if above >= 0]
            ours, theirs = evaluate(a).rotation, evaluate(b).rotation
            found = evaluate(made).rotation
            assert np.array_equal(found[: leave - 60], ours[: leave - 60])
            rest = made.frames - seam["last"] - 1
            apart = rotation.geodesic_deg(found[-rest:, joints], theirs[-rest:, joints])
            assert apart.max() < 1e-6
        slides.append(row)
    plain, matched = np.array(slides).T
    assert (matched < plain).all()
    assert matched.max() < 0.85 * plain.max()
    assert (matched / plain).min() < 0.5


def test_a_part_after_matched_steps_is_left_where_it_is_said() -> None:
    """Frames of a part are its own, whatever its beginning was stretched to."""
    a, b = resampled(TAKES[2].clean(), first=100, last=500), slower_walk()
    kind = OPERATIONS["join"]
    first = {"enter": 81, "before": 60, "past": 60, "match_steps": True, "leave": 380}
    asked = {"leave": 340, "plant": False, "parts": [first, {"enter": 30}]}
    patch = kind.run(a, asked, inputs={"parts": [b, a]})
    one, two = patch.report["seams"]
    assert one["longer"] != 0
    assert two["leave"] == 380
    assert two["at"] == 340 - 81 + one["longer"] + 380
    told = kind.parsed(kind.as_done(asked, patch.report))
    made = apply_patch(a, patch)
    assert kind.time_after(ClipTime(a.rate, a.frames), told).frames == made.frames
    here = evaluate(made).rotation[two["first"] - 1, 8]
    assert (
        rotation.geodesic_deg(here, evaluate(b).rotation[380 - (two["at"] - two["first"]) - 1, 8])
        < 1e-6
    )


def test_what_has_no_steps_that_meet_is_blended_as_ever() -> None:
    a, b = walk(), haul()
    kind = OPERATIONS["join"]
    told = [
        kind.run(a, {"leave": 300, "parts": [{"enter": 100, "match_steps": match}]},
                 inputs={"parts": [b]}).report["seams"][0]
        for match in (False, True)
    ]  # fmt: skip
    assert told[0] == told[1]
