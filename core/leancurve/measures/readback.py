"""A written file read back and compared with the clip that it was written of: all that is in it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.document.placement import placed_props
from leancurve.errors import BadInput
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats

MOST_DEG, MOST_MM = 0.01, 0.1
"""A file that is farther off is not handed over."""


@dataclass(frozen=True)
class ReadBack:
    """How far joints and props of a file stand from where they stood in the world, at most, and
    which is farthest."""

    max_deg: float
    rms_deg: float
    max_mm: float
    max_joint: str


def read_back(clip: Clip, times: Floats, back: Clip, props: bool) -> ReadBack:
    """Compare a clip at times ``(F,)`` in its frames with what was read back of it, frame by frame.

    With ``props`` these are in the file, as props or as joints of their own after the figure's. The
    file's unit is the clip's. Raises :class:`BadInput` where something is missing or farther off
    than :data:`MOST_DEG` or :data:`MOST_MM`.
    """
    ours, theirs = _things(clip, times, props), _things(back, np.arange(float(back.frames)), props)
    if back.frames != len(times):
        raise BadInput(f"the file reads back as {back.frames} frames, not {len(times)}")
    names = list(ours)
    if props and len(theirs) == len(names):
        # Props that became joints may have got other names: they come last, in their order.
        theirs = dict(zip(_named_as(names, list(theirs)), theirs.values(), strict=True))
    missing = [n for n in names if n not in theirs] + [n for n in theirs if n not in ours]
    if missing:
        raise BadInput(f"the file reads back without {missing[0]}, or with it alone")
    if not len(times) or not names:
        return ReadBack(0.0, 0.0, 0.0, names[0] if names else "")
    degrees = np.stack([rotation.geodesic_deg(ours[n][0], theirs[n][0]) for n in names], axis=1)
    gaps = np.stack([np.linalg.norm(ours[n][1] - theirs[n][1], axis=1) for n in names], axis=1)
    gaps = gaps * clip.millimetres
    worst = names[int(np.argmax(degrees.max(axis=0)))]
    found = ReadBack(
        float(degrees.max()), float(np.sqrt(np.mean(degrees**2))), float(gaps.max()), worst
    )
    if found.max_deg > MOST_DEG or found.max_mm > MOST_MM:
        far = names[int(np.argmax(gaps.max(axis=0)))]
        raise BadInput(
            f"the file reads back {found.max_deg:.3f}° off at {worst} and {found.max_mm:.2f} mm at "
            f"{far}; at most {MOST_DEG:g}° and {MOST_MM:g} mm are allowed in a delivery"
        )
    return found


def _named_as(names: list[str], others: list[str]) -> list[str]:
    known = set(names)
    spare = iter([n for n in names if n not in set(others)])
    return [n if n in known else next(spare) for n in others]


def _things(clip: Clip, times: Floats, props: bool) -> dict[str, tuple[Floats, Floats]]:
    """World rotations ``(F, 4)`` and places ``(F, 3)`` of joints, and of props, by name."""
    turns, points = evaluate(clip, times).world(clip.skeleton)
    out = {n: (turns[:, j], points[:, j]) for j, n in enumerate(clip.skeleton.names)}
    if props:
        turns, points = placed_props(clip, times)
        for k, prop in enumerate(clip.props):
            out[prop.name if prop.name not in out else f"{prop.name} (a prop)"] = (
                turns[:, k], points[:, k],
            )  # fmt: skip
    return out
