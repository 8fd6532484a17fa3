"""Findings, contacts, the body and orders of a clip, through HTTP."""

from __future__ import annotations

from documents.models import Inspection, State
from leancurve.measures.findings import VERSION
from library.intake import inspect_missing
from library.models import Job, Profile, Take

from tests.server.conftest import Api


def of(api: Api, clip: dict, what: str, rest: str = "") -> dict:
    return api.get(f"clips/{clip['id']}/{what}?revision={clip['head']['id']}{rest}").json()


def kinds(found: dict) -> set[str]:
    return {f["kind"] for f in found["findings"] if not f["accepted"]}


def test_findings_are_listed_and_gone_after_their_remedy(api: Api, clip: dict) -> None:
    before = of(api, clip, "findings")
    assert {"alternate", "spike", "idle"} <= kinds(before)
    clip = api.apply(clip, "unflip")
    after = of(api, clip, "findings")
    assert not {"wrap", "alternate"} & kinds(after)
    assert after["work"] < before["work"]
    calmed = of(api, api.apply(clip, "despike"), "findings")
    assert "spike" not in kinds(calmed)


def test_a_state_is_inspected_once(api: Api, clip: dict) -> None:
    of(api, clip, "findings")
    count = Inspection.objects.count()
    of(api, clip, "findings")
    assert Inspection.objects.count() == count


def test_every_kind_leads_to_a_step_and_says_what_it_means(api: Api) -> None:
    listed = api.get("findings/kinds").json()
    assert [k["name"] for k in listed][:2] == ["calibration pose", "gap"]
    assert {k["step"] for k in listed} <= {"inspect", "unflip", "calm", "plant", "balance", "shape"}
    assert all(k["meaning"] and k["plural"] for k in listed)


def test_what_is_meant_stays_so_through_later_changes_and_counts_no_more(
    api: Api, clip: dict, take: Take
) -> None:
    found = of(api, clip, "findings")["findings"]
    spike = next(f for f in found if f["kind"] == "spike")
    meant = {k: spike[k] for k in ("kind", "joint", "channel", "first", "last")}
    clip = api.apply(clip, "accept", findings=[meant])
    idle = [f for f in found if f["kind"] == "idle"][:2]
    for f in idle:
        clip = api.apply(clip, "accept", findings=[
            {k: f[k] for k in ("kind", "joint", "channel", "first", "last")}
        ])  # fmt: skip
    # Acceptances in a row are one line of the recipe.
    assert [line["operation"] for line in clip["head"]["recipe"]] == ["read", "accept"]
    assert clip["head"]["cause"] == "Accept 1 finding"
    clip = api.apply(clip, "unflip")
    after = of(api, clip, "findings")["findings"]
    assert sum(f["accepted"] for f in after) == 3
    card = api.get(f"takes/{take.pk}").json()
    assert card["left"].get("spike", 0) == card["findings"]["spike"] - 1
    assert card["work"] > 0


def test_contacts_are_found_then_kept_as_they_are_set(api: Api, clip: dict) -> None:
    found = of(api, clip, "contacts")
    assert found["by_hand"] is False
    assert {c["limb"] for c in found["contacts"]} >= {"left heel", "left toe"}
    toe = next(c for c in found["contacts"] if c["limb"] == "left toe")
    edit = {"do": "set", **toe, "new_last": toe["last"] - 3}
    clip = api.apply(clip, "edit_contacts", edits=[edit])
    clip = api.apply(clip, "edit_contacts", edits=[{"do": "remove", **toe}])
    kept = of(api, clip, "contacts")
    assert kept["by_hand"] is True
    assert len(kept["contacts"]) == len(found["contacts"]) - 1
    assert [line["operation"] for line in clip["head"]["recipe"]] == ["read", "edit_contacts"]
    wrong = {"edits": [{"do": "add", "limb": "x", "first": 5, "last": 2}]}
    refused = api.write(clip, append={"operation": "edit_contacts", "params": wrong})
    assert refused.status_code == 422
    assert "before" in refused.json()["detail"]


def test_moving_a_contact_sends_no_poses_anew(api: Api, clip: dict) -> None:
    toe = next(c for c in of(api, clip, "contacts")["contacts"] if c["limb"] == "left toe")
    before = clip["head"]["id"]
    clip = api.apply(clip, "edit_contacts", edits=[{"do": "remove", **toe}])
    path = f"clips/{clip['id']}/poses?revision={clip['head']['id']}&since={before}"
    assert len(api.get(path).content) < 2000


def test_the_floor_can_be_set_in_the_reading(api: Api, clip: dict) -> None:
    assert of(api, clip, "contacts")["floor_set"] is False
    line = clip["head"]["recipe"][0]
    edit = {"line_id": line["line_id"], "operation": "read", "params": {"floor_mm": -40}}
    clip = api.write(clip, edit=edit).json()
    floor = of(api, clip, "contacts")
    assert floor["floor_set"] is True
    assert abs(floor["floor_mm"] + 40) < 1e-9


def test_roles_set_by_hand_are_kept_for_skeletons_of_the_family(
    api: Api, clip: dict, take: Take
) -> None:
    before = of(api, clip, "body")
    names = [j["name"] for j in clip["joints"]]
    assert before["joints"][names.index("LeftHand")]["role"] == "left hand"
    assert before["profile"] is None
    line = clip["head"]["recipe"][0]
    roles = {"LeftPalm": "helper"}
    edit = {"line_id": line["line_id"], "operation": "read", "params": {"roles": roles}}
    clip = api.write(clip, edit=edit).json()
    kept = api.call(
        "PUT", f"clips/{clip['id']}/profile",
        {"revision": clip["head"]["id"], "groups": {"lamp arm": ["RightUpperArm", "RightHand"]}},
    ).json()  # fmt: skip
    assert kept["joints"][names.index("LeftPalm")] == {
        "role": "helper", "confidence": 1.0, "source": "hand",
    }  # fmt: skip
    assert kept["own_groups"]["lamp arm"] == [
        names.index("RightUpperArm"),
        names.index("RightHand"),
    ]
    # Another take on the same skeleton, opened for the first time, knows it already.
    take.clips.all().update(head=None, tip=None)
    for old in take.clips.all():
        old.revisions.all().update(parent=None)
        old.delete()
    fresh = api.post(f"takes/{take.pk}/clip", {}).json()
    assert fresh["head"]["recipe"][0]["params"] == {"roles": roles}
    assert of(api, fresh, "body")["joints"][names.index("LeftPalm")]["source"] == "hand"
    assert Profile.objects.count() == 1
    wrong = api.call(
        "PUT", f"clips/{fresh['id']}/profile",
        {"revision": fresh["head"]["id"], "groups": {"g": ["Nobody"]}},
    )  # fmt: skip
    assert wrong.status_code == 422


def test_orders_are_rated_and_changing_them_leaves_the_poses(api: Api, clip: dict) -> None:
    clip = api.apply(clip, "unflip")
    hand = next(j for j, joint in enumerate(clip["joints"]) if joint["name"] == "LeftHand")
    (rated,) = of(api, clip, "orders", f"&joints={hand}")
    assert len(rated["ratings"]) == 6
    assert [r["strain"] for r in rated["ratings"]] == sorted(r["strain"] for r in rated["ratings"])
    changed = api.write(clip, append={
        "operation": "reorder", "params": {"order": "XYZ"}, "scope": {"joints": ["LeftHand"]}
    }).json()  # fmt: skip
    assert changed["joints"][hand]["channels"] == ["rx", "ry", "rz"]
    drift = of(api, changed, "drift")
    assert drift["max_deg"] < 1e-6


def test_each_line_of_a_recipe_says_what_it_did(api: Api, clip: dict) -> None:
    clip = api.apply(clip, "unflip")
    clip = api.apply(clip, "trim", first=20, last=150, calibration=False)
    clip = api.apply(clip, "thin", tolerance_deg=0.5)
    lines = of(api, clip, "recipe")
    assert [line["told"] for line in lines] == [
        "Read the take", "Unflip", "Trim to 20 – 150", "Thin within 0.5°",
    ]  # fmt: skip
    assert lines[2]["report"]["frames_after"] < lines[2]["report"]["frames_before"]
    assert lines[3]["keys"] == clip["head"]["keys"] < lines[2]["keys"]


def test_a_preview_counts_the_findings_that_would_be_left(api: Api, clip: dict) -> None:
    from tests.server.test_clips import about

    asked = {"revision": clip["head"]["id"], "operation": "drop_idle"}
    left = about(api.post(f"clips/{clip['id']}/preview/whole", asked))["findings"]
    assert "idle" not in left
    assert left["alternate"] > 0


def test_takes_from_before_the_detectors_are_inspected_by_a_job_once(api: Api, take: Take) -> None:
    Inspection.objects.all().delete()
    api.get(f"workspaces/{take.workspace_id}/takes")
    api.get(f"workspaces/{take.workspace_id}/takes")
    (job,) = Job.objects.filter(kind="inspect")
    from library import kinds

    kinds.run(job.pk)
    job.refresh_from_db()
    assert job.result["work"] > 0
    inspect_missing([take])
    assert Job.objects.filter(kind="inspect").count() == 1


def test_whose_inspection_failed_is_not_asked_for_again_however_many_there_are(take: Take) -> None:
    """A shelf of 1,200 takes without findings: each is queued once, and failed stays failed."""
    states, shelf = [], []
    for k in range(1_200):
        states.append(State(hash=f"{k:064x}", header=take.state.header, manifest=b"", keys=0))
        shelf.append(Take(pk=10**6 + k, workspace=take.workspace, name="x", state=states[-1]))
    State.objects.bulk_create(states)
    failed = Job.State.FAILED
    Job.objects.bulk_create(
        Job(workspace=take.workspace, kind="inspect", title="x", state=failed,
            payload={"take": t.pk, "version": VERSION})
        for t in shelf
    )  # fmt: skip
    inspect_missing(shelf)
    assert Job.objects.filter(kind="inspect").count() == 1_200
    Job.objects.filter(payload__take=shelf[-1].pk).update(payload={"take": 1, "version": VERSION})
    inspect_missing(shelf)
    assert Job.objects.filter(kind="inspect", state=Job.State.QUEUED).count() == 1
