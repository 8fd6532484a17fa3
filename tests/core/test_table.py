"""Channels as CSV: read by Python's own reader, and back onto a skeleton."""

from __future__ import annotations

import csv
import io
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from leancurve.cli import main
from leancurve.demo import TAKES
from leancurve.demo.characters import heron_file
from leancurve.document.clip import Clip
from leancurve.document.evaluation import effective, evaluate
from leancurve.errors import BadInput
from leancurve.formats.bvh import write_bvh
from leancurve.formats.files import read_take, read_takes
from leancurve.formats.table import read_table, write_table
from leancurve.numbers import rotation
from leancurve.operations import OPERATIONS, apply_patch

from tests.core.laden import laden


def short_walk() -> Clip:
    walk = TAKES[2].clean()
    return apply_patch(walk, OPERATIONS["trim"].run(walk, {"first": 0, "last": 79}))


WALK = short_walk()


def test_a_table_says_frames_seconds_and_units() -> None:
    rows = list(csv.reader(io.StringIO(write_table(WALK).decode())))
    assert rows[0][:4] == ["frame", "seconds", "Hips tx (cm)", "Hips ty (cm)"]
    assert {len(r) for r in rows} == {2 + len(WALK.channels)}
    assert [r[0] for r in rows[1:4]] == ["0", "1", "2"]
    values = effective(WALK)
    for k, track in enumerate(WALK.channels):
        column = [float(r[2 + k]) for r in rows[1:]]
        assert column == values[track].tolist()
        unit = "(cm)" if track.name[0] == "t" else "(deg)"
        assert rows[0][2 + k] == f"{WALK.skeleton.names[track.joint]} {track.name} {unit}"


@pytest.mark.parametrize("name", ["walk", "laden"])
def test_it_comes_back_to_the_bit_on_its_skeleton(name: str) -> None:
    clip = WALK if name == "walk" else laden()
    back = read_table(write_table(clip), clip).clip
    assert (back.rate, back.frames, back.layout) == (clip.rate, clip.frames, clip.layout)
    played = effective(clip, channels=clip.channels)
    for track, curve in back.curves.items():
        assert curve.values.tolist() == played[track].tolist()  # type: ignore[union-attr]


def test_another_unit_and_fewer_columns_are_read_as_they_say() -> None:
    reading = replace(WALK.reading, metres_per_unit=1.0)
    metres = replace(WALK, reading=reading)
    back = read_table(write_table(WALK), metres).clip
    assert evaluate(back).translation[:, 0] == pytest.approx(
        0.01 * evaluate(WALK).translation[:, 0]
    )
    rows = write_table(WALK).decode().splitlines()
    few = "\n".join(",".join(r.split(",")[:8]) for r in rows).encode()
    take = read_table(few, WALK)
    assert take.clip.layout[0] == WALK.layout[0]
    assert not any(take.clip.layout[1:])
    assert any("64 joints have no columns" in n for n in take.notes)
    rest = take.clip.skeleton.rest_rotations[5]
    assert rotation.geodesic_deg(evaluate(take.clip).rotation[:, 5], rest).max() < 1e-9


GOOD = write_table(WALK)
WRONG = {
    "empty": (b"", "no column of a channel"),
    "no text": (b"\xff\xfe\x00", "expected the names of columns"),
    "another joint": (GOOD.replace(b"Hips tx", b"Tail tx", 1), "Tail is no joint of"),
    "a column twice": (GOOD.replace(b"Hips ty", b"Hips tx", 1), "is there twice"),
    "a column of nothing": (GOOD.replace(b"Hips tx (cm)", b"Hips", 1), "is no column such as"),
    "radians": (GOOD.replace(b"rz (deg)", b"rz (rad)", 1), "expected turns in deg, found rad"),
    "a unit": (GOOD.replace(b"tx (cm)", b"tx (ell)", 1), "is no unit of length"),
    "no channels": (b"frame,seconds\n0,0\n", "no column of a channel"),
    "no rows": (GOOD.partition(b"\n")[0] + b"\n", "it has no rows"),
    "a row too short": (GOOD + b"1,2,3\r\n", "line 82: expected 200 numbers, found 3"),
    "no number": (GOOD.replace(b"\n3,", b"\nnan,", 1), "line 5: expected a finite number"),
    "a frame left out": (GOOD.replace(b"\n3,", b"\n4,", 1), "frame 4 does not follow 2"),
}


@pytest.mark.parametrize("name", WRONG)
def test_a_wrong_table_is_refused_with_one_sentence(name: str) -> None:
    data, why = WRONG[name]
    with pytest.raises(BadInput, match=why):
        read_takes(data, "walk.csv", like=WALK)


def test_the_command_line_writes_and_reads_tables(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    bvh, table, back, heron = (
        str(tmp_path / n) for n in ("walk.bvh", "walk.csv", "back.bvh", "heron.bvh")
    )
    Path(bvh).write_bytes(write_bvh(WALK))
    Path(heron).write_bytes(write_bvh(heron_file()))
    assert main(["convert", bvh, table]) == 0
    assert main(["convert", table, back, "--skeleton", bvh]) == 0
    read = read_take(Path(back).read_bytes(), "back.bvh").clip
    assert np.array_equal(evaluate(read).rotation, evaluate(WALK).rotation)
    assert main(["convert", table, back]) == 2
    assert "is read onto a skeleton" in capsys.readouterr().err
    assert main(["convert", table, back, "--skeleton", heron]) == 2
    assert "is no joint of" in capsys.readouterr().err
