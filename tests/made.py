"""What takes seconds to make and follows from the core's sources alone is made once, for all
processes and for later runs."""

from __future__ import annotations

import hashlib
import os
import pickle
import shutil
from collections.abc import Callable
from functools import cache, lru_cache
from pathlib import Path
from typing import TypeVar

from leancurve.formats.files import read_take
from library.parsing import Looked, look

from tests.conftest import PROJECT

Made = TypeVar("Made")


@cache
def sources(*folders: str) -> str:
    """A digest of the sources in folders, and of the packages that they work with."""
    digest = hashlib.sha256()
    files = [PROJECT / "requirements/base.txt"]
    files += [file for folder in folders for file in (PROJECT / folder).rglob("*.py")]
    for file in sorted(files):
        digest.update(str(file.relative_to(PROJECT)).encode() + file.read_bytes())
    return digest.hexdigest()[:12]


@lru_cache(maxsize=32)
def looked_at(data: bytes, name: str) -> Looked:
    """A file as it is looked at when it comes in: what is found in it is the same each time."""
    return look(read_take(data, name), name)


@cache
def folder() -> Path:
    """Where things made by these sources lie; what others made is gone."""
    all_made = Path(os.environ.get("LEAN_LOCAL", PROJECT / ".local")) / "made"
    here = all_made / sources("core")
    here.mkdir(parents=True, exist_ok=True)
    for other in all_made.iterdir():
        if other != here:
            shutil.rmtree(other, ignore_errors=True)
    return here


def kept(name: str, make: Callable[[], Made]) -> Made:
    """What ``make`` returns, read where it has been made before."""
    file = folder() / f"{name}.pickle"
    if file.exists():
        out: Made = pickle.loads(file.read_bytes())
        return out
    made = make()
    half = file.with_suffix(f".{os.getpid()}")
    half.write_bytes(pickle.dumps(made))
    half.rename(file)
    return made
