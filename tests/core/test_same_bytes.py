"""What an operation makes does not hang on whether its kernels were compiled: a state that one
process made is the same state where another makes it again."""

from __future__ import annotations

import json
import os
import subprocess
import sys

from leancurve.operations import OPERATIONS

from tests.conftest import PROJECT
from tests.core.every_operation import digests


def test_compiled_and_interpreted_kernels_give_the_same_bytes() -> None:
    path = f"{PROJECT}/core:{PROJECT}/server"
    interpreted = subprocess.Popen(
        [sys.executable, "-m", "tests.core.every_operation"],
        env={**os.environ, "NUMBA_DISABLE_JIT": "1", "PYTHONPATH": path},
        cwd=PROJECT, stdout=subprocess.PIPE,
    )  # fmt: skip
    compiled = digests()
    out, _ = interpreted.communicate()
    assert interpreted.returncode == 0
    assert {name.partition(",")[0] for name in compiled} == set(OPERATIONS)
    assert len(set(compiled.values())) > 50
    assert json.loads(out) == compiled
