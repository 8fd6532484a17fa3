"""What retargeting did, in numbers: ends in proportion, feet over the floor, what is missed."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from leancurve.document.clip import Clip
from leancurve.figure.feet import limbs_of
from leancurve.measures.findings import Motion
from leancurve.measures.findings.floor import largest_slide_mm, standing_frames
from leancurve.retarget.rest import RestFigure
from leancurve.retarget.retargeting import Retargeted
from leancurve.retarget.transfer import World, world_of


@dataclass(frozen=True)
class EndError:
    """How far a limb's end is from where it was, seen from the limb's own beginning, in lengths of
    the limb: the largest and the mean over the clip, the largest in mm, and its frame."""

    limb: str
    largest: float
    mean: float
    largest_mm: float
    frame: int


def end_errors(source: Clip, done: Retargeted, floor: float) -> list[EndError]:
    """Of each limb that both figures have; ``floor`` is the source's, own unit."""
    here, there = _motions(source, done, floor)
    theirs = {x.name: x for x in limbs_of(done.source.skeleton, done.source.body)}
    out: list[EndError] = []
    for limb in limbs_of(done.target.skeleton, done.target.body):
        other = theirs.get(limb.name)
        if other is None or not source.frames:
            continue
        length = _length(done.target, limb.joints)
        ours = (here.points[:, other.end] - here.points[:, other.upper]) / _length(
            done.source, other.joints
        )
        mine = (there.points[:, limb.end] - there.points[:, limb.upper]) / length
        away = np.linalg.norm(mine - ours, axis=1)
        at = int(np.argmax(away))
        out.append(
            EndError(
                limb.name, round(float(away[at]), 5), round(float(away.mean()), 5),
                round(float(away[at]) * length * 1000.0, 2), at,
            )
        )  # fmt: skip
    return out


def _motions(source: Clip, done: Retargeted, floor: float) -> tuple[World, World]:
    return (
        world_of(source, done.source, floor),
        world_of(done.clip, done.target, done.clip.reading.floor or 0.0),
    )


def _length(standing: RestFigure, joints: tuple[int, ...]) -> float:
    upper, middle, end = (standing.points[j] for j in joints)
    return max(float(np.linalg.norm(middle - upper) + np.linalg.norm(end - middle)), 1e-9)


def foot_slide(source: Clip, clip: Clip) -> float:
    """How far a foot of a retargeted clip gets from where it was set down, mm, on the frames on
    which the source's feet stand."""
    return round(largest_slide_mm(Motion(clip), standing_frames(source)), 3)


def largest(values: Mapping[Any, float]) -> float:
    return round(max(values.values(), default=0.0), 3)
