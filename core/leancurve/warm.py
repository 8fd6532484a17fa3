"""Compile every kernel once, so that nobody waits for it at the first click."""

from __future__ import annotations

import numpy as np

from leancurve.demo import TAKES, captured
from leancurve.document.evaluation import evaluate
from leancurve.formats.bvh import read_bvh, write_bvh
from leancurve.numbers.rotation import hemisphere
from leancurve.operations import OPERATIONS, apply_patch
from leancurve.recipe import ALL_OF_IT, run_recipe
from leancurve.time.resample import resampled

LAYER = {"do": "add", "name": "layer"}


def main() -> None:
    """A few seconds of a captured take through all of the work, read from a file's bytes."""
    short = resampled(captured(TAKES[2]).clip, first=0, last=240)
    clip = read_bvh(write_bvh(short)).clip
    done = run_recipe(clip, ALL_OF_IT).clip
    for layout in ("part", "pose"):
        OPERATIONS["thin"].run(done, {"layout": layout})
    at = np.array([0.0, 1.5])
    OPERATIONS["plant"].run(done)
    thin = apply_patch(clip, OPERATIONS["thin"].run(clip))
    hemisphere(evaluate(thin, at).world(thin.skeleton)[0])
    evaluate(clip, at)
    made = apply_patch(clip, OPERATIONS["edit_layers"].run(clip, {"edits": [LAYER]}))
    turned = {"layer": LAYER["name"], "frame": 0, "turns": {clip.skeleton.names[-1]: (1.0, 0, 0)}}
    evaluate(apply_patch(made, OPERATIONS["key_layer"].run(made, turned)))
    OPERATIONS["trim"].run(thin, {"first": 3, "calibration": False})


if __name__ == "__main__":
    main()
