"""Compiled kernels. Importing this package decides where numba keeps its cache.

numba's disk cache does not notice a change in a callee that lives in another file, so
the cache folder carries a hash of all kernel sources, numba's version and the
processor. Without a writable folder the kernels still run, compiled afresh.
"""

from __future__ import annotations

import hashlib
import logging
import os
import platform
import sys
from importlib.metadata import version
from pathlib import Path

log = logging.getLogger(__name__)


def _fingerprint() -> str:
    digest = hashlib.sha256()
    for source in sorted(Path(__file__).parent.glob("*.py")):
        digest.update(source.read_bytes())
    try:
        processor = next(
            line for line in Path("/proc/cpuinfo").read_text().splitlines() if "model name" in line
        )
    except (OSError, StopIteration):
        processor = platform.processor()
    digest.update(f"{version('numba')} {version('numpy')} {sys.version} {processor}".encode())
    return digest.hexdigest()[:16]


def _cache_folder() -> Path | None:
    base = os.environ.get("LEAN_KERNEL_CACHE")
    root = Path(base) if base else Path.home() / ".cache" / "leancurve"
    folder = root / f"kernels-{_fingerprint()}"
    try:
        folder.mkdir(parents=True, exist_ok=True)
        probe = folder / f".probe-{os.getpid()}"
        probe.write_bytes(b"")
        probe.unlink()
    except OSError:
        return None
    return folder


CACHE_FOLDER = _cache_folder()
if CACHE_FOLDER is None:
    log.warning("No writable folder for compiled kernels: they are compiled afresh each time.")
else:
    os.environ["NUMBA_CACHE_DIR"] = str(CACHE_FOLDER)

import numba  # noqa: E402  (after the cache folder is set)

if CACHE_FOLDER is not None:
    numba.config.CACHE_DIR = str(CACHE_FOLDER)  # type: ignore[attr-defined]

kernel = numba.njit(cache=CACHE_FOLDER is not None, nogil=True)
"""Decorator of every kernel: compiled, cached, releasing the interpreter lock.

Compiled or interpreted a kernel gives the same bytes: transcendental functions are those of
``math`` (numpy's own differ in the last place), and powers are written as products.
"""
