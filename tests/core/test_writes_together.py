"""Two writes on one clip, and what a write leaves of the clip that it was made on: laws.

Held on clips that carry everything at once. Two writes that touch the same item of a part, or the
same track, conflict; all others commute, to the byte.
"""

from __future__ import annotations

import hashlib
import json
from itertools import combinations
from typing import Any

import pytest
from leancurve.document.clip import Clip
from leancurve.document.parts.registry import touched
from leancurve.document.scope import Scope
from leancurve.document.stored import header_of
from leancurve.errors import BadInput
from leancurve.operations import OPERATIONS, apply_patch

from tests.core.laden import Load, laden
from tests.core.test_continuity_of_operations import GIVEN
from tests.core.test_together import SPEC, bent

Write = tuple[str, dict[str, Any], Scope | None]


def edit(operation: str, **change: Any) -> Write:
    return f"edit_{operation}", {"edits": [change]}, None


WRITES: dict[str, Write] = {
    "a mark": edit("marks", do="add", name="lands", first=30),
    "another mark": edit("marks", do="set", name="lifts off", first=19, new_last=21),
    "the same mark": edit("marks", do="remove", name="lifts off", first=19),
    "a contact of a toe": edit("contacts", do="set", limb="right toe", first=13, last=19,
                               new_last=22),
    "a contact of a foot": edit("contacts", do="remove", limb="left foot", first=0, last=9),
    "the same contact": edit("contacts", do="set", limb="right toe", first=13, last=19,
                             new_last=30),
    "a finding": ("accept", {"findings": [{"kind": "speed", "joint": "Neck", "first": 3,
                                           "last": 9}]}, None),
    "another finding": ("accept", {"findings": [{"kind": "gimbal", "joint": "Head", "first": 0,
                                                 "last": 19}], "meant": False}, None),
    "a plant of the left foot": edit("plants", do="set", part="left foot", first=0, last=9,
                                     strength=0.5),
    "a plant of the right foot": edit("plants", do="set", part="right foot", first=8, last=16,
                                      muted=True),
    "the same plant": edit("plants", do="remove", part="left foot", first=0, last=9),
    "a prop's size": edit("props", do="set", name="case", size=[400, 300, 200]),
    "a prop's shape": edit("props", do="set", name="boat hook", shape="cylinder"),
    "the same prop": edit("props", do="set", name="case", shape="cylinder"),
    "the placement": ("place", {"turn": 12.0}, None),
    "the placement again": ("place", {"scale": 1.1}, None),
    "a layer's weight": edit("layers", do="set", name="lean", id=0, weight=0.3),
    "a layer's name": edit("layers", do="set", name="numbers", id=2, new_name="figures"),
    "a layer muted": edit("layers", do="set", name="aim", id=1, muted=True),
    "a layer made": edit("layers", do="add", name="hat", new_id=90),
    "a layer moved": edit("layers", do="move", name="lean", id=0, to=3),
    "a layer taken out": edit("layers", do="remove", name="aim", id=1),
    "a spine turned": ("offset", {"amount": 3.0}, Scope(joints=("Spine",), channels=("rx",))),
    "an arm turned": ("offset", {"amount": 3.0}, Scope(joints=("LeftArm",), channels=("rx",))),
    "the spine again": ("gain", {"factor": 1.2}, Scope(joints=("Spine",), channels=("rx",))),
    "a layer's curve": ("gain", {"factor": 1.2},
                        Scope(joints=("Chest",), channels=("rx",), owner="layer:1")),
}  # fmt: skip
"""Each states what it wants by itself: it reads nothing that others change."""


def done(clip: Clip, write: Write) -> Clip:
    name, params, scope = write
    return apply_patch(clip, OPERATIONS[name].run(clip, params, scope))


def told(clip: Clip) -> str:
    """A digest of all that a clip is."""
    out = hashlib.sha256(json.dumps(header_of(clip, "skeleton")).encode())
    for track in clip.tracks:
        for name, column in sorted(clip.curves[track].stored.items()):
            out.update(f"{track} {name}".encode() + column.tobytes())
    return out.hexdigest()


def reach(clip: Clip, after: Clip) -> set[Any]:
    """What a write touches: items of parts, and tracks."""
    tracks = {
        t for t in {*clip.curves, *after.curves} if clip.curves.get(t) is not after.curves.get(t)
    }
    return touched(clip, after) | tracks


@pytest.mark.parametrize("kind", ["sampled", "mixed"])
def test_two_writes_conflict_or_commute(kind: Any) -> None:
    clip = laden(Load(kind))
    alone = {name: done(clip, write) for name, write in WRITES.items()}
    met, barred, apart = set(), set(), 0
    for one, other in combinations(WRITES, 2):
        a, b = alone[one], alone[other]
        if reach(clip, a) & reach(clip, b):
            met.add((one, other))
            continue
        try:
            assert told(done(a, WRITES[other])) == told(done(b, WRITES[one])), (one, other)
        except BadInput:
            barred.add((one, other))
        apart += 1
    # A layer that has been muted takes no keys: that is a conflict as well.
    assert barred == {("a layer muted", "a layer's curve")}
    for one, other in (
        ("another mark", "the same mark"),
        ("a contact of a toe", "the same contact"),
        ("a plant of the left foot", "the same plant"),
        ("a prop's size", "the same prop"),
        ("the placement", "the placement again"),
        ("a plant of the left foot", "the placement"),
        ("a layer muted", "a layer taken out"),
        ("a layer made", "a layer moved"),
        ("a layer taken out", "a layer's curve"),
        ("a spine turned", "the spine again"),
    ):
        assert (one, other) in met, (one, other)
    assert apart > 250


@pytest.mark.parametrize("name", OPERATIONS)
def test_a_write_leaves_the_clip_that_it_was_made_on(name: str) -> None:
    """So undo, which shows that one again, is the identity; and the same write makes the same."""
    kind = OPERATIONS[name]
    clip = laden(Load("mixed"))
    before = told(clip)
    inputs = {
        n: {"hand": (clip, bent(clip)), "take": clip.below}.get(i.kind, laden(Load("sampled")))
        for n, i in kind.inputs.items()
    }
    params = {**GIVEN.get(name, {}), **SPEC.get(name, {})}
    out = []
    for _ in range(2):
        try:
            patch = kind.run(clip, params, inputs=inputs)
        except BadInput:
            out.append("refused")
        else:
            out.append(told(apply_patch(clip, patch)))
        assert told(clip) == before
    assert out[0] == out[1]
