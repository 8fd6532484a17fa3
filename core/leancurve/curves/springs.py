"""Segments that swing to the next key: a damped spring, a thing that bounces."""

from __future__ import annotations

import numpy as np


def sprung(x: float, swings: int, decay: float) -> float:
    """How far a spring has come at ``x`` in [0, 1]: from rest, damped, at its goal at 1.

    The step response of a damped oscillator, its frequency chosen so that it is at its goal at
    the end after passing it ``swings`` times.
    """
    omega = (swings + 1) * np.pi
    for _ in range(60):
        omega = (swings + 1) * np.pi - np.arctan(omega / decay)
    wave = np.cos(omega * x) + decay / omega * np.sin(omega * x)
    return float(1.0 - np.exp(-decay * x) * wave)


def bounced(x: float, swings: int, decay: float) -> float:
    """How far a thing dropped on its goal has come at ``x``: it rebounds ``swings`` times."""
    ratio = np.exp(-decay / 2.0)
    fall = 1.0 / (1.0 + 2.0 * sum(ratio**i for i in range(1, swings + 1)))
    if x < fall:
        return float((x / fall) ** 2)
    begin = fall
    for i in range(1, swings + 1):
        half = fall * ratio**i
        if x <= begin + 2.0 * half:
            away = (x - begin - half) / half
            return float(1.0 - ratio ** (2 * i) * (1.0 - away * away))
        begin += 2.0 * half
    return 1.0
