"""The procedural capture: a ferry crew's takes, clean (the truth) and with seeded defects."""

from leancurve.demo.crate import crate_take
from leancurve.demo.defects import captured, lamp_take
from leancurve.demo.gangway import gangway_take
from leancurve.demo.takes import TAKES, DemoTake

__all__ = ["TAKES", "DemoTake", "captured", "crate_take", "gangway_take", "lamp_take"]
