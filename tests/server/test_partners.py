"""Partners over the API: pinned, kept as long as the clip is, updated, and delivered on request."""

from __future__ import annotations

import uuid
from datetime import timedelta
from io import StringIO
from pathlib import Path

import numpy as np
import pytest
from api import deliveries  # noqa: F401  (registers the kind, as the worker does)
from django.core.management import call_command
from documents.models import State
from documents.store import load_clip
from editing.models import Chosen, Clip, Memo, Revision
from editing.storage import forget_clip
from editing.sweeping import sweep
from leancurve.document.clip import Clip as Document
from leancurve.document.evaluation import evaluate
from leancurve.joining.beside import Stand, pose_beside
from library.models import Workspace

from tests.server.conftest import Api
from tests.server.test_deliveries import deliver
from tests.server.test_parting import split
from tests.server.test_portable import forget_everything
from tests.server.test_storage import forget_caches

ADD = {"do": "add", "name": "mate", "other": 0, "later": 5, "moved": [800, 0, 0], "turned": 180}


@pytest.fixture
def mate(api: Api, clip: dict) -> dict:
    """A clip of its own that stands beside the first."""
    return split(api, clip, uuid.uuid4(), (10, 60))[0]


@pytest.fixture
def both(api: Api, clip: dict, mate: dict) -> dict:
    return with_mate(api, clip, mate)


def with_mate(api: Api, clip: dict, mate: dict) -> dict:
    line = {"operation": "edit_partners", "params": {"edits": [ADD]},
            "inputs": {"figures": [mate["head"]["state"]]}}  # fmt: skip
    answer = api.write(clip, append=line)
    assert answer.status_code == 200, answer.content
    return dict(answer.json())


def sources(api: Api, clip: dict) -> list[dict]:
    return list(api.get(f"clips/{clip['id']}/sources?revision={clip['head']['id']}").json())


def test_a_partner_is_told_with_the_clip_and_says_when_its_own_has_changed(
    api: Api, clip: dict, mate: dict, both: dict
) -> None:
    (partner,) = both["partners"]
    assert (partner["name"], partner["digest"], partner["later"]) == (
        "mate", mate["head"]["state"], 5,
    )  # fmt: skip
    assert both["head"]["cause"] == "Add partner mate"
    (source,) = sources(api, both)
    assert (source["clip"], source["revision"]) == (mate["id"], mate["head"]["id"])
    assert source["newest"] == partner["digest"]
    changed = api.apply(mate, "mirror")
    (source,) = sources(api, both)
    assert source["newest"] == changed["head"]["state"] != partner["digest"]
    assert source["revision"] == mate["head"]["id"], "what it was pinned to"
    line = {"operation": "edit_partners", "inputs": {"figures": [source["newest"]]},
            "params": {"edits": [{"do": "set", "name": "mate", "other": 0}]}}  # fmt: skip
    updated = api.write(both, append=line).json()
    assert updated["partners"] == [{**partner, "digest": source["newest"]}]
    undone = api.post(f"clips/{clip['id']}/undo", {"revision": updated["head"]["id"]}).json()
    assert undone["partners"] == [partner]


def test_of_clips_that_stand_alike_the_one_is_meant_that_is_called_so(
    api: Api, clip: dict, mate: dict, both: dict
) -> None:
    """A later one of the same motion is not taken for it; nor where that has gone on since."""
    api.call("PATCH", f"clips/{mate['id']}", {"name": "mate"})
    twin = split(api, clip, uuid.uuid4(), (10, 60))[0]
    assert twin["head"]["state"] == mate["head"]["state"]
    (source,) = sources(api, both)
    assert (source["clip"], source["name"]) == (mate["id"], "mate")
    changed = api.apply(mate, "mirror")
    (source,) = sources(api, both)
    assert (source["clip"], source["newest"]) == (mate["id"], changed["head"]["state"])
    api.call("PATCH", f"clips/{mate['id']}", {"name": "another"})
    api.call("PATCH", f"clips/{twin['id']}", {"name": "mate"})
    assert sources(api, both)[0]["clip"] == twin["id"]


def test_what_another_workspace_has_is_no_partner(api: Api, clip: dict) -> None:
    line = {"operation": "edit_partners", "params": {"edits": [ADD]},
            "inputs": {"figures": ["0a" * 32]}}  # fmt: skip
    refused = api.write(clip, append=line)
    assert refused.status_code == 422
    assert "figures is not here any more" in refused.json()["detail"]


def test_a_partner_stays_as_long_as_a_clip_has_it(api: Api, mate: dict, both: dict) -> None:
    """After its own clip is gone for good; a part of the clip that it came along with has it too,
    when the line that named it is nobody's."""
    (half,) = split(api, both, uuid.uuid4(), (0, 40))
    assert [p["name"] for p in half["partners"]] == ["mate"]
    assert half["partners"][0]["later"] == 5
    chosen = set(Chosen.objects.filter(clip=half["id"]).values_list("state_id", flat=True))
    assert chosen == {mate["head"]["state"]}
    forget_clip(Clip.objects.get(pk=mate["id"]))
    forget_clip(Clip.objects.get(pk=both["id"]))
    Memo.objects.all().delete()
    forget_caches()
    sweep(timedelta(0))
    assert sources(api, half) == [], "its clip is not here any more"
    assert load_clip(State.objects.get(pk=mate["head"]["state"])).frames == 51
    wider = deliver(api, half, partners=True, last=30)
    assert wider["report"]["joints"] > len(half["joints"])


def test_partners_are_delivered_where_that_is_asked_for(api: Api, both: dict) -> None:
    alone = deliver(api, both)
    wider = deliver(api, both, partners=True, version=4)
    assert alone["report"]["joints"] == len(both["joints"])
    assert wider["report"]["joints"] == 2 * len(both["joints"])
    text = api.get(f"deliveries/{wider['id']}/file").content.decode()
    assert text.count("ROOT ") == 2
    assert "ROOT mate_Hips" in text
    assert wider["report"]["max_drift_mm"] < 0.1


def test_a_workspace_file_brings_a_partner_back(
    api: Api, both: dict, workspace: Workspace, tmp_path: Path
) -> None:
    file = tmp_path / "crew.zip"
    digest = both["partners"][0]["digest"]
    call_command("export_workspace", workspace.name, str(file), stdout=StringIO())
    forget_everything()
    call_command("import_workspace", str(file), owner="mate", stdout=StringIO())
    back = Clip.objects.get(name=both["name"])
    assert back.head is not None
    (partner,) = load_clip(back.head.state).partners
    assert partner.digest == digest
    assert Chosen.objects.filter(clip=back, state=digest).exists()
    there = api.get(f"clips/{back.pk}").json()
    (source,) = sources(api, there)
    assert Revision.objects.get(pk=source["revision"]).state_id == digest
    again = api.apply(there, "mirror")
    assert again["partners"] == both["partners"], "the line is replayed"


def test_hands_meet_half_way_in_both_clips(api: Api, clip: dict, mate: dict) -> None:
    """Between them is nothing on the frames that both have; asked twice it is done once."""
    whole = load_clip(Revision.objects.get(pk=clip["head"]["id"]).state)
    other = load_clip(Revision.objects.get(pk=mate["head"]["id"]).state)
    hands = [
        evaluate(c).world(c.skeleton)[1][at, c.skeleton.index("RightHand")] * c.millimetres
        for c, at in ((whole, 40), (other, 40))
    ]
    away = hands[0] - hands[1]
    moved = [float(away[0]) + 90.0, float(away[1]), float(away[2])]
    add = {**ADD, "later": 0, "moved": moved, "turned": 0}
    line = {"operation": "edit_partners", "params": {"edits": [add]},
            "inputs": {"figures": [mate["head"]["state"]]}}  # fmt: skip
    both = api.write(clip, append=line).json()
    asked = {
        "revision": both["head"]["id"], "request_id": str(uuid.uuid4()), "partner": "mate",
        "joint": "RightHand", "theirs": "RightHand", "first": 38, "last": 42,
    }  # fmt: skip
    path = f"clips/{clip['id']}/partners/meet"
    for change, said in (
        ({"partner": "nobody"}, "there is no partner nobody"),
        ({"joint": "Fin"}, "no joint is named Fin"),
        ({"theirs": "Head"}, "is no hand that can be planted"),
        ({"last": 55}, "has no frames 38 to 55"),
    ):
        refused = api.post(path, {**asked, **change})
        assert (refused.status_code, said in refused.json()["detail"]) == (422, True), (
            refused.content
        )
    assert api.get(f"clips/{mate['id']}").json()["head"] == mate["head"], "nothing was written"

    met = api.post(path, asked).json()
    assert api.post(path, asked).json()["head"] == met["head"]
    theirs = api.get(f"clips/{mate['id']}").json()
    assert met["partners"][0]["digest"] == theirs["head"]["state"]
    ours, its = (load_clip(Revision.objects.get(pk=c["head"]["id"]).state) for c in (met, theirs))
    assert [(p.part, p.first, p.last) for p in (*ours.plants, *its.plants)] == [
        ("right hand", 38, 42)
    ] * 2

    def apart(one: Document, two: Document) -> float:
        pose = pose_beside(one, two, Stand.of(one, ours.partners[0]))
        there = pose.world(two.skeleton)[1][:, two.skeleton.index("RightHand")]
        here = evaluate(one).world(one.skeleton)[1][:, one.skeleton.index("RightHand")]
        return float(np.linalg.norm(here - there, axis=1)[38:43].max()) * one.millimetres

    assert apart(whole, other) > 80.0
    assert apart(ours, its) < 0.01

    api.apply(theirs, "mirror")
    behind = api.post(
        path, {**asked, "revision": met["head"]["id"], "request_id": str(uuid.uuid4())}
    )
    assert "update the partner first" in behind.json()["detail"]
