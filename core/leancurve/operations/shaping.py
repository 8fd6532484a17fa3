"""Curves reshaped: values changed under a weight in time, on sampled and keyed curves alike."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from typing import Any, TypeAlias

import numpy as np
from pydantic import Field

from leancurve.curves.curve import Curve, Handle, KeyedCurve, SampledCurve
from leancurve.curves.easing import Easing, EasingName, easing_of
from leancurve.curves.handles import beside, settled
from leancurve.curves.insertion import insert_keys
from leancurve.document.base import channel_values
from leancurve.document.clip import Clip
from leancurve.document.scope import Scope
from leancurve.document.track import TrackId
from leancurve.numbers.arrays import Bools, Floats, runs
from leancurve.operations.base import Params, number

Target: TypeAlias = Callable[[Floats, Floats, Floats], tuple[Floats, Floats]]
"""New values and slopes at times, from the old values and slopes there."""


class RampParams(Params):
    """How a change comes in at the start of its frames and goes out at their end."""

    ramp_in: int = number(0, "frames", "over how many frames the change comes in", ge=0, le=100000)
    ramp_out: int = number(0, "frames", "over how many frames it goes out", ge=0, le=100000)
    easing: EasingName = Field("ease-in-out", description="how it comes in and goes out")
    bezier: str | None = Field(
        None,
        description="the cubic Bezier's x1, y1, x2, y2",
        json_schema_extra={"when": {"easing": ["cubic-bezier"]}},
    )


@dataclass(frozen=True)
class Window:
    """Frames ``first`` to ``last`` in which a change counts, coming in and going out within."""

    first: int
    last: int
    ramp_in: int
    ramp_out: int
    easing: Easing
    frames: int

    def _sides(self, t: Floats) -> tuple[Floats, Floats]:
        """How far in from either border, 0 to 1: from the frame before the first on."""
        one = np.ones_like(t)
        begins = self.first > 0 or self.ramp_in > 0
        ends = self.last < self.frames - 1 or self.ramp_out > 0
        into = (t - (self.first - 1)) / (self.ramp_in + 1) if begins else one
        out = ((self.last + 1) - t) / (self.ramp_out + 1) if ends else one
        return into, out

    def at(self, t: Floats) -> Floats:
        """The weight at times, 0 to 1 (beyond, where the easing overshoots)."""
        into, out = self._sides(t)
        return np.asarray(self.easing.at(into) * self.easing.at(out))

    def slope(self, t: Floats) -> Floats:
        """The weight's change a frame."""
        into, out = self._sides(t)
        rising = self.easing.slope(into) / (self.ramp_in + 1) if self.first or self.ramp_in else 0.0
        ends = self.last < self.frames - 1 or self.ramp_out > 0
        falling = self.easing.slope(out) / (self.ramp_out + 1) if ends else 0.0
        return np.asarray(rising * self.easing.at(out) - falling * self.easing.at(into))

    @property
    def corners(self) -> list[int]:
        """Frames on which a keyed curve needs keys, so that nothing outside changes."""
        out: list[int] = []
        for border, ramp, sign in (
            (self.first - 1, self.ramp_in, 1),
            (self.last + 1, self.ramp_out, -1),
        ):
            inner = border + sign * (ramp + 1)
            out += [border, inner] + ([(border + inner) // 2] if ramp > 2 else [])
        return sorted({t for t in out if 0 < t < self.frames - 1})

    @property
    def plain(self) -> bool:
        """Whether the weight is 1 on all of the clip."""
        return bool(
            self.first <= 0
            and self.last >= self.frames - 1
            and self.ramp_in == 0
            and self.ramp_out == 0
        )


BESIDE = 1e-6
"""Frames to either side of a key at which a weight's slope is asked for."""


def windows_of(clip: Clip, scope: Scope, ramp: RampParams | None = None) -> list[Window]:
    """The scope's runs of frames, with their ramps."""
    ramp = ramp or RampParams()
    easing = easing_of(ramp.easing, ramp.bezier)
    return [
        Window(a, b, ramp.ramp_in, ramp.ramp_out, easing, clip.frames)
        for a, b in runs(scope.mask(clip))
    ]


def reshaped(
    curve: Curve,
    windows: Iterable[Window],
    target: Target,
    picked: Bools | None = None,
    more: Iterable[float] = (),
) -> Curve:
    """A curve with its values led to ``target``, as far as the windows weigh.

    A keyed curve gets keys where a window begins and ends, and at the times in ``more``; its
    slopes follow. With ``picked`` keys ``(K,)`` those alone change, by all of it.
    """
    windows = list(windows)
    if not windows and picked is None:
        return curve
    if isinstance(curve, SampledCurve):
        t = np.arange(len(curve.values), dtype=np.float64)
        goal, _ = target(t, curve.values, np.zeros(len(t)))
        weight = np.sum([w.at(t) for w in windows], axis=0)
        return SampledCurve(curve.values + weight * (goal - curve.values))
    if picked is not None:
        none = np.zeros(curve.key_count)
        led = _led(curve, target, picked, none + 1.0, [none, none])
        return settled(led, beside(picked) & ~picked & (led.handle != Handle.FREE))
    plain = len(windows) == 1 and windows[0].plain
    end = windows[0].frames - 1.0
    # What holds before the first or after the last key changes within the windows alone.
    held = [t for w in windows for t in w.corners] + [0.0, end] * (not plain)
    low, high = float(curve.time[0]), float(curve.time[-1])
    wanted = sorted({*map(float, held), *(t for t in more if low < t < high)})
    given, curve = curve, insert_keys(curve, wanted, (0.0, end))
    weight = np.sum([w.at(curve.time) for w in windows], axis=0)
    # Where a ramp begins or ends the weight has a kink: each handle follows its own side.
    rates = [
        np.sum([w.slope(curve.time + side) for w in windows], axis=0) for side in (-BESIDE, BESIDE)
    ]
    touched = (weight != 0.0) | (rates[0] != 0.0) | (rates[1] != 0.0)
    led = _led(curve, target, touched, weight, rates, keep_handles=plain)
    same = all(np.array_equal(led.columns[n], c) for n, c in curve.columns.items())
    return given if same else led


def _led(
    curve: KeyedCurve,
    target: Target,
    at: Bools,
    weight: Floats,
    rates: list[Floats],
    keep_handles: bool = False,
) -> KeyedCurve:
    """Keys of a mask led to the target by ``weight (K,)``, which changes by ``rates`` a frame
    before and after each."""
    t, v = curve.time, curve.value
    goal, goal_in = target(t, v, curve.slope_in)
    _, goal_out = target(t, v, curve.slope_out)
    away = goal - v

    def led(old: Floats, new: Floats, rate: Floats) -> Floats:
        return np.where(at, old + weight * (new - old) + rate * away, old)

    slope_in = led(curve.slope_in, goal_in, rates[0])
    slope_out = led(curve.slope_out, goal_out, rates[1])
    bent = at & ((slope_in != curve.slope_in) | (slope_out != curve.slope_out))
    free = bent & (curve.handle != Handle.HOLD) & (not keep_handles)
    return curve.edited(
        value=np.where(at, v + weight * away, v),
        slope_in=slope_in,
        slope_out=slope_out,
        handle=np.where(free, np.uint8(Handle.FREE), curve.handle),
    )


def key_mask(clip: Clip, scope: Scope, channel: TrackId) -> Bools | None:
    """The keys of a channel that a scope picks ``(K,)``; None where it picks none by id."""
    picked = scope.keys_of(clip, channel)
    curve = clip.curves[channel]
    if picked is None or isinstance(curve, SampledCurve):
        return None
    return np.isin(curve.id, picked)


def keys_inside(clip: Clip, scope: Scope, channel: TrackId) -> Bools:
    """The keys of a keyed channel in scope ``(K,)``: picked by id, else those in its frames."""
    curve = clip.curves[channel]
    assert isinstance(curve, KeyedCurve)
    picked = key_mask(clip, scope, channel)
    if picked is not None:
        return picked
    at = np.clip(np.round(curve.time).astype(np.int64), 0, max(clip.frames - 1, 0))
    return np.asarray(scope.mask(clip)[at])


def change_report(clip: Clip, curves: Mapping[TrackId, Curve]) -> dict[str, Any]:
    """What a change does in numbers: channels, and the most that a value on a frame moved."""
    frames = np.arange(clip.frames, dtype=np.float64)
    before = channel_values(clip, frames, curves)
    after = channel_values(clip.with_curves(curves), frames, curves)
    most = {True: 0.0, False: 0.0}
    for channel in curves:
        gap = float(np.abs(after[channel] - before[channel]).max(initial=0.0))
        most[channel.turns] = max(most[channel.turns], gap)
    return {
        "channels": len(curves),
        "most_turned_deg": most[True],
        "most_moved_mm": most[False] * clip.millimetres,
    }
