"""Time on the server: previews of a few joints, keys since a revision, mirrored poses, cameras."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from django.contrib.auth.models import User

from tests.server.conftest import Api, about, arrays
from tests.server.test_clips import head

pytestmark = pytest.mark.django_db

PINS = {"pins": [[0, 0], [100, 50], [199, 199]], "smooth": True}


def test_pins_preview_a_joint_as_the_whole_clip_will_be(api: Api, clip: dict) -> None:
    asked = {
        "operation": "retime",
        "params": PINS,
        "revision": clip["head"]["id"],
        "joints": ["Hips"],
        "view": "v",
        "sequence": 1,
    }
    few = arrays(api.post(f"clips/{clip['id']}/preview", asked))
    assert {k.split("/")[1] for k in few} == {"0"}
    done = api.apply(clip, "retime", **PINS)
    after = head(done)
    for channel, curve in after.curves.items():
        if channel.joint == 0:
            key = f"{channel}/values"
            assert few[key] == pytest.approx(curve.values)  # type: ignore[union-attr]
    # A change of time touches everything: one made elsewhere in between is a conflict.
    stale = api.write(clip, append={"operation": "retime", "params": PINS})
    assert stale.status_code == 409
    back = api.post(f"clips/{clip['id']}/undo", {"revision": done["head"]["id"]}).json()
    assert back["head"]["state"] == clip["head"]["state"]


def test_drift_of_a_retimed_clip_is_none(api: Api, clip: dict) -> None:
    done = api.apply(clip, "remove_span", first=50, last=99, blend=0)
    assert done["frames"] == 150
    drift = api.get(f"clips/{clip['id']}/drift?revision={done['head']['id']}").json()
    assert drift["max_deg"] < 1e-6


def test_keys_come_once_and_then_what_changed(api: Api, clip: dict) -> None:
    base = f"clips/{clip['id']}/keys?revision="
    dense = api.get(f"{base}{clip['head']['id']}")
    assert arrays(dense) == {}
    assert len(about(dense)["dense"]) == len(head(clip).channels)
    thin = api.apply(clip, "thin")
    every = arrays(api.get(f"{base}{thin['head']['id']}&since={clip['head']['id']}"))
    assert {k.rsplit("/", 1)[0] for k in every} == {str(c) for c in head(thin).channels}
    line = {"operation": "slide", "params": {"by": 2}, "scope": {"groups": ["left arm"]}}
    slid = api.write(thin, append=line).json()
    got = api.get(f"{base}{slid['head']['id']}&since={thin['head']['id']}")
    document = head(slid)
    arm = document.body.groups["left arm"]
    moved = {int(k.split("/")[1]) for k in arrays(got)}
    assert moved
    assert moved <= set(arm)
    assert about(got)["dense"] == []


def test_a_pose_is_mirrored_and_wrong_channels_are_named(api: Api, clip: dict) -> None:
    document = head(clip)
    here, there = (document.body.find(f"{side} forearm") for side in ("left", "right"))
    assert here is not None
    names = [c for c in document.layout[here] if c[0] == "r"]
    pose: dict[str, Any] = {str(here): {c: 10.0 * k for k, c in enumerate(names)}}
    asked = {"revision": clip["head"]["id"], "frame": 3, "values": pose}
    out = api.post(f"clips/{clip['id']}/mirror", asked).json()["values"]
    assert list(out) == [str(there)]
    wrong = api.post(f"clips/{clip['id']}/mirror", {**asked, "values": {"0": {"qx": 1.0}}})
    assert wrong.status_code == 422
    assert "0 qx" in wrong.json()["detail"]


def test_a_camera_is_placed_without_a_revision_by_members_only(api: Api, clip: dict) -> None:
    camera = {"position": [1.0, 1.5, 4.0], "target": [0.0, 1.0, 0.0], "fov": 40.0}
    path = f"clips/{clip['id']}/camera"
    placed = api.call("PUT", path, camera).json()
    assert placed["camera"] == camera
    assert placed["head"]["id"] == clip["head"]["id"]
    assert api.call("PUT", path, {**camera, "fov": 400}).status_code == 422
    stranger = Api(User.objects.create_user("stranger"))
    assert stranger.call("PUT", path, camera).status_code == 404


def test_muted_and_riding_keys_are_kept(api: Api, clip: dict) -> None:
    thin = api.apply(clip, "thin")
    channel, curve = next((c, k) for c, k in head(thin).curves.items() if k.key_count > 4)
    name = head(thin).skeleton.names[channel.joint]
    edit = {"joint": name, "channel": channel.name, "frame": float(curve.columns["time"][2])}
    done = api.apply(thin, "edit", keys=[{**edit, "id": int(curve.columns["id"][2]),
                                          "muted": True, "riding": True}])  # fmt: skip
    after = head(done).curves[channel]
    assert after.columns["flags"][2] & 3 == 3
    frames = np.arange(200.0)
    assert np.abs(after.at(frames) - curve.at(frames)).max() > 0
