"""Vectors that hold the browser's evaluation to the core's: written here, read by Vitest.

``LEAN_WRITE_VECTORS=1 ./lean test tests/core/test_vectors.py`` writes them anew.
"""

from __future__ import annotations

import json
import os
from typing import Any

import numpy as np
from leancurve.curves.curve import Curve, Handle, KeyedCurve, KeyFlag, SampledCurve, keyed
from leancurve.curves.handles import with_handle
from leancurve.figure.skeleton import Skeleton, forward_kinematics
from leancurve.numbers import rotation
from leancurve.operations.shape.brush import BrushParams, brushed
from leancurve.operations.shape.edit import KeyEdit, edited_curve
from leancurve.operations.shape.slide import SlideParams, slid
from leancurve.time.warp import Warp

from tests.conftest import PROJECT
from tests.core.test_curve import random_curve
from tests.core.test_segments import mixed_curve

FILE = PROJECT / "web/src/evaluation/vectors.json"


def _curve(curve: KeyedCurve, frames: np.ndarray) -> dict[str, Any]:
    return {
        "columns": _columns(curve),
        "frames": frames.tolist(),
        "values": curve.at(frames).tolist(),
    }


def _columns(curve: Curve) -> dict[str, Any]:
    return {n: c.tolist() for n, c in curve.stored.items()}


EDITS: list[list[dict[str, Any]]] = [
    [{"id": 2, "value": 8.0}, {"id": 3, "value": -4.0}],
    [{"id": 1, "handle": "flat"}, {"id": 2, "handle": "straight"}],
    [{"id": 1, "handle": "flowing"}, {"id": 3, "handle": "hold"}],
    [{"id": 2, "slope_in": 1.0, "slope_out": -2.0, "length_out": 0.8, "broken": True}],
    [{"id": 40, "frame": 27.0, "do": "make"}, {"id": 40, "frame": 27.0, "value": 3.5}],
    [{"id": 2, "do": "remove"}],
    [{"id": 2, "segment": "spring"}, {"id": 1, "segment": "bounce", "swings": 3}],
    [{"id": 1, "time": 33.0}, {"id": 2, "time": 44.0}],
    # Stopped before the key that stays, one and two together; past it where that is asked for.
    [{"id": 1, "time": 55.0, "value": 2.0}, {"id": 3, "value": 9.0}],
    [{"id": 1, "time": 70.0}, {"id": 2, "time": 80.0}],
    [{"id": 3, "time": 5.0}],
    [{"id": 1, "time": 55.0, "past": True}],
    [{"id": 3, "time": 20.0, "past": True, "value": 1.0}],
    [{"id": 1, "muted": True}, {"id": 2, "value": 3.0}],
    [{"id": 1, "muted": True}, {"id": 9, "frame": 30.0, "do": "make", "value": 1.0},
     {"id": 1, "muted": False}],
    [{"id": 1, "riding": True}, {"id": 70, "frame": 30.0, "do": "make", "riding": True},
     {"id": 2, "time": 52.0}],
    # Turns one after another: the second one finds the key where the first has put it.
    [{"id": 1, "time": 24.0}, {"id": 1, "frame": 24.0, "was": 5.0, "turn": 1, "time": 28.0}],
    [{"id": 1, "riding": True}, {"id": 2, "turn": 1, "time": 50.0}],
    # Another key than was seen: by its frame, by its value, and one found by its frame alone.
    [{"id": 1, "frame": 33.0, "value": 9.0}, {"id": 2, "was": -30.0, "value": 9.0},
     {"id": 77, "frame": 60.2, "was": 7.1, "value": 4.0}],
]  # fmt: skip
TIMES = [0, 20, 40, 60, 90]


def _seen(edit: dict[str, Any]) -> dict[str, Any]:
    """An edit with the frame at which its key was seen."""
    return edit if "frame" in edit else {**edit, "frame": float(TIMES[edit["id"]])}


SLIDES: list[dict[str, Any]] = [
    {"ids": [2, 3], "by": 4.0},
    {"ids": [1, 2], "factor": 0.5, "about": 20.0},
    {"ids": [0, 1, 2, 3, 4], "factor": 1.37, "about": 0.0, "whole_frames": False},
    {"ids": [3, 4], "by": 2.0},
    {"ids": [1], "by": 25.0, "copies": True},
    {"ids": [1, 2], "by": 30.5, "copies": True, "whole_frames": False},
    {"ids": [1], "by": 60.0},
]

WARPS: list[dict[str, Any]] = [
    {"pins": [[0, 0], [40, 20], [90, 90]], "smooth": True},
    {"pins": [[10, 10], [30, 60], [50, 70], [80, 95]], "smooth": True},
    {"pins": [[10, 10], [30, 60], [50, 70], [80, 95]], "smooth": False},
]

STROKES: list[dict[str, Any]] = [
    {"kind": "pull", "radius": 18, "dabs": [{"frame": 30, "strength": 1}], "by": 6.0},
    {"kind": "pull", "radius": 25, "dabs": [{"frame": 41.5, "strength": 1}], "by_frames": 7.0,
     "by": -2.0},
    {"kind": "calm", "radius": 30, "dabs": [{"frame": 20, "strength": 0.8},
                                            {"frame": 28, "strength": 0.8}]},
    {"kind": "restore", "radius": 22, "dabs": [{"frame": 50, "strength": 0.6}]},
]  # fmt: skip


def _hand_work() -> dict[str, Any]:
    curve = keyed(TIMES, [0, 5, 2, 7, 1])
    edits = []
    for given in EDITS:
        seen = [_seen(e) for e in given]
        keys = [KeyEdit(joint="a", channel="rx", **e) for e in seen]
        edits.append({"edits": seen, "columns": _columns(edited_curve(curve, keys)[0])})
    flags = np.array([0, 0, KeyFlag.RIDING, 0, 0], dtype=np.uint8)
    riding = with_handle(curve, curve.time == 60, Handle.FREE).edited(flags=flags)
    slides = []
    for given in SLIDES:
        ids = np.isin(riding.id, given["ids"])
        full = {"by": 0.0, "factor": 1.0, "about": 0.0, "whole_frames": True, "copies": False}
        full |= {k: v for k, v in given.items() if k != "ids"}
        out = slid(riding, ids, SlideParams(**full))
        slides.append(
            {"ids": given["ids"], "slide": full, "columns": None if out is None else _columns(out)}
        )
    random = np.random.default_rng(3)
    dense = SampledCurve(np.cumsum(random.normal(size=91)))
    take = SampledCurve(10 * np.sin(np.arange(91) / 9.0))
    strokes = []
    for given in STROKES:
        params = BrushParams(**given)
        stroke = {"by": 0, "by_frames": 0, **given}
        strokes.append(
            {
                "stroke": stroke,
                "dense": _columns(brushed(dense, params, take)),
                "keyed": _columns(brushed(curve, params, take)),
            }
        )
    return {
        "curve": _columns(curve),
        "dense": dense.values.tolist(),
        "take": take.values.tolist(),
        "edits": edits,
        "riding": _columns(riding),
        "slides": slides,
        "strokes": strokes,
    }


def _warps() -> list[dict[str, Any]]:
    out = []
    for given in WARPS:
        source, target = np.array(given["pins"], dtype=np.float64).T
        warp = Warp(source, target, given["smooth"])
        t = np.linspace(-5, 110, 40)
        out.append(
            {**given, "t": t.tolist(), "to": warp.to(t).tolist(), "back": warp.back(t).tolist()}
        )
    return out


def _angles() -> list[dict[str, Any]]:
    """Angles nearest to others, in every order: where two weighings of near would differ, too."""
    random = np.random.default_rng(29)
    out = []
    for order in rotation.TAIT_BRYAN:
        for _ in range(40):
            q = rotation.normalise(random.normal(size=4))
            near = random.uniform(-300, 300, 3)
            found = rotation.angles_near(q, order, near)
            out.append(
                {"q": q.tolist(), "order": order, "near": near.tolist(), "angles": found.tolist()}
            )
    return out


def vectors() -> dict[str, Any]:
    random = np.random.default_rng(17)
    curves = []
    for seed in range(6):
        curve = random_curve(seed, keys=7)
        curve = curve.edited(segment=(random.integers(0, 9, 7) // 7).astype(np.uint8))
        curves.append(_curve(curve, np.sort(random.uniform(-3, curve.time[-1] + 3, 25))))
    for seed in range(6):
        curve = mixed_curve(seed)
        curves.append(_curve(curve, np.sort(random.uniform(-90, curve.time[-1] + 90, 40))))
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
        "angles": _angles(),
        "hand": _hand_work(),
        "warps": _warps(),
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
    assert len(kept["curves"]) == len(made["curves"]) == 12
    for a, b in zip(kept["curves"], made["curves"], strict=True):
        assert np.abs(np.array(a["values"]) - b["values"]).max() < 1e-9
    assert kept["hand"] == json.loads(json.dumps(made["hand"]))
    for name in ("world_rotation", "world_position"):
        gap = np.array(kept["kinematics"][name]) - made["kinematics"][name]
        assert np.abs(gap).max() < 1e-9
