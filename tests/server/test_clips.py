"""The bench's API: documents, previews, writes, rebase, conflicts, undo, redo."""

from __future__ import annotations

import uuid

import numpy as np
import pytest
from documents.models import Blob, State
from documents.packing import decode, encode
from documents.store import _clips, _curves, load_clip
from editing.models import Clip, Memo, Revision
from leancurve.curves.curve import keyed
from leancurve.document.clip import Clip as Document
from leancurve.document.evaluation import evaluate
from leancurve.document.track import base_track
from leancurve.operations import OPERATIONS

from tests.server.conftest import Api, about, arrays


def head(clip: dict) -> Document:
    return load_clip(Clip.objects.get(pk=clip["id"]).head.state)


def test_a_clip_opens_with_its_document(clip: dict, document: Document) -> None:
    assert clip["frames"] == 200
    assert [j["name"] for j in clip["joints"]] == list(document.skeleton.names)
    assert clip["head"]["recipe"][0]["operation"] == "read"
    assert (clip["can_undo"], clip["can_redo"]) == (False, False)
    assert clip["reading"]["ends"] == ["Head", "LeftHand", "RightHand", "LeftFoot", "RightFoot"]


def test_poses_are_the_cores_as_float32(api: Api, clip: dict, document: Document) -> None:
    got = arrays(api.get(f"clips/{clip['id']}/poses?revision={clip['head']['id']}"))
    pose = evaluate(document)
    assert np.abs(got["rotation"] - pose.rotation).max() < 1e-6
    assert got["moving"].tolist() == [0]
    assert np.abs(got["translation"][:, 0] - pose.translation[:, 0]).max() < 1e-4


def test_after_an_edit_only_changed_joints_are_sent(api: Api, clip: dict) -> None:
    changed = api.write(
        clip, append={"operation": "thin", "params": {}, "scope": {"joints": ["Head", "Jaw"]}}
    ).json()
    path = f"clips/{clip['id']}/poses?revision={changed['head']['id']}&since={clip['head']['id']}"
    got = arrays(api.get(path))
    assert [clip["joints"][j]["name"] for j in got["joints"]] == ["Head", "Jaw"]
    assert got["rotation"].shape == (200, 2, 4)


def test_curves_come_as_stored_for_the_joints_asked_for(
    api: Api, clip: dict, document: Document
) -> None:
    path = f"clips/{clip['id']}/curves?revision={clip['head']['id']}&joints=0,7"
    got = arrays(api.get(path))
    assert set(got) == {f"{c}/values" for c in document.channels if c.joint in (0, 7)}
    assert np.array_equal(got["base/0/tx/values"], document.curves[base_track(0, "tx")].values)
    assert api.get(path.replace("0,7", "0,x")).status_code == 422


def test_an_answer_for_a_revision_may_be_kept_by_the_browser(api: Api, clip: dict) -> None:
    path = f"clips/{clip['id']}/poses?revision={clip['head']['id']}"
    answer = api.get(path)
    assert answer["Cache-Control"] == "private, no-store"
    version = f"{clip['evaluation']}.{clip['head']['mark']}"
    kept = api.get(f"{path}&v={version}")
    assert kept["Cache-Control"] == "private, max-age=31536000, immutable"
    for other in (f"0.{clip['head']['mark']}", clip["evaluation"], f"{version}x"):
        assert api.get(f"{path}&v={other}")["Cache-Control"] == "private, no-store"


def test_a_preview_saves_nothing_and_applying_it_gives_what_was_shown(api: Api, clip: dict) -> None:
    clip = api.apply(clip, "unflip")
    asked = {
        "revision": clip["head"]["id"], "operation": "thin", "params": {"tolerance_deg": 0.5},
        "joints": ["LeftHand"],
    }  # fmt: skip
    counts = Revision.objects.count(), State.objects.count(), Blob.objects.count()
    near = api.post(f"clips/{clip['id']}/preview", asked)
    whole = api.post(f"clips/{clip['id']}/preview/whole", {**asked, "joints": []})
    assert (Revision.objects.count(), State.objects.count(), Blob.objects.count()) == counts
    keys = arrays(near)
    hand = next(j for j, joint in enumerate(clip["joints"]) if joint["name"] == "LeftHand")
    assert {int(n.split("/")[1]) for n in keys} == {hand}
    numbers = about(whole)
    assert numbers["report"]["max_error_deg"] <= 0.5
    assert numbers["drift"]["max_mm"] > 0
    assert numbers["findings"] is None  # thinning mends none: nobody waits for a look
    clip = api.apply(clip, "thin", tolerance_deg=0.5)
    assert clip["head"]["report"]["keys_after"] == numbers["report"]["keys_after"]
    applied = head(clip).curves[base_track(hand, "rx")]
    assert np.array_equal(applied.value, keys[f"base/{hand}/rx/value"])


def test_a_joint_previewed_after_the_whole_shows_what_the_whole_will_be(
    api: Api, clip: dict
) -> None:
    """Key poses are shared by all: one joint alone would have poses of its own."""
    clip = api.apply(clip, "unflip")
    asked = {
        "revision": clip["head"]["id"], "operation": "thin", "params": {"layout": "pose"},
        "joints": ["LeftHand"],
    }  # fmt: skip
    hand = next(j for j, joint in enumerate(clip["joints"]) if joint["name"] == "LeftHand")
    key = f"base/{hand}/rx/time"
    alone = arrays(api.post(f"clips/{clip['id']}/preview", asked))[key]
    poses = about(api.post(f"clips/{clip['id']}/preview/whole", asked))["report"]["poses"]
    shared = arrays(api.post(f"clips/{clip['id']}/preview", asked))
    assert len(shared[key]) == poses != len(alone)
    assert {int(name.split("/")[1]) for name in shared} == {hand}


def test_thinning_again_previews_and_changes_the_line_that_stands(api: Api, clip: dict) -> None:
    clip = api.apply(clip, "unflip")
    clip = api.apply(clip, "thin", tolerance_deg=0.1)
    line = clip["head"]["recipe"][-1]
    asked = {
        "revision": clip["head"]["id"], "operation": "thin", "params": {"tolerance_deg": 2},
        "line": line["line_id"],
    }  # fmt: skip
    shown = about(api.post(f"clips/{clip['id']}/preview/whole", asked))["report"]
    assert shown["keys_before"] == 200 * 198
    edit = {"line_id": line["line_id"], "operation": "thin", "params": {"tolerance_deg": 2}}
    again = api.write(clip, edit=edit).json()
    assert again["head"]["report"]["keys_after"] == shown["keys_after"]
    assert [x["operation"] for x in again["head"]["recipe"]] == ["read", "unflip", "thin"]
    assert again["head"]["keys"] < clip["head"]["keys"]


def test_undo_and_redo_move_the_head_and_survive(api: Api, clip: dict) -> None:
    path = f"clips/{clip['id']}"
    one = api.apply(clip, "unflip")
    two = api.apply(one, "thin")
    back = api.post(f"{path}/undo", {"revision": two["head"]["id"]}).json()
    assert back["head"]["id"] == one["head"]["id"]
    assert (back["can_undo"], back["can_redo"]) == (True, True)
    first = api.post(f"{path}/undo", {"revision": one["head"]["id"]}).json()
    assert first["can_undo"] is False
    assert api.post(f"{path}/undo", {"revision": first["head"]["id"]}).json() == first
    again = api.post(f"{path}/redo", {"revision": first["head"]["id"]}).json()
    again = api.post(f"{path}/redo", {"revision": again["head"]["id"]}).json()
    assert again["head"]["state"] == two["head"]["state"]
    assert again["can_redo"] is False
    history = api.get(f"{path}/history").json()
    assert [r["cause"] for r in history] == ["Bring in", "Unflip", "Thin within 0.25°"]
    assert [r["head"] for r in history] == [False, False, True]


def test_a_change_after_undo_begins_a_new_branch_and_keeps_the_old(api: Api, clip: dict) -> None:
    one = api.apply(clip, "unflip")
    api.post(f"clips/{clip['id']}/undo", {"revision": one["head"]["id"]})
    other = api.apply(clip, "thin")
    assert other["can_redo"] is False
    parents = {r["number"]: r["parent"] for r in api.get(f"clips/{clip['id']}/history").json()}
    assert parents[2] == parents[3] == clip["head"]["id"]


def test_a_write_sent_twice_is_applied_once(api: Api, clip: dict) -> None:
    body = {
        "revision": clip["head"]["id"], "request_id": str(uuid.uuid4()),
        "append": {"operation": "unflip"},
    }  # fmt: skip
    first = api.post(f"clips/{clip['id']}/writes", body).json()
    second = api.post(f"clips/{clip['id']}/writes", body).json()
    assert first == second
    assert Revision.objects.count() == 2


def scoped(*joints: str, operation: str = "thin") -> dict:
    return {"operation": operation, "params": {}, "scope": {"joints": list(joints)}}


def test_a_stale_write_that_touches_other_channels_is_rebased(api: Api, clip: dict) -> None:
    api.write(clip, append=scoped("Head"))
    merged = api.write(clip, append=scoped("LeftHand"))
    assert merged.status_code == 200
    recipe = merged.json()["head"]["recipe"]
    assert [line["scope"].get("joints") for line in recipe[1:]] == [["Head"], ["LeftHand"]]
    kinds = {
        merged.json()["joints"][c.joint]["name"]: type(curve).__name__
        for c, curve in head(clip).curves.items()
    }
    assert kinds["Head"] == kinds["LeftHand"] == "KeyedCurve"
    assert kinds["Hips"] == "SampledCurve"


def test_a_stale_write_on_the_same_channels_is_a_conflict_with_both_changes(
    api: Api, clip: dict
) -> None:
    newest = api.write(clip, append=scoped("Head", "Jaw")).json()
    refused = api.write(clip, append=scoped("Head"))
    assert refused.status_code == 409
    body = refused.json()
    assert body["head"] == newest["head"]["id"]
    assert body["yours"] == ["Head rx", "Head ry", "Head rz"]
    assert set(body["yours"]) < set(body["theirs"])
    assert Revision.objects.count() == 2
    for change in ({"remove": newest["head"]["recipe"][1]["line_id"]},):
        assert api.write(clip, **change).status_code == 409
    stale = api.post(f"clips/{clip['id']}/undo", {"revision": clip["head"]["id"]})
    assert stale.status_code == 409


def test_lines_can_be_taken_out_and_what_is_below_is_replayed(api: Api, clip: dict) -> None:
    one = api.apply(clip, "unflip")
    two = api.apply(one, "thin", tolerance_deg=1)
    unflip = two["head"]["recipe"][1]["line_id"]
    out = api.write(two, remove=unflip).json()
    assert [x["operation"] for x in out["head"]["recipe"]] == ["read", "thin"]
    assert out["head"]["cause"] == "Delete Unflip"
    direct = api.apply(clip | {"head": out["head"]}, "unflip")
    assert direct["head"]["recipe"][-1]["operation"] == "unflip"
    first = out["head"]["recipe"][0]["line_id"]
    refused = api.write(direct, remove=first)
    assert refused.status_code == 422
    assert "it can be changed, not deleted" in refused.json()["detail"]


def test_how_the_take_is_read_can_be_changed_and_everything_follows(api: Api, clip: dict) -> None:
    clip = api.apply(clip, "unflip")
    clip = api.apply(clip, "thin")
    read = clip["head"]["recipe"][0]
    edit = {
        "line_id": read["line_id"], "operation": "read",
        "params": {"metres_per_unit": 0.0254, "ends": ["Head"]},
    }  # fmt: skip
    changed = api.write(clip, edit=edit).json()
    assert changed["reading"]["metres_per_unit"] == 0.0254
    assert changed["reading"]["ends"] == ["Head"]
    drift = api.get(f"clips/{clip['id']}/drift?revision={changed['head']['id']}").json()
    assert drift["max_end"] == "Head"
    wrong = {**edit, "params": {"ends": ["Nobody"]}}
    assert "no joint is named 'Nobody'" in api.write(changed, edit=wrong).json()["detail"]


def test_hand_edits_in_a_row_are_one_line_with_a_revision_each(api: Api, clip: dict) -> None:
    clip = api.apply(clip, "unflip")
    clip = api.apply(clip, "thin")
    curve = head(clip).curves[base_track(0, "ry")]
    for value in (3.0, 4.0, 5.0):
        key = {
            "joint": "Hips", "channel": "ry", "id": int(curve.id[1]),
            "frame": float(curve.time[1]), "value": value,
        }  # fmt: skip
        clip = api.apply(clip, "edit", keys=[key])
    recipe = clip["head"]["recipe"]
    assert [x["operation"] for x in recipe] == ["read", "unflip", "thin", "edit"]
    told = api.get(f"clips/{clip['id']}/recipe?revision={clip['head']['id']}").json()
    assert [k["value"] for k in told[-1]["params"]["keys"]] == [5.0]
    assert clip["head"]["number"] == 6
    assert head(clip).curves[base_track(0, "ry")].value[1] == 5.0
    # Thinning otherwise replays the edit: found again by its id or near its frame, or listed.
    thin = recipe[2]
    edit = {"line_id": thin["line_id"], "operation": "thin", "params": {"tolerance_deg": 4}}
    replayed = api.write(clip, edit=edit).json()
    now = head(replayed).curves[base_track(0, "ry")]
    unplaced = replayed["head"]["report"].get("unplaced", [])
    assert 5.0 in now.value.tolist() or len(unplaced) == 1


def test_what_was_computed_before_is_not_computed_again(
    api: Api, clip: dict, monkeypatch: pytest.MonkeyPatch
) -> None:
    one = api.apply(clip, "unflip")
    two = api.apply(one, "thin")
    memos = Memo.objects.count()
    import editing.recipes

    monkeypatch.setattr(editing.recipes, "compute", lambda *a: pytest.fail("computed again"))
    api.post(f"clips/{clip['id']}/undo", {"revision": two["head"]["id"]})
    again = api.apply(one, "thin")
    assert again["head"]["state"] == two["head"]["state"]
    assert Memo.objects.count() == memos


def test_an_edit_writes_what_it_changed_and_equal_channels_are_stored_once(
    api: Api, clip: dict
) -> None:
    before = Blob.objects.count()
    api.write(clip, append=scoped("Head"))
    # Three channels and the recipe's line, nothing else: the header is the same.
    assert Blob.objects.count() == before + 4
    zeros = [c for c in head(clip).curves.values() if np.ptp(c.at(np.arange(200.0))) == 0]
    assert len(zeros) > 50
    assert before < 198
    stored = api.get(f"clips/{clip['id']}/storage").json()
    assert stored["revisions"] == 2
    assert 0 < stored["bytes"] < 200 * 198 * 8


def test_a_state_loads_from_the_database_as_it_was_stored(api: Api, clip: dict) -> None:
    clip = api.apply(clip, "unflip")
    clip = api.apply(clip, "thin")
    kept = head(clip)
    _clips.clear()
    _curves.clear()
    fresh = head(clip)
    assert fresh is not kept
    assert (fresh.skeleton, fresh.layout, fresh.reading) == (
        kept.skeleton,
        kept.layout,
        kept.reading,
    )
    for c in kept.channels:
        for name, column in kept.curves[c].columns.items():
            assert np.array_equal(column, fresh.curves[c].columns[name])


def test_curves_encode_to_the_same_bytes_and_back() -> None:
    curve = keyed([0, 5, 9], [1, 2, 3])
    assert encode(curve) == encode(keyed([0, 5, 9], [1, 2, 3]))
    assert decode(encode(curve)).at(np.array([2.0])) == curve.at(np.array([2.0]))


@pytest.mark.parametrize(
    ("change", "says"),
    [
        ({"append": {"operation": "melt"}}, "no operation is named 'melt'; there are read"),
        ({"append": {"operation": "thin", "params": {"tolerance_deg": -1}}}, "got -1"),
        ({"append": {"operation": "thin", "params": {"colour": 1}}}, "colour"),
        ({"remove": "nothing"}, "not in the recipe any more"),
        ({}, "expected one of append, edit, remove"),
        ({"edit": {"operation": "unflip", "line_id": "x"}, "remove": "x"}, "expected one of"),
    ],
)
def test_writes_that_mean_nothing_are_refused_with_a_sentence(
    api: Api, clip: dict, change: dict, says: str
) -> None:
    refused = api.write(clip, **change)
    assert refused.status_code == 422
    assert says in refused.json()["detail"]
    assert Revision.objects.count() == 1


def test_operations_describe_their_parameters(api: Api) -> None:
    described = {o["name"]: o for o in api.get("operations").json()}
    assert set(described) == set(OPERATIONS)
    params = {p["name"]: p for p in described["thin"]["params"]}
    tolerance = params["tolerance_deg"]
    assert (tolerance["default"], tolerance["least"], tolerance["most"]) == (0.25, 0, 45)
    assert tolerance["kind"] == "number"
    methods = {p["name"]: p for p in described["smooth"]["params"]}["method"]
    assert (methods["kind"], methods["choices"][0]) == ("choice", "adaptive")
    assert all(o["about"] and o["step"] for o in described.values())
    for name, operation in described.items():
        shown = [p for p in operation["params"] if p["kind"] != "other"]
        labels = [p["label"] for p in shown]
        assert len(set(labels)) == len(labels), name
        assert all(x[0].isupper() and "_" not in x for x in labels), name
        assert all(p["description"] for p in shown), name


def test_a_clip_can_be_renamed(api: Api, clip: dict) -> None:
    assert api.call("PATCH", f"clips/{clip['id']}", {"name": "Best"}).json()["name"] == "Best"
