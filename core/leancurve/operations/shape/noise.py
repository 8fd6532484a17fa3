"""Noise: small irregular motion added, the same for the same seed."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any, ClassVar

import numpy as np
from pydantic import Field

from leancurve.curves.curve import Curve
from leancurve.document.clip import Clip
from leancurve.document.track import CHANNELS, TrackId
from leancurve.numbers.arrays import Floats
from leancurve.operations.base import Operation, Patch, Progress, Scope, number, silent
from leancurve.operations.shaping import RampParams, change_report, reshaped, windows_of


class NoiseParams(RampParams):
    size: float = number(
        1.0, "", "about how far: degrees for turns, the clip's unit for moves", ge=0
    )
    frequency_hz: float = number(1.0, "Hz", "how often it sways", gt=0, le=100)
    octaves: int = number(
        2, "", "finer sways on it, each half as far and twice as often", ge=1, le=8
    )
    seed: int = number(1, "", "another number, another noise", ge=0, le=2**31 - 1)
    loops: bool = Field(False, description="come back to where it began at the end of the frames")


class Noise(Operation[NoiseParams]):
    """Add small irregular motion: the same seed gives the same noise, each channel its own.

    Keyed curves get as many keys as the noise needs.
    """

    name = "noise"
    title = "Noise"
    step = "shape"
    part = "amount"
    ranged = True
    Params: ClassVar[type[NoiseParams]] = NoiseParams

    def apply(
        self, clip: Clip, scope: Scope, params: NoiseParams, progress: Progress = silent
    ) -> Patch:
        windows = windows_of(clip, scope, params)
        curves: dict[TrackId, Curve] = {}
        if not windows:
            return Patch(report=change_report(clip, curves))
        first, last = windows[0].first, windows[-1].last
        rate = float(clip.rate)
        channels = scope.resolve(clip)
        for done, channel in enumerate(channels, start=1):
            index = len(CHANNELS) * channel.joint + CHANNELS.index(channel.name)
            wave = Sway(params, first, last, rate, index)

            def goal(t: Floats, v: Floats, s: Floats, wave: Sway = wave) -> tuple[Floats, Floats]:
                added, slope = wave.at(t)
                return v + added, s + slope

            curves[channel] = reshaped(clip.curves[channel], windows, goal, more=wave.knots)
            progress(done / len(channels))
        return Patch(curves=curves, report=change_report(clip, curves))

    def told(self, params: Any) -> str:
        return f"Noise of {params.get('size', 1.0):g}, seed {params.get('seed', 1)}"


class Sway:
    """Gradient noise along time (Perlin 1985, in one dimension): smooth, zero on its lattice.

    Octave ``k`` has a lattice ``2**k`` as fine and half the size of the one before. A looping one
    has a whole number of lattice steps in its frames, the last the same as the first.
    """

    def __init__(
        self, params: NoiseParams, first: int, last: int, rate: float, channel: int
    ) -> None:
        self.first, self.last = float(first), float(last)
        span = max(self.last - self.first, 1.0)
        # A sway there and back is two steps of the lattice.
        steps = 2.0 * params.frequency_hz * span / rate
        self.layers: list[tuple[float, float, Floats]] = []
        random = np.random.default_rng([params.seed, channel])
        for k in range(params.octaves):
            wide = steps * 2**k
            whole = max(1, round(wide)) if params.loops else int(np.ceil(wide)) + 1
            gradients = random.uniform(-1.0, 1.0, whole + 1)
            if params.loops:
                gradients[-1] = gradients[0]
            step = span / whole if params.loops else span / wide
            # Between slopes of 1 and -1 it rises to a half: twice that makes the size the most.
            self.layers.append((step, 2.0 * params.size * 0.5**k, gradients))

    @property
    def knots(self) -> Iterable[float]:
        """Frames nearest to where the finest layer begins a new piece, and to each one's middle."""
        step = max(self.layers[-1][0] / 2.0, 1.0)
        return sorted(set(np.round(np.arange(self.first, self.last + 1e-9, step)).tolist()))

    def at(self, t: Floats) -> tuple[Floats, Floats]:
        """Noise and its slope a frame, at times in frames."""
        value, slope = np.zeros(len(t)), np.zeros(len(t))
        for step, size, gradients in self.layers:
            x = np.clip((t - self.first) / step, 0.0, len(gradients) - 1.0)
            k = np.minimum(x.astype(np.int64), len(gradients) - 2)
            f = x - k
            a, b = gradients[k] * f, gradients[k + 1] * (f - 1.0)
            fade, rise = f**3 * (f * (f * 6 - 15) + 10), 30 * f * f * (f * (f - 2) + 1)
            value += size * (a + fade * (b - a))
            gradient = gradients[k] + fade * (gradients[k + 1] - gradients[k]) + rise * (b - a)
            slope += size * gradient / step
        return value, slope
