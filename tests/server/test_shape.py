"""Hand work on the server: edits put together, the history jumped in, brushes with their take."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from documents.models import Blob
from documents.store import load_clip
from editing.models import Clip, Revision
from leancurve.document.track import base_track

from tests.server.conftest import Api
from tests.server.test_clips import head

pytestmark = pytest.mark.django_db

RY = base_track(0, "ry")


@pytest.fixture
def thin(api: Api, clip: dict) -> dict:
    out: dict = api.write(clip, append={"operation": "thin", "params": {}, "scope": {}}).json()
    return out


def key(**columns: Any) -> dict[str, Any]:
    return {"joint": "Hips", "channel": "ry", "do": "set", **columns}


def edit(api: Api, clip: dict, *keys: dict[str, Any]) -> dict:
    line = {"operation": "edit", "params": {"keys": list(keys)}, "scope": {}}
    out: dict = api.write(clip, append=line).json()
    return out


def lines(api: Api, clip: dict) -> list[dict]:
    out: list[dict] = api.get(f"clips/{clip['id']}/recipe?revision={clip['head']['id']}").json()
    return out


def first_keys(clip: dict) -> tuple[np.ndarray, np.ndarray]:
    curve = head(clip).curves[RY]
    return curve.id, curve.time  # type: ignore[union-attr]


def test_sets_in_a_row_are_one_line_and_replay_to_the_same_state(api: Api, thin: dict) -> None:
    ids, times = (c.tolist() for c in first_keys(thin))
    one = edit(api, thin, key(id=ids[1], frame=times[1], value=5.0, handle="free"))
    two = edit(api, one, key(id=ids[1], frame=times[1], value=6.0, handle="flowing"))
    three = edit(api, two, key(id=ids[2], frame=times[2], slope_in=0.1, slope_out=0.2))
    edits = lines(api, three)[-1]["params"]["keys"]
    assert [(e["id"], e.get("value")) for e in edits] == [(ids[1], 6.0), (ids[2], None)]
    assert "handle" not in edits[1]
    assert len(three["head"]["recipe"]) == len(thin["head"]["recipe"]) + 1
    # What the line gives when run anew is what the edits gave one after another.
    line = three["head"]["recipe"][1]
    again = api.write(three, edit={**line, "params": {"tolerance_deg": 0.25}}).json()
    assert again["head"]["state"] == three["head"]["state"]


def test_made_and_removed_keys_stay_in_turn(api: Api, thin: dict) -> None:
    ids, times = (c.tolist() for c in first_keys(thin))
    middle = round((times[1] + times[2]) / 2)
    one = edit(api, thin, key(id=9001, frame=middle, do="make"))
    two = edit(api, one, key(id=9001, frame=middle, value=3.0))
    three = edit(api, two, key(id=ids[1], frame=times[1], do="remove"))
    edits = lines(api, three)[-1]["params"]["keys"]
    assert [e["do"] for e in edits] == ["make", "set", "remove"]
    curve = head(three).curves[RY]
    assert curve.at(np.array([float(middle)]))[0] == pytest.approx(3.0)
    assert ids[1] not in curve.id  # type: ignore[union-attr]


def test_after_a_changed_line_edits_land_on_their_keys_or_are_listed(api: Api, thin: dict) -> None:
    ids, times = (c.tolist() for c in first_keys(thin))
    edited = edit(api, thin, key(id=ids[-1], frame=times[-1], value=7.0))
    lost = edit(api, edited, key(id=9999, frame=times[1] + 0.4, value=1.0))
    thin_line = lost["head"]["recipe"][1]
    out = api.write(lost, edit={**thin_line, "params": {"tolerance_deg": 3.0}}).json()
    after = head(out).curves[RY]
    assert after.value[-1] == 7.0  # type: ignore[union-attr]
    near = np.abs(after.time - times[1] - 0.4).min()  # type: ignore[union-attr]
    unplaced = out["head"]["report"].get("unplaced", [])
    assert (len(unplaced) == 1) == (near > 0.5)


def test_long_rows_of_edits_begin_new_lines_and_lines_are_kept_once(api: Api, thin: dict) -> None:
    times = first_keys(thin)[1].tolist()
    clip = thin
    for turn in range(4):
        keys = [
            key(id=5000 + 60 * turn + n, frame=times[1] + 0.01 + 0.02 * (60 * turn + n), do="make")
            for n in range(60)
        ]
        clip = edit(api, clip, *keys)
    operations = [x["operation"] for x in clip["head"]["recipe"]]
    assert operations == ["read", "thin", "edit", "edit"]
    digests = [sha for r in Revision.objects.filter(clip=clip["id"]) for sha in r.lines]
    assert len(set(digests)) < len(digests)
    assert Blob.objects.filter(pk__in=set(digests)).count() == len(set(digests))
    assert clip["head"]["recipe"][-1]["params"] == {}


def jump(api: Api, clip: dict, to: int) -> Any:
    return api.post(f"clips/{clip['id']}/jump", {"revision": clip["head"]["id"], "to": to})


def test_the_history_can_be_jumped_in_abandoned_branches_included(api: Api, thin: dict) -> None:
    ids, times = (c.tolist() for c in first_keys(thin))
    left = edit(api, thin, key(id=ids[1], frame=times[1], value=5.0))
    left2 = edit(api, left, key(id=ids[1], frame=times[1], value=6.0))
    back = jump(api, left2, thin["head"]["id"]).json()
    assert back["head"]["state"] == thin["head"]["state"]
    assert back["can_redo"]
    right = edit(api, back, key(id=ids[1], frame=times[1], value=-5.0))
    assert not right["can_redo"]
    over = jump(api, right, left["head"]["id"]).json()
    assert over["head"]["id"] == left["head"]["id"]
    redone = api.post(f"clips/{over['id']}/redo", {"revision": over["head"]["id"]}).json()
    assert redone["head"]["id"] == left2["head"]["id"]
    history = api.get(f"clips/{thin['id']}/history").json()
    assert sum(r["head"] for r in history) == 1
    assert len(history) == 5


def test_a_jump_from_elsewhere_or_to_elsewhere_is_refused(api: Api, thin: dict) -> None:
    assert jump(api, {**thin, "head": {"id": 1}}, thin["head"]["id"]).status_code == 409
    assert jump(api, thin, 999_999).status_code == 422


def test_restore_brings_back_the_take_through_trims(api: Api, clip: dict) -> None:
    trim = {"first": 50, "last": 250, "calibration": False}
    for operation, params in (("offset", {"amount": 9.0}), ("trim", trim)):
        clip = api.write(clip, append={"operation": operation, "params": params}).json()
    dabs = [{"frame": 100.0}]
    brush = {
        "operation": "brush",
        "params": {"kind": "restore", "radius": 30, "dabs": dabs},
        "scope": {"joints": ["Hips"]},
    }
    preview = {
        "revision": clip["head"]["id"], "view": "v", "sequence": 1, "joints": ["Hips"], **brush
    }  # fmt: skip
    assert api.post(f"clips/{clip['id']}/preview", preview).status_code == 200
    done = api.write(clip, append=brush).json()
    take = load_clip(Clip.objects.get(pk=clip["id"]).take.state)
    got = head(done).curves[RY].at(np.array([100.0, 10.0]))
    asked = take.curves[RY].at(np.array([150.0, 60.0]))
    assert got - asked == pytest.approx([0.0, 9.0])


def test_marks_travel_with_the_clip_and_cycles_are_asked_for(api: Api, clip: dict) -> None:
    add = {"edits": [{"do": "add", "name": "pulls", "first": 12, "last": 40}]}
    marked = api.write(clip, append={"operation": "edit_marks", "params": add}).json()
    assert marked["marks"] == [{"name": "pulls", "first": 12, "last": 40}]
    base = f"clips/{clip['id']}/cycles?revision={marked['head']['id']}"
    found = api.get(f"{base}&first=0&last=150").json()
    assert found is None or 0 < found["last"] <= 150
    assert api.get(f"{base}&first=90&last=20").status_code == 422


def test_the_takes_curves_are_given_on_the_revisions_time(api: Api, thin: dict) -> None:
    at = f"clips/{thin['id']}/curves?revision={thin['head']['id']}&joints=0"
    own, take = api.get(at), api.get(f"{at}&take=true")
    assert b"0/ry/time" in own.content
    assert b"0/ry/values" in take.content
