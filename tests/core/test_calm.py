"""Calm's other operations: despike, fill, trim, rate, idle channels, keys, clamp."""

from __future__ import annotations

from fractions import Fraction

import numpy as np
import pytest
from leancurve.curves.curve import KeyedCurve, SampledCurve, keyed
from leancurve.curves.insertion import cut, insert_key
from leancurve.demo import TAKES, captured
from leancurve.document.clip import Clip, Contact
from leancurve.document.evaluation import evaluate
from leancurve.document.track import base_track
from leancurve.errors import BadInput
from leancurve.measures.drift import drift
from leancurve.measures.findings import find
from leancurve.numbers import rotation
from leancurve.operations import OPERATIONS, Scope, apply_patch
from scipy.interpolate import CubicHermiteSpline
from scipy.spatial.transform import Rotation, Slerp


def run(clip: Clip, name: str, params: dict | None = None, scope: Scope | None = None) -> Clip:
    return apply_patch(clip, OPERATIONS[name].run(clip, params, scope))


def values(clip: Clip, joint: str, channel: str) -> np.ndarray:
    curve = clip.curves[base_track(clip.skeleton.index(joint), channel)]
    return curve.at(np.arange(clip.frames, dtype=float)).copy()


def with_values(clip: Clip, joint: str, channel: str, v: np.ndarray) -> Clip:
    return clip.with_curves({base_track(clip.skeleton.index(joint), channel): SampledCurve(v)})


@pytest.mark.parametrize("rate", [30, 60, 120])
def test_spikes_go_at_any_rate_and_the_rest_stays(rate: int) -> None:
    clip = TAKES[1].clean()
    clip = run(clip, "change_rate", {"rate": str(rate)})
    spiked = values(clip, "Head", "rx")
    places = np.array([0.2, 0.5, 0.8]) * clip.frames
    for k, size in zip(places.astype(int), (14.0, -9.0, 11.0), strict=True):
        spiked[k] += size
    dirty = with_values(clip, "Head", "rx", spiked)
    patch = OPERATIONS["despike"].run(dirty)
    assert patch.report["spikes"] == 3
    assert {c.joint for c in patch.curves} == {clip.skeleton.index("Head")}
    after = apply_patch(dirty, patch)
    assert drift(after, clip).max_deg < (0.6 if rate == 30 else 0.1)
    assert np.count_nonzero(values(after, "Head", "rx") != spiked) == 3


def test_an_impact_is_left_as_it_is(walk: Clip) -> None:
    """A hand thrown down at 900° a second and stopped within one frame, rebounding."""
    v = values(walk, "RightHand", "rz")
    f = np.arange(walk.frames)
    v += np.where(
        f < 400, 0, np.where(f < 405, -(f - 400) * 15.0, -75 + 2.0 * np.minimum(f - 405, 30))
    )
    struck = with_values(walk, "RightHand", "rz", v)
    assert not OPERATIONS["despike"].run(struck).curves


def test_positions_are_despiked_in_millimetres(walk: Clip) -> None:
    v = values(walk, "Hips", "tz")
    v[321] += 4.0
    dirty = with_values(walk, "Hips", "tz", v)
    fixed = run(dirty, "despike")
    assert abs(values(fixed, "Hips", "tz")[321] - values(walk, "Hips", "tz")[321]) < 0.05
    assert OPERATIONS["despike"].run(dirty, {"least_mm": 100}).report["spikes"] == 0


def test_gaps_are_found_and_filled_close_to_the_truth() -> None:
    capture = captured(TAKES[2], 105)
    clip = run(capture.clip, "unflip")
    gap = next(d for d in capture.truth if d.kind == "gap" and d.joint == "Hips")
    filled = run(clip, "fill")
    assert not find(filled, ["gap"])
    clean = evaluate(TAKES[2].clean()).rotation[
        gap.first - capture.lead_in : gap.last + 1 - capture.lead_in
    ]
    spine = clip.skeleton.index("LeftThigh")

    def off(c: Clip) -> float:
        got = evaluate(c).rotation[gap.first : gap.last + 1, spine]
        return float(rotation.geodesic_deg(got, clean[:, spine]).max())

    assert off(filled) < 0.5 * off(clip)


def test_a_marked_span_is_filled_smoothly_for_the_joints_in_scope(walk: Clip) -> None:
    scope = Scope(joints=("LeftUpperArm",), frames=(300, 308))
    v = values(walk, "LeftUpperArm", "rx")
    v[300:309] += 30
    filled = run(with_values(walk, "LeftUpperArm", "rx", v), "fill", {}, scope)
    assert drift(filled, walk).max_deg < 0.5


def test_a_calibration_pose_is_trimmed_and_everything_moves_along() -> None:
    capture = captured(TAKES[2])
    clip = apply_patch(capture.clip, OPERATIONS["find_contacts"].run(capture.clip))
    meant = {"findings": [{"kind": "spike", "joint": "Head", "first": 100, "last": 101}]}
    clip = run(clip, "accept", meant)
    trimmed = run(clip, "trim")
    assert trimmed.frames == TAKES[2].clean().frames
    assert capture.lead_in > 0
    assert trimmed.accepted[0].first == 100 - capture.lead_in
    assert all(0 <= c.first <= c.last < trimmed.frames for c in trimmed.contacts or ())
    assert not find(trimmed, ["calibration pose"])
    a = evaluate(trimmed).rotation
    assert rotation.geodesic_deg(a, evaluate(clip).rotation[capture.lead_in :]).max() == 0


def test_trimming_keyed_curves_keeps_their_shape(walk: Clip) -> None:
    thin = run(walk, "thin")
    trimmed = run(thin, "trim", {"first": 101, "last": 700, "calibration": False})
    assert trimmed.frames == 600
    a, b = evaluate(trimmed), evaluate(thin)
    assert rotation.geodesic_deg(a.rotation, b.rotation[101:701]).max() < 1e-6
    assert np.abs(a.translation - b.translation[101:701]).max() < 1e-9
    with pytest.raises(BadInput, match="nothing is left"):
        OPERATIONS["trim"].run(walk, {"first": 800, "last": 20})


def test_a_key_is_inserted_without_changing_the_curve() -> None:
    """Against scipy's Hermite on thirds, and against itself with free lengths."""
    curve = keyed([0, 10, 25], [0, 5, -3], [0.4, 0.0, 1.1])
    theirs = CubicHermiteSpline([0, 10, 25], [0, 5, -3], [0.4, 0.0, 1.1])
    t = np.linspace(0, 25, 501)
    free = curve.edited(length_out=np.array([0.8, 0.2, 0.3]), length_in=np.array([0.3, 0.5, 0.9]))
    for one, reference in ((curve, theirs(t)), (free, free.at(t))):
        more = insert_key(insert_key(one, 3.25), 17.0)
        assert more.key_count == 5
        assert np.abs(more.at(t) - reference).max() < 1e-9
    part = cut(free, 4.0, 20.0)
    inside = (t >= 4) & (t <= 20)
    assert np.abs(part.at(t[inside]) - free.at(t[inside])).max() < 1e-9
    assert (part.time[0], part.time[-1]) == (4.0, 20.0)


@pytest.mark.parametrize("rate", ["24", "23.976", "25", "29.97", "30", "50", "59.94", "60", "100"])
@pytest.mark.parametrize("between", ["slerp", "spline"])
def test_another_rate_is_exact_where_times_coincide(walk: Clip, rate: str, between: str) -> None:
    changed = run(walk, "change_rate", {"rate": rate, "between": between})
    assert changed.duration_s == pytest.approx(walk.duration_s, abs=1 / float(changed.rate))
    step = changed.rate / walk.rate
    shared = [(f, int(f / step)) for f in range(changed.frames) if (f / step).denominator == 1]
    assert shared
    new = np.array([a for a, _ in shared], dtype=float)
    old = np.array([b for _, b in shared], dtype=float)
    a, b = evaluate(changed, new), evaluate(walk, old)
    assert rotation.geodesic_deg(a.rotation, b.rotation).max() < 1e-6
    assert np.abs(a.translation - b.translation).max() < 1e-9


def test_slerp_between_frames_is_scipys_and_a_spline_is_closer_to_the_truth() -> None:
    fine = TAKES[2].clean()
    coarse = run(fine, "change_rate", {"rate": "20"})
    j = fine.skeleton.index("LeftUpperArm")
    truth = evaluate(fine).rotation[:, j]
    errors = {}
    for between in ("slerp", "spline"):
        back = run(coarse, "change_rate", {"rate": "60", "between": between})
        got = evaluate(back).rotation[:, j]
        count = min(len(got), len(truth))
        errors[between] = rotation.geodesic_deg(got[:count], truth[:count]).max()
        if between == "slerp":
            key = Rotation.from_quat(evaluate(coarse).rotation[:, j])
            theirs = Slerp(np.arange(coarse.frames), key)(np.arange(count) / 3).as_quat()
            assert rotation.geodesic_deg(got[:count], theirs).max() < 1e-6
    assert errors["spline"] < 0.5 * errors["slerp"]


def test_kept_keys_stay_at_their_seconds_and_spans_move(walk: Clip) -> None:
    thin = run(run(walk, "find_contacts"), "thin")
    slow = run(thin, "change_rate", {"rate": "24"})
    channel = base_track(walk.skeleton.index("LeftShin"), "rx")
    a, b = thin.curves[channel], slow.curves[channel]
    assert isinstance(a, KeyedCurve)
    assert isinstance(b, KeyedCurve)
    assert np.allclose(a.time / 60, b.time / 24)
    t = np.linspace(0, 14, 300)
    assert np.allclose(a.at(t * 60), b.at(t * 24))
    assert slow.contacts is not None
    assert thin.contacts is not None
    assert slow.contacts[3].first == round(thin.contacts[3].first * 24 / 60)
    with pytest.raises(BadInput, match="expected frames a second"):
        OPERATIONS["change_rate"].run(walk, {"rate": "fast"})


def test_idle_channels_become_one_key_and_can_be_brought_back(walk: Clip) -> None:
    dropped = run(walk, "drop_idle")
    assert drift(dropped, walk).max_deg < 0.02
    assert dropped.key_count < walk.key_count - 80 * (walk.frames - 1)
    assert not find(dropped, ["idle"])
    name = next(f for f in find(walk, ["idle"]))
    kept = run(walk, "drop_idle", {"keep": [f"{name.joint}.{name.channel}"]})
    assert [(f.joint, f.channel) for f in find(kept, ["idle"])] == [(name.joint, name.channel)]


def test_keys_at_10_and_10_0001_and_11_become_two() -> None:
    clip = TAKES[2].clean()
    channel = base_track(clip.skeleton.index("Head"), "rx")
    curve = keyed([0, 10, 10.0001, 11, 20.4, 30], [0, 1, 7, 2, 3, 4])
    keyed_clip = clip.with_curves({channel: curve})
    snapped = run(keyed_clip, "tidy_keys").curves[channel]
    assert isinstance(snapped, KeyedCurve)
    assert snapped.time.tolist() == [0, 10, 11, 20, 30]
    assert snapped.value.tolist() == [0, 1, 2, 3, 4]
    assert snapped.id.tolist() == [0, 1, 3, 4, 5]
    patch = OPERATIONS["tidy_keys"].run(keyed_clip, {"off_frame": "delete"})
    deleted = patch.curves[channel]
    assert isinstance(deleted, KeyedCurve)
    assert deleted.time.tolist() == [0, 10, 11, 30]
    assert patch.report == {"snapped": 0, "deleted": 1, "doubled": 1}


def test_values_are_clamped_hard_and_soft(walk: Clip) -> None:
    scope = Scope(joints=("Hips",), channels=("ty",))
    v = values(walk, "Hips", "ty")
    most = round(float(np.percentile(v, 60)), 4)
    hard = values(run(walk, "clamp", {"most": most}, scope), "Hips", "ty")
    assert np.array_equal(hard, np.minimum(v, most))
    soft = values(run(walk, "clamp", {"most": most, "soft": 0.5}, scope), "Hips", "ty")
    assert soft.max() < most
    assert np.abs(np.diff(soft, 2)).max() < np.abs(np.diff(hard, 2)).max()
    with pytest.raises(BadInput, match="above"):
        OPERATIONS["clamp"].run(walk, {"least": 5, "most": 2})
    with pytest.raises(BadInput, match="give the least"):
        OPERATIONS["clamp"].run(walk)


def test_sunk_feet_are_lifted_to_their_floor_and_keep_their_orientation() -> None:
    capture = captured(TAKES[1], 101)
    clip = run(run(capture.clip, "unflip"), "trim")
    before = find(clip, ["sink"])
    lifted = run(clip, "clamp", {"feet": True})
    assert len(before) == len([d for d in capture.truth if d.kind == "sink"]) > 0
    assert not find(lifted, ["sink"])
    foot = clip.skeleton.index("LeftFoot")
    a = evaluate(clip).world(clip.skeleton)[0][:, foot]
    b = evaluate(lifted).world(clip.skeleton)[0][:, foot]
    assert rotation.geodesic_deg(a, b).max() < 1e-5
    changed = {
        clip.skeleton.names[c.joint] for c in OPERATIONS["clamp"].run(clip, {"feet": True}).curves
    }
    assert changed <= {f"{s}{p}" for s in ("Left", "Right") for p in ("Thigh", "Shin", "Foot")}


def test_contacts_can_be_set_from_outside_the_clip(walk: Clip) -> None:
    edit = {"edits": [{"do": "add", "limb": "left hand", "first": 5, "last": 2000}]}
    assert Contact("left hand", 5, walk.frames - 1) in (
        run(walk, "edit_contacts", edit).contacts or ()
    )


@pytest.mark.parametrize(
    ("name", "params"),
    [("despike", {}), ("smooth", {}), ("fill", {}), ("clamp", {"most": 1.0}), ("drop_idle", {}),
     ("tidy_keys", {}), ("unflip", {}), ("mend_snaps", {}), ("reorder", {"order": "XYZ"}),
     ("thin", {})],
)  # fmt: skip
def test_nothing_outside_the_scope_changes(name: str, params: dict) -> None:
    clip = captured(TAKES[2]).clip
    scope = Scope(joints=("LeftShin", "Head"), channels=("rx", "ry", "rz"))
    patch = OPERATIONS[name].run(clip, params, scope)
    inside = set(scope.resolve(clip))
    assert set(patch.curves) <= inside
    assert not set(patch.parts) - {"layout"}
    if patch.layout:
        changed = {j for j in range(len(clip.layout)) if clip.layout[j] != patch.layout[j]}
        assert changed <= {c.joint for c in inside}


def test_exact_rates_are_rationals() -> None:
    from leancurve.operations.calm.change_rate import rate_named

    assert rate_named("29.97") == Fraction(30000, 1001)
    assert rate_named("30000/1001") == Fraction(30000, 1001)
    assert rate_named("12.5") == Fraction(25, 2)


@pytest.mark.parametrize("apart", [2, 3, 4, 5])
def test_two_spikes_close_to_each_other_are_both_found_and_mended(walk: Clip, apart: int) -> None:
    """Each stands in the other's surroundings, so neither stands out by itself."""
    clean = values(walk, "Head", "rx")
    spiked = clean.copy()
    for k, size in ((300, 9.0), (300 + apart, -7.0), (500, 6.0), (500 + apart, 6.0)):
        spiked[k] += size
    dirty = with_values(walk, "Head", "rx", spiked)
    found = [(f.first, f.last) for f in find(dirty, ["spike"]) if f.joint == "Head"]
    assert found == [(f, f) for f in (300, 300 + apart, 500, 500 + apart)]
    mended = run(dirty, "despike")
    assert np.abs(values(mended, "Head", "rx") - clean).max() < 0.15
    hips = values(walk, "Hips", "tz")
    hips[[300, 300 + apart]] += (4.0, -3.0)
    mended = run(with_values(walk, "Hips", "tz", hips), "despike")
    assert np.abs(values(mended, "Hips", "tz") - values(walk, "Hips", "tz")).max() < 0.1


@pytest.mark.parametrize("method", ["butterworth", "savitzky-golay", "gaussian"])
def test_a_fixed_filter_keeps_holds_at_rest_and_their_ends_sharp(walk: Clip, method: str) -> None:
    """A head that turns by 60°, stands dead still for half a second and turns on."""
    t = np.arange(walk.frames) / float(walk.rate)
    held = np.clip(np.minimum(t - 2.0, 0.0), -0.5, 0) * 120 + np.clip(t - 2.5, 0.0, 0.5) * 120
    head = walk.skeleton.index("Head")
    noise = np.random.default_rng(5).normal(0, 0.1, walk.frames)
    still = {base_track(head, c): SampledCurve(np.zeros(walk.frames)) for c in ("ry", "rz")}
    noisy = walk.with_curves({base_track(head, "rx"): SampledCurve(held + noise), **still})
    params = {"method": method} | ({"cutoff_hz": 8} if method == "butterworth" else {})
    scope = Scope(joints=("Head",))
    near = (np.abs(t - 2.0) < 0.1) | (np.abs(t - 2.5) < 0.1)
    inside = (t > 2.02) & (t < 2.48)

    def off(protect: bool, where: np.ndarray) -> float:
        done = run(noisy, "smooth", {**params, "protect": protect}, scope)
        return float(np.sqrt(np.mean((values(done, "Head", "rx") - held)[where] ** 2)))

    assert off(True, inside) < 0.08
    assert off(True, near) < 0.6 * off(False, near)
    # Away from any hold the filter is what it was.
    turning = (t > 1.7) & (t < 1.8)
    assert off(True, turning) == pytest.approx(off(False, turning), abs=1e-6)
