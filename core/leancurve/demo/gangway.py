"""A watch on the gangway: a walk on nearly straight legs, a lamp in one hand, a line made fast.

It tries reach: legs that have hardly a bend left cannot follow planted feet without the hips.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from leancurve.demo.body import pose
from leancurve.demo.defects import Capture, Defect, bad_feet
from leancurve.demo.takes import TAKES
from leancurve.operations import OPERATIONS, apply_patch

RAISED = 7.5
"""How much higher the pelvis is carried than on the rolling deck, centimetres."""


def gangway_take(seed: int = 12) -> Capture:
    """The deck's walk upright, its feet sliding, with two props. It ships as clip JSON."""
    walk = TAKES[2].perform()
    random = np.random.default_rng(seed)
    truth: list[Defect] = []
    spoiled = bad_feet(walk, random, truth)
    upright = replace(spoiled, pelvis=spoiled.pelvis + np.array([0.0, RAISED, 0.0]))
    clip = pose(upright, "Gangway watch, take 03")
    props = [
        {"do": "add", "name": "lamp", "shape": "cylinder", "size": [110, 220, 110],
         "joints": ["RightHand"]},
        {"do": "add", "name": "mooring line", "shape": "line", "size": [40, 900, 40],
         "place": [700.0, 450.0, 1800.0]},
    ]  # fmt: skip
    patch = OPERATIONS["edit_props"].run(clip, {"edits": props})
    return Capture(apply_patch(clip, patch), truth)
