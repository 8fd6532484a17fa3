"""Layers over the API: lines of the recipe, parts of the clip, undone as any."""

from __future__ import annotations

from documents.store import load_clip
from editing.models import Revision
from leancurve.document.evaluation import effective, evaluate
from leancurve.numbers import rotation

from tests.server.conftest import Api, arrays


def test_a_layer_is_made_keyed_weighed_and_undone(api: Api, clip: dict) -> None:
    base = load_clip(Revision.objects.get(pk=clip["head"]["id"]).state)
    made = api.apply(clip, "edit_layers", edits=[{"do": "add", "name": "head"}])
    (layer,) = made["layers"]
    owner = f"layer:{layer['id']}"
    assert (layer["name"], layer["kind"], layer["channels"]) == ("head", "additive", {})
    keyed = api.apply(made, "key_layer", layer="head", frame=10, turns={"Head": [0, 15, 0]})
    head = base.skeleton.index("Head")
    assert keyed["layers"][0]["channels"] == {str(head): ["rx", "ry", "rz"]}

    # What it changes, and its curves beside the clip's own, which are the blobs they were.
    (change,) = api.get(f"clips/{clip['id']}/layers?revision={keyed['head']['id']}").json()
    assert (change["name"], change["parts"]) == ("head", ["head"])
    assert abs(change["max_deg"] - 15) < 1e-6
    got = arrays(api.get(f"clips/{clip['id']}/curves?revision={keyed['head']['id']}&others=true"))
    assert {n.rsplit("/", 1)[0] for n in got} == {
        f"{owner}/-1/w",
        *(f"{owner}/{head}/{c}" for c in ("rx", "ry", "rz")),
    }
    after = load_clip(Revision.objects.get(pk=keyed["head"]["id"]).state)
    gap = rotation.geodesic_deg(evaluate(after).rotation, evaluate(base).rotation)
    assert abs(gap[:, head] - 15).max() < 1e-6
    poses = arrays(
        api.get(
            f"clips/{clip['id']}/poses?revision={keyed['head']['id']}&since={clip['head']['id']}"
        )
    )
    assert poses["joints"].tolist() == [head]

    # A weight's key is an edit as any; a filter takes no layer in its scope.
    faded = api.apply(keyed, "edit", keys=[
        {"owner": owner, "joint": "", "channel": "w", "id": 0, "frame": 0, "value": 0.5}
    ])  # fmt: skip
    (change,) = api.get(f"clips/{clip['id']}/layers?revision={faded['head']['id']}").json()
    assert abs(change["max_deg"] - 7.5) < 1e-6
    refused = api.write(
        faded, append={"operation": "smooth", "params": {}, "scope": {"owner": owner}}
    )
    assert refused.status_code == 422
    assert "no layers" in refused.json()["detail"]
    undone = api.post(f"clips/{clip['id']}/undo", {"revision": faded["head"]["id"]}).json()
    assert undone["head"]["state"] == keyed["head"]["state"]


def test_placement_over_the_api_and_what_it_and_layers_do_is_told_apart(
    api: Api, clip: dict
) -> None:
    made = api.apply(clip, "edit_layers", edits=[{"do": "add", "name": "head"}])
    keyed = api.apply(made, "key_layer", layer="head", frame=10, turned={"Head": [0, 15, 0]})
    placed = api.apply(keyed, "place", move=[1000, 0, 0], turn=30)
    assert placed["placement"]["turn"] == 30
    assert not placed["placement"]["muted"]
    path = f"clips/{clip['id']}/account?revision={placed['head']['id']}"
    lines = {x["kind"]: x for x in api.get(path).json()["lines"]}
    assert abs(lines["layer"]["deg"]["size"] - 15) < 1e-6
    assert lines["place"]["mm"]["size"] > 900
    # What all makes of the root's channels, on each frame.
    result = arrays(
        api.get(f"clips/{clip['id']}/curves?revision={placed['head']['id']}&joints=0&result=true")
    )
    document = load_clip(Revision.objects.get(pk=placed["head"]["id"]).state)
    wanted = effective(document)
    assert {f"{t}/values" for t in wanted if t.joint == 0} == set(result)
    assert all((result[f"{t}/values"] == wanted[t]).all() for t in wanted if t.joint == 0)
    undone = api.post(f"clips/{clip['id']}/undo", {"revision": placed["head"]["id"]}).json()
    assert undone["placement"] is None
