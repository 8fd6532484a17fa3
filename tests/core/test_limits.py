"""What a document may hold: sizes refused before anything is made, numbers that are no motion."""

from __future__ import annotations

import json
from contextlib import suppress
from dataclasses import replace
from fractions import Fraction
from typing import Any

import numpy as np
import pytest
from leancurve.curves.curve import SampledCurve
from leancurve.document import limits
from leancurve.document.clip import Clip
from leancurve.document.limits import LARGEST, require_room
from leancurve.document.sound import require_sound
from leancurve.document.track import base_track
from leancurve.errors import BadInput
from leancurve.figure.skeleton import EndSite
from leancurve.formats.clipjson import write_clip
from leancurve.formats.files import read_take
from leancurve.operations import OPERATIONS, Scope, apply_patch

BVH = (
    "HIERARCHY\nROOT a\n{{\nOFFSET {offset}\nCHANNELS {channels}\n"
    "End Site\n{{\nOFFSET 0 1 0\n}}\n}}\n"
    "MOTION\nFrames: {frames}\nFrame Time: 0.01\n{rows}"
)


def bvh(offset: str = "0 0 0", channels: str = "1 Xposition", frames: int = 2,
        rows: str = "1\n2\n") -> bytes:  # fmt: skip
    return BVH.format(offset=offset, channels=channels, frames=frames, rows=rows).encode()


def document(clip: Clip) -> dict[str, Any]:
    loaded: dict[str, Any] = json.loads(write_clip(clip))
    return loaded


def test_a_few_bytes_cannot_ask_for_more_than_there_is() -> None:
    empty = b"HIERARCHY\nROOT a\n{\nOFFSET 0 0 0\n}\nMOTION\nFrames: 20000000\nFrame Time: 0.01\n"
    with pytest.raises(BadInput, match="20,000,000 frames; at most 500,000"):
        read_take(empty, "tiny.bvh")
    with pytest.raises(BadInput, match="999,999,999 frames"):
        read_take(empty.replace(b"20000000", b"999999999"), "tiny.bvh")


def test_many_frames_of_many_joints_are_refused_by_how_many_there_may_be(walk: Clip) -> None:
    thin = document(apply_patch(walk, OPERATIONS["thin"].run(walk, {"tolerance_deg": 45})))
    thin["frames"] = 499_999
    with pytest.raises(BadInput, match=r"frames of 65 joints are too many; at most 184,615 frames"):
        read_take(json.dumps(thin).encode(), "long.json")
    require_room(65, 198, limits.MOST_POSES // 65)


@pytest.mark.parametrize(
    ("name", "params"),
    [
        ("repeat", {"times": 200}),
        ("insert_frames", {"after": 5, "count": 100_000}),
        ("change_rate", {"rate": "100000"}),
        ("scale_span", {"first": 0, "last": 899, "factor": 50}),
        ("shift_from", {"frame": 5, "by": 100_000}),
    ],
)
def test_no_operation_grows_a_clip_past_them(
    walk: Clip, monkeypatch: pytest.MonkeyPatch, name: str, params: dict
) -> None:
    # Lower than they are, so that little has to be computed to reach them.
    monkeypatch.setattr(limits, "MOST_FRAMES", 4000)
    monkeypatch.setattr(limits, "MOST_POSES", 200_000)
    grown = walk
    for _ in range(3):
        with suppress(BadInput):
            grown = apply_patch(grown, OPERATIONS[name].run(grown, params))
    assert grown.frames * len(grown.skeleton) <= 200_000


@pytest.mark.parametrize(
    ("file", "says"),
    [
        (bvh(offset="1.7e308 0 0"), r"line 4: OFFSET: expected numbers within ±1e\+09"),
        (bvh(rows="1e160\n2\n"), "a tx: values must be finite numbers within"),
        (bvh().replace(b"ROOT a", b"ROOT " + b"n" * 300), "300 characters; at most 200"),
        (bvh().replace(b"0.01", b"0.000002"), "rate"),
    ],
)
def test_a_file_is_told_by_name_what_it_holds_that_no_motion_is(file: bytes, says: str) -> None:
    with pytest.raises(BadInput, match=says) as refused:
        read_take(file, "wrong.bvh")
    assert len(str(refused.value)) < 500


@pytest.mark.parametrize(
    ("change", "says"),
    [
        (lambda d: d.update(rate=[1, 10**14]), "rate"),
        (lambda d: d.update(rate=[2**40 + 1, 2**39]), "rate"),
        (lambda d: d["skeleton"]["ends"][0].update(parent=-3), "end"),
        (lambda d: d["curves"][3]["values"].__setitem__(5, 1e300), "values must be finite"),
        (
            lambda d: d["skeleton"]["joints"][0].update(name="x" * 50_000_000),
            "50,000,000 characters",
        ),
        (lambda d: d["skeleton"]["joints"][3].update(name="a\x00b"), "not allowed in text"),
    ],
)
def test_clip_json_likewise(walk: Clip, change: Any, says: str) -> None:
    broken = document(walk)
    change(broken)
    with pytest.raises(BadInput, match=says) as refused:
        read_take(json.dumps(broken).encode(), "wrong.json")
    assert len(str(refused.value)) < 500


@pytest.mark.parametrize(
    ("name", "params"),
    [
        ("clamp", {"least": 0.0, "soft": 1e300}),
        ("brush", {"radius": 12.0, "dabs": [{"frame": 40.0}], "by": 1e300}),
        ("offset", {"amount": 1e300}),
        ("gain", {"factor": 1e300}),
    ],
)
def test_an_operation_that_would_leave_no_motion_is_refused(
    walk: Clip, name: str, params: dict
) -> None:
    with pytest.raises(BadInput) as refused:
        OPERATIONS[name].run(walk, params, Scope(joints=("Head",)))
    assert len(str(refused.value)) < 300


def test_what_is_within_the_limits_is_sound(walk: Clip, open_capture: Clip) -> None:
    require_sound(walk)
    require_sound(open_capture)
    track = base_track(0, "tx")
    high = walk.with_curves({track: SampledCurve(np.full(walk.frames, LARGEST))})
    require_sound(high)
    with pytest.raises(BadInput, match="Hips tx: values"):
        require_sound(walk.with_curves({track: SampledCurve(np.full(walk.frames, np.nan))}))
    with pytest.raises(BadInput, match="rate"):
        require_sound(replace(walk, rate=Fraction(1, 1000)))
    ends = (EndSite(99, (0.0, 1.0, 0.0), 1),)
    with pytest.raises(BadInput, match="does not exist"):
        require_sound(replace(walk, skeleton=replace(walk.skeleton, ends=ends)))
