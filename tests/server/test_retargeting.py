"""Clips retargeted onto other skeletons: of their own, pinned, made again, with their map kept."""

from __future__ import annotations

import uuid
from typing import Any

import pytest
from documents.blobs import keep_lines, kept_lines
from documents.models import State
from documents.store import load_clip
from editing import storage
from editing.models import Clip, Retargeted, Revision
from editing.sweeping import sweep
from leancurve.demo.characters import heron_file, wren_file
from leancurve.document.clip import Clip as Document
from leancurve.formats.bvh import write_bvh
from leancurve.formats.clipjson import write_clip
from leancurve.formats.files import read_take
from library import kinds
from library.intake import store_take
from library.models import Job, StoredFile, Take, Workspace

from tests.made import looked_at
from tests.server.conftest import Api, about, arrays


def brought_in(workspace: Workspace, name: str, data: bytes) -> Take:
    stored = StoredFile.objects.create(workspace=workspace, name=name, data=data, size=len(data))
    return store_take(workspace, stored, looked_at(data, name), name.split(".")[0])


@pytest.fixture
def heron(workspace: Workspace) -> Take:
    return brought_in(workspace, "Heron.bvh", write_bvh(heron_file()))


@pytest.fixture
def wren(workspace: Workspace) -> Take:
    return brought_in(workspace, "Wren.json", write_clip(wren_file()))


def document_of(clip: dict) -> Document:
    return load_clip(Revision.objects.get(pk=clip["head"]["id"]).state)


def retargeted(api: Api, clip: dict, targets: list[Take], **params: Any) -> list[dict]:
    body = {
        "revision": clip["head"]["id"],
        "targets": [t.pk for t in targets],
        "params": params,
    }
    started = api.post(f"clips/{clip['id']}/retarget", body)
    assert started.status_code == 200, started.content
    out = []
    for job in started.json():
        kinds.run(job["id"])
        done = Job.objects.get(pk=job["id"])
        assert done.state == "done", done.message
        out.append(api.get(f"clips/{done.result['clip']}").json())
    return out


def test_skeletons_without_motion_come_first_and_each_once(
    api: Api, workspace: Workspace, take: Take, heron: Take, wren: Take
) -> None:
    found = api.get(f"workspaces/{workspace.pk}/skeletons").json()
    assert [(s["name"], s["still"]) for s in found[:2]] == [("Wren", True), ("Heron", True)]
    assert [s["skeleton"] for s in found[2:]] == ["Deckhand suit"]
    assert found[0]["joints"] == 52


def test_a_clip_is_retargeted_onto_two_skeletons_at_once(
    api: Api, clip: dict, heron: Take, wren: Take
) -> None:
    smooth = api.apply(clip, "unflip")
    two = retargeted(api, smooth, [heron, wren], feet=0.5)
    assert [c["name"] for c in two] == [f"{smooth['name']} · Heron", f"{smooth['name']} · Wren"]
    for made, target in zip(two, (heron, wren), strict=True):
        assert [line["operation"] for line in made["head"]["recipe"]] == ["read", "retarget"]
        assert made["frames"] == clip["frames"]
        assert [j["name"] for j in made["joints"]] == list(load_clip(target.state).skeleton.names)
        assert made["retargeted"]["clip"] == clip["id"]
        assert made["retargeted"]["revision"] == smooth["head"]["number"]
        assert made["retargeted"]["newest"] is None
        assert made["head"]["report"]["mapped"] == len(made["joints"])
    # The source is as it was, and stands on the shelf beside its two.
    assert api.get(f"clips/{clip['id']}").json()["head"]["id"] == smooth["head"]["id"]


def test_what_is_retargeted_is_worked_on_and_measured_on_its_own_skeleton(
    api: Api, clip: dict, heron: Take
) -> None:
    (made,) = retargeted(api, api.apply(clip, "unflip"), [heron])
    thin = api.apply(made, "thin", tolerance_deg=0.5)
    assert thin["head"]["keys"] < made["head"]["keys"]
    told = api.get(f"clips/{made['id']}/account?revision={thin['head']['id']}")
    assert told.status_code == 200, told.content
    kinds = {line["told"]: line for line in told.json()["lines"]}
    assert kinds["Retarget onto another skeleton"]["kind"] == "retarget"
    # What thinning cost is told against the retargeted motion, not against the source's joints.
    assert 0.0 < told.json()["cost_deg"]["size"] < 5.0
    drift = api.get(f"clips/{made['id']}/drift?revision={thin['head']['id']}")
    assert drift.status_code == 200, drift.content


def test_the_line_can_be_changed_and_all_after_it_follows(
    api: Api, clip: dict, heron: Take
) -> None:
    (made,) = retargeted(api, api.apply(clip, "unflip"), [heron])
    thin = api.apply(made, "thin", tolerance_deg=0.5)
    line = thin["head"]["recipe"][1]
    edit = {
        "line_id": line["line_id"], "operation": "retarget",
        "params": {**line["params"], "clavicles": 0.0}, "inputs": line["inputs"],
    }  # fmt: skip
    done = api.write(thin, edit=edit)
    assert done.status_code == 200, done.content
    after = done.json()
    assert [x["operation"] for x in after["head"]["recipe"]] == ["read", "retarget", "thin"]
    assert after["head"]["state"] != thin["head"]["state"]
    undone = api.post(f"clips/{made['id']}/undo", {"revision": after["head"]["id"]}).json()
    assert undone["head"]["state"] == thin["head"]["state"]


def test_when_the_source_goes_on_the_clip_says_so_and_is_retargeted_again(
    api: Api, clip: dict, heron: Take
) -> None:
    smooth = api.apply(clip, "unflip")
    (made,) = retargeted(api, smooth, [heron])
    thin = api.apply(made, "thin", tolerance_deg=0.5)
    refused = api.post(
        f"clips/{made['id']}/retarget/again",
        {"revision": thin["head"]["id"], "request_id": str(uuid.uuid4())},
    )
    assert refused.status_code == 422
    assert "not changed since" in refused.json()["detail"]

    further = api.apply(smooth, "smooth")
    told = api.get(f"clips/{made['id']}").json()
    assert told["retargeted"]["newest"] == further["head"]["id"]
    assert told["head"]["state"] == thin["head"]["state"]  # pinned: nothing moved by itself
    body = {"revision": thin["head"]["id"], "request_id": str(uuid.uuid4())}
    done = api.post(f"clips/{made['id']}/retarget/again", body)
    assert done.status_code == 200, done.content
    after = done.json()
    assert [x["operation"] for x in after["head"]["recipe"]] == ["read", "retarget", "thin"]
    assert after["retargeted"]["newest"] is None
    assert after["head"]["state"] != thin["head"]["state"]
    # Sent twice, done once; and undo brings back what lay beneath.
    assert (
        api.post(f"clips/{made['id']}/retarget/again", body).json()["head"]["id"]
        == (after["head"]["id"])
    )
    undone = api.post(f"clips/{made['id']}/undo", {"revision": after["head"]["id"]}).json()
    assert undone["head"]["state"] == thin["head"]["state"]


def test_the_shelf_knows_the_source_and_whether_it_went_on_and_names_are_their_own(
    api: Api, workspace: Workspace, clip: dict, heron: Take
) -> None:
    smooth = api.apply(clip, "unflip")
    (one,), (two,) = (retargeted(api, smooth, [heron]) for _ in range(2))
    assert two["name"] == f"{one['name']}, 2"

    def shelf() -> dict[str, dict]:
        takes = api.get(f"workspaces/{workspace.pk}/takes").json()
        return {t["name"]: t for t in takes}

    source = shelf()[clip["take_name"]]
    assert source["now"]["revision"] == 2
    assert source["now"]["keys"] == smooth["head"]["keys"]
    assert source["source"] is None
    came = shelf()[one["name"]]["source"]
    assert came == {"take": source["id"], "name": clip["name"], "behind": False}
    api.apply(smooth, "smooth")
    assert shelf()[one["name"]]["source"]["behind"] is True
    assert shelf()["Heron"]["now"] is None


def test_what_was_mapped_by_hand_is_kept_for_the_pair(api: Api, clip: dict, heron: Take) -> None:
    body = {"revision": clip["head"]["id"], "target": heron.pk}
    first = api.post(f"clips/{clip['id']}/map", body).json()
    by_target = {x["target"]: x for x in first["links"]}
    assert by_target["LeftWrist"]["sources"] == ["LeftHand"]
    assert by_target["LeftWrist"]["word"] == "sure"
    assert by_target["SpineC"]["how"] == "chain"
    assert first["source"]["is_pose"]
    assert first["target"]["is_pose"]
    assert "LeftPalm" in first["unused"]

    retargeted(api, clip, [heron], joints={"Head": ""}, rest={"LeftUpArm": [0, 0, 5]})
    again = api.post(f"clips/{clip['id']}/map", body).json()
    assert again["joints"] == {"Head": ""}
    assert again["rest"] == {"LeftUpArm": [0, 0, 5]}
    head = next(x for x in again["links"] if x["target"] == "Head")
    assert head["word"] == "follows"
    # What is being tried is answered without being kept.
    tried = api.post(f"clips/{clip['id']}/map", {**body, "joints": {}}).json()
    assert next(x for x in tried["links"] if x["target"] == "Head")["word"] != "follows"
    wrong = api.post(f"clips/{clip['id']}/map", {**body, "joints": {"Nobody": "Head"}})
    assert wrong.status_code == 422
    assert "Nobody" in wrong.json()["detail"]


def test_a_preview_shows_the_target_s_poses_and_saves_nothing(
    api: Api, clip: dict, wren: Take
) -> None:
    body = {"revision": clip["head"]["id"], "target": wren.pk, "params": {"feet": 0.0}}
    got = api.post(f"clips/{clip['id']}/retarget/preview/whole", body)
    made = arrays(got)
    assert made["rotation"].shape == (clip["frames"], 52, 4)
    assert about(got)["figure"]["up_axis"] == "z"
    assert about(got)["report"]["mapped"] == 52
    assert not Retargeted.objects.exists()
    assert Clip.objects.count() == 1


def test_bad_wishes_are_refused_in_one_sentence(api: Api, clip: dict, heron: Take) -> None:
    ask = {"revision": clip["head"]["id"], "targets": [heron.pk]}
    for params, said in (
        ({"feet": 2.0}, "feet"),
        ({"travel": "by magic"}, "travel"),
        ({"thing": 1e300}, "thing"),
        ({"nonsense": 1}, "nonsense"),
    ):
        refused = api.post(f"clips/{clip['id']}/retarget", {**ask, "params": params})
        assert refused.status_code == 422, params
        assert said in refused.json()["detail"]
    assert not Job.objects.filter(kind="retarget").exists()
    gone = api.post(f"clips/{clip['id']}/retarget", {**ask, "targets": [10**9]})
    assert gone.status_code == 404


def test_the_skeleton_stays_as_long_as_a_clip_is_retargeted_onto_it(
    api: Api, clip: dict, heron: Take
) -> None:
    from datetime import timedelta

    (made,) = retargeted(api, clip, [heron])
    state = heron.state_id
    storage.forget_take(heron)
    sweep(timedelta(0))
    assert State.objects.filter(pk=state).exists()
    line = made["head"]["recipe"][1]
    edit = {
        "line_id": line["line_id"], "operation": "retarget",
        "params": {"clavicles": 0.5}, "inputs": line["inputs"],
    }  # fmt: skip
    assert api.write(made, edit=edit).status_code == 200
    storage.forget_clip(Clip.objects.get(pk=made["id"]))
    Take.objects.filter(retargeted__isnull=False).delete()
    sweep(timedelta(0))
    assert not State.objects.filter(pk=state).exists()


def test_a_job_taken_up_again_makes_one_clip(api: Api, clip: dict, heron: Take) -> None:
    body = {"revision": clip["head"]["id"], "targets": [heron.pk]}
    (job,) = api.post(f"clips/{clip['id']}/retarget", body).json()
    kinds.run(job["id"])
    Job.objects.filter(pk=job["id"]).update(state="running")
    kinds.run(job["id"])
    assert Take.objects.filter(retargeted__isnull=False).count() == 1
    made = Clip.objects.get(take__retargeted__isnull=False)
    assert made.revisions.count() == 2


def test_a_retargeted_clip_is_delivered_and_read_back(api: Api, clip: dict, wren: Take) -> None:
    (made,) = retargeted(api, api.apply(clip, "unflip"), [wren], plant=True)
    assert made["plants"]
    document = document_of(made)
    assert document.reading.up_axis == "z"
    back = read_take(write_clip(document), "back.json").clip
    assert back.skeleton == document.skeleton
    assert back.plants == document.plants


def test_many_takes_are_retargeted_onto_one_skeleton(
    api: Api, workspace: Workspace, take: Take, clip: dict, short_file: bytes, heron: Take
) -> None:
    other = brought_in(workspace, "second.bvh", short_file)
    smooth = api.apply(clip, "unflip")
    body = {"takes": [take.pk, other.pk], "target": heron.pk, "params": {"plant": True}}
    started = api.post(f"workspaces/{workspace.pk}/retarget", body)
    assert started.status_code == 200, started.content
    listed = api.get(f"workspaces/{workspace.pk}/jobs?kind=retarget").json()
    assert [j["state"] for j in listed] == ["queued", "queued"]
    for job in started.json():
        kinds.run(job["id"])
    made = Retargeted.objects.select_related("source").order_by("pk")
    assert [m.source.clip.take_id for m in made if m.source] == [take.pk, other.pk]
    # What was last worked on, not the capture, where somebody did.
    assert made[0].source_id == smooth["head"]["id"]
    assert api.get(f"clips/{clip['id']}/retargeted").json()[0]["current"]
    gone = api.post(f"workspaces/{workspace.pk}/retarget", {**body, "takes": [10**9]})
    assert gone.status_code == 422


def test_parts_of_another_clip_are_brought_over_as_a_line_and_previewed(
    api: Api, workspace: Workspace, take: Take, clip: dict, heron: Take
) -> None:
    """One arm of the suit's walk in a range of what was retargeted onto Heron before."""
    (made,) = retargeted(api, clip, [heron])
    wanted = {
        "operation": "bring_over",
        "params": {"at": 10, "start": 40},
        "scope": {"groups": ["left arm"], "frames": [10, 60]},
    }
    asked = {**wanted, "revision": made["head"]["id"], "joints": ["LeftUpArm"]}
    refused = api.post(f"clips/{made['id']}/preview", asked)
    assert refused.status_code == 422
    assert "choose a clip to bring parts of" in refused.json()["detail"]
    inputs = {"source": clip["head"]["state"]}
    shown = api.post(f"clips/{made['id']}/preview", {**asked, "inputs": inputs})
    assert shown.status_code == 200, shown.content
    joint = [j["name"] for j in made["joints"]].index("LeftUpArm")
    assert {n.rsplit("/", 1)[0] for n in arrays(shown)} >= {f"base/{joint}/ry"}
    whole = api.post(f"clips/{made['id']}/preview/whole", {**asked, "inputs": inputs})
    assert about(whole)["report"]["frames"] == 51
    done = api.write(made, append={**wanted, "inputs": inputs})
    assert done.status_code == 200, done.content
    after = done.json()
    assert after["head"]["recipe"][-1]["inputs"] == inputs
    changed = document_of(after)
    before = document_of(made)
    same = [t for t in before.curves if changed.curves[t] is before.curves[t]]
    arm = before.body.groups["left arm"]
    assert {t.joint for t in before.curves if t not in set(same)} == set(arm)


def test_lines_that_were_kept_under_its_older_name_are_retargetings(db: None) -> None:
    line = {"line_id": "a", "operation": "carry", "version": 1, "params": {}, "scope": {}}
    (told,) = kept_lines(keep_lines([line]))
    assert told == {**line, "operation": "retarget"}
