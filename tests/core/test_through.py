"""Hands, forearms and feet inside the body: none on clean takes, one where one is put there."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction

import numpy as np
import pytest
from leancurve.curves.curve import SampledCurve
from leancurve.demo import TAKES
from leancurve.demo.characters import standing
from leancurve.demo.suit import FOREARM, UPPER_ARM, deckhand
from leancurve.document.clip import Clip
from leancurve.document.evaluation import evaluate
from leancurve.document.track import base_track
from leancurve.figure.limb import arc
from leancurve.measures.findings import find, kind_named
from leancurve.numbers import rotation
from leancurve.numbers.arrays import Floats
from leancurve.operations import OPERATIONS

X = np.array([[1.0, 0.0, 0.0]])
ASIDE = np.array([[0.0, 0.0, 1.0]])


def reaching(target: Floats, frames: int = 60) -> Clip:
    """The suit at rest, its left wrist at a point of the world (cm) from frame 20 to 39: two bones
    and a triangle."""
    suit = deckhand()
    clip = standing(suit, "Reaching", 0.01, "y", "ZXY")
    at = {name: suit.names.index(f"Left{name}") for name in ("UpperArm", "Forearm")}
    way = target - suit.rest_positions[at["UpperArm"]]
    far = float(np.linalg.norm(way))
    cosine = (UPPER_ARM**2 + far**2 - FOREARM**2) / (2 * UPPER_ARM * far)
    across = np.cross(way, [0.0, 0.0, 1.0])
    bend = np.degrees(np.arccos(cosine)) * across / np.linalg.norm(across)
    upper = rotation.rotate(rotation.exp(bend), way / far)
    lower = (way - UPPER_ARM * upper) / FOREARM
    first = arc(X, upper[None], ASIDE)[0]
    second = rotation.multiply(rotation.conjugate(first), arc(X, lower[None], ASIDE)[0])
    curves = {t: SampledCurve(np.repeat(c.values, frames)) for t, c in clip.curves.items()}  # type: ignore[union-attr]
    for joint, turn in ((at["UpperArm"], first), (at["Forearm"], second)):
        for k, angle in enumerate(rotation.to_euler(turn, "ZXY")):
            values = np.zeros(frames)
            values[20:40] = angle
            curves[base_track(joint, f"r{'zxy'[k]}")] = SampledCurve(values)
    return replace(clip, frames=frames, curves=curves, rate=Fraction(60))


def chest() -> Floats:
    suit = deckhand()
    return np.asarray(suit.rest_positions[suit.names.index("Spine3")])


def test_a_hand_in_the_chest_is_found_with_its_frames_and_depth() -> None:
    clip = reaching(chest())
    hand = clip.skeleton.names.index("LeftHand")
    assert np.linalg.norm(evaluate(clip).world(clip.skeleton)[1][30, hand] - chest()) < 0.1
    found = {f.joint: f for f in find(clip, ["through"])}
    inside = found["LeftHand"]
    assert (inside.first, inside.last, inside.unit) == (20, 39, "mm")
    # As deep as a trunk is thick: 6.5 % of the height about the line through it.
    height = clip.skeleton.rest_height * 10
    assert inside.size == pytest.approx(0.065 * height, rel=0.15)
    assert "RightHand" not in found


def test_a_hand_beside_the_body_is_not_inside() -> None:
    suit = deckhand()
    front = chest() + np.array([0.0, 0.0, 0.1 * suit.rest_height])
    assert "LeftHand" not in {f.joint for f in find(reaching(front), ["through"])}


@pytest.mark.parametrize("take", TAKES, ids=lambda t: t.file)
def test_nothing_goes_through_the_body_in_the_demos_clean_takes(take: object) -> None:
    assert find(take.clean(), ["through"]) == []  # type: ignore[attr-defined]


def test_a_figure_of_limbs_alone_has_nothing_to_be_inside() -> None:
    """Hands whose trunk and head are not known."""
    suit = deckhand()
    names = [n if "Hand" in n else f"Thing{j}" for j, n in enumerate(suit.names)]
    strange = replace(suit, names=tuple(names), offsets=((0.0, 0.0, 0.0),) * len(suit))
    clip = standing(strange, "Strange", 0.01, "y", "ZXY")
    assert clip.body.find("left hand") is not None
    assert clip.body.find("hips") is None
    assert find(clip, ["through"]) == []


def test_it_leads_to_plants() -> None:
    kind = kind_named("through")
    assert OPERATIONS[kind.remedy].step == "plant"
