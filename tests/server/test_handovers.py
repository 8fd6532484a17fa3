"""A day delivered at once: presets, a job for each clip, reports, one zip; and copies put out."""

from __future__ import annotations

import hashlib
import html
import io
import json
import zipfile
from pathlib import Path
from typing import Any

import pytest
from api import deliveries
from delivery import deliver
from delivery.models import Delivery, Handover
from django.db import connection
from django.test.utils import CaptureQueriesContext
from editing.models import Clip
from leancurve.errors import BadInput
from leancurve.formats.files import read_takes
from library import jobs, kinds
from library.intake import store_take
from library.models import Job, StoredFile, Workspace

from tests.made import looked_at
from tests.server.conftest import Api
from tests.server.test_deliveries import body

SPLINES, USD, BVH, TOGETHER = -2, -3, 0, -7


@pytest.fixture
def clips(api: Api, clip: dict, workspace: Workspace, short_file: bytes) -> list[dict]:
    """The take's clip and two more, of takes of their own."""
    out = [clip]
    for name in ("second", "third"):
        file = StoredFile.objects.create(
            workspace=workspace, name=f"{name}.bvh", data=short_file, size=len(short_file)
        )
        take = store_take(workspace, file, looked_at(short_file, "take.bvh"), name)
        out.append(api.post(f"takes/{take.pk}/clip").json())
    return out


def hand_over(
    api: Api, workspace: Workspace, clips: list[dict], *presets: int, **more: Any
) -> dict:
    asked = {"takes": [c["take"] for c in clips], "presets": list(presets), **more}
    answer = api.post(f"workspaces/{workspace.pk}/handovers", asked)
    assert answer.status_code == 200, answer.content
    run_all()
    return api.get(f"handovers/{answer.json()['id']}").json()


def run_all() -> None:
    for job in Job.objects.filter(state="queued").order_by("pk"):
        kinds.run(job.pk)


def test_presets_are_kept_by_name_beside_those_that_come_along(
    api: Api, workspace: Workspace
) -> None:
    path = f"workspaces/{workspace.pk}/presets"
    coming = api.get(path).json()
    assert {p["id"] for p in coming} == set(range(0, -8, -1))
    values = {"format": "glb", "root": "floor", "without": ["ends"]}
    kept = api.call("PUT", f"{path}/Engine", {"values": values}).json()
    assert kept["values"]["without"] == ["ends"]
    again = api.call("PUT", f"{path}/Engine", {"values": {"format": "usda"}}).json()
    assert again["id"] == kept["id"]
    assert next(p["name"] for p in api.get(path).json()) == "Engine"
    wrong = api.call("PUT", f"{path}/Engine", {"values": {"format": "xls"}})
    assert (wrong.status_code, "format" in wrong.json()["detail"]) == (422, True)
    assert api.call("PUT", f"{path}/USD", {"values": values}).status_code == 422
    assert api.call("DELETE", f"presets/{kept['id']}").status_code == 204
    assert len(api.get(path).json()) == len(coming)


def test_several_clips_go_out_in_several_forms_at_once(
    api: Api, clips: list[dict], workspace: Workspace
) -> None:
    done = hand_over(api, workspace, clips, BVH, USD)
    assert [c["state"] for c in done["clips"]] == ["done"] * 3
    names = [f["file_name"] for c in done["clips"] for f in c["files"]]
    assert [n.rpartition(".")[2] for n in names] == ["bvh", "usdc"] * 3
    assert len(set(names)) == 6
    for row in done["clips"]:
        for file in row["files"]:
            assert file["report"]["max_drift_mm"] < 0.01
            assert file["changed"] == []
            data = api.get(f"deliveries/{file['id']}/file").content
            assert hashlib.sha256(data).hexdigest() == file["report"]["sha256"]
    told = api.get(f"workspaces/{workspace.pk}/handovers").json()
    assert [(h["number"], h["clips"], h["open"], h["failed"]) for h in told] == [(1, 3, 0, 0)]


def test_the_zip_holds_files_reports_and_what_they_are(
    api: Api, clips: list[dict], workspace: Workspace
) -> None:
    done = hand_over(api, workspace, clips[:2], BVH)
    first = api.get(f"handovers/{done['id']}/zip").content
    assert api.get(f"handovers/{done['id']}/zip").content == first
    with zipfile.ZipFile(io.BytesIO(first)) as file:
        assert file.testzip() is None
        told = json.loads(file.read("manifest.json"))
        assert [c["clip"] for c in told["clips"]] == [c["name"] for c in done["clips"]]
        for clip in told["clips"]:
            (one,) = clip["files"]
            assert hashlib.sha256(file.read(one["name"])).hexdigest() == one["sha256"]
            assert read_takes(file.read(one["name"]), "x.bvh")[0].clip.frames == one["frames"]
            assert clip["take"]["sha256"]
            assert len(clip["recipe"]) == 1
            assert file.read(clip["report"]).startswith(b"<!doctype html>")
        assert len(file.namelist()) == 1 + 2 * 3


def test_what_has_not_changed_is_not_delivered_again(
    api: Api, clips: list[dict], workspace: Workspace
) -> None:
    hand_over(api, workspace, clips[:2], BVH)
    changed = api.apply(clips[0], "unflip")
    listed = api.get(f"clips/{changed['id']}/deliveries").json()
    assert [(d["delivery"], len(d["changed"])) for d in listed] == [(1, 1)]
    again = hand_over(api, workspace, clips, BVH)
    states = [(c["state"], c["unchanged"]) for c in again["clips"]]
    assert states == [("done", None), ("unchanged", 1), ("done", None)]
    assert again["clips"][0]["files"][0]["file_name"].endswith("_v002.bvh")
    # In another form it is new, and it can be asked for again.
    other = hand_over(api, workspace, clips[1:2], USD)
    assert other["clips"][0]["state"] == "done"
    forced = hand_over(api, workspace, clips[1:2], BVH, again=True)
    assert forced["clips"][0]["files"][0]["file_name"].endswith("_v002.bvh")
    # A step undone, another made: what was delivered is not a part of it any more.
    back = api.post(f"clips/{changed['id']}/undo", {"revision": changed["head"]["id"]}).json()
    api.apply(back, "smooth")
    listed = api.get(f"clips/{changed['id']}/deliveries").json()
    assert [d["changed"] and len(d["changed"]) for d in listed] == [None, 1]


def test_all_clips_on_a_skeleton_go_into_one_file(
    api: Api, clips: list[dict], workspace: Workspace
) -> None:
    """The first one's file holds them all, each is proven, and the others say where they are."""
    done = hand_over(api, workspace, clips, TOGETHER, BVH)
    lead, *others = done["clips"]
    assert [c["state"] for c in done["clips"]] == ["done"] * 3
    (file,) = (f for f in lead["files"] if f["file_name"].endswith(".glb"))
    assert "_and_2_more_v001" in file["file_name"]
    assert file["report"]["clips"] == [c["name"] for c in done["clips"]]
    data = api.get(f"deliveries/{file['id']}/file").content
    back = read_takes(data, "x.glb")
    assert [t.clip.name for t in back] == [c["name"] for c in done["clips"]]
    assert file["report"]["frames"] == sum(t.clip.frames for t in back)
    for row in others:
        assert [f["file_name"].rpartition(".")[2] for f in row["files"]] == ["bvh"]
        assert row["inside"] == [
            {
                "name": file["file_name"],
                "clip": lead["name"],
                "handed": lead["id"],
                "file": file["id"],
            }
        ]
        page = api.get(f"handed/{row['id']}/report").content.decode()
        assert html.escape(f"also in {file['file_name']}, a file of {lead['name']}") in page
    with zipfile.ZipFile(io.BytesIO(api.get(f"handovers/{done['id']}/zip").content)) as packed:
        told = json.loads(packed.read("manifest.json"))["clips"]
    assert told[1]["inside"] == [f"files/{file['file_name']}"]
    # None is made again while all are as they were; when one has changed the file is another.
    only = hand_over(api, workspace, clips, TOGETHER)
    assert {c["state"] for c in only["clips"]} == {"unchanged"}
    api.apply(clips[2], "unflip")
    again = hand_over(api, workspace, clips, TOGETHER)
    assert [len(c["files"]) for c in again["clips"]] == [1, 0, 0]
    assert again["clips"][0]["files"][0]["file_name"].endswith("_and_2_more_v002.glb")


def test_how_far_a_clip_of_several_files_is_never_goes_back(
    api: Api, clips: list[dict], workspace: Workspace
) -> None:
    asked = {"takes": [clips[0]["take"]], "presets": [BVH, USD, TOGETHER]}
    api.post(f"workspaces/{workspace.pk}/handovers", asked)
    told: list[float] = []
    deliver.deliver(Job.objects.get(state="queued"), told.append)
    assert told == sorted(told)
    assert max(told) <= 1.0


def test_the_list_of_deliveries_reads_no_report(
    api: Api, clips: list[dict], workspace: Workspace
) -> None:
    hand_over(api, workspace, clips[:2], BVH)
    with CaptureQueriesContext(connection) as asked:
        api.get(f"workspaces/{workspace.pk}/handovers")
        api.get(f"clips/{clips[0]['id']}/deliveries")
    assert not [q["sql"] for q in asked if '"delivery_handed"."report",' in q["sql"]]


def test_a_clip_that_ends_while_one_asks_is_not_told_without_its_files(
    api: Api, clips: list[dict], workspace: Workspace, monkeypatch: pytest.MonkeyPatch
) -> None:
    asked = {"takes": [clips[0]["take"]], "presets": [BVH]}
    started = api.post(f"workspaces/{workspace.pk}/handovers", asked).json()
    whole = deliveries._listed

    def ends(found: Any) -> Any:
        out = whole(found)
        run_all()
        return out

    monkeypatch.setattr(deliveries, "_listed", ends)
    (row,) = api.get(f"handovers/{started['id']}").json()["clips"]
    assert (row["state"] == "done") == bool(row["files"])
    monkeypatch.undo()
    (row,) = api.get(f"handovers/{started['id']}").json()["clips"]
    assert (row["state"], len(row["files"])) == ("done", 1)


def test_a_clip_that_fails_stops_no_other(
    api: Api, clips: list[dict], workspace: Workspace, monkeypatch: pytest.MonkeyPatch
) -> None:
    whole = deliver.made_together

    def some(stretches: Any, preset: Any, *more: Any) -> Any:
        if preset.format == "usdc":
            raise BadInput("this cannot be made")
        return whole(stretches, preset, *more)

    monkeypatch.setattr(deliver, "made_together", some)
    done = hand_over(api, workspace, clips[:1], BVH, USD)
    (row,) = done["clips"]
    assert row["state"] == "done"
    assert [f["file_name"].rpartition(".")[2] for f in row["files"]] == ["bvh"]
    assert [(r["name"].rpartition(".")[2], r["why"]) for r in row["refused"]] == [
        ("usdc", "this cannot be made")
    ]
    none = hand_over(api, workspace, clips, USD)
    assert [c["state"] for c in none["clips"]] == ["failed"] * 3
    assert "this cannot be made" in none["clips"][0]["message"]
    assert Delivery.objects.count() == 1


def test_a_clip_that_cannot_be_delivered_so_stops_no_other(
    api: Api, clips: list[dict], workspace: Workspace
) -> None:
    """A file for each named span: one of three clips has some."""
    span = {"do": "add", "first": 10, "last": 60, "name": "turn"}
    api.apply(clips[1], "edit_marks", edits=[span])
    values = {"values": {"format": "bvh", "files": "marks"}}
    spans = api.call("PUT", f"workspaces/{workspace.pk}/presets/Spans", values).json()
    done = hand_over(api, workspace, clips, spans["id"], USD)
    states = [(c["state"], len(c["files"]), len(c["refused"])) for c in done["clips"]]
    assert states == [("done", 1, 1), ("done", 2, 0), ("done", 1, 1)]
    assert "no named span" in done["clips"][0]["refused"][0]["why"]
    assert "_turn_v001.bvh" in done["clips"][1]["files"][0]["file_name"]
    none = hand_over(api, workspace, clips, spans["id"], again=True)
    assert [c["state"] for c in none["clips"]] == ["failed", "done", "failed"]
    assert "no named span" in none["clips"][0]["message"]


def test_what_waits_can_be_cancelled_and_a_stopped_share_is_made_once(
    api: Api, clips: list[dict], workspace: Workspace
) -> None:
    asked = {"takes": [c["take"] for c in clips], "presets": [BVH]}
    started = api.post(f"workspaces/{workspace.pk}/handovers", asked).json()
    first, *others = Job.objects.filter(kind="deliver").order_by("pk")
    kinds.run(first.pk)
    stopped = api.post(f"handovers/{started['id']}/cancel").json()
    assert [c["state"] for c in stopped["clips"]] == ["done", "cancelled", "cancelled"]
    # A worker that was stopped after it had written begins again: nothing is there twice.
    Job.objects.filter(pk=first.pk).update(state="queued")
    kinds.run(first.pk)
    assert Delivery.objects.count() == 1
    assert len(others) == 2


def test_the_report_says_what_was_done_and_needs_nothing_beside_it(
    api: Api, clips: list[dict], workspace: Workspace
) -> None:
    clip = api.apply(clips[0], "unflip")
    clip = api.apply(clip, "thin", tolerance_deg=0.5)
    done = hand_over(api, workspace, [clip], SPLINES)
    (row,) = done["clips"]
    told = api.get(f"handed/{row['id']}/report?form=json").json()
    assert told["keys"]["before"] > 10 * told["keys"]["after"] > 0
    assert [x["kind"] for x in told["lines"]][1:] == ["continuity", "thin"]
    assert sum(told["findings"]["before"].values()) > sum(told["findings"]["after"].values())
    assert len(told["plots"]["seconds"]) == len(told["plots"]["change_mm"])
    assert 0.0 < max(told["plots"]["change_mm"]) < 30.0
    assert len(told["poses"]["figures"]) == 6
    assert told["files"][0]["sha256"] == row["files"][0]["report"]["sha256"]
    answer = api.get(f"handed/{row['id']}/report")
    page = answer.content.decode()
    for text in (clip["name"], "mate", "Findings", "Keys a second", told["take"]["sha256"]):
        assert text in page
    for outside in ("http://", "https://", "<script", "<img", "<link", "url("):
        assert outside not in page
    assert "'none'" in answer["Content-Security-Policy"]


def test_a_report_after_a_whole_recipe_says_what_each_line_left(
    api: Api, clips: list[dict], workspace: Workspace
) -> None:
    asked = {"recipe": 0, "takes": [clips[0]["take"]]}
    assert api.post(f"workspaces/{workspace.pk}/batches", asked).status_code == 200
    run_all()
    (row,) = hand_over(api, workspace, clips[:1], BVH)["clips"]
    assert row["state"] == "done", row["message"]
    told = api.get(f"handed/{row['id']}/report?form=json").json()
    assert len(told["lines"]) > 4
    assert told["lines"][0]["keys"] == told["keys"]["before"]
    assert told["lines"][-1]["keys"] == told["keys"]["after"] == row["keys"]
    page = api.get(f"handed/{row['id']}/report").content.decode()
    for line in told["lines"]:
        assert html.escape(line["told"]) in page


def test_names_in_a_report_are_text(api: Api, clips: list[dict], workspace: Workspace) -> None:
    Clip.objects.filter(pk=clips[0]["id"]).update(name="<script>alert(1)</script>")
    (row,) = hand_over(api, workspace, clips[:1], BVH)["clips"]
    page = api.get(f"handed/{row['id']}/report").content.decode()
    assert "<script" not in page
    assert "&lt;script&gt;" in page


def test_a_copy_goes_to_the_output_folder_and_nowhere_else(
    api: Api, clips: list[dict], workspace: Workspace, tmp_path: Path, settings: Any
) -> None:
    settings.OUTPUT_FOLDER = str(tmp_path / "out")
    path = f"workspaces/{workspace.pk}/presets"
    inside = api.call(
        "PUT", f"{path}/Inside", {"values": {"format": "bvh", "folder": "engine/day 3"}}
    ).json()
    outside = api.call(
        "PUT", f"{path}/Outside", {"values": {"format": "bvh", "folder": "../elsewhere"}}
    ).json()
    (row,) = hand_over(api, workspace, clips[:1], inside["id"], outside["id"])["clips"]
    good, bad = row["files"]
    put = tmp_path / "out/engine/day 3" / good["file_name"]
    assert hashlib.sha256(put.read_bytes()).hexdigest() == good["report"]["sha256"]
    assert good["report"]["put_out"] == f"engine/day 3/{good['file_name']}"
    assert "within the output folder" in bad["report"]["not_put_out"]
    assert [p.name for p in tmp_path.iterdir()] == ["out"]
    with pytest.raises(BadInput):
        deliver.within(tmp_path, "/etc")


def test_a_delivery_that_an_older_version_left_in_the_queue_is_made(
    api: Api, clips: list[dict], workspace: Workspace
) -> None:
    payload = {
        "revision": clips[0]["head"]["id"], "format": "bvh", "rate": [60, 1], "first": 0,
        "last": 20, "pattern": "{character}_v{version}", "character": "wren", "action": "x",
        "version": 2, "props": False,
    }  # fmt: skip
    job = jobs.start(workspace, "deliver", "wren_v2.bvh", payload)
    kinds.run(job.pk)
    assert Delivery.objects.get().file_name == "wren_v2.bvh"
    assert Handover.objects.get().number == 1


def test_what_is_not_ones_own_is_not_there(
    api: Api, clips: list[dict], workspace: Workspace, user: Any
) -> None:
    other = Workspace.objects.create(name="Others")
    handover = Handover.objects.create(workspace=other, number=1)
    assert api.get(f"handovers/{handover.pk}").status_code == 404
    assert api.get(f"handovers/{handover.pk}/zip").status_code == 404
    refused = api.post(f"workspaces/{workspace.pk}/handovers", {"takes": [9999], "presets": [0]})
    assert refused.status_code == 422
    no = {"takes": [clips[0]["take"]], "presets": [9999]}
    assert "preset 9999" in api.post(f"workspaces/{workspace.pk}/handovers", no).json()["detail"]
    # A look at what would be made changes nothing, so a viewer may have it.
    user.memberships.update(role="viewer")
    plan = f"clips/{clips[0]['id']}/deliveries/plan"
    assert api.post(plan, body(clips[0])).status_code == 200
    assert api.post(f"clips/{clips[0]['id']}/deliveries", body(clips[0])).status_code == 403
