"""What takes seconds to make and follows from the core's sources alone is made once, for all
processes and for later runs."""

from __future__ import annotations

import hashlib
import os
import pickle
import shutil
from collections.abc import Callable
from functools import cache
from pathlib import Path
from typing import TypeVar

from tests.conftest import PROJECT

Made = TypeVar("Made")


@cache
def folder() -> Path:
    """Where things made by these sources lie; what others made is gone."""
    digest = hashlib.sha256((PROJECT / "requirements/base.txt").read_bytes())
    for file in sorted((PROJECT / "core").rglob("*.py")):
        digest.update(str(file).encode() + file.read_bytes())
    all_made = Path(os.environ.get("LEAN_LOCAL", PROJECT / ".local")) / "made"
    here = all_made / digest.hexdigest()[:16]
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
