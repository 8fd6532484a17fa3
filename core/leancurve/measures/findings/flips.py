"""Flips: ±360° wraps, and swaps to the other equal Euler solution. No pose shows them."""

from __future__ import annotations

from collections.abc import Iterator

from leancurve.measures.findings.base import Finding, Motion


def detect_wraps(motion: Motion) -> Iterator[Finding]:
    """A channel that leaves by whole turns, each at the frame after the jump."""
    names = motion.names
    for joint, channel, frame in motion.flips.wraps:
        yield Finding("wrap", names[joint], channel, frame, frame, 360.0, "°", 0.6)


def detect_alternates(motion: Motion) -> Iterator[Finding]:
    """A joint that goes over to its other Euler solution, at the frame after the jump."""
    for joint, frame in motion.flips.alternates:
        yield Finding("alternate", motion.names[joint], "", frame, frame, 180.0, "°", 0.8)
