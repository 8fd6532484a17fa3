"""Malformed BVH files: each gives one clear sentence, with the line where there is one."""

from __future__ import annotations

import pytest
from leancurve.errors import BadInput
from leancurve.formats.files import read_take

from tests.core.test_bvh import HEAD, ROW, file

GOOD = file([ROW, ROW, ROW])


def changed(old: str, new: str, count: int = 1) -> bytes:
    assert old.encode() in GOOD
    return GOOD.replace(old.encode(), new.encode(), count)


CASES: list[tuple[str, bytes, str]] = [
    ("empty", b"", "line 1: the file is empty; expected HIERARCHY"),
    ("blank", b"  \n\n\t\n", "line 1: the file is empty"),
    ("binary", b"\x00\x01\x02HIERARCHY", "not text"),
    ("another format", b"solid cube\nfacet normal 0 0 1\n", "line 1: expected HIERARCHY"),
    ("broken utf-16", b"\xff\xfeH", "not valid UTF-16"),
    ("no hierarchy", changed("HIERARCHY\n", ""), "line 1: expected HIERARCHY, found 'ROOT Hips'"),
    ("only motion", GOOD[GOOD.index(b"MOTION") :], "line 1: expected HIERARCHY, found 'MOTION'"),
    ("no root", b"HIERARCHY\nMOTION\nFrames: 0\nFrame Time: .1\n", "line 1: expected ROOT"),
    ("joint first", changed("ROOT Hips", "JOINT Hips"), "line 2: expected ROOT, found a JOINT"),
    ("root without a name", changed("ROOT Hips", "ROOT"), "line 2: ROOT has no name"),
    ("joint without a name", changed("JOINT Left Arm:1.b", "JOINT"), "line 6: JOINT has no name"),
    ("two of a name", changed("Left Arm:1.b", "Hips"), "line 6: two joints are named 'Hips'"),
    ("no brace", changed("ROOT Hips\n{", "ROOT Hips\n"), "line 4: expected { to open the block"),
    ("unclosed", changed("\t}\n}\nMOTION", "\t}\nMOTION"), "line 2: joint 'Hips' opened here is not"),
    ("unclosed end", changed("\t\t}\n\t}\n}\nMOTION", "MOTION"), "line 10: an End Site opened here"),
    ("closed too often", changed("}\nMOTION", "}\n}\nMOTION"), "line 16: found } with no open block"),
    ("root in a root", changed("JOINT Left Arm:1.b", "ROOT Other"), "line 6: a ROOT cannot stand"),
    ("no offset", changed("\tOFFSET 0 0 0\n", ""), "line 5: joint 'Hips' has no OFFSET before"),
    ("end without offset", changed("\t\t\tOFFSET 0 120.5 1e-3\n", ""), "line 12: End Site has no"),
    ("offset of two", changed("OFFSET 0 50 0", "OFFSET 0 50"), "line 8: OFFSET needs 3 numbers, found 2"),
    ("offset of four", changed("OFFSET 0 50 0", "OFFSET 0 50 0 1"), "line 8: OFFSET needs 3 numbers"),
    ("offset of words", changed("OFFSET 0 50 0", "OFFSET 0 up 0"), "line 8: OFFSET: expected a number, found 'up'"),
    ("offset nan", changed("OFFSET 0 50 0", "OFFSET 0 nan 0"), "line 8: OFFSET: expected a finite number"),
    ("two offsets", changed("OFFSET 0 50 0", "OFFSET 0 50 0\nOFFSET 0 1 0"), "line 9: a second OFFSET"),
    ("channels short", changed("CHANNELS 3 Y", "CHANNELS 4 Y"), "line 9: CHANNELS says 4 but names 3"),
    ("channels long", changed("CHANNELS 3 Y", "CHANNELS 2 Y"), "line 9: CHANNELS says 2 but names 3"),
    ("no count", changed("CHANNELS 3 Y", "CHANNELS Y"), "line 9: CHANNELS needs a count"),
    ("unknown channel", changed("Yrotation Z", "Wrotation Z"), "line 9: unknown channel 'Wrotation'"),
    ("a channel twice", changed("Yrotation Z", "Zrotation Z"), "line 9: channel Zrotation is listed twice"),
    ("two channels lines", changed("\tJOINT", "\tCHANNELS 1 Xrotation\n\tJOINT"), "line 6: a second CHANNELS"),
    ("end site with a joint", changed("OFFSET 0 120.5 1e-3", "OFFSET 0 1 0\nJOINT x\n{\nOFFSET 0 0 0\n}"), "line 13: expected ROOT"),
    ("unknown word", changed("\tJOINT", "\tMESH a\n\tJOINT"), "line 6: expected JOINT, End Site"),
    ("words after the root", changed("}\nMOTION", "}\nhello\nMOTION"), "line 16: expected MOTION, found 'hello'"),
    ("no motion", GOOD[: GOOD.index(b"MOTION")], "expected MOTION after the hierarchy"),
    ("cut in the hierarchy", GOOD[:90], "expected MOTION after the hierarchy|CHANNELS"),
    ("no frames", changed("Frames: 3\n", ""), "line 17: expected 'Frames:' and a number"),
    ("frames empty", changed("Frames: 3", "Frames:"), "line 17: expected 'Frames:' and a number"),
    ("frames negative", changed("Frames: 3", "Frames: -3"), "line 17: Frames: expected a whole number"),
    ("frames a fraction", changed("Frames: 3", "Frames: 2.5"), "line 17: Frames: expected a whole"),
    ("no frame time", changed("Frame Time: 0.0083333\n", ""), "line 18: expected 'Frame Time:'"),
    ("frame time zero", changed("0.0083333", "0"), "line 18: Frame Time: expected seconds between"),
    ("frame time negative", changed("0.0083333", "-0.01"), "line 18: Frame Time: expected seconds"),
    ("frame time words", changed("0.0083333", "fast"), "line 18: Frame Time: expected a number"),
    ("cut after frames", GOOD[: GOOD.index(b"Frame Time")], "line 18: .* found the end of the file"),
    ("nan", file([ROW, ROW.replace("20", "nan"), ROW]), "line 20: expected a finite number, found 'nan'"),
    ("infinity", file([ROW, ROW, ROW.replace("20", "-inf")]), "line 21: expected a finite number"),
    ("overflow", file([ROW.replace("20", "1e999")]), "line 19: expected a number, found '1e999'"),
    ("a word in a row", file([ROW, ROW.replace("20", "twenty")]), "line 20: expected a number, found 'twenty'"),
    ("two points", file([ROW.replace("15.25", "15.2.5")]), "line 19: expected a number, found '15.2.5'"),
    ("comma", file([ROW.replace("15.25", "15,25")]), "line 19: expected a number, found '15,25'"),
    ("short row inside", file([ROW, "1 2 3", ROW]), "line 20: expected 9 numbers in this row, found 3"),
    ("long row", file([ROW, ROW + " 7", ROW]), "line 20: expected 9 numbers in this row, found 10"),
    ("underscore", file([ROW.replace("15.25", "1_5")]), "line 19: expected a number, found '1_5'"),
    ("hex", file([ROW.replace("15.25", "0x1F")]), "line 19: expected a number, found '0x1F'"),
]  # fmt: skip


@pytest.mark.parametrize(("data", "says"), [c[1:] for c in CASES], ids=[c[0] for c in CASES])
def test_each_is_refused_with_one_sentence(data: bytes, says: str) -> None:
    with pytest.raises(BadInput, match=says) as trouble:
        read_take(data, "take.bvh")
    text = str(trouble.value)
    assert text.startswith("take.bvh")
    assert "\n" not in text
    assert len(text) < 200


def test_there_are_enough_of_them() -> None:
    assert len(CASES) >= 40


def test_numbers_without_channels_are_refused() -> None:
    head = HEAD.replace(
        "\tCHANNELS 6 Xposition Yposition Zposition Zrotation Xrotation Yrotation\n", ""
    )
    head = head.replace("\t\tCHANNELS 3 Yrotation Zrotation Xrotation\n", "")
    with pytest.raises(BadInput, match="no joint has channels"):
        read_take(file([ROW], head), "take.bvh")


def test_an_ending_that_is_no_motion_file() -> None:
    ending = r"take\.fbx: expected a file ending in \.bvh, \.json, \.glb, .* or \.zip"
    with pytest.raises(BadInput, match=ending):
        read_take(b"", "take.fbx")
