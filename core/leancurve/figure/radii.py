"""How thick a body is: one table, which the stage and pictures draw by and touches are found by.

Shares of stature, as common drawing manuals give them (from memory). Limbs are drawn from the one
radius to the other; as capsules, for touching, parts are as thick as firm flesh gives way to.
"""

from __future__ import annotations

from collections.abc import Mapping
from importlib import resources

import orjson

_TABLE = orjson.loads(resources.files("leancurve.figure").joinpath("radii.json").read_bytes())

LIMBS: Mapping[str, tuple[float, float]] = {k: (a, b) for k, (a, b) in _TABLE["limbs"].items()}
"""Radii of a limb at its two ends."""
FINGER: tuple[float, float] = (_TABLE["finger"][0], _TABLE["finger"][1])
CAPSULES: Mapping[str, float] = _TABLE["capsules"]
