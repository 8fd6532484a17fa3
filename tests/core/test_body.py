"""Roles of joints, from names, hierarchy and geometry."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from leancurve.demo.suit import deckhand
from leancurve.document.clip import Clip
from leancurve.figure.body import GROUPS, ROLES, body_of, lever_arms
from leancurve.figure.skeleton import Skeleton
from leancurve.measures.drift import find_ends

PLAIN = {
    "Hips": "hips", "Spine": "spine", "Neck": "neck", "Head": "head", "Jaw": "jaw",
    "Clavicle": "clavicle", "UpperArm": "upper arm", "Forearm": "forearm", "Hand": "hand",
    "Palm": "hand", "Thigh": "thigh", "Shin": "shin", "Foot": "foot", "Toe": "toe",
    "Thumb": "thumb", "Index": "index", "Middle": "middle", "Ring": "ring", "Little": "little",
}  # fmt: skip


def truth(name: str) -> str:
    """The role of one of the Deckhand suit's joints, from how its script builds it."""
    side = next((s for s in ("Left", "Right") if name.startswith(s)), "")
    part = name.removeprefix(side).rstrip("0123456789")
    role = "twist" if part.endswith("Twist") else PLAIN[part]
    return f"{side.lower()} {role}" if side else role


def renamed(style: str) -> Skeleton:
    """The suit under other spellings."""
    suit = deckhand()
    words = {
        "Hips": "pelvis", "Clavicle": "collar", "UpperArm": "uparm", "Forearm": "lowerarm",
        "Hand": "wrist", "Thigh": "upleg", "Shin": "lowleg", "Foot": "ankle", "Toe": "ball",
        "Little": "pinky",
    }  # fmt: skip
    out = []
    for name in suit.names:
        side = next((s for s in ("Left", "Right") if name.startswith(s)), "")
        rest = name.removeprefix(side)
        part = rest.rstrip("0123456789")
        number = rest[len(part) :]
        twist = "Twist" if part.endswith("Twist") else ""
        part = part.removesuffix("Twist")
        word = words.get(part, part.lower())
        if style == "prefixed":
            out.append(f"crew_01:{side}{word.title()}{twist}{number}")
        elif style == "suffixed":
            tail = f"_{side[0].lower()}" if side else ""
            out.append(f"{word}{twist.lower()}{f'_{number}' if number else ''}{tail}")
        else:
            out.append(f"{side[:1]}{word.title()}{twist}{number}")
    return replace(suit, names=tuple(out))


@pytest.mark.parametrize("style", ["prefixed", "suffixed", "short"])
def test_many_spellings_give_the_same_roles(style: str) -> None:
    wanted = [truth(n) for n in deckhand().names]
    body = body_of(renamed(style))
    got = [j.role for j in body.joints]
    assert [(n, g) for n, g, w in zip(deckhand().names, got, wanted, strict=True) if g != w] == []
    assert min(j.confidence for j in body.joints) > 0.5


def test_the_suit_is_read_whole_and_surely() -> None:
    body = body_of(deckhand())
    assert [j.role for j in body.joints] == [truth(n) for n in deckhand().names]
    assert all(j.role in ROLES for j in body.joints)


def test_names_that_say_nothing_leave_the_place_to_tell() -> None:
    suit = deckhand()
    body = body_of(replace(suit, names=tuple(f"b{k:02}" for k in range(len(suit)))))
    wrong = [
        (n, j.role) for n, j in zip(suit.names, body.joints, strict=True) if j.role != truth(n)
    ]
    # A jaw is a point in front of a head: nothing tells it from any other.
    assert {n for n, _ in wrong} <= {"Jaw"}
    assert all(j.source in ("place", "none") for j in body.joints)
    assert max(j.confidence for j in body.joints) < 0.9


def test_left_and_right_follow_the_toes_not_the_axis() -> None:
    """The same nameless figure turned about: its left is still its left."""
    suit = deckhand()
    turned = replace(
        suit,
        names=tuple(f"b{k:02}" for k in range(len(suit))),
        offsets=tuple((-x, y, -z) for x, y, z in suit.offsets),
        ends=tuple(replace(e, offset=(-e.offset[0], e.offset[1], -e.offset[2])) for e in suit.ends),
    )
    roles = [j.role for j in body_of(turned).joints]
    assert roles[suit.index("LeftThigh")] == "left thigh"
    assert roles[suit.index("RightHand")] == "right hand"


def test_a_real_capture_is_read_by_name_and_by_place(open_capture: Clip) -> None:
    """31 joints, named by hand from the file's hierarchy."""
    skeleton = open_capture.skeleton
    labelled = {
        "Hips": "hips", "LeftUpLeg": "left thigh", "LeftLeg": "left shin", "LeftFoot": "left foot",
        "LeftToeBase": "left toe", "RightUpLeg": "right thigh", "RightLeg": "right shin",
        "RightFoot": "right foot", "RightToeBase": "right toe", "LowerBack": "spine",
        "Spine": "spine", "Spine1": "spine", "Neck": "neck", "Neck1": "neck", "Head": "head",
        "LeftShoulder": "left clavicle", "LeftArm": "left upper arm",
        "LeftForeArm": "left forearm", "LeftHand": "left hand",
        "RightShoulder": "right clavicle", "RightArm": "right upper arm",
        "RightForeArm": "right forearm", "RightHand": "right hand", "LThumb": "left thumb",
        "RThumb": "right thumb",
    }  # fmt: skip
    nameless = replace(skeleton, names=tuple(f"b{k:02}" for k in range(len(skeleton))))
    named, placed = body_of(skeleton), body_of(nameless)
    for name, role in labelled.items():
        joint = skeleton.index(name)
        assert named.joints[joint].role == role, name
        if not role.endswith("thumb"):
            assert placed.joints[joint].role == role, name


def test_a_hand_set_role_stands_and_is_sure() -> None:
    body = body_of(deckhand(), "y", (("LeftPalm", "helper"),))
    known = body.joints[deckhand().index("LeftPalm")]
    assert (known.role, known.confidence, known.source) == ("helper", 1.0, "hand")


def test_groups_take_in_what_hangs_on_their_joints() -> None:
    suit, body = deckhand(), body_of(deckhand())
    arm = {suit.names[j] for j in body.groups["left arm"]}
    assert {"LeftClavicle", "LeftForearmTwist", "LeftPalm"} <= arm
    assert set(body.groups) == set(GROUPS)
    counted = sorted(j for joints in body.groups.values() for j in joints)
    assert counted == list(range(len(suit)))


def test_a_tree_that_is_no_body_says_so_and_ends_are_its_leaves() -> None:
    crane = Skeleton(
        ("base", "mast", "jib", "hook"), (-1, 0, 1, 2), ((0, 0, 0), (0, 9, 0), (0, 3, 0), (0, 4, 0))
    )
    assert {j.role for j in body_of(crane).joints} == {"helper"}
    assert find_ends(crane) == ("hook",)


def test_lever_arms_reach_the_farthest_tip() -> None:
    suit = deckhand()
    arms = lever_arms(suit)
    hand = suit.index("LeftHand")
    # Palm 3 + middle finger 6.2, 4.4, 2.7 and tip 2.2 centimetres along the hand, 0.6 to the side.
    assert arms[hand] == pytest.approx(np.hypot(3 + 6.2 + 4.4 + 2.7 + 2.2, 0.6), abs=1e-9)
    assert arms[suit.index("LeftShin")] > arms[suit.index("LeftFoot")]


def test_a_skeleton_that_is_no_body_is_read_without_complaint() -> None:
    """Ten chains from one root: a bundle of ropes, say. Nothing is certain, nothing fails."""
    parents = [-1] + [0 if j % 7 == 1 else j - 1 for j in range(1, 70)]
    offsets = [(0.0, 90.0, 0.0)] + [
        (8.0 * (j // 7 - 5), 4.0, 0.0) if p == 0 else (0.0, 9.0, 0.0)
        for j, p in enumerate(parents[1:], start=1)
    ]
    names = tuple(f"Rope{j:02}" for j in range(70))
    body = body_of(Skeleton(names, tuple(parents), tuple(offsets)))
    assert len(body.joints) == 70
