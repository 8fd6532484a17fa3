"""What operations write is continuous in time: in goes a clip without flips, out comes one."""

from __future__ import annotations

from fractions import Fraction
from typing import Any

import numpy as np
import pytest
from leancurve.cleaning.continuity import continuity_breaks
from leancurve.curves.curve import SampledCurve
from leancurve.document.clip import Clip
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
}
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


def flips(clip: Clip) -> int:
    found = continuity_breaks(clip)
    return len(found.wraps) + len(found.alternates)


@pytest.mark.parametrize("keyed", [False, True], ids=["sampled", "keyed"])
@pytest.mark.parametrize("name", [n for n in OPERATIONS if not OPERATIONS[n].meant])
def test_no_operation_makes_a_flip(name: str, keyed: bool) -> None:
    if name in KEYED_ALONE and not keyed:
        pytest.skip("works with keys alone")
    kind, other = OPERATIONS[name], tumbling(99)
    for seed in range(6):
        clip = tumbling(seed)
        if keyed:
            clip = apply_patch(clip, OPERATIONS["thin"].run(clip, {"tolerance_deg": 0.5}))
        assert flips(clip) == 0
        for where in ({}, SPAN) if kind.ranged else ({},):
            scope = Scope.model_validate(where)
            patch = kind.run(clip, GIVEN.get(name, {}), scope, inputs={"take": other})
            assert flips(apply_patch(clip, patch)) == 0, (seed, where)


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
