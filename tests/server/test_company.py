"""Several people on one clip: who is there, whose change it was, and both sides of a conflict."""

from __future__ import annotations

import uuid
from datetime import timedelta
from typing import Any

import pytest
from django.contrib.auth.models import User
from django.db import connection
from django.utils import timezone
from editing import history
from editing.models import Presence
from library.models import Workspace

from tests.server.conftest import Api


@pytest.fixture
def mate(workspace: Workspace) -> Api:
    user = User.objects.create_user("second mate", password="a-long-password")
    workspace.members.add(user)
    return Api(user)


def here(api: Api, clip: dict, page: str = "a page") -> dict:
    answer = api.post(f"clips/{clip['id']}/here", {"page": page, "revision": clip["head"]["id"]})
    assert answer.status_code == 200, answer.content
    return answer.json()


def test_each_sees_who_else_is_on_the_clip(api: Api, mate: Api, clip: dict) -> None:
    assert here(api, clip)["others"] == []
    # The same person's other window is nobody else.
    assert here(api, clip, "another page")["others"] == []
    assert here(mate, clip, "theirs")["others"] == ["mate"]
    assert here(api, clip)["others"] == ["second mate"]
    Presence.objects.filter(page="theirs").update(seen=timezone.now() - timedelta(seconds=20))
    assert here(api, clip)["others"] == []


def test_what_was_done_since_is_told_with_whose_it_was(api: Api, mate: Api, clip: dict) -> None:
    after = mate.apply(mate.apply(clip, "unflip"), "thin")
    told = here(api, clip)
    assert told["head"] == after["head"]["id"]
    assert [(c["author"], c["cause"], c["number"]) for c in told["changes"]] == [
        ("second mate", "Unflip", 2), ("second mate", after["head"]["cause"], 3),
    ]  # fmt: skip
    assert here(api, after)["changes"] == []
    # Going back is no step forward from there.
    mate.post(f"clips/{clip['id']}/undo", {"revision": after["head"]["id"]})
    assert here(api, after)["changes"] == []


def test_a_conflict_shows_both_sides_and_mine_can_be_taken_again_on_top(
    api: Api, mate: Api, clip: dict
) -> None:
    clip = api.apply(clip, "thin", tolerance_deg=1)
    scope = {"joints": ["Hips"]}
    offset = {"operation": "offset", "params": {"amount": 5}, "scope": scope}
    gain = {"operation": "gain", "params": {"factor": 1.5}, "scope": scope}
    theirs = mate.write(clip, append=offset)
    assert theirs.status_code == 200, theirs.content
    refused = api.write(clip, append=gain)
    assert refused.status_code == 409
    told = refused.json()
    assert [(c["author"], c["number"]) for c in told["changes"]] == [("second mate", 3)]
    assert any("Hips" in t for t in told["theirs"])
    assert any("Hips" in t for t in told["yours"])
    again = {"revision": told["head"], "request_id": str(uuid.uuid4()), "append": gain}
    done = api.post(f"clips/{clip['id']}/writes", again)
    assert done.status_code == 200
    assert [x["operation"] for x in done.json()["head"]["recipe"]][-2:] == ["offset", "gain"]


def test_strangers_do_not_learn_who_is_there(clip: dict) -> None:
    stranger = Api(User.objects.create_user("stranger", password="a-long-password"))
    wanted = {"page": "x", "revision": clip["head"]["id"]}
    assert stranger.post(f"clips/{clip['id']}/here", wanted).status_code == 404
    assert not Presence.objects.exists()


def test_whoever_is_overtaken_again_and_again_keeps_others_waiting(
    api: Api, clip: dict, monkeypatch: pytest.MonkeyPatch
) -> None:
    commit, turns = history._commit, []

    def overtaken(*given: Any) -> Any:
        turns.append(connection.in_atomic_block and len(connection.savepoint_ids))
        return None if len(turns) <= history.PATIENT else commit(*given)

    monkeypatch.setattr(history, "_commit", overtaken)
    api.apply(clip, "unflip")
    assert len(turns) == history.PATIENT + 1
    # The last one has the clip to itself: it is inside of one more transaction.
    assert turns[-1] > turns[0]
