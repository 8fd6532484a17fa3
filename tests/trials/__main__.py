"""``./lean trials [NAME…]``: all trials or those named; ``--keep`` writes docs/trials.md."""

from __future__ import annotations

import sys
import tempfile
from pathlib import Path

from tests.trials import load

TRIALS = {"load": load.run}


def main(arguments: list[str]) -> None:
    for name in [a for a in arguments if not a.startswith("--")] or list(TRIALS):
        with tempfile.TemporaryDirectory() as folder:
            TRIALS[name](Path(folder))


main(sys.argv[1:])
