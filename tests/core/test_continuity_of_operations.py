"""What operations write is continuous in time: in goes a clip without flips, out comes one."""

from __future__ import annotations

from fractions import Fraction
from functools import cache
from typing import Any

import numpy as np
import pytest
from leancurve.cleaning.continuity import angles_of, continuity_breaks, said_as
from leancurve.curves.curve import KeyedCurve, KeyFlag, SampledCurve, keyed
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.document.scope import Scope
from leancurve.document.track import base_track
from leancurve.figure.skeleton import Skeleton
from leancurve.numbers import rotation
from leancurve.numbers.continuity import continuous
from leancurve.operations import OPERATIONS, apply_patch

from tests.core.test_time_of_operations import LINES, SPAN

JOINTS = ("Hips", "Spine", "Chest", "LeftArm")
GIVEN: dict[str, dict[str, Any]] = {
    **LINES,
    "clamp": {"least": -60.0, "most": 60.0},
    "swap": {"negate_x": True},
    "match_times": {"joint": "Spine"},
    "borrow_rhythm": {"joint": "Spine", "channel": "rx"},
    "thin": {"tolerance_deg": 1.0},
    "brush": {"kind": "restore", "radius": 20.0, "dabs": [{"frame": 40.0}]},
    "edit_layers": {"edits": [{"do": "add", "name": "head"}]},
    "merge_layers": {"layers": ["low", "high"]},
    "split_layer": {"layer": "high", "frame": 40},
}
OVER_LAYERS = {"merge_layers", "split_layer", "bring_layers"}
OF_LIMBS = {"plant", "pull", "mend_limbs", "mirror", "travel", "join"}
"""They need a body, or a root that moves: see test_planting.py, test_limbs_led.py, test_mirror.py,
test_travel.py and test_joining.py."""
KEYED_ALONE = {"match_times", "borrow_rhythm"}


def tumbling(seed: int, frames: int = 101) -> Clip:
    """Joints that turn through all of the sphere, said without a flip: no more than 25° a frame."""
    random = np.random.default_rng(seed)
    t = np.arange(frames) / 60
    curves: Any = {}
    layout = []
    orders = ("ZXY", "XYZ", "YZX", "ZYX")
    for joint, order in enumerate(orders):
        waves = [
            random.uniform(60, 150)
            * np.sin(2 * np.pi * random.uniform(0.2, 0.9) * t + random.uniform(0, 6))
            for _ in range(3)
        ]
        q = rotation.multiply(
            rotation.exp(np.stack(waves, axis=1)), rotation.exp(random.uniform(-180, 180, 3))
        )
        angles = continuous(rotation.to_euler(q, order)[None], order)[0][0]
        names = tuple(f"r{a.lower()}" for a in order)
        layout.append(names)
        for k, name in enumerate(names):
            curves[base_track(joint, name)] = SampledCurve(np.ascontiguousarray(angles[:, k]))
    parents = (-1, 0, 1, 2)
    skeleton = Skeleton(JOINTS, parents, tuple((0.0, 30.0, 0.0) for _ in JOINTS))
    return Clip(skeleton, tuple(layout), curves, Fraction(60), frames)


def inputs_of(name: str, clip: Clip, other: Clip) -> dict[str, Any]:
    """What an operation works with: another clip, and this one where a change begins from it."""
    out: dict[str, Any] = dict.fromkeys(OPERATIONS[name].inputs, other)
    return out | {k: v for k, v in {"before": clip, "hand": (clip, other)}.items() if k in out}


@cache
def standing(seed: int, thinned: bool, over: bool) -> Clip:
    """One of the motions, on keys where that is wanted, under layers where that is."""
    clip = tumbling(seed)
    if thinned:
        clip = apply_patch(clip, OPERATIONS["thin"].run(clip, {"tolerance_deg": 0.5}))
    return layered(clip) if over else clip


def layered(clip: Clip) -> Clip:
    """With two layers that turn far further."""
    for name, turn in (("low", (170.0, -40.0, 20.0)), ("high", (-90.0, 250.0, 10.0))):
        made = {"edits": [{"do": "add", "name": name}]}
        clip = apply_patch(clip, OPERATIONS["edit_layers"].run(clip, made))
        key = {"layer": name, "frame": 50, "turns": {"Spine": turn}, "ramp_in": 40}
        clip = apply_patch(clip, OPERATIONS["key_layer"].run(clip, key))
    return clip


def flips(clip: Clip) -> int:
    found = continuity_breaks(clip)
    return len(found.wraps) + len(found.alternates)


def most_turned(a: Clip, b: Clip) -> float:
    return float(rotation.geodesic_deg(evaluate(a).rotation, evaluate(b).rotation).max())


@pytest.mark.parametrize(
    ("name", "thinned"),
    [
        pytest.param(name, thinned, id=f"{name}-{'keyed' if thinned else 'sampled'}")
        for name in OPERATIONS
        for thinned in (False, True)
        if not OPERATIONS[name].meant and name not in OF_LIMBS
        if thinned or name not in KEYED_ALONE
    ],
)
def test_no_operation_makes_a_flip(name: str, thinned: bool) -> None:
    kind, over = OPERATIONS[name], name in OVER_LAYERS
    for seed in range(3):
        assert flips(standing(seed, thinned, over=False)) == 0
        clip = standing(seed, thinned, over)
        for where in ({}, SPAN) if kind.ranged else ({},):
            scope = Scope.model_validate(where)
            inputs = inputs_of(name, clip, standing(99, thinned=False, over=over))
            patch = kind.run(clip, GIVEN.get(name, {}), scope, inputs=inputs)
            assert flips(apply_patch(clip, patch)) == 0, (seed, where)


def test_unflip_on_keyed_curves_keeps_poses_and_times() -> None:
    """Whole turns and other solutions, at frames where keys stand and where none do."""
    for seed in range(8):
        smooth = tumbling(seed)
        clip = apply_patch(smooth, OPERATIONS["thin"].run(smooth, {"tolerance_deg": 0.5}))
        random = np.random.default_rng(seed)
        curves = dict(clip.curves)
        for joint, order in enumerate(clip.orders):
            given = angles_of(clip, [joint])[joint]
            said = given.copy()
            for first in sorted(random.choice(np.arange(5, 95), 3, replace=False).tolist()):
                said[first:] = rotation.alternate(said[first:], order)
                said[first:] += 360.0 * random.integers(-1, 2, 3)
            curves |= said_as(clip, joint, given, said)
        flipped = clip.with_curves(curves)
        assert flips(flipped) >= 8
        assert most_turned(flipped, clip) < 1e-9
        patch = OPERATIONS["unflip"].run(flipped)
        mended = apply_patch(flipped, patch)
        assert flips(mended) == 0
        assert patch.report["alternates"] + patch.report["wraps"] == flips(flipped)
        assert most_turned(mended, clip) < 1e-9
        for track, curve in flipped.curves.items():
            fresh = mended.curves[track]
            assert isinstance(curve, KeyedCurve)
            assert isinstance(fresh, KeyedCurve)
            assert set(curve.time.tolist()) <= set(fresh.time.tolist())
            assert np.array_equal(fresh.id[np.isin(fresh.time, curve.time)], curve.id)


def test_unflip_leaves_holds_and_muted_keys_in_their_places() -> None:
    clip = tumbling(1)
    track, others = base_track(0, "rz"), [base_track(0, n) for n in ("rx", "ry")]
    curve = keyed([0, 20, 40, 60, 100], [170.0, -175, 10, -178, 175])
    held = curve.edited(
        segment=np.array([2, 2, 0, 2, 0], dtype=np.uint8), flags=np.array([0, 0, 1, 0, 0], "u1")
    )
    still = {t: keyed([0], [0.0]) for t in others}
    clip = clip.with_curves({track: held, **still})
    assert [(c, f) for _, c, f in continuity_breaks(clip).wraps] == [("rz", 20), ("rz", 100)]
    mended = apply_patch(clip, OPERATIONS["unflip"].run(clip)).curves[track]
    assert isinstance(mended, KeyedCurve)
    assert mended.time.tolist() == [0, 20, 40, 60, 100]
    assert mended.value.tolist() == [170, 185, 370, 182, 175]
    assert mended.flags[2] & KeyFlag.MUTED


def test_an_operation_leaves_flips_that_stood_to_unflip() -> None:
    clip = tumbling(3)
    track = base_track(0, "rz")
    values = clip.curves[track].at(np.arange(101.0))
    values[50:] += 360.0
    flipped = clip.with_curves({track: SampledCurve(values)})
    again = apply_patch(flipped, OPERATIONS["offset"].run(flipped, {"amount": 1.0}))
    assert continuity_breaks(again).wraps == ((0, "rz", 50),)


def test_a_mended_stretch_goes_on_from_the_frame_before_it() -> None:
    """Noise on a joint near the other solution of its own angles: smoothed, it stays as it is."""
    clip = tumbling(5)
    random = np.random.default_rng(1)
    rough = {}
    for joint, order in enumerate(clip.orders):
        angles = np.stack([clip.curves[t].at(np.arange(101.0)) for t in clip.turns_of(joint)], 1)
        q = rotation.multiply(
            rotation.from_euler(angles, order), rotation.exp(random.normal(0, 3.0, (101, 3)))
        )
        said = continuous(rotation.to_euler(q, order)[None], order)[0][0]
        for k, track in enumerate(clip.turns_of(joint)):
            rough[track] = SampledCurve(np.ascontiguousarray(said[:, k]))
    clip = clip.with_curves(rough)
    assert flips(clip) == 0
    for name in ("despike", "smooth"):
        clip = apply_patch(clip, OPERATIONS[name].run(clip))
        assert flips(clip) == 0
