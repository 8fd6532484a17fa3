"""Several files as one: a zip, whose sizes are looked at before anything is unpacked."""

from __future__ import annotations

import io
import zipfile
import zlib
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from pathlib import PurePosixPath

from leancurve.errors import BadInput, short

MOST_FILES = 1_000
MOST_BYTES = 512 * 2**20
MOST_RATIO = 200
"""How much larger than the archive its files may be: motion as text shrinks to a tenth."""
DAMAGE = (
    zipfile.BadZipFile, zlib.error, NotImplementedError, ValueError, RuntimeError, EOFError,
    OSError,
)  # fmt: skip
"""What a zip whose bytes do not hold together raises."""
HIDDEN = ("__MACOSX", ".")
"""What some archivers add beside the files."""


def unpacked(data: bytes) -> dict[str, bytes]:
    """The files of a zip by their path in it, folders left out; :class:`BadInput` says what is
    wrong with it."""
    damaged = "the archive is damaged, or packed in a way that is not read here"
    with opened(data, damaged) as archive:
        entries = [e for e in archive.infolist() if not e.is_dir()]
        if len(entries) > MOST_FILES:
            raise BadInput(f"it holds {len(entries):,} files; at most {MOST_FILES:,}")
        claimed = sum(e.file_size for e in entries)
        if claimed > min(MOST_BYTES, MOST_RATIO * len(data)):
            raise BadInput(f"its files are {claimed / 2**20:,.0f} MB unpacked: too many")
        if any(e.flag_bits & 1 for e in entries):
            raise BadInput("its files are locked with a password")
        return {e.filename: _one(archive, e) for e in entries if not _hidden(e.filename)}


@contextmanager
def opened(data: bytes, damaged: str) -> Iterator[zipfile.ZipFile]:
    """A zip to be looked into; where its bytes do not hold together, ``damaged`` is said."""
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            yield archive
    except BadInput:
        raise
    except DAMAGE:
        raise BadInput(damaged) from None


def _one(archive: zipfile.ZipFile, entry: zipfile.ZipInfo) -> bytes:
    with archive.open(entry) as file:
        # What it says of its size is not believed.
        data = file.read(entry.file_size + 1)
    if len(data) != entry.file_size:
        raise BadInput(f"{short(entry.filename)} is not as large as the archive says")
    return data


def _hidden(name: str) -> bool:
    return any(part.startswith(HIDDEN) for part in PurePosixPath(name).parts)


def packed(files: Iterable[tuple[str, bytes]]) -> bytes:
    """Files as one zip, stored as they are."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        for name, data in files:
            archive.writestr(zipfile.ZipInfo(name), data)
    return out.getvalue()
