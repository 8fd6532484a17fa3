"""What was computed and not applied yet: a preview's numbers are found again by its write.

At hand in each process, and for the other processes of this machine in files of a folder, which
together weigh no more than a stated number of bytes.
"""

import contextlib
import hashlib
import os
import pickle
import tempfile
from dataclasses import fields
from functools import cache
from pathlib import Path

import leancurve
from django.conf import settings
from documents.caches import Cache
from documents.store import weight
from leancurve.operations import Patch

_patches: Cache[Patch] = Cache(
    settings.PREVIEW_CACHE_BYTES, lambda p: sum(weight(c) for c in p.curves.values())
)


WORTH_S = 0.05
"""What was computed in less is not written to a file."""


def found(key: str) -> Patch | None:
    """The patch of that name, if it is still kept."""
    patch = _patches.get(key)
    if patch is None and settings.COMPUTERS:
        patch = _read(_file(key))
        if patch is not None:
            _patches.put(key, patch)
    return patch


def _read(file: Path) -> Patch | None:
    """What a file holds, if it is a patch as this code makes them."""
    try:
        made = pickle.loads(file.read_bytes())  # our own: the folder is nobody else's
    except FileNotFoundError:
        return None
    except Exception:
        # Written by other code, or half of it: it is computed again.
        with contextlib.suppress(OSError):
            file.unlink()
        return None
    return made if isinstance(made, Patch) and vars(made).keys() == PARTS else None


def keep(key: str, patch: Patch, seconds: float) -> None:
    """Keep a patch that took so long to compute, in case it is applied next."""
    _patches.put(key, patch)
    if settings.COMPUTERS and seconds > WORTH_S:
        # A full disk costs the time to compute it again, no more.
        with contextlib.suppress(OSError):
            _write(key, pickle.dumps(patch, protocol=5))


def forget() -> None:
    """What this process has at hand; files stay."""
    _patches.clear()


def _file(key: str) -> Path:
    return settings.SCRATCH_DIR / f"{key}.{made_by()}.patch"


@cache
def made_by() -> str:
    """A digest of the code that computes: what other code made is another patch, whatever version
    both are called."""
    digest = hashlib.sha256()
    folder = Path(leancurve.__file__).parent
    for source in sorted(folder.rglob("*.py")):
        digest.update(str(source.relative_to(folder)).encode() + source.read_bytes())
    return digest.hexdigest()[:16]


PARTS = {part.name for part in fields(Patch)}


def _write(key: str, data: bytes) -> None:
    folder = settings.SCRATCH_DIR
    folder.mkdir(mode=0o700, parents=True, exist_ok=True)
    kept = sorted(
        ((entry.stat().st_mtime, entry.stat().st_size, entry.path) for entry in os.scandir(folder)),
        reverse=True,
    )
    total = len(data)
    for _, size, path in kept:
        total += size
        if total > settings.SCRATCH_BYTES:
            Path(path).unlink(missing_ok=True)
    if len(data) > settings.SCRATCH_BYTES:
        return
    handle, written = tempfile.mkstemp(dir=folder)
    try:
        with os.fdopen(handle, "wb") as out:
            out.write(data)
        os.replace(written, _file(key))
    except OSError:
        Path(written).unlink(missing_ok=True)
        raise
