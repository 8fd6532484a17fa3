"""Spikes: one to a few frames that disagree with what both neighbourhoods predict."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import lru_cache
from itertools import product

import numpy as np

from leancurve.measures.findings.base import Finding, Motion, severity
from leancurve.measures.findings.calibration import at_calibration
from leancurve.numbers.arrays import Bools, Floats, Ints
from leancurve.numbers.columns import ByColumn

LONGEST_S = 0.05
LONGEST_FRAMES = 3
"""A spike's longest duration: three frames from 60 a second up, one or two at 30."""
AROUND = 4
"""Samples on each side that predict what lies between them."""
LEAST_DEG = 1.5
LEAST_MM = 6.0
RATIO = 7.0
"""A spike stands out this many times above how well its surroundings agree with themselves. The
apex of an impact, a change of speed within one frame, stands out 3.5 times: it is kept."""
HIDDEN_SHARE = 0.25
"""A spike beside another is still away from its prediction by this share of the least size."""

Spike = tuple[int, int, int, float]


def longest(rate: float) -> int:
    """Frames that a spike may last."""
    return int(np.clip(int(LONGEST_S * rate), 1, LONGEST_FRAMES))


@lru_cache(maxsize=8)
def predictors(most: int) -> tuple[Floats, Floats]:
    """For each width 1 to ``most``: weights ``(W, W, 2n)`` of the samples around that predict
    those inside, and ``(W, 2n - 4, 2n)`` that span the residuals of a cubic through those around.
    """
    inside = np.zeros((most, most, 2 * AROUND))
    residual = np.zeros((most, 2 * AROUND - 4, 2 * AROUND))
    for width in range(1, most + 1):
        around = np.concatenate([np.arange(-AROUND, 0), np.arange(width, width + AROUND)])
        centre, scale = 0.5 * (width - 1), AROUND + 0.5 * width
        basis = np.vander((around - centre) / scale, 4)
        fit = np.linalg.pinv(basis)
        between = np.vander((np.arange(width) - centre) / scale, 4)
        inside[width - 1, :width] = between @ fit
        # What no cubic reaches: an orthonormal basis keeps the residuals' length.
        residual[width - 1] = np.linalg.qr(basis, mode="complete")[0][:, 4:].T
    return inside, residual


def search(series: Floats, rate: float, least: float) -> list[Spike]:
    """``(column, first, last, size)`` of spikes in ``series (F, J, n)``, vectors as they are.

    ``least`` and the size are distances between vectors. Of candidates that overlap, the one
    that stands out most counts.
    """
    from leancurve.numbers.kernels import prediction  # numba loads late

    most = longest(rate)
    frames, columns = series.shape[:2]
    if frames < 2 * AROUND + most:
        return []
    inside, residual = predictors(most)
    away = np.zeros((most, frames, columns))
    own = np.zeros((most, frames, columns))
    prediction.disagreement(np.ascontiguousarray(series), inside, residual, away, own)
    stands_out = away > np.maximum(least, RATIO * own)
    widths, firsts, joints = np.nonzero(stands_out)
    score = away[stands_out] / (own[stands_out] + 0.02 * least)
    taken = np.zeros((columns, frames), dtype=np.bool_)
    out: list[Spike] = []
    for k in np.argsort(-score).tolist():
        j, a, b = int(joints[k]), int(firsts[k]), int(firsts[k] + widths[k])
        if np.any(taken[j, max(0, a - 1) : b + 2]):
            continue
        taken[j, a : b + 1] = True
        out.append((j, a, b, float(away[widths[k], a, j])))
    hidden: Bools = np.any(away > HIDDEN_SHARE * least, axis=0)
    hidden &= ~np.any(stands_out, axis=0)
    for first, second in _close_pairs(series, hidden, most, least):
        if not any(np.any(taken[j, max(0, a - 1) : b + 2]) for j, a, b, _ in (first, second)):
            taken[first[0], first[1] : second[2] + 1] = True
            out += [first, second]
    return sorted(out)


@lru_cache(maxsize=8)
def _pair_tables(most: int) -> tuple[Ints, Floats, Floats]:
    """Every two blocks of up to ``most`` frames that stand up to ``AROUND`` frames apart.

    Rows ``(width, gap, width)``; weights ``(P, 2 most, 3 AROUND)`` of the samples around and
    between that predict the two blocks, and ``(P, 3 AROUND - 4, 3 AROUND)`` that span what no
    cubic through those samples reaches. What a row does not need is 0.
    """
    widths = range(1, most + 1)
    rows = np.array(list(product(widths, range(1, AROUND + 1), widths)), dtype=np.int64)
    inside = np.zeros((len(rows), 2 * most, 3 * AROUND))
    residual = np.zeros((len(rows), 3 * AROUND - 4, 3 * AROUND))
    for p, (one, gap, two) in enumerate(rows.tolist()):
        length = one + gap + two
        blocks = np.concatenate([np.arange(one), np.arange(one + gap, length)])
        around = np.setdiff1d(np.arange(-AROUND, length + AROUND), blocks)
        centre, scale = 0.5 * (length - 1), AROUND + 0.5 * length
        basis = np.vander((around - centre) / scale, 4)
        between = np.vander((blocks - centre) / scale, 4)
        inside[p, : one + two, : len(around)] = between @ np.linalg.pinv(basis)
        others = np.linalg.qr(basis, mode="complete")[0][:, 4:].T
        residual[p, : len(others), : len(around)] = others
    return rows, inside, residual


def _close_pairs(
    series: Floats, hidden: Bools, most: int, least: float
) -> list[tuple[Spike, Spike]]:
    """Spikes that stand within each other's surroundings, so that neither stands out alone.

    ``hidden (F, J)`` says where a first block may begin. Those that stand out most come first.
    """
    from leancurve.numbers.kernels import prediction  # numba loads late

    rows, inside, residual = _pair_tables(most)
    places = np.argwhere(hidden)
    best = np.zeros((len(places), 4))
    x = np.ascontiguousarray(series)
    prediction.close_pairs(x, places, rows, inside, residual, least, RATIO, best)
    found: list[tuple[Spike, Spike]] = []
    for k in np.argsort(-best[:, 0]).tolist():
        if best[k, 0] == 0:
            break
        a, j = places[k].tolist()
        one, gap, two = rows[int(best[k, 1])].tolist()
        b = a + one + gap
        found.append(
            ((j, a, a + one - 1, float(best[k, 2])), (j, b, b + two - 1, float(best[k, 3])))
        )
    return found


def _searched(_motion: Motion) -> dict[int, list[Spike]]:
    """Spikes by joint, of those that were searched already."""
    return {}


_lately: ByColumn[list[tuple[int, int, float]]] = ByColumn(
    2_000_000, lambda spikes: 200 + 100 * len(spikes)
)


def spikes_of(motion: Motion, joints: Sequence[int] | None = None) -> list[Spike]:
    """Spikes of rotations, degrees: of all joints, or of some. Each joint is searched once."""
    wanted = range(len(motion.names)) if joints is None else sorted(joints)
    known = motion.once(_searched)
    fresh = [j for j in wanted if j not in known]
    if fresh:
        # A chord between unit quaternions is half the angle, in radians, for small angles.
        least = float(np.radians(LEAST_DEG) / 2)

        def look(local: Floats) -> list[list[tuple[int, int, float]]]:
            out: list[list[tuple[int, int, float]]] = [[] for _ in range(local.shape[1])]
            for k, a, b, size in search(local, motion.rate, least):
                out[k].append((a, b, float(np.degrees(2 * size))))
            return out

        found = _lately.of(motion.local[:, fresh], (motion.rate, least), look)
        for j, own in zip(fresh, found, strict=True):
            known[j] = [(j, *spike) for spike in own]
    return [spike for j in wanted for spike in known[j]]


def _thrown_off(motion: Motion) -> list[Spike]:
    """Spikes of the positions of joints that have position channels, mm."""
    moving = [j for j, names in enumerate(motion.clip.layout) if "tx" in names]
    if not moving:
        return []
    track = motion.pose.translation[:, moving] * motion.clip.millimetres
    found = search(track, motion.rate, LEAST_MM)
    return [(moving[k], first, last, size) for k, first, last, size in found]


def detect(motion: Motion, joints: Sequence[int] | None = None) -> Iterator[Finding]:
    """Rotations of joints, positions of those that have position channels."""
    for joint, first, last, size in spikes_of(motion, joints):
        if not at_calibration(motion, first, AROUND):
            yield _finding(motion, joint, first, last, size, "°", 30.0, LEAST_DEG)
    for joint, first, last, size in motion.once(_thrown_off):
        if (joints is None or joint in joints) and not at_calibration(motion, first, AROUND):
            yield _finding(motion, joint, first, last, size, "mm", 100.0, LEAST_MM)


def _finding(
    motion: Motion, joint: int, first: int, last: int, size: float, unit: str, worst: float,
    least: float,
) -> Finding:  # fmt: skip
    return Finding(
        "spike",
        motion.names[joint],
        "",
        first,
        last,
        round(size, 2),
        unit,
        severity(size, least, worst),
    )
