"""Handles fitted again to keys that are kept; where frames lie after a change of time."""

from __future__ import annotations

import numpy as np
from documents.store import load_clip
from editing.models import Revision
from leancurve.document.clip import Clip as Document
from leancurve.document.evaluation import evaluate
from leancurve.numbers import rotation
from library import kinds
from library.models import Job, Workspace

from tests.server.conftest import Api


def document_of(clip: dict) -> Document:
    return load_clip(Revision.objects.get(pk=clip["head"]["id"]).state)


def taken_out(api: Api, clip: dict, joint: str, channel: str) -> dict:
    """Every second key of a channel taken out by hand."""
    document = document_of(clip)
    track = next(
        t for t in document.channels
        if document.skeleton.names[t.joint] == joint and t.name == channel
    )  # fmt: skip
    curve = document.curves[track]
    keys = [
        {"joint": joint, "channel": channel, "id": int(curve.id[k]), "do": "remove",
         "frame": float(curve.time[k]), "was": float(curve.value[k])}
        for k in range(1, curve.key_count - 1, 2)
    ]  # fmt: skip
    assert len(keys) > 2
    return api.apply(clip, "edit", keys=keys)


def test_keys_that_are_left_follow_what_was_thinned_again(api: Api, clip: dict) -> None:
    dense = api.apply(clip, "unflip")
    thin = api.apply(dense, "thin", tolerance_deg=0.5)
    fewer = taken_out(api, thin, "LeftThigh", "rx")
    body = {"revision": fewer["head"]["id"], "scope": {"only": [["LeftThigh", "rx"]]}}
    found = api.post(f"clips/{clip['id']}/refit", body)
    assert found.status_code == 200, found.content
    edits = found.json()["keys"]
    assert {(e["joint"], e["channel"]) for e in edits} == {("LeftThigh", "rx")}
    # Nothing was written: they are edits to be made.
    assert api.get(f"clips/{clip['id']}").json()["head"]["id"] == fewer["head"]["id"]
    fitted = api.apply(fewer, "edit", keys=edits)
    assert fitted["head"]["keys"] == fewer["head"]["keys"]

    truth = evaluate(document_of(dense)).rotation
    thigh = document_of(clip).skeleton.index("LeftThigh")

    def off(one: dict) -> float:
        ours = evaluate(document_of(one)).rotation[:, thigh]
        return float(np.sqrt(np.mean(rotation.geodesic_deg(ours, truth[:, thigh]) ** 2)))

    assert off(fitted) < 0.8 * off(fewer)


def test_only_the_keys_in_scope_change_and_a_changed_time_is_refused(api: Api, clip: dict) -> None:
    thin = api.apply(api.apply(clip, "unflip"), "thin", tolerance_deg=1.0)
    document = document_of(thin)
    track = next(t for t in document.channels if document.curves[t].key_count > 6 and t.turns)
    curve, joint = document.curves[track], document.skeleton.names[track.joint]
    key = [joint, track.name, int(curve.id[3]), float(curve.time[3])]
    body = {"revision": thin["head"]["id"], "scope": {"only": [key[:2]], "keys": [key]}}
    edits = api.post(f"clips/{clip['id']}/refit", body).json()["keys"]
    assert [e["id"] for e in edits] in ([key[2]], [])
    slower = api.apply(thin, "change_rate", rate="30")
    body = {"revision": slower["head"]["id"], "scope": {}}
    refused = api.post(f"clips/{clip['id']}/refit", body)
    assert refused.status_code == 422
    assert "time was changed" in refused.json()["detail"]


def test_frames_are_led_through_changes_of_time_and_back(api: Api, clip: dict) -> None:
    later = api.apply(clip, "insert_frames", after=20, count=10)
    slower = api.apply(later, "change_rate", rate="30")

    def moved(since: dict, to: dict, frames: list[int]) -> list[int | None]:
        body = {"since": since["head"]["id"], "revision": to["head"]["id"], "frames": frames}
        out: list[int | None] = api.post(f"clips/{clip['id']}/moved", body).json()["frames"]
        return out

    assert moved(clip, later, [0, 20, 21, 100]) == [0, 20, 31, 110]
    assert moved(clip, slower, [20, 40]) == [10, 25]
    # After an undo the way leads back; a frame that was new is no more.
    assert moved(later, clip, [20, 31, 25]) == [20, 21, None]
    same = api.apply(clip | {"head": slower["head"]}, "unflip")
    assert moved(slower, same, [7]) == [7]
    trimmed = api.apply(same, "trim", first=5, last=50, calibration=False)
    assert moved(same, trimmed, [3, 5, 50, 60]) == [None, 0, 45, None]
    # Each revision keeps its own step; those of older versions are looked at when they are asked.
    kept = Revision.objects.filter(clip=clip["id"]).order_by("number")
    maps = [r.time_map for r in kept]
    assert [bool(m) for m in maps[1:]] == [True, True, False, True]
    kept.update(time_map=None)
    assert moved(clip, trimmed, [20, 40]) == [5, 20]
    assert [r.time_map for r in kept.all()][1:] == maps[1:]


def test_frames_are_led_from_one_take_to_another_by_the_second(
    api: Api, clip: dict, workspace: Workspace, short_file: bytes
) -> None:
    """A take of the same frames at half the rate: a frame of the one is half of it there."""
    rate, slower = (f"Frame Time: {1 / r!r}".encode() for r in (60.0, 30.0))
    slow = short_file.replace(rate, slower)
    assert slow != short_file
    job = api.upload(workspace, slow__bvh=slow).json()["jobs"][0]
    kinds.run(job["id"])
    take = Job.objects.get(pk=job["id"]).result["take"]
    later = api.apply(clip, "insert_frames", after=20, count=10)
    swapped = api.write(later, swap=take).json()
    body = {"since": later["head"]["id"], "revision": swapped["head"]["id"], "frames": [0, 20, 50]}
    # The ten frames that were put in are as long in seconds: five of them here.
    assert api.post(f"clips/{clip['id']}/moved", body).json()["frames"] == [0, 10, 25]
    body = {"since": swapped["head"]["id"], "revision": later["head"]["id"], "frames": [10, 25]}
    assert api.post(f"clips/{clip['id']}/moved", body).json()["frames"] == [20, 50]
