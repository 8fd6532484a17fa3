"""Compile every kernel once, so that nobody waits for it at the first click."""

from __future__ import annotations

import numpy as np

from leancurve.clip import evaluate
from leancurve.demo.body import pose
from leancurve.demo.takes import deck_walk
from leancurve.formats.bvh import read_bvh, write_bvh
from leancurve.operations import OPERATIONS, apply_patch
from leancurve.rotation import hemisphere


def main() -> None:
    clip = read_bvh(write_bvh(pose(deck_walk(), "warm"))).clip
    clip = apply_patch(clip, OPERATIONS["unflip"].run(clip))
    thin = apply_patch(clip, OPERATIONS["thin"].run(clip))
    at = np.array([0.0, 1.5])
    hemisphere(evaluate(thin, at).world(thin.skeleton)[0])
    evaluate(clip, at)


if __name__ == "__main__":
    main()
