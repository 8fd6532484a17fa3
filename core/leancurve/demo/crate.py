"""The crate that is carried over the coaming, as a prop with the motion that it truly had."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from leancurve.curves.curve import SampledCurve
from leancurve.demo.defects import Capture, captured
from leancurve.demo.takes import TAKES
from leancurve.document.clip import Clip
from leancurve.operations import OPERATIONS, apply_patch

HELD_S = (1.4, 10.3)
"""From when to when both hands are on it; before and after it stands."""


def crate_take() -> Capture:
    """The crate's take as captured, with the crate: hands come to it, carry it, set it down. It
    ships as clip JSON."""
    capture = captured(TAKES[1])
    return replace(capture, clip=with_crate(capture.clip, capture.lead_in))


def with_crate(clip: Clip, lead_in: int = 0) -> Clip:
    """A clip of the crate's take with the crate as the performer's hands had it, the performance
    beginning after ``lead_in`` frames."""
    crate = {
        "do": "add", "name": "crate", "shape": "box", "size": [360, 300, 320],
        "joints": ["LeftHand", "RightHand"],
    }  # fmt: skip
    true = OPERATIONS["edit_props"].run(TAKES[1].clean(), {"edits": [crate]})
    first, last = (round(t * float(clip.rate)) for t in HELD_S)
    held = np.clip(np.arange(clip.frames) - lead_in, first, last)
    curves = {}
    for track, curve in true.curves.items():
        assert isinstance(curve, SampledCurve)
        curves[track] = SampledCurve(curve.values[held])
    return apply_patch(clip, replace(true, curves=curves))
