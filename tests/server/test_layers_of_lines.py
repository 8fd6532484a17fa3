"""Layers over the API: whose they are for good, what is lifted, kept and seen alone."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from documents.store import load_clip
from editing.models import Revision
from leancurve.document.evaluation import evaluate
from leancurve.numbers import rotation
from safetensors.numpy import load as tensors

from tests.server.conftest import Api


def ids(clip: dict[str, Any]) -> dict[str, int]:
    return {x["name"]: x["id"] for x in clip["layers"]}


def lines(clip: dict[str, Any]) -> list[Any]:
    return Revision.objects.get(pk=clip["head"]["id"]).recipe


def laid(api: Api, clip: dict[str, Any], name: str) -> dict[str, Any]:
    return api.apply(clip, "edit_layers", edits=[{"do": "add", "name": name}])


def test_a_line_taken_out_leaves_what_others_do_on_the_layers_that_they_mean(
    api: Api, clip: dict[str, Any]
) -> None:
    """Two layers, a key on the second: without the first it is on the second still."""
    now = laid(api, laid(api, clip, "one"), "two")
    second = ids(now)["two"]
    joint = clip["joints"][1]["name"]
    key = {"layer": "two", "layer_id": second, "frame": 0, "turns": {joint: [0, 9, 0]}}
    now = api.apply(now, "key_layer", **key)
    edit = {"owner": f"layer:{second}", "joint": joint, "channel": "ry", "id": 0, "frame": 0,
            "value": 12.0}  # fmt: skip
    now = api.apply(now, "edit", keys=[edit])
    first = next(x for x in lines(now) if "one" in str(x["params"]))
    now = api.write(now, remove=first["line_id"]).json()
    assert ids(now) == {"two": second}
    curve = load_clip(Revision.objects.get(pk=now["head"]["id"]).state).curves
    ours = {t: c for t, c in curve.items() if t.owner == f"layer:{second}" and t.name == "ry"}
    assert [c.at(np.zeros(1))[0] for c in ours.values()] == [12.0]


def test_an_id_is_never_another_layers(api: Api, clip: dict[str, Any]) -> None:
    now = laid(api, clip, "one")
    first = ids(now)["one"]
    now = api.apply(now, "edit_layers", edits=[{"do": "remove", "name": "one", "id": first}])
    now = laid(api, now, "one")
    assert ids(now)["one"] != first
    undone = api.post(f"clips/{clip['id']}/undo", {"revision": now["head"]["id"]}).json()
    again = laid(api, undone, "other")
    assert ids(again)["other"] not in (first, ids(now)["one"])


def test_a_kept_recipe_makes_layers_of_its_own_each_time(api: Api, clip: dict[str, Any]) -> None:
    """Applied twice it makes two, and its keys go onto the one that it has just made."""
    now = laid(api, clip, "mine")
    joint = clip["joints"][1]["name"]
    kept = [
        {"operation": "edit_layers", "params": {"edits": [
            {"do": "add", "name": "theirs", "new_id": 5}]}},
        {"operation": "key_layer", "params": {"layer": "theirs", "layer_id": 5, "frame": 0,
                                              "turns": {joint: [0, 9, 0]}}},
        {"operation": "extract", "params": {}, "inputs": {"before": "0" * 64, "after": "0" * 64}},
        {"operation": "offset", "params": {"amount": 1.0}, "aside": "it lies beyond the end"},
    ]  # fmt: skip
    made = api.post(f"workspaces/{clip['workspace']}/recipes", {"name": "k", "lines": kept}).json()
    assert [x["operation"] for x in made["lines"]] == ["edit_layers", "key_layer"]
    assert len(made["left_out"]) == 2
    assert "works with another clip" in made["left_out"][0]
    assert "set aside, since it lies beyond" in made["left_out"][1]
    now = api.write(now, recipe=made["id"]).json()
    theirs = ids(now)["theirs"]
    assert theirs not in (5, ids(now)["mine"])
    (own,) = (x for x in now["layers"] if x["id"] == theirs)
    assert list(own["channels"]) == ["1"]
    (other,) = (x for x in now["layers"] if x["name"] == "mine")
    assert other["channels"] == {}


def test_hand_work_is_lifted_and_no_more(api: Api, clip: dict[str, Any]) -> None:
    """Calm is what it was; a gain on one joint becomes a layer on that joint."""
    now = api.apply(clip, "smooth")
    joint = clip["joints"][1]["name"]
    before = now
    now = api.write(now, append={"operation": "gain", "params": {"factor": 1.3},
                                 "scope": {"joints": [joint]}}).json()  # fmt: skip
    lifted = api.apply(now, "lift")
    (layer,) = lifted["layers"]
    assert list(layer["channels"]) == ["1"]
    states = [load_clip(Revision.objects.get(pk=c["head"]["id"]).state)
              for c in (before, now, lifted)]  # fmt: skip
    calm, gained, own = (evaluate(c).rotation for c in states)
    assert rotation.geodesic_deg(own, gained).max() < 1e-6
    below = evaluate(states[2].below).rotation
    assert rotation.geodesic_deg(below, calm).max() < 1e-6
    gone = api.write(clip, append={"operation": "lift"})
    assert gone.status_code == 422
    assert "nothing was done by hand" in gone.text


def test_switches_on_one_layer_are_one_line_and_one_step(api: Api, clip: dict[str, Any]) -> None:
    made = laid(api, clip, "one")
    switch = {"do": "set", "name": "one", "id": ids(made)["one"]}
    now = made
    for change in ({"muted": True}, {"muted": False}, {"weight": 0.4}):
        now = api.apply(now, "edit_layers", edits=[{**switch, **change}])
    assert len(lines(now)) == len(lines(made)) + 1
    assert lines(now)[-1]["params"]["edits"] == [{**switch, "muted": False, "weight": 0.4}]
    undone = api.post(f"clips/{clip['id']}/undo", {"revision": now["head"]["id"]}).json()
    assert undone["head"]["state"] == made["head"]["state"]


def test_solo_is_in_the_eye_of_who_looks(api: Api, clip: dict[str, Any]) -> None:
    now = laid(api, laid(api, clip, "one"), "two")
    joint = clip["joints"][1]["name"]
    for name, turn in (("one", [0, 20, 0]), ("two", [30, 0, 0])):
        key = {"layer": name, "layer_id": ids(now)[name], "frame": 0, "turns": {joint: turn}}
        now = api.apply(now, "key_layer", **key)

    def seen(**asked: Any) -> Any:
        query = {"revision": now["head"]["id"], **asked}
        answer = api.client.get(f"/api/clips/{clip['id']}/poses", query)
        return tensors(b"".join(answer) if answer.streaming else answer.content)["rotation"][:, 1]

    muted = api.apply(now, "edit_layers", edits=[
        {"do": "set", "name": "two", "id": ids(now)["two"], "muted": True}])  # fmt: skip
    alone = seen(solo=str(ids(now)["one"]))
    wanted = evaluate(load_clip(Revision.objects.get(pk=muted["head"]["id"]).state)).rotation[:, 1]
    assert np.abs(alone - wanted.astype(np.float32)).max() < 1e-6
    assert np.abs(seen() - alone).max() > 0.1


def test_a_line_becomes_a_layer_in_one_step(api: Api, clip: dict[str, Any]) -> None:
    now = api.apply(clip, "offset", amount=5.0)
    line = lines(now)[-1]["line_id"]
    path = f"/api/clips/{clip['id']}/lines/{line}/states"
    inputs = api.client.get(path, {"revision": now["head"]["id"]}).json()
    append = {"operation": "extract", "params": {}, "inputs": inputs}
    after = api.write(now, append=append, remove=line).json()
    assert [x["operation"] for x in lines(after)][-1] == "extract"
    assert len(lines(after)) == len(lines(now))
    a, b = (evaluate(load_clip(Revision.objects.get(pk=c["head"]["id"]).state)).rotation
            for c in (now, after))  # fmt: skip
    assert rotation.geodesic_deg(a, b).max() < 1e-6
    undone = api.post(f"clips/{clip['id']}/undo", {"revision": after["head"]["id"]}).json()
    assert undone["head"]["id"] == now["head"]["id"]


@pytest.mark.parametrize("solo", ["x", "1,2,3", "99999999999999"])
def test_layers_seen_alone_that_are_not_there_are_no_trouble(
    api: Api, clip: dict[str, Any], solo: str
) -> None:
    query = {"revision": clip["head"]["id"], "solo": solo}
    assert api.client.get(f"/api/clips/{clip['id']}/poses", query).status_code == 200
