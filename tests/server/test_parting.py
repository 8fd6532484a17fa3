"""Spans of a clip as clips of their own, loops asked for, and what plays backwards undone."""

from __future__ import annotations

import uuid

import numpy as np
from django.contrib.auth.models import User
from documents.store import load_clip
from editing.history import open_clip
from editing.models import Clip, Revision
from leancurve.document.clip import Clip as Document
from leancurve.document.evaluation import evaluate
from library import kinds
from library.models import Job, Take, Workspace
from safetensors.numpy import load

from tests.server.conftest import Api, about


def document(clip: dict) -> Document:
    return load_clip(Revision.objects.get(pk=clip["head"]["id"]).state)


def split(api: Api, clip: dict, request: uuid.UUID, *spans: tuple[int, int]) -> list[dict]:
    asked = {
        "revision": clip["head"]["id"],
        "request_id": str(request),
        "spans": [{"first": a, "last": b} for a, b in spans],
    }
    answer = api.post(f"clips/{clip['id']}/parts", asked)
    assert answer.status_code == 200, answer.content
    return [api.get(f"clips/{made['clip']}").json() for made in answer.json()]


def test_a_clip_is_split_in_two_that_go_their_own_ways(api: Api, clip: dict) -> None:
    whole = document(clip)
    now, end = 60, whole.frames - 1
    request = uuid.uuid4()
    one, two = split(api, clip, request, (0, now), (now, end))
    for made, first, last in ((one, 0, now), (two, now, end)):
        here = document(made)
        assert here.frames == last - first + 1
        assert np.array_equal(evaluate(here).rotation, evaluate(whole).rotation[first : last + 1])
        assert made["name"] == f"{clip['name']}, {first} – {last}"
        assert [line["operation"] for line in made["head"]["recipe"]] == ["read", "trim"]
        assert made["retargeted"]["clip"] == clip["id"]
    again = split(api, clip, request, (0, now), (now, end))
    assert [c["id"] for c in again] == [one["id"], two["id"]], "asked twice, made once"
    assert api.get(f"clips/{clip['id']}").json()["head"] == clip["head"], "it stays as it is"
    api.write(two, append={"operation": "reverse", "params": {}})
    assert document(api.get(f"clips/{one['id']}").json()).frames == now + 1


def test_a_part_takes_over_what_its_clip_has_become(api: Api, clip: dict) -> None:
    (part,) = split(api, clip, uuid.uuid4(), (10, 50))
    assert part["retargeted"]["newest"] is None
    mirrored = api.write(clip, append={"operation": "mirror", "params": {}}).json()
    behind = api.get(f"clips/{part['id']}").json()
    assert behind["retargeted"]["newest"] == mirrored["head"]["id"]
    asked = {"revision": part["head"]["id"], "request_id": str(uuid.uuid4())}
    renewed = api.post(f"clips/{part['id']}/retarget/again", asked).json()
    there = evaluate(document(mirrored)).rotation[10:51]
    assert np.array_equal(evaluate(document(renewed)).rotation, there)


def test_frames_that_are_not_there_and_other_peoples_clips_are_refused(
    api: Api, clip: dict
) -> None:
    before = Clip.objects.count()
    asked = {"revision": clip["head"]["id"], "request_id": str(uuid.uuid4()),
             "spans": [{"first": 0, "last": 20}, {"first": 5, "last": 10**6}]}  # fmt: skip
    refused = api.post(f"clips/{clip['id']}/parts", asked)
    assert refused.status_code == 422
    assert "expected frames within 0 to" in refused.json()["detail"]
    assert Clip.objects.count() == before
    elsewhere = api.post(f"clips/{clip['id'] + 999}/parts", {**asked, "spans": asked["spans"][:1]})
    assert elsewhere.status_code == 404


def test_loops_are_asked_for_within_a_range(api: Api, clip: dict) -> None:
    last = document(clip).frames - 1
    base = f"clips/{clip['id']}/loops?revision={clip['head']['id']}"
    found = api.get(f"{base}&first=0&last={last}")
    assert found.status_code == 200, found.content
    for loop in found.json():
        assert 0 <= loop["first"] < loop["last"] <= last
        assert loop["distance_mm"] >= 0.0
    assert api.get(f"{base}&first=0&last={last + 1}").status_code == 422


def test_a_clip_played_backwards_comes_back_with_undo_and_knows_its_frames(
    api: Api, clip: dict
) -> None:
    end = document(clip).frames - 1
    there = api.write(clip, append={"operation": "reverse", "params": {}}).json()
    moved = {"since": clip["head"]["id"], "revision": there["head"]["id"], "frames": [0, 7, end]}
    frames = api.post(f"clips/{clip['id']}/moved", moved).json()["frames"]
    assert frames == [end, end - 7, 0]
    back = {"since": there["head"]["id"], "revision": clip["head"]["id"], "frames": [0, 7, end]}
    assert api.post(f"clips/{clip['id']}/moved", back).json()["frames"] == [end, end - 7, 0]
    undone = api.post(f"clips/{clip['id']}/undo", {"revision": there["head"]["id"]}).json()
    assert undone["head"]["state"] == clip["head"]["state"]


def test_travel_as_captured_uses_the_take(api: Api, clip: dict) -> None:
    still = api.write(clip, append={"operation": "travel", "params": {}}).json()
    assert still["head"]["report"]["most_moved_mm"] > 100.0
    again = {"operation": "travel", "params": {"way": "as captured"}}
    restored = api.write(still, append=again).json()
    gap = evaluate(document(restored)).translation - evaluate(document(clip)).translation
    assert np.abs(gap).max() < 1e-6


def test_what_a_clip_has_become_is_the_takes_next_version(api: Api, clip: dict, take: Take) -> None:
    """Others on the take are offered it, one by one or all; the clip itself is not."""
    user = User.objects.get(username="mate")
    others = [open_clip(take, user) for _ in range(3)]
    lain = api.get(f"clips/{others[0].pk}").json()
    trimmed = {"operation": "trim", "params": {"first": 5, "last": 40, "calibration": False}}
    api.write(lain, append=trimmed)
    mirrored = api.write(clip, append={"operation": "mirror", "params": {}}).json()
    asked = {"revision": mirrored["head"]["id"], "request_id": str(uuid.uuid4())}
    made = api.post(f"clips/{clip['id']}/version", asked).json()
    assert made["name"] == f"{take.name}, version 2"
    assert {c["clip"] for c in made["clips"]} == {c.pk for c in others}
    assert api.post(f"clips/{clip['id']}/version", asked).json() == made, "asked twice, made once"
    assert api.get(f"clips/{clip['id']}").json()["newer_take"] is None
    offered = api.get(f"clips/{others[0].pk}").json()["newer_take"]
    assert offered == {"id": made["take"], "name": made["name"]}

    swaps = f"takes/{made['take']}/version/swaps"
    one = {"clips": [others[0].pk], "request_id": str(uuid.uuid4())}
    left = api.post(swaps, one).json()
    assert {c["clip"] for c in left["clips"]} == {c.pk for c in others[1:]}
    swapped = document(api.get(f"clips/{others[0].pk}").json())
    there = evaluate(document(mirrored)).rotation[5:41]
    assert np.array_equal(evaluate(swapped).rotation, there), "its own lines stay on top"
    rest = {"clips": [c.pk for c in others[1:]], "request_id": str(uuid.uuid4())}
    assert api.post(swaps, rest).json()["clips"] == []
    assert api.post(swaps, rest).status_code == 422
    again = {"revision": api.get(f"clips/{others[1].pk}").json()["head"]["id"],
             "request_id": str(uuid.uuid4())}  # fmt: skip
    third = api.post(f"clips/{others[1].pk}/version", again).json()
    assert third["name"] == f"{take.name}, version 3"
    assert api.get(f"clips/{clip['id']}").json()["newer_take"]["id"] == third["take"]


def test_takes_are_joined_in_the_order_of_the_shelf(
    api: Api, clip: dict, take: Take, workspace: Workspace
) -> None:
    """As a clip of its own over the first one as it stands; asked for wrongly it leaves nothing."""
    trimmed = {"operation": "trim", "params": {"first": 5, "last": 90, "calibration": False}}
    api.write(clip, append=trimmed)
    (other,) = split(api, api.get(f"clips/{clip['id']}").json(), uuid.uuid4(), (10, 80))
    second = Clip.objects.get(pk=other["id"]).take
    asked = api.post(f"workspaces/{workspace.pk}/join", {"takes": [second.pk, take.pk]})
    assert asked.status_code == 200, asked.content
    kinds.run(asked.json()["id"])
    job = Job.objects.get(pk=asked.json()["id"])
    assert job.state == "done", job.message
    joined = api.get(f"clips/{job.result['clip']}").json()
    assert [x["operation"] for x in joined["head"]["recipe"]] == ["read", "join"]
    (seam,) = joined["head"]["report"]["seams"]
    assert seam["name"] == clip["name"]
    assert seam["count"] == 86
    assert joined["frames"] == seam["at"] - seam["enter"] + 86
    assert joined["retargeted"]["clip"] == other["id"]
    line = joined["head"]["recipe"][-1]
    now = {"operation": "mirror", "params": {}}
    api.write(api.get(f"clips/{clip['id']}").json(), append=now)
    api.write(joined, append={"operation": "reverse", "params": {}})
    again = api.get(f"clips/{joined['id']}").json()
    assert again["head"]["recipe"][1] == line, "the others are pinned as they stood"

    before = Take.objects.count()
    for takes, status in (([take.pk], 422), ([take.pk, 10**9], 422)):
        refused = api.post(f"workspaces/{workspace.pk}/join", {"takes": takes})
        assert refused.status_code == status
    assert Take.objects.count() == before


def test_all_pairs_of_a_seam_are_told_and_what_its_parts_were_taken_from(
    api: Api, clip: dict
) -> None:
    (part,) = split(api, clip, uuid.uuid4(), (10, 90))
    asked = {
        "revision": clip["head"]["id"],
        "params": {"parts": [{"name": part["name"]}]},
        "inputs": {"parts": [part["head"]["state"]]},
    }
    answer = api.post(f"clips/{clip['id']}/preview/seams", asked)
    assert answer.status_code == 200, answer.content
    arrays = load(answer.content)
    assert arrays["mm"].shape == (81, min(clip["frames"], 360))
    joints = len(clip["joints"])
    assert arrays["rotation"].shape == (81, joints, 4)
    assert arrays["before_rotation"].shape == (clip["frames"], joints, 4)
    # A piece of the clip itself lies on it, wherever it has enough frames for a blend.
    told = about(answer)
    assert (told["before"], told["frames"]) == (clip["frames"], 81)
    best = told["best"][0]
    assert best["leave"] - best["enter"] == 10
    assert best["distance_mm"] < 1.0
    beyond = api.post(f"clips/{clip['id']}/preview/seams", {**asked, "seam": 1})
    assert beyond.status_code == 422
    assert "there is no seam 2" in beyond.json()["detail"]
    for nothing in ({}, {"parts": []}):
        alone = api.post(
            f"clips/{clip['id']}/preview/seams", {**asked, "params": {}, "inputs": nothing}
        )
        assert alone.status_code == 422, nothing
        assert "choose the clips to join" in alone.json()["detail"]

    line = {"operation": "join", **{k: asked[k] for k in ("params", "inputs")}}
    joined = api.write(clip, append=line).json()
    path = f"clips/{clip['id']}/sources?revision={joined['head']['id']}"
    (source,) = api.get(path).json()
    assert (source["clip"], source["newest"]) == (part["id"], part["head"]["state"])
    changed = api.write(part, append={"operation": "mirror", "params": {}}).json()
    (source,) = api.get(path).json()
    assert source["state"] == part["head"]["state"]
    assert source["newest"] == changed["head"]["state"]
