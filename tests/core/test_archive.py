"""Zips of takes: what is in them is read, what they claim is not believed."""

from __future__ import annotations

import io
import json
import struct
import zipfile
from typing import Any

import pytest
from leancurve.errors import BadInput
from leancurve.formats import archive
from leancurve.formats.archive import packed, unpacked
from leancurve.formats.files import read_takes

from tests.core.refusals import is_refused
from tests.core.test_gltf import GOOD, walking


def zipped(files: dict[str, bytes], **how: Any) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", **how) as z:
        for name, data in files.items():
            z.writestr(name, data)
    return out.getvalue()


def test_a_gltf_finds_its_buffer_beside_it_in_its_folder() -> None:
    b, _ = walking()
    document = b.document()
    document["buffers"][0]["uri"] = "motion.bin"
    text = json.dumps(document).encode()
    files = {"crew/walk.gltf": text, "crew/motion.bin": bytes(b.binary), "motion.bin": b"no"}
    for data in (
        zipped(files),
        zipped(files, compression=zipfile.ZIP_DEFLATED),
        packed(files.items()),
    ):
        (take,) = read_takes(data, "crew.zip")
        assert (take.clip.name, take.clip.frames) == ("walk", 61)
    del files["crew/motion.bin"]
    with pytest.raises(BadInput, match=r"^crew\.zip, walk\.gltf: it needs motion\.bin"):
        read_takes(zipped(files), "crew.zip")


def test_every_take_in_a_zip_is_read_and_what_archivers_add_is_not() -> None:
    data = zipped({
        "b.glb": GOOD, "a/a.glb": GOOD, "__MACOSX/a.glb": b"x", "a/.hidden.glb": b"x",
        "notes.txt": b"x",
    })  # fmt: skip
    assert len(read_takes(data, "day.zip")) == 2


def lying(data: bytes, size: int) -> bytes:
    """The first entry says it is of another size (PKWARE's APPNOTE, 4.3.7 and 4.3.12)."""
    out = bytearray(data)
    central = data.index(b"PK\x01\x02")
    struct.pack_into("<I", out, central + 24, size)
    struct.pack_into("<I", out, 22, size)
    return bytes(out)


ONE = zipped({"a.glb": GOOD})
WRONG = {
    "empty": (b"", "damaged"),
    "cut": (ONE[:-30], "damaged"),
    "nothing known": (zipped({"notes.txt": b"x"}), "it holds no file ending in .bvh"),
    "a zip in a zip": (zipped({"a.zip": ONE}), "it holds no file ending in .bvh"),
    "a bomb": (
        zipped({"a.bvh": b"0" * 30_000_000}, compression=zipfile.ZIP_DEFLATED), "29 MB unpacked",
    ),
    "a bomb that lies": (
        lying(zipped({"a.bvh": b"0" * 3_000_000}, compression=zipfile.ZIP_DEFLATED), 100),
        "damaged|not as large",
    ),
    "too many": (zipped({f"{k}.txt": b"" for k in range(1_001)}), "1,001 files; at most 1,000"),
    "changed": (ONE.replace(b"Hips", b"Hipz", 1), "damaged"),
}  # fmt: skip


@pytest.mark.parametrize("name", WRONG)
def test_a_wrong_zip_is_refused_with_one_sentence(name: str) -> None:
    is_refused(*WRONG[name], "day.zip")


def test_a_locked_zip_is_refused() -> None:
    locked = bytearray(ONE)
    locked[6] |= 1
    locked[ONE.index(b"PK\x01\x02") + 8] |= 1
    with pytest.raises(BadInput, match="locked with a password"):
        unpacked(bytes(locked))


def test_what_is_unpacked_is_bounded(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(archive, "MOST_BYTES", 100)
    with pytest.raises(BadInput, match="MB unpacked"):
        unpacked(ONE)
