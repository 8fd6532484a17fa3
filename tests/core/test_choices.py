"""Files read otherwise than they suggest: rate, order of rotations, keys between frames."""

from __future__ import annotations

import json
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from leancurve.cli import main
from leancurve.curves.curve import KeyedCurve, SampledCurve
from leancurve.document.evaluation import evaluate
from leancurve.errors import BadInput
from leancurve.formats.choices import Choices
from leancurve.formats.files import read_takes
from leancurve.formats.orders import SINES
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats
from scipy.spatial.transform import Rotation, Slerp

from tests.core.gltf_files import Built
from tests.core.refusals import is_refused

KEYS_S = np.array([0.0, 0.4, 0.75, 1.5, 2.0])
TURNS = Rotation.random(5, random_state=3).as_quat()
JOINTS = ("Hips", "Spine", "Head")


def few_keys(way: str | None = None, hung: bool = False) -> bytes:
    """Three joints turned from one of five keys to the next, in two seconds."""
    b = Built()
    at = [b.node(n, translation=(0, 0.5, 0)) for n in JOINTS]
    b.hang(at[0], at[1])
    b.hang(at[1], at[2])
    if hung:
        b.hang(b.node("Above", rotation=(0.6, 0, 0, 0.8), scale=(2, 2, 2)), at[0])
    b.skin(*at)
    a = b.animation("turn")
    for k, node in enumerate(at):
        turns = np.roll(TURNS, k, axis=0)
        if way == "CUBICSPLINE":
            slopes = np.random.default_rng(k).normal(size=(5, 2, 4))
            turns = np.stack([slopes[:, 0], turns, slopes[:, 1]], axis=1).reshape(15, 4)
        b.move(a, node, "rotation", KEYS_S, turns, way)
    return b.glb()


def only(data: bytes, choices: Choices) -> Any:
    (take,) = read_takes(data, "turn.glb", choices=choices)
    return take


def slerped(joint: int, seconds: Floats) -> Floats:
    """By SciPy."""
    turns = np.asarray(np.roll(TURNS, joint, axis=0), "<f4").astype(float)
    # The shorter way from key to key, as glTF 2.0 asks.
    return np.asarray(Slerp(KEYS_S, Rotation.from_quat(turns))(seconds).as_quat())


@pytest.mark.parametrize("rate", [12, 30, 60])
def test_the_frames_are_those_of_the_rate_that_is_chosen(rate: int) -> None:
    take = only(few_keys(), Choices(rate=Fraction(rate)))
    clip = take.clip
    assert (clip.rate, clip.frames) == (rate, 2 * rate + 1)
    found = evaluate(clip).rotation
    for j in range(3):
        expected = slerped(j, np.arange(clip.frames) / rate)
        assert rotation.geodesic_deg(found[:, j], expected).max() < 1e-3  # float32
    assert any(f"rate {rate} a second, as chosen" in n for n in take.notes)


@pytest.mark.parametrize("order", SINES)
def test_an_order_that_is_chosen_says_the_same_rotations(order: str) -> None:
    plain = only(few_keys(), Choices(rate=Fraction(30)))
    other = "ZXY" if order != "ZXY" else "XYZ"
    take = only(few_keys(), Choices(rate=Fraction(30), order=order, orders={"Head": other}))
    assert [take.clip.order(j) for j in range(3)] == [order, order, other]
    apart = rotation.geodesic_deg(evaluate(take.clip).rotation, evaluate(plain.clip).rotation)
    assert apart.max() < 1e-6
    assert any("as chosen" in n and f"1 in {other}" in n for n in take.notes)


@pytest.mark.parametrize("hung", [False, True])
@pytest.mark.parametrize("way", [None, "CUBICSPLINE"])
def test_rotations_stay_keyed_within_the_bound_between_frames_too(
    way: str | None, hung: bool
) -> None:
    """Against the same file read at sixteen times the rate, where every frame is a value."""
    data = few_keys(way, hung)
    fine = evaluate(only(data, Choices(rate=Fraction(480))).clip).rotation
    counts = []
    for within in (1.0, 0.1):
        take = only(data, Choices(rate=Fraction(30), within_deg=within))
        clip = take.clip
        found = evaluate(clip, np.arange(16 * 60 + 1) / 16).rotation
        away = rotation.geodesic_deg(found, fine)
        # It is held to eight points a frame: between those it may be off by a little more.
        assert away.max() < 1.2 * within
        assert away.max() > within / 50
        curves = [c for c in clip.curves.values() if isinstance(c, KeyedCurve)]
        assert len(curves) == 9
        for curve in curves:
            assert set(np.round(30 * KEYS_S, 6)) <= set(np.round(curve.time, 6))
            assert curve.key_count < clip.frames
        counts.append(clip.key_count)
        assert any(f"rotations of 3 joints are keyed within {within:g}°" in n for n in take.notes)
    assert counts[0] < counts[1]


def test_slerp_is_followed_as_scipy_goes_it() -> None:
    clip = only(few_keys(), Choices(rate=Fraction(30), within_deg=0.01)).clip
    frames = np.arange(8 * 60 + 1) / 8
    found = evaluate(clip, frames).rotation
    for j in range(3):
        assert rotation.geodesic_deg(found[:, j], slerped(j, frames / 30)).max() < 0.011


def test_rotations_that_take_a_key_a_frame_are_sampled() -> None:
    clip = only(few_keys(), Choices(rate=Fraction(24), within_deg=1e-4)).clip
    assert all(isinstance(c, SampledCurve) for c in clip.curves.values())


BVH = b"""HIERARCHY
ROOT Hips
{
  OFFSET 0 0 0
  CHANNELS 3 Zrotation Xrotation Yrotation
  End Site
  {
    OFFSET 0 1 0
  }
}
MOTION
Frames: 3
Frame Time: 0.0333333
1 2 3
2 3 4
3 4 5
"""


def test_a_file_of_channels_can_be_read_at_another_rate_alone() -> None:
    (take,) = read_takes(BVH, "nod.bvh", choices=Choices(rate=Fraction(25)))
    (told,) = read_takes(BVH, "nod.bvh")
    assert (take.clip.rate, told.clip.rate) == (25, 30)
    assert take.clip.curves.keys() == told.clip.curves.keys()
    assert take.notes[-1] == "rate 25 a second, as chosen: the file says 30"
    with pytest.raises(BadInput, match="says itself what its rotation channels are"):
        read_takes(BVH, "nod.bvh", choices=Choices(order="XYZ"))


@pytest.mark.parametrize(
    ("choices", "told"),
    [
        (Choices(order="XYX"), "order: 'XYX' is not one of XYZ, "),
        (Choices(orders={"Head": "up"}), "order: 'up' is not one of"),
        (Choices(orders={"Tail": "XYZ"}), "no joint is named 'Tail'"),
        (Choices(rate=Fraction(0)), "rate: expected 0.01 to 100,000"),
        (Choices(rate=Fraction(100_001)), "rate: expected 0.01 to 100,000"),
        (Choices(within_deg=float("nan")), "fitted: expected 0.0001 to 10 degrees"),
    ],
)
def test_what_cannot_be_chosen_is_said(choices: Choices, told: str) -> None:
    is_refused(few_keys(), told, "turn.glb", choices)


def test_the_command_line_takes_choices(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    file, out = tmp_path / "turn.glb", tmp_path / "turn.json"
    file.write_bytes(few_keys())
    chosen = ["--rate", "29.97", "--order", "XZY", "--order", "Head=YXZ", "--keyed", "0.5"]
    assert main(["convert", str(file), str(out), *chosen, "--json"]) == 0
    assert json.loads(capsys.readouterr().out)["keys"] < 60 * 9
    (take,) = read_takes(out.read_bytes(), "turn.json")
    assert take.clip.rate == Fraction(30000, 1001)
    assert [take.clip.order(j) for j in range(3)] == ["XZY", "XZY", "YXZ"]
    assert main(["inspect", str(file), "--order", "QXY"]) == 2
    assert "order: 'QXY' is not one of" in capsys.readouterr().err


def test_a_rate_that_is_none_is_refused(capsys: pytest.CaptureFixture[str]) -> None:
    with pytest.raises(SystemExit, match="2"):
        main(["inspect", "turn.glb", "--rate", "1/0"])
    assert "'1/0' is not a rate" in capsys.readouterr().err
