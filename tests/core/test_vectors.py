"""Vectors that hold the browser's evaluation to the core's: written here, read by Vitest.

``LEAN_WRITE_VECTORS=1 ./lean test tests/core/test_vectors.py`` writes them anew.
"""

from __future__ import annotations

import json
import os
from typing import Any

import numpy as np
from leancurve import rotation
from leancurve.curve import KeyedCurve
from leancurve.skeleton import Skeleton, forward_kinematics

from tests.conftest import PROJECT
from tests.core.test_curve import random_curve

FILE = PROJECT / "web/src/clip/vectors.json"


def _curve(curve: KeyedCurve, frames: np.ndarray) -> dict[str, Any]:
    columns = {n: c.tolist() for n, c in curve.columns.items()}
    return {"columns": columns, "frames": frames.tolist(), "values": curve.at(frames).tolist()}


def vectors() -> dict[str, Any]:
    random = np.random.default_rng(17)
    curves = []
    for seed in range(6):
        curve = random_curve(seed, keys=7)
        curve = curve.edited(segment=(random.integers(0, 9, 7) // 7).astype(np.uint8))
        curves.append(_curve(curve, np.sort(random.uniform(-3, curve.time[-1] + 3, 25))))
    skeleton = Skeleton(
        ("a", "b", "c", "d"), (-1, 0, 1, 1), ((1, 2, 3), (0, 10, 0), (5, 0, 1), (-5, 0, 1))
    )
    local = rotation.normalise(random.normal(size=(2, 4, 4))).astype(np.float32).astype(float)
    moves = random.normal(0, 50, (2, 1, 3)).astype(np.float32).astype(float)
    translation = np.tile(skeleton.offset_array, (2, 1, 1))
    translation[:, 0] = moves[:, 0]
    rotations, positions = forward_kinematics(skeleton, local, translation)
    return {
        "curves": curves,
        "kinematics": {
            "parents": list(skeleton.parents),
            "offsets": [list(o) for o in skeleton.offsets],
            "rotation": local.ravel().tolist(),
            "translation": moves.ravel().tolist(),
            "world_rotation": rotations.ravel().tolist(),
            "world_position": positions.ravel().tolist(),
        },
    }


def test_the_browsers_vectors_are_the_cores() -> None:
    made = vectors()
    if os.environ.get("LEAN_WRITE_VECTORS"):
        FILE.write_text(json.dumps(made, indent=1) + "\n")
    kept = json.loads(FILE.read_text())
    assert len(kept["curves"]) == len(made["curves"]) == 6
    for a, b in zip(kept["curves"], made["curves"], strict=True):
        assert np.abs(np.array(a["values"]) - b["values"]).max() < 1e-9
    for name in ("world_rotation", "world_position"):
        gap = np.array(kept["kinematics"][name]) - made["kinematics"][name]
        assert np.abs(gap).max() < 1e-9
