"""Thin: dense channels replaced by few keys with fitted handles, within a tolerance."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar

import numpy as np
from pydantic import Field

from leancurve.arrays import Floats, Ints
from leancurve.clip import ChannelId, Clip, channel_values
from leancurve.curve import Curve, Handle, KeyedCurve, KeyFlag, Segment
from leancurve.operations.base import Operation, Params, Patch, Progress, Scope, silent

FREE, FLAT, BROKEN, HELD = 0, 1, 2, 3
"""Kinds of landmark, as the fitting kernel reads them."""

SHORTEST_HOLD_S = 0.2
BREAK_WINDOW_S = 0.08


class ThinParams(Params):
    tolerance_deg: float = Field(
        0.25, gt=0, le=45, description="largest error of each rotation channel, degrees"
    )
    tolerance_mm: float = Field(
        1.0, gt=0, le=1000, description="largest error of each position channel, millimetres"
    )
    landmarks: bool = Field(
        True, description="keep extremes, both ends of holds, and velocity breaks as keys"
    )


@dataclass(frozen=True)
class Landmarks:
    """Frames of a channel that must be keys, ascending, with their values and kinds."""

    frames: Ints
    values: Floats
    kinds: Ints


def find_landmarks(values: Floats, tolerance: float, rate: float, *, least: float) -> Landmarks:
    """Extremes of prominence ``max(4 × tolerance, least)``, ends of holds, velocity breaks.

    Values in the channel's unit, rate in frames a second. Always holds the first and last
    frame. A hold's two ends share its median, so that it truly rests.
    """
    from leancurve.kernels import landmarks

    n = len(values)
    kinds = np.full(n, -1, dtype=np.int64)
    at = values.copy()
    prominence = max(4.0 * tolerance, least)
    turning = np.zeros(n, dtype=np.bool_)
    landmarks.extremes(values, prominence, turning)
    broken = np.zeros(n, dtype=np.bool_)
    window = max(3, round(BREAK_WINDOW_S * rate))
    landmarks.breaks(values, window, prominence, broken)
    kinds[turning] = FLAT
    kinds[broken] = BROKEN
    shortest = max(4, round(SHORTEST_HOLD_S * rate))
    spans = np.empty((n // shortest + 1, 2), dtype=np.int64)
    # Noise may wander within a hold, as far as the tolerance has room for it.
    noise = noise_level(values)
    room = min(max(0.5 * tolerance, 8.0 * noise), 1.6 * tolerance)
    count = landmarks.holds(values, room, 0.2 * tolerance, shortest, spans)
    for first, last in spans[:count].tolist():
        rest = _rest(values[first : last + 1], max(0.1 * tolerance, 3.0 * noise), tolerance)
        if rest is None or rest.stop - rest.start < shortest:
            continue
        start, end = first + rest.start, first + rest.stop - 1
        kinds[start : end + 1] = -1
        at[start] = at[end] = np.median(values[start : end + 1])
        kinds[start], kinds[end] = HELD, FLAT
    for border in (0, n - 1):
        if kinds[border] < 0:
            kinds[border] = FREE
    frames = np.flatnonzero(kinds >= 0)
    return Landmarks(frames, at[frames], kinds[frames])


def _rest(values: Floats, near: float, tolerance: float) -> slice | None:
    """The part of a found hold that truly rests: without the way in and out of it."""
    close = np.flatnonzero(np.abs(values - np.median(values)) <= near)
    if len(close) == 0:
        return None
    part = slice(int(close[0]), int(close[-1]) + 1)
    inside = values[part]
    within = np.max(np.abs(inside - np.median(inside))) <= tolerance
    return part if within else None


def noise_level(values: Floats) -> float:
    """Standard deviation of white noise on a channel, from its fourth differences.

    Robust: 1.4826 × the median absolute difference, which for independent samples has the
    variance 1 + 16 + 36 + 16 + 1 = 70 times the noise's; motion hardly shows in it.
    """
    if len(values) < 5:
        return 0.0
    return float(1.4826 * np.median(np.abs(np.diff(values, 4))) / np.sqrt(70.0))


def fit(values: Floats, tolerance: float, marks: Landmarks) -> KeyedCurve:
    """Smooth keys through landmarks, never farther than ``tolerance`` from any sample."""
    from leancurve.kernels import fitting

    n = len(values)
    frames, handles = np.empty(n, dtype=np.int64), np.empty(n, dtype=np.int64)
    keys = np.empty((n, 5))
    if n == 1:
        count, frames[0], handles[0] = 1, 0, FREE
        keys[0] = (values[0], 0.0, 1 / 3, 0.0, 1 / 3)
    else:
        count = fitting.fit_channel(
            values, tolerance, marks.frames, marks.values, marks.kinds, frames, keys, handles
        )
    kind = handles[:count]
    third = 1.0 / 3.0
    columns = keys[:count]
    return KeyedCurve(
        id=np.arange(count, dtype=np.int64),
        time=frames[:count].astype(np.float64),
        value=columns[:, 0].copy(),
        slope_in=columns[:, 1].copy(),
        slope_out=columns[:, 3].copy(),
        length_in=np.concatenate([[third], columns[1:, 2]]),
        length_out=np.concatenate([columns[:-1, 4], [third]]),
        handle=np.where((kind == FLAT) | (kind == HELD), Handle.FLAT, Handle.FREE).astype(np.uint8),
        segment=np.full(count, Segment.CURVE, dtype=np.uint8),
        flags=np.where(kind == BROKEN, KeyFlag.BROKEN, 0).astype(np.uint8),
    ).checked()


def least_keys(values: Floats, tolerance: float) -> int:
    """Fewest keys that cubics in time need for this channel: see :mod:`kernels.minimax`."""
    from leancurve.kernels import minimax

    return int(minimax.least_keys(np.ascontiguousarray(values), tolerance))


class Thin(Operation[ThinParams]):
    """Replace dense channels by few keys within a tolerance.

    ``(0, 0, 0, 0, 1, 1, 1, 1)`` keeps keys at the ends of its two holds. The bound holds on
    every original frame, per channel, not per joint. A keyed curve in scope is thinned from
    its values on frames.
    """

    name = "thin"
    title = "Thin"
    step = "thin"
    Params: ClassVar[type[ThinParams]] = ThinParams

    def apply(
        self, clip: Clip, scope: Scope, params: ThinParams, progress: Progress = silent
    ) -> Patch:
        channels = scope.resolve(clip)
        if clip.frames == 0 or not channels:
            return Patch(report=_report(0, 0, 0, 0.0, 0.0))
        on_frames = np.arange(clip.frames, dtype=np.float64)
        values = channel_values(clip, on_frames, channels)
        before = sum(clip.curves[c].key_count for c in channels)
        curves: dict[ChannelId, Curve] = {}
        bound = 0
        worst = {True: 0.0, False: 0.0}
        for done, channel in enumerate(channels, start=1):
            y = np.ascontiguousarray(values[channel])
            tolerance = tolerance_of(clip, channel, params)
            least = 1.0 if channel.turns else 0.0
            marks = (
                find_landmarks(y, tolerance, float(clip.rate), least=least)
                if params.landmarks
                else _borders(y)
            )
            curve = fit(y, tolerance, marks)
            curves[channel] = curve
            bound += least_keys(y, tolerance)
            error = float(np.max(np.abs(curve.at(on_frames) - y)))
            worst[channel.turns] = max(worst[channel.turns], error)
            progress(done / len(channels))
        after = sum(c.key_count for c in curves.values())
        return Patch(
            curves=curves,
            report=_report(before, after, bound, worst[True], worst[False] * clip.millimetres),
        )

    def told(self, params: Any) -> str:
        return f"Thin within {params.get('tolerance_deg', 0.25):g}°"


def tolerance_of(clip: Clip, channel: ChannelId, params: ThinParams) -> float:
    """The channel's tolerance in its own unit: degrees, or the skeleton's unit."""
    return params.tolerance_deg if channel.turns else params.tolerance_mm / clip.millimetres


def _borders(values: Floats) -> Landmarks:
    ends = np.unique(np.array([0, len(values) - 1], dtype=np.int64))
    return Landmarks(ends, values[ends], np.full(len(ends), FREE, dtype=np.int64))


def _report(before: int, after: int, bound: int, degrees: float, mm: float) -> dict[str, float]:
    return {
        "keys_before": before,
        "keys_after": after,
        "keys_bound": bound,
        "max_error_deg": degrees,
        "max_error_mm": mm,
    }
