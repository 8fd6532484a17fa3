"""A small picture of a motion: a row of figures seen from the side they face least away from."""

from __future__ import annotations

from typing import TypedDict

import numpy as np

from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.numbers.rotation import rotate

FIGURES = 7
SHORTEST_BONE = 0.03
"""Bones under this share of the figure's height are left out: fingers are ink blots here."""


class Picture(TypedDict):
    """Line segments ``[x1, y1, x2, y2]`` a figure, in units of the figure's height, y up."""

    figures: list[list[list[float]]]


def picture(clip: Clip) -> Picture:
    """Poses spread over the clip, each as its bones in the plane of widest travel."""
    if clip.frames == 0:
        return {"figures": []}
    at = np.unique(np.linspace(0.08, 0.95, FIGURES) * (clip.frames - 1) // 1)
    rotations, positions = evaluate(clip, at).world(clip.skeleton)
    up = "xyz".index(clip.reading.up_axis)
    flat = [a for a in range(3) if a != up]
    height = max(clip.skeleton.rest_height, 1e-9)
    # Bodies are seen best from the side they spread in least: depth is dropped.
    spread = [float(np.mean(np.ptp(positions[:, :, a], axis=1))) for a in flat]
    across = flat[int(np.argmax(spread))]
    parents = clip.skeleton.parents
    lengths = np.linalg.norm(clip.skeleton.offset_array, axis=1)
    heads = [e for e in clip.skeleton.ends if np.linalg.norm(e.offset) > 0.06 * height]
    necks = {j for e in heads for j in clip.skeleton.chain(e.parent)}
    bones = [
        j
        for j, p in enumerate(parents)
        if p >= 0 and (lengths[j] > SHORTEST_BONE * height or j in necks)
    ]
    figures = []
    for points, turns in zip(positions, rotations, strict=True):
        x = (points[:, across] - points[0, across]) / height
        y = (points[:, up] - positions[:, :, up].min()) / height
        figures.append(
            [
                [round(float(v), 3) for v in (x[parents[j]], y[parents[j]], x[j], y[j])]
                for j in bones
            ]
        )
        for end in heads:
            tip = points[end.parent] + rotate(turns[end.parent], np.array(end.offset))
            tip_x = (tip[across] - points[0, across]) / height
            tip_y = (tip[up] - positions[:, :, up].min()) / height
            line = (x[end.parent], y[end.parent], tip_x, tip_y)
            figures[-1].append([round(float(v), 3) for v in line])
    return {"figures": figures}
