"""Stored poses and motions over the API: kept, found, taken, binned, and seen by members alone."""

from __future__ import annotations

from datetime import timedelta

import numpy as np
from django.contrib.auth.models import User
from documents.models import State
from documents.store import load_clip
from editing.models import StoredMotion
from editing.sweeping import sweep
from leancurve.document.evaluation import evaluate
from leancurve.numbers import rotation
from library.models import Workspace

from tests.server.conftest import Api


def kept(api: Api, clip: dict, name: str, first: int, last: int, **more: object) -> dict:
    body = {"revision": clip["head"]["id"], "name": name, "first": first, "last": last, **more}
    answer = api.post(f"clips/{clip['id']}/stored", body)
    assert answer.status_code == 200, answer.content
    return answer.json()


def test_a_pose_is_kept_with_its_picture_found_renamed_and_binned(
    api: Api, workspace: Workspace, clip: dict
) -> None:
    made = kept(api, clip, "at the rail", 12, 12, tags=["deck", " deck ", "hands"],
                joints=["LeftUpperArm", "LeftForearm"])  # fmt: skip
    assert (made["frames"], made["tags"]) == (1, ["deck", "hands"])
    assert len(made["picture"]["figures"]) == 1
    assert len(made["picture"]["figures"][0]) > 10
    again = {"revision": clip["head"]["id"], "name": "at the rail", "first": 0, "last": 5}
    refused = api.post(f"clips/{clip['id']}/stored", again)
    assert refused.status_code == 422
    assert "stored already" in refused.json()["detail"]
    other = api.call("PATCH", f"stored/{made['id']}", {"name": "by the rail", "tags": ["rail"]})
    assert other.json()["name"] == "by the rail"
    assert [s["name"] for s in api.get(f"workspaces/{workspace.pk}/stored").json()] == [
        "by the rail"
    ]
    assert api.call("DELETE", f"stored/{made['id']}").status_code == 204
    assert api.get(f"workspaces/{workspace.pk}/stored").json() == []
    (binned,) = api.get(f"workspaces/{workspace.pk}/bin").json()
    assert (binned["kind"], binned["name"]) == ("stored", "by the rail")
    assert binned["bytes"] > 0
    api.post(f"workspaces/{workspace.pk}/bin/put-back", {"kind": "stored", "id": made["id"]})
    assert len(api.get(f"workspaces/{workspace.pk}/stored").json()) == 1


def test_how_a_clip_would_stand_in_it_and_a_motion_loaded_onto_a_layer(
    api: Api, clip: dict
) -> None:
    pose = kept(api, clip, "a pose", 20, 20)
    asked = {"revision": clip["head"]["id"], "frame": 3}
    turns = api.post(f"clips/{clip['id']}/stored/{pose['id']}/pose", asked).json()["turns"]
    document = load_clip(State.objects.get(pk=clip["head"]["state"]))
    was = evaluate(document, np.array([20.0])).rotation[0]
    off = {int(j): float(rotation.geodesic_deg(np.array(q), was[int(j)])) for j, q in turns.items()}
    assert max(v for j, v in off.items() if document.skeleton.parents[j] >= 0) < 1e-6
    beyond = api.post(f"clips/{clip['id']}/stored/{pose['id']}/pose", {**asked, "frame": 10**6})
    assert beyond.status_code == 422

    motion = kept(api, clip, "a step", 5, 25)
    assert motion["frames"] == 21
    line = {"operation": "load_layer", "params": {"name": "step", "at": 30}, "scope": {},
            "inputs": {"source": motion["state"]}}  # fmt: skip
    loaded = api.write(clip, append=line).json()
    assert [x["name"] for x in loaded["layers"]] == ["step"]


def test_what_is_stored_is_not_swept_and_another_workspaces_is_not_there(
    api: Api, clip: dict
) -> None:
    stranger = Api(User.objects.create_user("stranger"))
    made = kept(api, clip, "stays", 8, 8)
    sweep(timedelta(0))
    assert load_clip(StoredMotion.objects.get(pk=made["id"]).state).frames == 1
    assert stranger.call("PATCH", f"stored/{made['id']}", {"name": "mine"}).status_code == 404
    assert stranger.call("DELETE", f"stored/{made['id']}").status_code == 404
    asked = {"revision": clip["head"]["id"], "frame": 3}
    path = f"clips/{clip['id']}/stored/{made['id']}/pose"
    assert stranger.post(path, asked).status_code == 404
