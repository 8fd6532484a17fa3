"""What a tolerance buys: keys against tolerance, and the tolerance that a take's noise proposes."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from leancurve.cleaning.thinning import fit_channel, least_keys, noise_level
from leancurve.document.clip import Clip
from leancurve.numbers.arrays import Ints
from leancurve.operations.thin.params import ThinParams
from leancurve.operations.thin.window import Window

TOLERANCES = (0.05, 0.08, 0.12, 0.18, 0.25, 0.35, 0.5, 0.7, 1.0, 1.5, 2.5, 4.0)
"""Degrees a channel, each about half as much again as the one before."""
PROPOSED = (0.1, 0.25, 0.5, 1.0, 2.0)
NOISES = 4.0
"""A tolerance below four times the noise's standard deviation spends keys on noise (measured)."""
SAMPLE = 14
"""Channels that are fitted, spread evenly over all, to tell keys from the provable minimum."""
FITTED = (0.08, 0.25, 0.7, 2.5)
"""Tolerances at which they are; between these the share of the minimum is led over."""


@dataclass(frozen=True)
class Bought:
    """A tolerance in degrees, the fewest keys that it can need, and about how many it will."""

    tolerance_deg: float
    minimum: int
    keys: int


@dataclass(frozen=True)
class Tolerances:
    """``noise_deg`` is the median channel's, ``proposed_deg`` the tolerance that follows."""

    noise_deg: float
    proposed_deg: float
    bought: tuple[Bought, ...]


def tolerances_of(clip: Clip) -> Tolerances:
    """Keys against twelve tolerances, of all channels of a clip, positions within 1 mm."""
    tracks = [t for t in clip.channels if clip.curves[t].key_count > 1]
    if clip.frames < 2 or not tracks:
        return Tolerances(0.0, 0.25, ())
    window = Window(clip, tracks, ThinParams(), 0, clip.frames - 1)
    moving = [t for t in tracks if t.turns and np.ptp(window.values[t]) > 1.0]
    noise = float(np.median([noise_level(window.values[t]) for t in moving])) if moving else 0.0
    proposed = next((p for p in PROPOSED if p >= NOISES * noise and p >= 0.25), PROPOSED[-1])
    least = np.array([_least(window, tolerance) for tolerance in TOLERANCES])
    shares = [_share(window, TOLERANCES.index(t), least) for t in FITTED]
    share = np.interp(np.log(TOLERANCES), np.log(FITTED), shares)
    total = least.sum(axis=1)
    still = 2 * np.count_nonzero(least <= 2, axis=1)
    keys = still + np.round(share * (total - still)).astype(np.int64)
    rows = zip(TOLERANCES, total.tolist(), keys.tolist(), strict=True)
    return Tolerances(noise, proposed, tuple(Bought(*row) for row in rows))


def _at(window: Window, tolerance: float) -> None:
    window.params = window.params.model_copy(update={"tolerance_deg": tolerance})


def _least(window: Window, tolerance: float) -> Ints:
    """The provable minimum of each channel ``(C,)``."""
    _at(window, tolerance)
    plain = [window.channel_plain(track) for track in window.channels]
    counts = [2 if c.still else least_keys(c.values, c.tolerance) for c in plain]
    return np.array(counts, dtype=np.int64)


def _share(window: Window, at: int, least: Ints) -> float:
    """How many times the minimum a sample of the channels needs at a tolerance."""
    _at(window, TOLERANCES[at])
    moving = [k for k in np.argsort(least[at], kind="stable").tolist() if least[at, k] > 2]
    sample = moving[:: max(1, len(moving) // SAMPLE)]
    needed = 0
    for k in sample:
        track = window.channels[k]
        channel = window.channel(track)
        needed += fit_channel(channel, window.own_keys(track, channel)).key_count
    return needed / max(1, int(least[at, sample].sum())) if sample else 1.0
