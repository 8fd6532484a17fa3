"""Layers have an id of their own for good, whatever lines come to lie before theirs."""

from __future__ import annotations

from typing import Any

import pytest
from leancurve.document.clip import Clip
from leancurve.document.scope import Scope
from leancurve.errors import BadInput
from leancurve.operations import OPERATIONS, apply_patch
from leancurve.operations.identity import drawn, identified, made_by, renumbered, renumbered_owner

from tests.core.laden import laden
from tests.core.test_gravity import thrown


def did(clip: Clip, name: str, /, **params: Any) -> Clip:
    return apply_patch(clip, OPERATIONS[name].run(clip, params))


def test_every_operation_that_makes_layers_takes_the_id_that_its_line_names() -> None:
    """Whatever makes a layer can be told which id it gets, and each is told beside its layers."""
    clip, fresh = laden(), drawn(())
    lines: dict[str, dict[str, Any]] = {
        "edit_layers": {"edits": [{"do": "add", "name": "new"}, {"do": "copy", "name": "lean"}]},
        "merge_layers": {"layers": ["lean", "aim"], "ids": [0, 1]},
        "split_layer": {"layer": "lean", "layer_id": 0, "joints": ["LeftArm"]},
        "bake_plants": {},
        "lift": {"what": "by hand"},
        "extract": {},
        "bring_layers": {"layers": ["lean"], "ids": [0]},
        "load_layer": {},
        "balance": {},
    }
    makes = {
        n for n, kind in OPERATIONS.items() if "identity" in str(kind.Params.model_json_schema())
    }
    assert makes == set(lines)
    hand = did(clip, "offset", amount=3.0)
    inputs = {"hand": (clip, hand), "before": clip, "after": hand, "source": clip}
    for name, params in lines.items():
        kind = OPERATIONS[name]
        given = identified(kind.Params, params, fresh)
        wanted = made_by(kind.Params, given)
        assert len(wanted) == (2 if name == "edit_layers" else 1)
        own = {n: inputs[n] for n in kind.inputs if n in inputs}
        # Thrown up on another planet: there is something to balance.
        base = {"lift": hand, "balance": thrown(1600.0)}.get(name, clip)
        made = apply_patch(base, kind.run(base, given, inputs=own))
        assert {x.id for x in made.layers} - {x.id for x in clip.layers} == set(wanted), name


def test_an_id_says_which_layer_is_meant_and_a_name_only_what_it_was_called() -> None:
    clip = did(
        laden(), "edit_layers", edits=[{"do": "set", "name": "lean", "id": 1, "muted": True}]
    )
    assert [x.name for x in clip.layers if x.muted] == ["aim", "off"]
    gone = OPERATIONS["edit_layers"].run(
        laden(), {"edits": [{"do": "set", "name": "lean", "id": 77, "muted": True}]}
    )
    assert gone.report["unplaced"] == [{"name": "lean"}]
    with pytest.raises(BadInput, match="no layer is named 'lean'"):
        did(laden(), "key_layer", layer="lean", layer_id=77, frame=3, turns={"Head": (1, 0, 0)})
    with pytest.raises(BadInput, match="has the id 0 already"):
        did(laden(), "edit_layers", edits=[{"do": "add", "name": "new", "new_id": 0}])


def test_layers_of_a_recipe_get_other_ids_wherever_they_are_named() -> None:
    edit = OPERATIONS["edit_layers"].Params
    made = {"edits": [{"do": "add", "name": "a", "new_id": 5}, {"do": "set", "name": "a", "id": 5}]}
    assert renumbered(edit, made, {5: 9})["edits"] == [
        {"do": "add", "name": "a", "new_id": 9}, {"do": "set", "name": "a", "id": 9},
    ]  # fmt: skip
    keys = {"keys": [{"owner": "layer:5", "joint": "Head"}, {"joint": "Head"}]}
    told = renumbered(OPERATIONS["edit"].Params, keys, {5: 9})
    assert [k.get("owner") for k in told["keys"]] == ["layer:9", None]
    merge = renumbered(OPERATIONS["merge_layers"].Params, {"ids": [5, 6]}, {5: 9})
    assert merge["ids"] == [9, 6]
    assert [renumbered_owner(o, {5: 9}) for o in ("layer:5", "layer:6", "prop", None)] == [
        "layer:9", "layer:6", "prop", None,
    ]  # fmt: skip


def test_a_line_that_names_no_id_makes_the_layer_that_it_made_before_there_were_any() -> None:
    clip = did(laden(), "edit_layers", edits=[{"do": "add", "name": "old"}])
    assert clip.layers[-1].id == max(x.id for x in laden().layers) + 1
    assert Scope(owner=clip.layers[-1].owner).owner == f"layer:{clip.layers[-1].id}"
