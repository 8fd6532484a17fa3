"""Steps that meet: both clips of a blend on one time, on which contacts begin and end together.

After Kovar and Gleicher, Flexible Automatic Motion Blending with Registration Curves (2003): a
monotone curve leads from the one clip's time to the other's, and the new time passes as theirs do,
each as much as it counts.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from itertools import pairwise

import numpy as np

from leancurve.cleaning.contacts import contacts_of
from leancurve.document.clip import Clip
from leancurve.joining.blending import Blend
from leancurve.joining.seams import Seam
from leancurve.operations.base import apply_patch
from leancurve.operations.shape.retime import retimed
from leancurve.time.warp import Warp

FASTEST = 2.0
"""Neither clip goes more times as fast or as slow than this between two steps."""
NEAREST = 4
"""Matched ends of contacts lie at least so many frames apart."""


@dataclass(frozen=True, eq=False)
class InStep:
    """Two clips as they are blended, and where: the second is ``longer`` by so many frames, and so
    many ends of contacts, ``matched``, fall together."""

    a: Clip
    b: Clip
    seam: Seam
    blend: Blend
    longer: int = 0
    matched: int = 0


def in_step(a: Clip, b: Clip, seam: Seam, blend: Blend) -> InStep:
    """Two clips whose steps fall together within a blend, as far as both have frames there; as they
    are where no two steps do. Outside of the blend each keeps its time."""
    ends = a.frames - 1 - seam.frame_a, b.frames - 1 - seam.frame_b
    before = min(blend.before, seam.frame_a, seam.frame_b)
    after = min(blend.after, *ends)
    first = seam.frame_a - before, seam.frame_b - before
    last = seam.frame_a + after, seam.frame_b + after
    pairs = _pairs(a, b, (seam.frame_a, seam.frame_b), first, last)
    if not pairs:
        return InStep(a, b, seam, blend)
    pins = sorted({first, (seam.frame_a, seam.frame_b), last, *pairs})
    shares = blend.shares(before, after)
    new = [float(first[0])]
    for (one, two), (next_one, next_two) in pairwise(pins):
        at = [(x - first[0] + y - first[1]) // 2 for x, y in ((one, two), (next_one, next_two))]
        share = 0.5 * (shares[at[0]] + shares[at[1]])
        new.append(new[-1] + (1 - share) * (next_one - one) + share * (next_two - two))
    # The seam and the end come to lie on whole frames.
    known = [new[0], new[pins.index((seam.frame_a, seam.frame_b))], new[-1]]
    times = np.interp(new, known, np.rint(known)).tolist()
    ours = _retimed(a, [(p[0], t) for p, t in zip(pins, times, strict=True)])
    back = first[1] - first[0]
    theirs = _retimed(b, [(p[1], t + back) for p, t in zip(pins, times, strict=True)])
    seam_at = round(times[pins.index((seam.frame_a, seam.frame_b))])
    return InStep(
        ours,
        theirs,
        replace(seam, frame_a=seam_at, frame_b=seam_at + back),
        replace(blend, before=seam_at - first[0], after=round(times[-1]) - seam_at),
        theirs.frames - b.frames,
        len(pairs),
    )


def _retimed(clip: Clip, pins: list[tuple[int, float]]) -> Clip:
    source, target = np.array(pins, dtype=np.float64).T
    if np.array_equal(source, target):
        return clip
    return apply_patch(clip, retimed(clip, Warp(source, target, smooth=True).checked()))


Pair = tuple[int, int]


def _pairs(a: Clip, b: Clip, seam: Pair, first: Pair, last: Pair) -> list[Pair]:
    """Ends of contacts of the same limb that fall nearly together, the nearest ones first chosen:
    none passes another or the seam, and between two of them no clip has to hurry."""
    found: list[tuple[int, Pair]] = []
    one, two = _ends(a, first[0], last[0]), _ends(b, first[1], last[1])
    for limb, begins, x in one:
        for other, too, y in two:
            if (limb, begins) == (other, too):
                found.append((abs((x - seam[0]) - (y - seam[1])), (x, y)))
    chosen = sorted({first, seam, last})
    fixed = set(chosen)
    for _, pair in sorted(found):
        tried = sorted({*chosen, pair})
        if pair not in chosen and all(_goes(p, q) for p, q in pairwise(tried)):
            chosen = tried
    return [pair for pair in chosen if pair not in fixed]


def _ends(clip: Clip, first: int, last: int) -> list[tuple[str, bool, int]]:
    """Where contacts begin, and where they end, within frames: limb, whether it begins, frame."""
    return [
        (contact.limb, begins, frame)
        for contact in contacts_of(clip)
        for begins, frame in ((True, contact.first), (False, contact.last))
        if first < frame < last
    ]


def _goes(one: Pair, two: Pair) -> bool:
    steps = np.subtract(two, one)
    if min(steps) < NEAREST:
        return False
    return bool(1 / FASTEST <= steps[0] / steps[1] <= FASTEST)
