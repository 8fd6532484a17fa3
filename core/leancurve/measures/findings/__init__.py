"""Findings: what is measured to be wrong in a clip, each with joint, span and size.

One detector a file: its thresholds as constants with unit and source, and ``detect``.
"""

from leancurve.measures.findings.base import Finding, Kind, Motion
from leancurve.measures.findings.registry import KINDS, VERSION, find, kind_named, work_left

__all__ = ["KINDS", "VERSION", "Finding", "Kind", "Motion", "find", "kind_named", "work_left"]
