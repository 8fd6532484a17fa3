"""Keys off the frame, and doubled keys: they bend a curve and nobody sees why."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from leancurve.curves.curve import ON_FRAME, KeyedCurve, KeyFlag
from leancurve.document.track import TrackId
from leancurve.measures.findings.base import Finding, Motion, severity
from leancurve.numbers.arrays import Bools

DOUBLED = 0.5
"""Frames: two keys closer than this are one key doubled; the exporter kept both."""


def detect_off_frame(motion: Motion) -> Iterator[Finding]:
    for channel, curve in _keyed(motion):
        # A riding key lies between frames on purpose: where its neighbours put it.
        rides = (curve.flags & KeyFlag.RIDING) != 0
        off = np.where(rides, 0.0, np.abs(curve.time - np.round(curve.time)))
        twin = _twins(curve)
        for k in np.flatnonzero(off > ON_FRAME).tolist():
            if not twin[k]:
                yield _finding(motion, "key off the frame", channel, curve.time[k], off[k], 0.5)


def detect_doubled(motion: Motion) -> Iterator[Finding]:
    for channel, curve in _keyed(motion):
        gap = np.diff(curve.time)
        for k in np.flatnonzero(gap < DOUBLED).tolist():
            yield _finding(motion, "doubled key", channel, curve.time[k], gap[k], DOUBLED)


def _keyed(motion: Motion) -> Iterator[tuple[TrackId, KeyedCurve]]:
    for channel in motion.clip.channels:
        curve = motion.clip.curves[channel]
        if isinstance(curve, KeyedCurve):
            yield channel, curve.unmuted


def _twins(curve: KeyedCurve) -> Bools:
    close = np.diff(curve.time) < DOUBLED
    return np.asarray(np.concatenate([close, [False]]) | np.concatenate([[False], close]))


def _finding(
    motion: Motion, kind: str, channel: TrackId, time: float, size: float, worst: float
) -> Finding:
    last = max(motion.clip.frames - 1, 0)
    frame = int(np.clip(round(time), 0, last))
    name = motion.names[channel.joint]
    rank = severity(size, 0.0, worst)
    return Finding(kind, name, channel.name, frame, frame, round(float(size), 6), "frames", rank)
